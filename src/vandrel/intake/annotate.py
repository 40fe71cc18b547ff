"""Tabular files written: rows again with what is wrong with them, lists of objects; and who is missing since when."""

from __future__ import annotations

import csv
import itertools
import json
from collections.abc import Collection, Iterable, Iterator, Sequence
from datetime import date, datetime
from io import StringIO, TextIOWrapper
from pathlib import Path
from typing import BinaryIO

from vandrel import safe_file
from vandrel.errors import Code, Finding, Location, VandrelError
from vandrel.intake.table import Cell, Table, text
from vandrel.intake.traps import harmless, legible

#: The column that is added.
COLUMN = "findings"


def write(
    table: Table, target: Path, findings: Iterable[Finding], secret: Collection[str] = ()
) -> None:  # fmt: skip
    """Write a copy of a table with a column of findings; what concerns the file as a whole stands beside the header.

    Args:
        table: the rows.
        target: the file to write.
        findings: what is wrong, each with its row; with none, it is of the file as a whole.
        secret: headers of columns whose cells stay empty in the copy, since it is meant to be sent: passwords.

    Raises:
        VandrelError: ``usage`` for a form that is not known, ``taken``, ``not-permitted``.

    """
    said_of = _by_row(findings)
    blank = [index for index, name in enumerate(table.header()) if name in secret]
    header = [*table.header(), COLUMN + "".join(f"; {message}" for message in said_of.get(0, ()))]

    def rows() -> Iterator[Sequence[Cell]]:
        width = len(header) - 1
        for row in table.rows():
            cells = [*row.cells, *[""] * (width - len(row.cells))]
            for index in blank:
                cells[index] = ""
            yield [*cells[:width], "; ".join(said_of.get(row.number, ())), *cells[width:]]

    write_rows(target, header, rows(), separator=table.layout.separator)


def _by_row(findings: Iterable[Finding]) -> dict[int, list[str]]:
    """What is said of each row; 0 is the file as a whole."""
    by_row: dict[int, list[str]] = {}
    for finding in findings:
        message = f"{finding.where.header or '-'}: {finding.what}" + (f" - {finding.remedy}" if finding.remedy else "")
        by_row.setdefault(finding.where.row, []).append(message if finding.is_fatal else f"note: {message}")
    return by_row


def must_be_new(target: Path) -> None:
    """See to it that rows can be written to a file of this name, which does not exist.

    Raises:
        VandrelError: ``usage`` for a form that is not known, ``taken``.

    """
    if target.suffix.lower() not in _FORMS:
        raise VandrelError(Code.USAGE, f"rows cannot be written as {target.suffix or 'a file without a suffix'}",
                           where=Location(file=str(target)), remedy="name it .csv, .tsv, .xlsx or .ods")  # fmt: skip
    safe_file.must_be_free(target)


def write_rows(target: Path, header: Sequence[str], rows: Iterable[Sequence[Cell]], separator: str = ",") -> int:
    """Rows as a file: .csv, .tsv, .xlsx or .ods; returns how many. A file that exists is left alone.

    Raises:
        VandrelError: ``usage`` for a form that is not known, ``taken``, ``not-permitted``.

    """
    must_be_new(target)
    with safe_file.writing(target) as file:
        return _FORMS[target.suffix.lower()](file, header, rows, separator)


def as_text(header: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """Write rows as delimited text (RFC 4180), harmless to spreadsheets."""
    out = StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(header)
    writer.writerows([harmless(value) for value in row] for row in rows)
    return out.getvalue()


def _cell_text(cell: Cell) -> str:
    """A cell as text, with the spaces around it, which may belong to the value."""
    return cell if isinstance(cell, str) else text(cell)


def _csv(file: BinaryIO, header: Sequence[str], rows: Iterable[Sequence[Cell]], separator: str) -> int:
    count = 0
    out = TextIOWrapper(file, "utf-8-sig", newline="")  # the mark lets spreadsheets know the encoding
    writer = csv.writer(out, delimiter=separator)
    writer.writerow(header)
    for row in rows:
        writer.writerow([harmless(_cell_text(cell)) for cell in row])
        count += 1
    out.flush()
    out.detach()
    return count


def _xlsx(file: BinaryIO, header: Sequence[str], rows: Iterable[Sequence[Cell]], separator: str) -> int:
    from openpyxl import Workbook
    from openpyxl.cell import WriteOnlyCell

    book = Workbook(write_only=True)
    sheet = book.create_sheet("Rows")
    sheet.append(list(header))
    count = 0
    for row in rows:
        count += 1
        cells = []
        for value in row:
            if isinstance(value, (int, float, datetime)):
                cells.append(WriteOnlyCell(sheet, value))
                continue
            cell = WriteOnlyCell(sheet, legible(_cell_text(value)))
            cell.data_type, cell.number_format = "s", "@"  # text, whatever it looks like
            cells.append(cell)
        sheet.append(cells)
    book.save(file)
    return count


def _ods(file: BinaryIO, header: Sequence[str], rows: Iterable[Sequence[Cell]], separator: str) -> int:
    from odf.opendocument import OpenDocumentSpreadsheet
    from odf.table import Table as Sheet
    from odf.table import TableCell, TableRow
    from odf.teletype import addTextToElement
    from odf.text import P

    book = OpenDocumentSpreadsheet()
    sheet = Sheet(name="Rows")
    count = -1
    for row in itertools.chain([header], rows):
        count += 1
        line = TableRow()
        for value in row:
            cell = TableCell(valuetype="string")
            for piece in legible(_cell_text(value)).split("\n"):
                paragraph = P()
                for number, part in enumerate(
                    piece.split("\t")
                ):  # readers keep a tab as a character, not as an element
                    paragraph.addText("\t" if number else "")
                    addTextToElement(paragraph, part)
                cell.addElement(paragraph)
            line.addElement(cell)
        sheet.addElement(line)
    book.spreadsheet.addElement(sheet)
    book.write(file)
    return count


def _tsv(file: BinaryIO, header: Sequence[str], rows: Iterable[Sequence[Cell]], separator: str) -> int:
    return _csv(file, header, rows, "\t")


_FORMS = {".csv": _csv, ".txt": _csv, ".tsv": _tsv, ".xlsx": _xlsx, ".ods": _ods}


def missing_since(path: Path, keys: Sequence[str], today: date) -> dict[str, str]:
    """Since which day each of these is missing from a file: noted beside it, and taken up again the next time."""
    notes = path.with_name(f"{path.stem}.missing.json")
    try:
        before = json.loads(notes.read_text("utf-8"))
    except (OSError, ValueError):
        before = {}
    since = {key: str(before.get(key, today.isoformat())) for key in keys}
    if since != before:
        content = json.dumps(since, ensure_ascii=False, indent=1, sort_keys=True) + "\n"
        safe_file.write(notes, content.encode(), replace=True)
    return since
