"""Patterns of the charter filled for very many accounts, which mostly have in common what they are filled with."""

from __future__ import annotations

from collections.abc import Mapping

from vandrel.charter.charter import Charter
from vandrel.charter.pattern import parse
from vandrel.directory.place import Place


class FilledPatterns:
    """What was filled once is not filled again: the same fields make the same text."""

    def __init__(self, charter: Charter) -> None:
        """Begin with nothing."""
        self._charter = charter
        self._texts: dict[tuple[str, ...], str] = {}
        self._places: dict[tuple[str, ...], Place] = {}

    def text(self, pattern: str, values: Mapping[str, str]) -> str:
        """A pattern filled.

        Raises:
            VandrelError: ``required`` where a field that it needs is empty.

        """
        if (key := _seen_by(pattern, values)) not in self._texts:
            self._texts[key] = self._charter.fill(pattern, values)
        return self._texts[key]

    def place(self, pattern: str, values: Mapping[str, str]) -> Place:
        """The place that a pattern names. Raises as `text` does."""
        if (key := _seen_by(pattern, values)) not in self._places:
            self._places[key] = self._charter.place_of(pattern, values)
        return self._places[key]


def _seen_by(pattern: str, values: Mapping[str, str]) -> tuple[str, ...]:
    """All that a pattern is filled with."""
    return (pattern, values["language"], *(values.get(field, "") for field in sorted(parse(pattern).fields())))
