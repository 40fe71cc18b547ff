"""Rows with nothing wrong, read column by column. What looks the least bit odd is left to be read cell by cell."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import date

from msgspec import Struct

from vandrel.fields import FIELDS, Shape
from vandrel.intake.description import PASSWORD, Column
from vandrel.intake.table import Cell, text
from vandrel.intake.traps import LIKE_NUMBERS, NOTHING, SPOILT, STRANGE, Fits, day, formats_of, suspect, unquoted

Values = tuple[str, ...]

#: With which no value begins unless a spreadsheet, or somebody wary of one, had a hand in it.
_BEGINNINGS = ("'", "=", "#")
#: A row with so few cells filled may be a line of totals.
_FEW = 2


class Found(Struct):
    """The values of one row, by field and by word."""

    fields: dict[str, Values]
    words: dict[str, str]


def _is_day(column: Column) -> bool:
    return column.field in FIELDS and FIELDS[column.field].shape is Shape.DATE


class Columns:
    """Reads rows of one file."""

    def __init__(
        self, header: Sequence[str], plan: Sequence[tuple[int, Column]], tests: Mapping[int, Fits],
        constants: Mapping[str, Values], quote: str,
    ) -> None:  # fmt: skip
        self._header, self._plan, self._tests, self._constants = header, plan, tests, constants
        self._suspect = suspect(quote)
        #: The values of cells that many have in common, by field.
        self._shared: dict[str, dict[str, Values]] = {}
        self._marks = ["\t", "\r", *(f"\n{char}" for char in _BEGINNINGS), *([quote] if quote else [])]
        fields = [column.field for _, column in plan if column.field]
        shapes = {FIELDS[name].shape for name in fields if name in FIELDS}
        # Passwords, yes and no, and fields of several columns are read cell by cell.
        self._none = (
            len({*fields, *constants}) < len(fields) + len(constants) or PASSWORD in fields or Shape.FLAG in shapes
        )
        self._misfits = {index: re.compile(fits.misfit, re.MULTILINE) for index, fits in tests.items() if fits.misfit}

    def read(self, rows: Sequence[Sequence[Cell]]) -> list[Found | None]:
        """The values of each row; None for a row that takes a closer look."""
        found: list[Found | None] = [None] * len(rows)
        width = len(self._header)
        whole = [n for n, cells in enumerate(rows) if len(cells) == width and cells.count("") < width - _FEW]
        if self._none or not whole:
            return found
        columns: list[Sequence[Cell]] = list(zip(*(rows[n] for n in whole), strict=True))
        odd = {n for n, cell in enumerate(columns[0]) if cell == self._header[0]}
        texts = {index: self._texts(column, columns[index], odd) for index, column in self._plan}
        for index, fits in self._tests.items():
            self._misplaced(index, fits, texts[index], odd)
        read = {column.field: self._values(column, texts[index], odd) for index, column in self._plan if column.field}
        read = {name: column for name, column in read.items() if any(column)}
        if not read:
            return found
        words = [(column.word, texts[index]) for index, column in self._plan if column.word]
        full = all(map(all, read.values()))
        for place, (row, values) in enumerate(zip(whole, zip(*read.values(), strict=True), strict=True)):
            if place in odd:
                continue
            fields = (
                dict(zip(read, values, strict=True)) if full else {n: v for n, v in zip(read, values, strict=True) if v}
            )
            said = {word: cells[place] for word, cells in words if cells[place]} if words else {}
            found[row] = Found({**self._constants, **fields} if self._constants else fields, said)
        return found

    def _texts(self, column: Column, cells: Sequence[Cell], odd: set[int]) -> Sequence[str]:
        """The cells of a column as text; those that may hide something are odd."""
        try:
            lines = "\n".join(cells)  # type: ignore[arg-type]
            found: Sequence[str] = cells  # type: ignore[assignment]
        except TypeError:  # a spreadsheet has numbers, days, and more
            sorts = (str, int, float, date) if _is_day(column) else (str, int, float)
            odd |= {n for n, cell in enumerate(cells) if isinstance(cell, bool) or not isinstance(cell, sorts)}
            found = list(map(text, cells))
            lines = "\n".join(found)
        if "'" in lines:
            found = list(map(unquoted, found))
            lines = "\n".join(found)
        if lines.count("\n") >= len(found):
            odd |= {n for n, value in enumerate(found) if "\n" in value}
        if self._may_be_odd(column.field, lines, found):
            odd |= {n for n, value in enumerate(found) if self._suspect.search(value)}
        return found

    def _may_be_odd(self, field: str, lines: str, cells: Sequence[str]) -> bool:
        """Whether any cell may be a trap: what takes the least time first, for most columns have none."""
        return (
            any(mark in lines for mark in self._marks)
            or lines[:1] in _BEGINNINGS
            or not NOTHING.isdisjoint(map(str.casefold, cells))
            or any(map(str.__ne__, cells, map(str.strip, cells)))
            or not (lines.isascii() or STRANGE.search(lines) is None)
            or (field in LIKE_NUMBERS and SPOILT.search(lines) is not None)
        )

    def _misplaced(self, index: int, fits: Fits, cells: Sequence[str], odd: set[int]) -> None:
        """Cells that may not belong into their column."""
        misfit = self._misfits.get(index)
        if misfit is None:
            bad = {value for value in set(cells) if value and not fits.test(value)}
            odd |= {n for n, value in enumerate(cells) if value in bad} if bad else set()
        elif misfit.search("\n".join(cells)):
            odd |= {n for n, value in enumerate(cells) if misfit.search(value)}

    def _values(self, column: Column, cells: Sequence[str], odd: set[int]) -> list[Values]:
        """The values of each cell; the same cells share theirs, which are most of what is kept of a large file."""
        known = FIELDS.get(column.field)
        if _is_day(column):
            days = {value: day(value, formats_of(column)) for value in set(cells)}
            odd |= {n for n, value in enumerate(cells) if value and not days[value]}
            return [(days[value],) if days[value] else () for value in cells]
        if column.pad:
            cells = [value.zfill(column.pad) if value.isdecimal() else value for value in cells]
        split = column.split if known is not None and known.many else ""
        if split and any(split in value for value in cells):
            return [tuple(part.strip() for part in value.split(split) if part.strip()) for value in cells]
        distinct = set(cells)
        if len(distinct) * 2 > len(cells):
            return [(value,) if value else () for value in cells]
        shared = self._shared.setdefault(column.field, {"": ()})
        shared |= {value: (value,) for value in distinct - shared.keys()}
        return [shared[value] for value in cells]
