"""One row of a file as fields: by itself, or as a place among rows that were read together, column by column."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from itertools import groupby
from operator import attrgetter

from msgspec import Struct

from vandrel.errors import STOP, Code, Finding, Location, Severity, are_fatal
from vandrel.intake.description import PASSWORD
from vandrel.secret import Secret

Values = tuple[str, ...]
#: A single value, or none where it is empty; or several as a tuple.
Cell = str | Values


_NOTHING: Mapping[str, str] = {}


class RowBlock(Struct, frozen=True, eq=False):
    """Rows that were read together: what each has, by field, and its texts, by word."""

    columns: Mapping[str, Sequence[Cell]]
    words: Mapping[str, Sequence[str]]


class Item(Struct):
    """One row.

    Attributes:
        row: its number in the file, counted from 1.
        own: its values by field; None while nobody has asked for all of them, and they stand in the sheaf alone.
        columns: the header of the column that each field came from.
        cells: its texts by word.
        sheaf: the rows that it was read with, if any.
        place: where it stands among those, counted from 0.
        secret: the password of the row.
        findings: what is wrong with it.
        has_patterns: whether braces in its values are patterns, and not text.
        raw: by field, cells as the file has them, where a value was read otherwise or found fault with.

    """

    row: int
    own: dict[str, Values] | None = None
    columns: Mapping[str, str] = {}
    cells: dict[str, str] | None = None
    block: RowBlock | None = None
    place: int = 0
    secret: Secret | None = None
    findings: tuple[Finding, ...] = ()
    has_patterns: bool = False
    raw: Mapping[str, str] = {}

    @property
    def fields(self) -> dict[str, Values]:
        """The values by field, of those that have any."""
        if self.own is None:
            columns = self.block.columns if self.block is not None else {}
            self.own = {name: _values(cell) for name, column in columns.items() if (cell := column[self.place])}
        return self.own

    @property
    def words(self) -> dict[str, str]:
        """The texts of columns that are no fields, by word."""
        if self.cells is not None or self.block is None:
            return self.cells or {}
        return {word: text for word, texts in self.block.words.items() if (text := texts[self.place])}

    def values(self, field: str) -> Values:
        """The values of a field."""
        if self.own is not None or self.block is None:
            return self.fields.get(field, ())
        column = self.block.columns.get(field)
        return _values(column[self.place]) if column is not None else ()

    def one(self, field: str) -> str:
        """The first value of a field, or an empty string."""
        values = self.values(field)
        return values[0] if values else ""

    def let_go(self) -> None:
        """Let go of the values, which nobody wants any more; what is wrong with them stays."""
        self.own = self.block = self.cells = None
        self.raw = _NOTHING

    def stand_alone(self) -> None:
        """Keep the values apart from the rows that this one was read with."""
        if self.block is not None:
            self.own, self.cells, self.block = self.fields, self.words, None

    @property
    def stops(self) -> bool:
        """Whether a finding stops the row."""
        return bool(self.findings) and are_fatal(self.findings)

    def fault(
        self, field: str, value: str, code: Code, what: str, remedy: str = "", severity: Severity = STOP
    ) -> None:  # fmt: skip
        """Note what is wrong with a value of the row; a password is never shown."""
        excerpt = "" if field == PASSWORD else value[:120]
        where = Location(row=self.row, header=self.columns.get(field, field))
        self.note(Finding(code, what, where, remedy, severity, excerpt))

    def note(self, finding: Finding) -> None:
        """Add a finding."""
        self.findings = (*self.findings, finding)


def cell_of(values: Values) -> Cell:
    """Values as a cell has them."""
    return values if len(values) > 1 else values[0] if values else ""


def _values(cell: Cell) -> Values:
    if isinstance(cell, str):
        return (cell,) if cell else ()
    return cell


def cells_of(items: Iterable[Item], fields: Sequence[str]) -> list[list[Cell]]:
    """What many rows have in some fields: a column for each field."""
    columns: list[list[Cell]] = [[] for _ in fields]
    for block, run in groupby(items, attrgetter("block")):
        rows = list(run)
        places = [item.place for item in rows] if block is not None else []
        apart = [(number, item) for number, item in enumerate(rows) if item.own is not None] if places else []
        for field, cells in zip(fields, columns, strict=True):
            before = len(cells)
            if block is None:
                cells += [cell_of(item.values(field)) for item in rows]
            elif (column := block.columns.get(field)) is not None:
                cells += map(column.__getitem__, places)  # noqa: PLW2901
            else:
                cells += [""] * len(rows)  # noqa: PLW2901
            for number, item in apart:
                cells[before + number] = cell_of(item.values(field))
    return columns


def firsts_of(items: Iterable[Item], field: str) -> list[str]:
    """The first value of a field of many rows; empty where there is none."""
    (cells,) = cells_of(items, (field,))
    if set(map(type, cells)) <= {str}:  # a look at the types alone takes a fifth of the time
        return cells  # type: ignore[return-value]
    return [cell if isinstance(cell, str) else cell[0] for cell in cells]


def named_in(items: Iterable[Item]) -> set[str]:
    """All fields of which any row has a value."""
    names: set[str] = set()
    for block, run in groupby(items, attrgetter("block")):
        rows = [item for item in run if item.own is not None or block is None]
        names.update(*(item.fields for item in rows), block.columns if block is not None else ())
    return names
