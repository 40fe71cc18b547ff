"""From a file to a charter."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from vandrel import trusted_file
from vandrel.charter import cache
from vandrel.charter.charter import Charter
from vandrel.errors import Code, Location, VandrelError


class CharterFaults(VandrelError):
    """A charter with faults: one finding for each, in the order of the file."""


def load(path: Path, *, fresh: bool = False) -> Charter:
    """Read the charter in `path`; with `fresh`, check it even if this text was found right before.

    Raises:
        CharterFaults: code ``charter``, every fault with file, line and column.
        VandrelError: ``not-found`` or ``not-permitted`` where the file cannot be read.

    """
    try:
        text = trusted_file.read_text(path, "charter")
    except FileNotFoundError:
        raise VandrelError(
            Code.NOT_FOUND,
            "there is no charter here",
            where=Location(file=str(path)),
            remedy="vandrel charter new writes one to start from",
        ) from None
    cached = None if fresh else cache.find(path, text)
    if cached is not None:
        return Charter(cached, path)
    charter = from_text(text, path)
    cache.keep(path, text, charter.document)
    return charter


def from_text(text: str, path: Path) -> Charter:
    """The charter that `text` holds; `path` is its name in messages. Raises as `load` does."""
    from vandrel.charter.check import Checker
    from vandrel.charter.document import Document, json_schema
    from vandrel.text.schema_errors import convert
    from vandrel.text.yaml_source import read

    source = read(str(path), text, Code.CHARTER)
    if not source.faults or source.data is not None:
        document = convert(source, Document, _without_demands(json_schema()))
        Checker(document, source).run()
    if source.faults:
        error = CharterFaults(Code.CHARTER, f"{len(source.faults)} faults in the charter")
        error.findings = tuple(
            sorted(dict.fromkeys(source.faults), key=lambda fault: (fault.where.line, fault.where.column))
        )
        raise error
    return Charter(document, path)


def _without_demands(schema: dict[str, Any]) -> dict[str, Any]:
    """The schema as it is for structure alone: that something is missing is a fault of meaning, told by the check."""
    schema["$defs"]["Document"].pop("required")
    return schema
