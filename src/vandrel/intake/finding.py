"""What is wrong in a row: row, column, value, rule, remedy."""

from __future__ import annotations

from typing import Any

from msgspec import Struct


class Finding(Struct, frozen=True):
    """One thing that the check of a tabular file found.

    ``row`` counts the lines or rows of the file from 1; 0 stands for the file as a whole. ``trap`` is the word for what
    went wrong, for programs; ``what`` says it with its rule, ``remedy`` what to do. Without ``fatal`` it stops nothing.
    """

    row: int
    column: str
    value: str
    trap: str
    what: str
    remedy: str = ""
    fatal: bool = True

    def as_json(self) -> dict[str, Any]:
        return {name: getattr(self, name) for name in self.__struct_fields__}
