"""From the cells of a row to values of our fields, with everything that spreadsheets and their senders do to them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime, time, timedelta
from functools import partial
from itertools import islice

from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import BUILT_IN, FieldCatalog, Shape
from vandrel.intake.columns import Columns
from vandrel.intake.description import PASSWORD, Column, Description, split_values
from vandrel.intake.item import Item
from vandrel.intake.table import Cell, Row, text
from vandrel.intake.traps import (
    ERRORS,
    INVISIBLE,
    LIKE_NUMBERS,
    NAMES_TOO,
    NO,
    NOTHING,
    POINT_ZERO,
    SCIENTIFIC,
    TOTALS,
    TWICE,
    YES,
    CellCheck,
    day,
    formats_of,
    unquoted,
)
from vandrel.secret import Secret

#: The first day of a spreadsheet's count, so that day 60 and later come out right.
_DAY_ZERO = date(1899, 12, 30)
_SERIAL = re.compile(r"\d{5}(\.0)?")
#: Cells that must fit the column beside before a row counts as shifted.
_TELLING = 3
#: Rows that are read together.
_TOGETHER = 5000

#: Words that stand for nothing, and are countries as well (ISO 3166-1): Namibia.
_COUNTRIES = ("NA",)

#: What somebody is named by.
_NAMES = ("given", "middle", "surname", "full", "name", "login")

#: In a column of passwords: one is to be generated.
GENERATE = "generate"


class Converter:
    """Turns the rows of one file into items."""

    def __init__(
        self, described: Description, header: Sequence[str], words: Mapping[str, Sequence[str]],
        fields: FieldCatalog = BUILT_IN, quote: str = '"',
    ) -> None:  # fmt: skip
        """Prepare for the columns of a header.

        Args:
            described: what the columns mean.
            header: the columns.
            words: the only values that some fields may have, by field.
            fields: all fields there are.
            quote: the character around cells; empty for none.

        """
        self._header = list(header) or ["#1"]
        self._quote = quote
        self._columns = [(name, described.column(name)) for name in header]
        self._constants = {name: (value,) for name, value in described.constants.items()}
        self._fields = fields
        self._words = {name: {word.casefold() for word in some} for name, some in words.items()}
        self._plan = [
            (index, name, column, self._reader(column))
            for index, (name, column) in enumerate(self._columns) if column.field or column.word
        ]  # fmt: skip
        self._tests = {index: fits for index, _, column, _ in self._plan if (fits := self._test(column))}
        plan = [(index, column) for index, _, column, _ in self._plan]
        self._quick = Columns(self._header, plan, self._tests, self._constants, self._fields, quote)
        self._given = {column.field: name for _, name, column, _ in self._plan if column.field}

    def item(self, row: Row) -> Item:
        """The values of one row; what cannot be read is left out and found fault with."""
        words: dict[str, str] = {}
        item = Item(row.number, dict(self._constants), self._given, words)
        cells = row.cells
        if fault := self._misplaced(row):
            item.note(fault)
            return item
        width = len(cells)
        raw: dict[str, str] = {}
        for index, name, column, convert in self._plan:
            cell = cells[index] if index < width else ""
            if isinstance(cell, str):
                cell = cell.strip()
            if cell == "" and column.field != PASSWORD and not column.no:
                continue
            if column.word:
                words[column.word] = unquoted(text(cell))
            if not column.field:
                continue
            values, field = convert(item, name, cell), column.field
            if index < width and field != PASSWORD and values != (cells[index],):
                raw[field] = text(cells[index])
            if values:
                item.fields[field] = (*item.fields[field], *values) if field in item.fields else values
        item.raw = raw
        return item

    def items(self, rows: Iterable[Row]) -> Iterator[Item]:
        """The values of each row: of rows with nothing wrong column by column, of any other cell by cell."""
        rows = iter(rows)
        while chunk := list(islice(rows, _TOGETHER)):
            block, places = self._quick.read([row.cells for row in chunk])
            for row, place in zip(chunk, places, strict=True):
                if place is None:
                    yield self.item(row)
                else:
                    yield Item(row.number, columns=self._given, block=block, place=place)

    # --- one cell

    def _reader(self, column: Column) -> Callable[[Item, str, Cell], tuple[str, ...] | None]:
        if column.field == PASSWORD:
            return self._password
        shape = self._fields[column.field].shape if column.field in self._fields else Shape.TEXT
        if shape is Shape.DATE:
            return partial(self._date, column, formats_of(column))
        if shape is Shape.FLAG:
            yes = frozenset(word.casefold() for word in column.yes) or YES
            no = frozenset(word.casefold() for word in column.no) or NO
            return partial(self._flag, column.field, yes, no)
        return partial(self._text, column)

    def _password(self, item: Item, name: str, cell: Cell) -> None:
        if cell == "":
            item.fault(PASSWORD, "", Code.PASSWORD_MISSING, "the row has no password, and its column is there for one",
                       "give one, or take the column out: then it is generated")  # fmt: skip
        elif text(cell).casefold() != GENERATE:
            item.secret = Secret(text(cell))

    def _date(
        self, column: Column, formats: tuple[str, ...], item: Item, name: str, cell: Cell
    ) -> tuple[str, ...] | None:
        field = column.field
        if isinstance(cell, datetime):
            return (cell.date().isoformat(),)
        if isinstance(cell, date):
            return (cell.isoformat(),)
        value = text(cell)
        if parsed := day(value, formats):
            return (parsed,)
        ways = " or ".join(column.dates) or "YYYY-MM-DD"
        if _SERIAL.fullmatch(value):
            moment = _DAY_ZERO + timedelta(days=int(float(value)))
            what = f"a spreadsheet's number for {moment}, where a day as {ways} is expected"
            item.fault(field, value, Code.DATE_SERIAL, what, f"write {moment}")
        else:
            item.fault(
                field, value, Code.DATE, f"no day as {ways}", "write it so, or name the way it is written: dates: [...]"
            )
        return None

    def _flag(
        self, field: str, yes: frozenset[str], no: frozenset[str], item: Item, name: str, cell: Cell
    ) -> tuple[str, ...] | None:
        if isinstance(cell, bool):
            return ("yes" if cell else "no",)
        word = text(cell).casefold()
        if word in yes:
            return ("yes",)
        if word in no:
            return ("no",) if word else None
        item.fault(
            field,
            text(cell),
            Code.WORD,
            f"neither yes ({', '.join(sorted(yes))}) nor no",
            "add the word to yes: or no:",
        )
        return None

    def _text(self, column: Column, item: Item, name: str, cell: Cell) -> tuple[str, ...] | None:
        field = column.field
        if isinstance(cell, str) and cell.isalpha() and cell.isascii() and not column.split:
            if cell.casefold() in NOTHING and self._is_nothing(column, cell):
                return self._nothing(item, field, cell)
            return (cell,)  # the usual case, without a look at each letter
        if isinstance(cell, (date, time, timedelta)):
            item.fault(field, text(cell), Code.DATE_MADE, "a spreadsheet made a day or a time of it",
                       "format the column as text, and write the value again")  # fmt: skip
            return None
        value = text(cell)
        if (bare := unquoted(value)) != value:
            value = bare
        elif why := self._spoilt(field, value):
            item.fault(field, value, *why)
            return None
        if value.casefold() in NOTHING and self._is_nothing(column, value):
            return self._nothing(item, field, value)
        if column.pad and value.isdecimal():
            value = value.zfill(column.pad)
        if field in self._fields and self._fields[field].many and column.split:
            return split_values(value, column.split)
        return (value,)

    def _is_nothing(self, column: Column, value: str) -> bool:
        """Whether a word that mostly stands for no value does so in this column: countries have such codes."""
        low, field = value.casefold(), column.field
        is_word = low in self._words.get(field, ()) or (field == "country" and value in _COUNTRIES)
        return not is_word and field != "notes" and low not in {word.casefold() for word in column.allow}

    @staticmethod
    def _nothing(item: Item, field: str, value: str) -> tuple[str, ...] | None:
        """A word for no value: somebody may be called so; any other is no name, and leaves another field empty."""
        remedy = f"if it is one: {{field: {field}, allow: [{value}]}} in the description"
        if field not in _NAMES:
            item.fault(field, value, Code.PLACEHOLDER, "taken for no value: the field stays empty", remedy, NOTE)
            return None
        if value.casefold() in NAMES_TOO:
            item.fault(field, value, Code.PLACEHOLDER, "taken for a name, and may stand for none", remedy, NOTE)
            return (value,)
        item.fault(field, value, Code.PLACEHOLDER, "placeholder text, not a value", "leave the cell empty")
        return None

    def _spoilt(self, field: str, value: str) -> tuple[Code, str, str] | None:
        """What happened to a value on its way here: trap, what, remedy."""
        if value in ERRORS or value.startswith("="):
            return Code.FORMULA, "an error or a formula of the spreadsheet, no value", "write the value itself"
        if "\ufffd" in value:
            return (
                Code.ENCODING,
                "characters that could not be read",
                "save the file as UTF-8, or name its encoding: --encoding",
            )
        if TWICE.search(value):
            return Code.ENCODING, "UTF-8 that was read as another encoding", "save the file again as UTF-8"
        if self._quote and self._quote in value and (
            value.startswith(self._quote) or value.endswith(self._quote) or value.count(self._quote) % 2
        ):  # fmt: skip
            return (
                Code.QUOTES,
                "quotes are part of the value",
                "take them out; a quote inside of a quoted cell is doubled",
            )
        if field in LIKE_NUMBERS and POINT_ZERO.fullmatch(value):
            return (
                Code.NUMBER_MADE,
                "a spreadsheet made a number of it",
                f"write {value[:-2]}, in a column formatted as text",
            )
        if field in LIKE_NUMBERS and SCIENTIFIC.fullmatch(value):
            return Code.NUMBER_MADE, "a spreadsheet shortened a long number, whose last digits are lost", (
                "format the column as text, and write the number again")  # fmt: skip
        if INVISIBLE.search(value):
            return (
                Code.INVISIBLE,
                "a character that does not show, as a non-breaking space",
                "write the value again by hand",
            )
        if field != "notes" and re.search(r"[\r\n\t]", value):
            return Code.LINE_BREAK, "a line break or tab within the value", "write it in one line"
        return None

    # --- the row as a whole

    def _misplaced(self, row: Row) -> Finding | None:
        """A row that cannot be read cell by cell: shifted, cut short, a second header, a line of totals."""
        cells, width = row.cells, len(self._header)
        if row.is_unclosed:
            return self._unclosed(row)
        count = len(cells)
        while count > width and cells[count - 1] == "":
            count -= 1
        if count > width:
            column = self._first_misfit(cells)
            what = (
                f"the row has {count} cells and the header {width}: from {column} on, everything stands "
                f"{count - width} too far to the right"
            )
            remedy = "a separator stands inside of a value: put that value in quotes"
            return Finding(Code.SHIFTED, what, Location(row=row.number, header=column), remedy)
        filled = [cell for cell in cells if cell != ""]
        if 0 < len(filled) <= 2 < width and str(filled[0]).strip(" :.").casefold() in TOTALS:
            return Finding(
                Code.TOTALS,
                "a line of totals, and nobody",
                Location(row=row.number, header=self._header[0]),
                "take the row out",
                value=str(filled[0]),
            )
        if count == width and [text(cell) for cell in cells] == self._header:
            what = "the header stands here as if it were data"
            return Finding(
                Code.HEADER,
                what,
                Location(row=row.number, header=self._header[0]),
                "take the row out",
                value=text(cells[0]),
            )
        wrong = [i for i, fits in self._tests.items() if i < len(cells) and cells[i] != "" and not fits.test(cells[i])]
        for by in (1, -1) if wrong else ():
            if fault := self._shifted(row, by, wrong):
                return fault
        if count < width - 1 and any(index >= count for index in self._tests):
            what = f"the row has {count} cells and the header {width}: it is cut short"
            return Finding(Code.SHORT, what, Location(row=row.number, header=self._header[count]), "complete the row")
        return None

    def _unclosed(self, row: Row) -> Finding:
        index = next(n for n, cell in enumerate(row.cells) if str(cell).lstrip().startswith(self._quote))
        where = Location(row=row.number, header=self._header[min(index, len(self._header) - 1)])
        remedy = "close it, or double it where it belongs to the text; if quotes are text here: --quote none"
        return Finding(
            Code.QUOTES, "a quote that opens here is not closed", where, remedy, value=text(row.cells[index])
        )

    def _shifted(self, row: Row, by: int, wrong: Sequence[int]) -> Finding | None:
        """Whether several cells do not fit their columns, and all of them fit the column beside."""
        cells = row.cells

        def fits(index: int, at: int) -> bool:
            return 0 <= at < len(cells) and cells[at] != "" and self._tests[index].test(cells[at])

        if not all(cells[i + by] == "" or fits(i, i + by) for i in wrong if 0 <= i + by < len(cells)):
            return None
        behind = [i for i in self._tests if i >= min(wrong)]
        fitting = [i for i in behind if fits(i, i + by)]
        telling = _TELLING if len(wrong) < 2 else 2
        if len(fitting) < telling or len(fitting) * 3 < len(behind) * 2 or sum(not fits(i, i) for i in fitting) < 2:
            return None
        column = self._header[max(0, min(wrong) - (by > 0))]
        side = "right" if by > 0 else "left"
        what = f"from {column} on, the cells fit the columns beside: everything stands one too far to the {side}"
        remedy = "an empty cell was put in or left out, or a separator stands inside of a value"
        return Finding(
            Code.SHIFTED, what, Location(row=row.number, header=column), remedy, value=text(cells[min(wrong)])
        )

    def _first_misfit(self, cells: Sequence[Cell]) -> str:
        """The column before the first whose cell does not fit: there the row went astray."""
        for index, fits in sorted(self._tests.items()):
            if index < len(cells) and not (cells[index] != "" and fits.test(cells[index])):
                return self._header[max(0, index - 1)]
        return self._header[-1]

    def _test(self, column: Column) -> CellCheck | None:
        """Whether a cell can belong to a column, for columns whose values have a shape of their own."""
        field = column.field
        if field in ("mail", "principal"):
            return CellCheck(lambda cell: "@" in str(cell), "^[^@\n]+$")
        if field in self._words:
            words = self._words[field]
            return CellCheck(lambda cell: str(cell).strip().casefold() in words)
        if field == "number":
            return CellCheck(
                lambda cell: any(char.isdigit() for char in text(cell)) and "@" not in text(cell), r"@|^[^\d\n]+$"
            )
        if field in self._fields and self._fields[field].shape is Shape.DATE:
            formats = formats_of(column)
            return CellCheck(lambda cell: not isinstance(cell, str) or bool(day(cell.strip(), formats)))
        if field in ("phone", "mobile", "fax", "home-phone"):
            return CellCheck(
                lambda cell: not any(char.isalpha() for char in text(cell)) and any(c.isdigit() for c in text(cell)),
                r"[^\W\d_]|^[^\d\n]+$",
            )
        return None
