"""The rows of a tabular file, one after the other: delimited text, .xlsx and .ods."""

from __future__ import annotations

import csv
import zipfile
import zlib
from collections.abc import Iterable, Iterator, Sequence
from datetime import date, datetime, time, timedelta
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from vandrel.errors import Code, Location, VandrelError
from vandrel.intake.layout import SPREADSHEETS, Layout, lines, recognize

if TYPE_CHECKING:
    from python_calamine import CalamineSheet, CalamineWorkbook

Cell = str | int | float | bool | date | datetime | time | timedelta

#: Octets that a spreadsheet may swell to: a million rows need less.
_LARGEST_SHEET = 1_000_000_000
#: RFC 1951: no octet of a compressed file becomes more than these.
_MOST_SWOLLEN = 1032
#: Lines that one quoted cell may have; more, and a quote was never closed.
_LONGEST_CELL = 40
_SAMPLE_ROWS = 200

csv.field_size_limit(200_000)


class Row(Struct):
    """One row: where it begins, counted from 1, its cells, and whether a quote in it is never closed."""

    number: int
    cells: list[Cell]
    is_unclosed: bool = False

    @property
    def empty(self) -> bool:
        """Whether no cell has anything in it."""
        return self.cells.count("") == len(self.cells)


class Table(Struct, frozen=True):
    """A file that can be read from the start as often as wanted."""

    path: Path
    layout: Layout

    def header(self) -> list[str]:
        """The names of the columns; ``#1``, ``#2`` ... where there is no header."""
        for row in self._all():
            if self.layout.header == 0:
                return [f"#{number}" for number in range(1, len(row.cells) + 1)]
            if row.number >= self.layout.header:
                return [" ".join(text(cell).split()) for cell in row.cells]
        return []

    def rows(self) -> Iterator[Row]:
        """The rows behind the header, without those that are empty.

        Raises:
            VandrelError: ``bad-value`` with the row, where the file cannot be read any further.

        """
        waiting = self.layout.header > 0
        for row in self._all():
            if waiting:
                waiting = row.number < self.layout.header
            elif any(row.cells) or not row.empty:
                yield row

    def sample(self) -> list[Row]:
        """The first rows."""
        rows = []
        for row in self._all():
            rows.append(row)
            if len(rows) >= _SAMPLE_ROWS:
                break
        return rows

    def _all(self) -> Iterator[Row]:
        return _sheet_rows(self.path, self.layout.sheet) if self.layout.form == "sheet" else self._text_rows()

    def _text_rows(self) -> Iterator[Row]:
        """The rows of a text file; a line with a quote that is never closed is a row by itself, and hides no other."""
        source, number, width = _Lines(lines(self.path, self.layout.encoding)), 1, 0
        while True:
            row: Row | None = None
            of_row: list[str] = []
            try:
                for cells in self._reader(source):
                    if row is not None:
                        yield row
                        number, row = number + len(of_row), None
                    of_row = source.size
                    source.size = []
                    if len(of_row) > 1 and (len(cells) < width or len(of_row) > _LONGEST_CELL):
                        break
                    row = Row(number, cells)  # type: ignore[arg-type]
                    width = len(cells) if number == self.layout.header else width
                else:
                    if row is None:
                        return
                    if not self._is_unclosed(of_row):
                        yield row
                        return
            except csv.Error:
                if row is not None:
                    yield row
                    number += len(of_row)
                of_row = source.size
            plain = csv.reader(of_row[:1], delimiter=self.layout.separator, quoting=csv.QUOTE_NONE)
            yield Row(number, next(plain), is_unclosed=True)  # type: ignore[arg-type]
            number += 1
            source.give_back(of_row[1:])

    def _reader(self, source: Iterable[str], *, strict: bool = False) -> Iterator[list[str]]:
        quote = self.layout.quote
        return csv.reader(
            source, delimiter=self.layout.separator, quotechar=quote or None, strict=strict,
            quoting=csv.QUOTE_MINIMAL if quote else csv.QUOTE_NONE,
        )  # fmt: skip

    def _is_unclosed(self, of_row: Sequence[str]) -> bool:
        """Whether the last row of the file ends within quotes."""
        if not self.layout.quote or not any(self.layout.quote in line for line in of_row):
            return False
        try:
            next(self._reader(of_row, strict=True))
        except csv.Error as error:
            return "end of data" in str(error)
        return False


class _Lines:
    """The lines of a file, with those that were taken; some may be given back."""

    def __init__(self, source: Iterator[str]) -> None:
        self._source = source
        self._waiting: list[str] = []
        self.size: list[str] = []

    def __iter__(self) -> Iterator[str]:
        return self

    def __next__(self) -> str:
        line = self._waiting.pop() if self._waiting else next(self._source)
        self.size.append(line)
        return line

    def give_back(self, rest: Sequence[str]) -> None:
        """Let these lines, the last that were taken, come again."""
        self.size = []
        self._waiting += reversed(rest)


def open_table(
    path: Path, *, encoding: str | None = None, separator: str | None = None, quote: str | None = None,
    sheet: str | None = None,
) -> Table:  # fmt: skip
    """The table in a file; what is not said of its layout is recognized.

    Raises:
        VandrelError: ``not-found``, ``not-permitted``, ``usage``, or ``bad-value`` for what is no table.

    """
    if path.suffix.lower() in SPREADSHEETS:
        return Table(path, Layout("sheet", sheet=sheet or _sheet_names(path)[0]))
    return Table(path, recognize(path, encoding=encoding or "", separator=separator or "", quote=quote))


def sheets_of(path: Path) -> list[str]:
    """The names of the sheets of a spreadsheet; none of any other file.

    Raises:
        VandrelError: as `open_table`.

    """
    return _sheet_names(path) if path.suffix.lower() in SPREADSHEETS else []


def text(cell: Cell) -> str:
    """A cell as people read it: whole numbers without a point, days as 2026-09-30."""
    if isinstance(cell, str):
        return cell.strip()
    if isinstance(cell, bool):
        return "TRUE" if cell else "FALSE"
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) < 1e15 else repr(cell)
    if isinstance(cell, datetime):
        return cell.date().isoformat() if cell.time() == time() else cell.isoformat(" ")
    return str(cell)


# --- spreadsheets


def _workbook(path: Path) -> CalamineWorkbook:
    try:
        status = path.stat()
    except FileNotFoundError:
        raise VandrelError(Code.NOT_FOUND, "there is no such file", where=Location(file=str(path))) from None
    except OSError as error:
        raise VandrelError(
            Code.NOT_PERMITTED, f"it cannot be read: {error.strerror}", where=Location(file=str(path))
        ) from None
    return _opened(path, status.st_mtime_ns, status.st_size)


@lru_cache(maxsize=1)  # opened for its sheets, for a sample, for its header and for its rows: unpacked once
def _opened(path: Path, changed: int, size: int) -> CalamineWorkbook:
    import python_calamine

    _must_not_swell(path)
    try:
        return python_calamine.CalamineWorkbook.from_path(str(path))
    except Exception as error:  # the library has an error for each of its readers
        why = str(error).partition("\n")[0][:200]
        remedy = "save it again as .xlsx, or as delimited text"
        raise VandrelError(
            Code.BAD_VALUE, f"this is no spreadsheet: {why}", where=Location(file=str(path)), remedy=remedy
        ) from None


def _sheet_names(path: Path) -> list[str]:
    names = list(_workbook(path).sheet_names)
    if not names:
        raise VandrelError(Code.BAD_VALUE, "the spreadsheet has no sheets", where=Location(file=str(path)))
    return names


@lru_cache(maxsize=1)
def _sheet(book: CalamineWorkbook, name: str) -> CalamineSheet:
    return book.get_sheet_by_name(name)


def _sheet_rows(path: Path, name: str) -> Iterator[Row]:
    book = _workbook(path)
    if name not in book.sheet_names:
        remedy = f"it has: {', '.join(book.sheet_names)}"
        raise VandrelError(Code.NOT_FOUND, f"there is no sheet {name!r}", where=Location(file=str(path)), remedy=remedy)
    try:
        sheet = _sheet(book, name)
        first = sheet.start[0] if sheet.start else 0
        for number, cells in enumerate(sheet.iter_rows(), first + 1):
            yield Row(number, list(cells))
    except VandrelError:
        raise
    except BaseException as error:
        if isinstance(error, (KeyboardInterrupt, GeneratorExit, SystemExit)):
            raise
        why = str(error).partition("\n")[0][:200]
        raise VandrelError(
            Code.BAD_VALUE, f"the sheet cannot be read: {why}", where=Location(file=str(path), text=name)
        ) from None


def _must_not_swell(path: Path) -> None:
    """See to it that a spreadsheet does not become more than the memory holds; what it says of itself may be a lie.

    Raises:
        VandrelError: ``bad-value``, ``not-found``, ``not-permitted``.

    """
    try:
        with zipfile.ZipFile(path) as archive:
            members = archive.infolist()
            suspects = [m for m in members if m.compress_size * _MOST_SWOLLEN > _LARGEST_SHEET // max(1, len(members))]
            total = sum(min(m.file_size, m.compress_size * _MOST_SWOLLEN) for m in members if m not in suspects)
            total += sum(_swollen(member, archive) for member in suspects)
    except OSError as error:
        raise VandrelError(
            Code.NOT_PERMITTED, f"it cannot be read: {error.strerror}", where=Location(file=str(path))
        ) from None
    except (zipfile.BadZipFile, zlib.error, NotImplementedError, RuntimeError, ValueError, EOFError) as error:
        raise VandrelError(Code.BAD_VALUE, f"this is no spreadsheet: {error}", where=Location(file=str(path))) from None
    if total > _LARGEST_SHEET:
        what = f"the spreadsheet would need more than {_LARGEST_SHEET // 1_000_000} MB"
        raise VandrelError(
            Code.BAD_VALUE,
            what,
            where=Location(file=str(path)),
            remedy="nobody's roster is that large: ask who sent it",
        )


def _swollen(member: zipfile.ZipInfo, archive: zipfile.ZipFile) -> int:
    """How many octets a member really becomes, counted as far as matters."""
    if member.file_size > _LARGEST_SHEET:
        return member.file_size
    if member.compress_type != zipfile.ZIP_DEFLATED:
        return member.compress_size
    assert archive.fp is not None
    archive.fp.seek(member.header_offset + 26)
    name, extra = (int.from_bytes(archive.fp.read(2), "little") for _ in range(2))
    archive.fp.seek(member.header_offset + 30 + name + extra)
    inflate, remaining, total = zlib.decompressobj(-15), member.compress_size, 0
    while remaining > 0 and not inflate.eof and total <= _LARGEST_SHEET:
        block = archive.fp.read(min(remaining, 1 << 20))
        if not block:
            break
        remaining -= len(block)
        while block and total <= _LARGEST_SHEET:
            total += len(inflate.decompress(block, 1 << 24))
            block = inflate.unconsumed_tail
    return total
