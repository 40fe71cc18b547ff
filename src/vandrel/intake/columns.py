"""Rows with nothing wrong, read column by column. What looks the least bit odd is left to be read cell by cell."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import date

from vandrel.fields import FieldCatalog, Shape
from vandrel.intake.description import PASSWORD, Column, split_values
from vandrel.intake.item import Cell as Value
from vandrel.intake.item import RowBlock, Values, cell_of
from vandrel.intake.table import Cell, text
from vandrel.intake.traps import (
    LIKE_NUMBERS,
    NOTHING,
    SPOILT,
    STRANGE,
    UNQUOTED,
    CellCheck,
    day,
    formats_of,
    suspect,
    unquoted,
)
from vandrel.text.cardinality import repeated

#: With which no value begins unless a spreadsheet, or somebody wary of one, had a hand in it.
_BEGINNINGS = ("'", "=", "#", " ")
#: A row with so few cells filled may be a line of totals.
_FEW = 2


class Columns:
    """Reads rows of one file."""

    def __init__(
        self, header: Sequence[str], plan: Sequence[tuple[int, Column]], tests: Mapping[int, CellCheck],
        constants: Mapping[str, Values], catalog: FieldCatalog, quote: str,
    ) -> None:  # fmt: skip
        """Prepare for the columns of a header."""
        self._catalog = catalog
        self._header, self._plan, self._tests, self._constants = header, plan, tests, constants
        self._suspect = suspect(quote)
        #: The values that many cells have in common.
        self._shared: dict[str, str] = {}
        self._marks = [" \n", *(f"\n{char}" for char in _BEGINNINGS), *([quote] if quote else [])]
        fields = [column.field for _, column in plan if column.field]
        shapes = {catalog[name].shape for name in fields if name in catalog}
        # Passwords, yes and no, and fields of several columns are read cell by cell.
        self._none = (
            len({*fields, *constants}) < len(fields) + len(constants) or PASSWORD in fields or Shape.FLAG in shapes
        )
        self._misfits = {index: re.compile(fits.misfit, re.MULTILINE) for index, fits in tests.items() if fits.misfit}

    def _is_day(self, column: Column) -> bool:
        return column.field in self._catalog and self._catalog[column.field].shape is Shape.DATE

    def read(self, rows: Sequence[Sequence[Cell]]) -> tuple[RowBlock, list[int | None]]:
        """The values of rows, and the place of each row among them; None for one that takes a closer look."""
        width = len(self._header)
        places: list[int | None] = [None] * len(rows)
        columns: list[Sequence[Cell]] = list(zip(*rows, strict=True)) if set(map(len, rows)) == {width} else []
        whole: Sequence[int] = range(len(rows))
        # Where enough columns have no empty cells, all rows have enough that are filled.
        if self._none or sum("" not in column for column in columns) <= _FEW:
            whole = [n for n, cells in enumerate(rows) if len(cells) == width and cells.count("") < width - _FEW]
            columns = list(zip(*(rows[n] for n in whole), strict=True))
        if self._none or not whole:
            return RowBlock({}, {}), places
        first = columns[0]
        odd = {n for n, cell in enumerate(first) if cell == self._header[0]} if self._header[0] in first else set()
        read_columns: dict[str, Sequence[Value]] = {
            name: [cell_of(values)] * len(whole) for name, values in self._constants.items()
        }
        words: dict[str, Sequence[str]] = {}
        filled = False
        for index, column in self._plan:
            texts, values = self._column(index, column, columns[index], odd)
            if column.word:
                words[column.word] = texts
            if column.field and any(values):
                read_columns[column.field], filled = values, True
        if filled:
            for place, row in enumerate(whole):
                places[row] = place
            for place in odd:
                places[whole[place]] = None
        return RowBlock(read_columns, words), places

    def _column(
        self, index: int, column: Column, cells: Sequence[Cell], odd: set[int]
    ) -> tuple[Sequence[str], Sequence[Value]]:
        """The cells of one column as text and as values; where one is odd, its place is added."""
        # Of a column in which the same few cells come again and again, one of each is looked at.
        distinct = repeated(cells, 2) if set(map(type, cells)) == {str} else set[Cell]()
        few = bool(distinct)
        looked = list(distinct) if few else cells
        bad: set[int] = set()
        texts = self._texts(column, looked, bad)
        self._misplaced(index, texts, bad)
        values = self._values(column, texts, bad, few=few)
        if not few:
            odd |= bad
            return texts, values
        if bad:
            wrong = {looked[n] for n in bad}
            odd |= {n for n, cell in enumerate(cells) if cell in wrong}
        texts = list(map(dict(zip(looked, texts, strict=True)).__getitem__, cells)) if column.word else ()
        return texts, list(map(dict(zip(looked, values, strict=True)).__getitem__, cells))

    def _texts(self, column: Column, cells: Sequence[Cell], odd: set[int]) -> Sequence[str]:
        """The cells of a column as text; those that may hide something are odd."""
        try:
            lines = "\n".join(cells)  # type: ignore[arg-type]
            texts: Sequence[str] = cells  # type: ignore[assignment]
        except TypeError:  # a spreadsheet has numbers, days, and more
            object_types = (str, int, float, date) if self._is_day(column) else (str, int, float)
            odd |= {n for n, cell in enumerate(cells) if isinstance(cell, bool) or not isinstance(cell, object_types)}
            texts = list(map(text, cells))
            lines = "\n".join(texts)
        if lines.startswith("'") or "\n'" in lines:
            lines = UNQUOTED.sub("", lines)
            parts = lines.split("\n")
            texts = parts if len(parts) == len(texts) else list(map(unquoted, texts))
        if lines.count("\n") >= len(texts):
            odd |= {n for n, value in enumerate(texts) if "\n" in value}
        if self._may_be_odd(column.field, lines, texts):
            odd |= {n for n, value in enumerate(texts) if self._suspect.search(value)}
        return texts

    def _may_be_odd(self, field: str, lines: str, cells: Sequence[str]) -> bool:
        """Whether any cell may be a trap: what takes the least time first, for most columns have none."""
        return (
            any(mark in lines for mark in self._marks)
            or lines.startswith(_BEGINNINGS)
            or lines.endswith(" ")
            or not "".join(cells).isprintable()  # of white space, the space alone is
            or not NOTHING.isdisjoint(lines.casefold().split("\n"))
            or not (lines.isascii() or STRANGE.search(lines) is None)
            or (field in LIKE_NUMBERS and SPOILT.search(lines) is not None)
        )

    def _misplaced(self, index: int, cells: Sequence[str], odd: set[int]) -> None:
        """Cells that may not belong into their column."""
        misfit, fits = self._misfits.get(index), self._tests.get(index)
        if misfit is not None and misfit.search("\n".join(cells)):
            odd |= {n for n, value in enumerate(cells) if misfit.search(value)}
        elif misfit is None and fits is not None:
            bad = {value for value in set(cells) if value and not fits.test(value)}
            odd |= {n for n, value in enumerate(cells) if value in bad} if bad else set()

    def _values(self, column: Column, cells: Sequence[str], odd: set[int], *, few: bool) -> Sequence[Value]:
        """What each cell holds; where there are but a few, they are kept once for the whole file."""
        spec = self._catalog.get(column.field)
        if self._is_day(column):
            days = {value: day(value, formats_of(column)) for value in set(cells)}
            odd |= {n for n, value in enumerate(cells) if value and not days[value]}
            return [days[value] if value else "" for value in cells]
        if column.pad:
            cells = [value.zfill(column.pad) if value.isdecimal() else value for value in cells]
        split = column.split if spec is not None and spec.many else ""
        if split and any(split in value for value in cells):
            parted = [split_values(value, split) for value in cells]
            # Where nothing stands between two marks, a mark may be a value's own.
            odd |= {n for n, parts in enumerate(parted) if len(parts) <= cells[n].count(split)}
            return [cell_of(parts) for parts in parted]
        return [self._shared.setdefault(value, value) for value in cells] if few else cells
