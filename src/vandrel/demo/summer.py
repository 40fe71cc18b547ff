"""The summer crew of the demo: four hundred people in a spreadsheet, as it was sent, with thirty faults, and mended."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from vandrel.intake.invent import people

HEADER = (
    "Staff no", "First name", "Last name", "Port", "Job", "Manager", "Phone", "Mail", "Login", "Street", "Postcode",
    "Country", "Start", "End", "Teams", "Password", "Remarks",
)  # fmt: skip
COUNT = 400
_PORTS = ("Northquay", "Sandhaven", "Eastmole", "Kelness")
_JOBS = ("Kiosk", "Deckhand", "Ticket clerk", "Galley", "Car deck")
_CAPTAINS = {"Northquay": "2001", "Sandhaven": "2101", "Eastmole": "2201", "Kelness": "2301"}

Cells = list[str | int | datetime]

#: What the columns mean; the spreadsheet is read by it.
INTAKE = """\
# What the columns mean. vandrel import FILE reads this file, which stands beside it.
vandrel-intake: 1
type: account
kind: seasonal
file: {sheet: Summer, header: 1}
columns:
  Staff no: number
  First name: given
  Last name: surname
  Port: site
  Job: title
  Manager: manager
  Phone: phone
  Mail: mail
  Login: login
  Street: street
  Postcode: postcode
  Country: country
  Start: {field: starts, dates: [DD.MM.YYYY]}
  End: {field: ends, dates: [DD.MM.YYYY]}
  Teams: {field: groups, split: ","}
  Password: password
  Remarks: notes
constants: {company: Marrowick Ferries}
built: {office: "Pier {site}"}
key: [number]
mode: create
"""


def rows() -> list[Cells]:
    """The rows as they should be; the same each time."""
    chance = random.Random(7)
    cells: list[Cells] = []
    for number, (_, given, surname) in enumerate(people(COUNT, 7), 1):
        port = _PORTS[number % 4]
        begins = f"0{chance.randint(1, 9)}.06.2090"
        cells.append([
            f"{number:04d}", given, surname, port, chance.choice(_JOBS), _CAPTAINS[port], f"+47 5555 {7000 + number}",
            "", "",
            f"Quay {chance.randint(1, 90)}", f"{5000 + chance.randint(1, 90)}", "NO", begins, "30.09.2090", "",
            "generate", "",
        ])  # fmt: skip
    return cells


def _cell(column: str, value: str | int | datetime) -> Callable[[Cells], None]:
    def spoil(row: Cells) -> None:
        row[HEADER.index(column)] = value

    return spoil


def _spoil(column: str, change: Callable[[str], str]) -> Callable[[Cells], None]:
    def spoil(row: Cells) -> None:
        row[HEADER.index(column)] = change(str(row[HEADER.index(column)]))

    return spoil


def _one_to_the_right(row: Cells) -> None:
    row.insert(HEADER.index("Port"), "Quay 7")


def _one_to_the_left(row: Cells) -> None:
    del row[HEADER.index("First name")]
    row.append("")


#: The number of the person, what was done to the row, and the trap by which the check names it.
FAULTS: tuple[tuple[int, Callable[[Cells], None], str], ...] = (
    (11, _cell("Last name", ""), "required"),
    (23, _cell("Port", "Northqay"), "bad-value"),
    (37, _one_to_the_right, "shifted"),
    (48, _one_to_the_left, "shifted"),
    (52, _spoil("Last name", lambda name: f'"{name}'), "quotes"),
    (61, _cell("First name", "BjÃ¸rn"), "encoding"),
    (74, _cell("Last name", "S\ufffdb\ufffd"), "encoding"),
    (83, _cell("Postcode", "5003.0"), "number-made"),
    (96, _cell("Staff no", 96), "zeros-lost"),
    (105, _cell("Phone", "4.75556E+09"), "number-made"),
    (118, _cell("Job", datetime(2090, 3, 4)), "date-made"),
    (127, _cell("End", "31.09.2090"), "date"),
    (139, _cell("Start", "06/15/2090"), "date"),
    (146, _cell("Start", "69583"), "date-serial"),
    (158, _cell("Staff no", "0157"), "twice"),
    (163, _cell("Manager", "9999"), "not-found"),
    (179, _cell("Manager", "Lund"), "ambiguous"),
    (188, _cell("Teams", "team-fishing"), "not-found"),
    (197, _cell("Login", "hbrekke"), "taken"),
    (208, _cell("Mail", "halvard.brekke@marrowick.example"), "taken"),
    (219, _cell("Staff no", ""), "required"),
    (226, _cell("Street", "#REF!"), "formula"),
    (234, _spoil("Last name", lambda name: f"{name[:2]}\u200b{name[2:]}"), "invisible"),
    (247, _cell("First name", "n/a"), "placeholder"),
    (255, _cell("Country", "Norway"), "schema"),
    (268, _cell("End", "31.05.2090"), "bad-value"),
    (279, _cell("Password", ""), "password-missing"),
    (288, _cell("Password", "summer"), "password"),
    (297, _cell("Street", "Quay 7\nbehind the shed"), "line-break"),
    (306, _cell("Phone", "+47 5555 7306, +47 5555 7307, +47 5555 7308"), "schema"),
)  # fmt: skip


def write(folder: Path) -> None:
    """The spreadsheet as it was sent (summer.xlsx), mended (summer-mended.xlsx), and what its columns mean."""
    sound = rows()
    _save(folder / "summer-mended.xlsx", sound)
    spoilt = rows()
    for number, spoil, _ in FAULTS:
        spoil(spoilt[number - 1])
    _save(folder / "summer.xlsx", spoilt)
    for name in ("summer", "summer-mended"):
        (folder / f"{name}.intake.yaml").write_text(INTAKE, "utf-8")


def _save(path: Path, table: list[Cells]) -> None:
    from openpyxl import Workbook
    from openpyxl.cell import WriteOnlyCell

    book = Workbook(write_only=True)
    sheet = book.create_sheet("Summer")
    for column, width in zip(
        "ABCDEFGHIJKLMNOPQ", (9, 18, 22, 11, 13, 9, 17, 9, 9, 10, 9, 8, 11, 11, 8, 10, 10), strict=True
    ):
        sheet.column_dimensions[column].width = width
    sheet.append(list(HEADER))
    for row in table:
        cells = [WriteOnlyCell(sheet, value) for value in row]
        for cell in cells:
            if isinstance(cell.value, str):
                cell.data_type = "s"  # what was pasted as text, an error of another sheet as well
        sheet.append(cells)
    # Without the hour of its making, the file is the same each time.
    book.properties.created = book.properties.modified = datetime(2026, 11, 23)
    book.save(path)
