"""How a field of ours is kept in a directory of a given schema."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from vandrel.charter.charter import Charter
    from vandrel.dialects.dialect import Dialect
    from vandrel.directory.port import Directory


def dialect_for(directory: Directory, charter: Charter) -> Dialect:
    """The dialect that fits a directory's schema."""
    if directory.capabilities.schema == "ad":
        from vandrel.dialects.active import ActiveDialect

        return ActiveDialect(directory, charter)
    from vandrel.dialects.standard import StandardDialect

    return StandardDialect(directory, charter)
