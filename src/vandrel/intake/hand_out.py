"""Hand-outs: first passwords as delimited text, as a spreadsheet, or as slips to be cut; encrypted if wanted."""

from __future__ import annotations

import csv
import io
from collections.abc import Collection, Sequence
from pathlib import Path

from msgspec import Struct

from vandrel import safe_file
from vandrel.errors import Code, Location, VandrelError
from vandrel.intake.traps import harmless
from vandrel.secret import Secret

#: Columns of the text and of the spreadsheet.
HEADER = ("name", "login", "principal", "mail", "password")
FORMS = (".csv", ".txt", ".xlsx", ".pdf")
ENCRYPTED = ".age"

_SLIPS_ACROSS, _SLIPS_DOWN = 2, 5


class Slip(Struct, frozen=True):
    """What one person gets to know."""

    name: str
    login: str
    principal: str
    mail: str
    secret: Secret


def form_of(path: Path) -> str:
    """The form that the name of a file asks for, its encryption set aside.

    Raises:
        VandrelError: code ``usage``.

    """
    name = Path(path.stem) if path.suffix == ENCRYPTED else path
    if name.suffix.lower() not in FORMS:
        remedy = f"end its name with {', '.join(FORMS)}; and {ENCRYPTED}, if it is encrypted"
        raise VandrelError(
            Code.USAGE,
            f"a hand-out cannot be a file {name.suffix or 'without a suffix'}",
            where=Location(file=str(path)),
            remedy=remedy,
        )
    return name.suffix.lower()


def must_be_possible(path: Path, recipient: str = "") -> None:
    """See to it that a hand-out of this name, for this recipient, can be made at all.

    Raises:
        VandrelError: code ``usage``.

    """
    form_of(path)
    if (path.suffix == ENCRYPTED) != bool(recipient):
        what = "the name of an encrypted hand-out ends with .age" if recipient else "whom is it encrypted for?"
        remedy = f"name it {path}{ENCRYPTED}" if recipient else "add --recipient age1..., or take .age off its name"
        raise VandrelError(Code.USAGE, what, where=Location(file=str(path)), remedy=remedy)
    if recipient:
        _encrypted(b"", recipient)


def write(path: Path, slips: Sequence[Slip], organization: str, recipient: str = "", *, again: bool = False) -> None:
    """Write a hand-out for its owner alone (mode 0600); a file that exists is left alone, unless it is written again.

    Raises:
        VandrelError: ``usage`` for a form or recipient that is none, ``taken`` where the file exists,
            ``not-permitted`` where it cannot be written.

    """
    must_be_possible(path, recipient)
    content = {".csv": _text, ".txt": _text, ".xlsx": _sheet, ".pdf": _pages}[form_of(path)](slips, organization)
    if recipient:
        content = _encrypted(content, recipient)
    safe_file.write(path, content, "hand-out", replace=again)


def read(path: Path) -> list[Slip]:
    """What stands in a hand-out; nothing where it is no text or spreadsheet, or is not there."""
    from vandrel.intake.table import open_table, text

    if path.suffix.lower() not in (".csv", ".txt", ".xlsx") or not path.exists():
        return []
    slips = []
    for row in open_table(path).rows():
        cells = [cell if isinstance(cell, str) else text(cell) for cell in row.cells]
        if len(cells) == len(HEADER):
            name, login, principal, mail = (cell.removeprefix("'") for cell in cells[:-1])
            slips.append(Slip(name, login, principal, mail, Secret(cells[-1], generated=True)))
    return slips


def leave_out(path: Path, logins: Collection[str], organization: str) -> None:
    """Write a hand-out that can be read again without some accounts; where nobody is left, it goes.

    Raises:
        VandrelError: ``not-permitted`` where it cannot be written.

    """
    slips = read(path)
    remaining = [slip for slip in slips if slip.login not in logins]
    if slips and not remaining:
        path.unlink()
    elif len(remaining) < len(slips):
        write(path, remaining, organization, again=True)


def _text(slips: Sequence[Slip], organization: str) -> bytes:
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(HEADER)
    for slip in slips:
        writer.writerow([*map(harmless, (slip.name, slip.login, slip.principal, slip.mail)), slip.secret.reveal()])
    return text.getvalue().encode()


def _sheet(slips: Sequence[Slip], organization: str) -> bytes:
    from openpyxl import Workbook
    from openpyxl.cell import WriteOnlyCell

    book = Workbook(write_only=True)
    sheet = book.create_sheet("First passwords")
    for column, width in zip("ABCDE", (28, 20, 34, 34, 24), strict=True):
        sheet.column_dimensions[column].width = width
    sheet.append(list(HEADER))
    for slip in slips:
        cells = [WriteOnlyCell(sheet, value) for value in
                 (slip.name, slip.login, slip.principal, slip.mail, slip.secret.reveal())]  # fmt: skip
        for cell in cells:
            cell.data_type = "s"  # text, whatever it begins with
        sheet.append(cells)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _pages(slips: Sequence[Slip], organization: str) -> bytes:
    """Slips, ten to a page of A4, with lines to cut along."""
    from reportlab.lib.pagesizes import A4
    from reportlab.lib.units import mm
    from reportlab.pdfgen.canvas import Canvas

    regular, bold, mono = _fonts()
    out = io.BytesIO()
    page = Canvas(out, pagesize=A4, pageCompression=1)
    page.setTitle("First passwords")
    width, height = A4[0] / _SLIPS_ACROSS, A4[1] / _SLIPS_DOWN
    inside, label = width - 18 * mm, 17 * mm
    page.beginForm(
        "slip", 0, -round(height), round(width), round(height)
    )  # what all slips have, drawn once; from the top down
    page.setFillGray(0.35)
    for text, size, down in (
        (organization, 7.5, 0), ("log on as", 7.5, 13), ("or as", 7.5, 18), ("mail", 7.5, 23),
        ("password, for the first time", 7.5, 30),
        ("Choose your own when you log on. Then destroy this slip.", 6.5, 42),
    ):  # fmt: skip
        page.setFont(regular, size)
        page.drawString(0, -down * mm, text)
    page.endForm()
    for number, slip in enumerate(slips):
        place = number % (_SLIPS_ACROSS * _SLIPS_DOWN)
        if number and not place:
            page.showPage()
        if not place:
            _cutting_lines(page, width, height)
        left, top = (place % _SLIPS_ACROSS) * width + 9 * mm, A4[1] - (place // _SLIPS_ACROSS) * height - 10 * mm
        page.saveState()
        page.translate(left, top)
        page.doForm("slip")
        _fitted(page, slip.name, bold, 12, 0, -6.5 * mm, inside)
        for row, value in enumerate((slip.login, slip.principal, slip.mail)):
            _fitted(page, value, regular, 9.5, label, -(13 + row * 5) * mm, inside - label)
        _fitted(page, slip.secret.reveal(), mono, 13, 0, -36.5 * mm, inside)
        page.restoreState()
    page.save()
    return out.getvalue()


def _cutting_lines(page: object, width: float, height: float) -> None:
    from reportlab.pdfgen.canvas import Canvas

    assert isinstance(page, Canvas)
    page.setStrokeGray(0.6)
    page.setLineWidth(0.4)
    page.setDash(3, 3)
    for column in range(1, _SLIPS_ACROSS):
        page.line(column * width, 0, column * width, height * _SLIPS_DOWN)
    for row in range(1, _SLIPS_DOWN):
        page.line(0, row * height, width * _SLIPS_ACROSS, row * height)
    page.setDash()


def _fitted(page: object, text: str, font: str, size: float, x: float, y: float, width: float) -> None:
    """A line of text, smaller where it would not fit."""
    from reportlab.pdfbase.pdfmetrics import stringWidth
    from reportlab.pdfgen.canvas import Canvas

    assert isinstance(page, Canvas)
    wide = stringWidth(text, font, size)
    page.setFont(font, size if wide <= width else size * width / wide)
    page.drawString(x, y, text)


def _fonts() -> tuple[str, str, str]:
    """Fonts with letters beyond Latin-1, which the built-in ones lack: DejaVu, as Matplotlib or the system has it."""
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFError, TTFont

    substitutes = {"DejaVuSans": "Helvetica", "DejaVuSans-Bold": "Helvetica-Bold", "DejaVuSansMono": "Courier"}
    fonts = []
    for name, instead in substitutes.items():
        try:
            pdfmetrics.registerFont(TTFont(name, _font_file(name)))
            fonts.append(name)
        except (TTFError, OSError):
            fonts.append(instead)
    return fonts[0], fonts[1], fonts[2]


def _font_file(name: str) -> str:
    system = Path("/usr/share/fonts/truetype/dejavu") / f"{name}.ttf"
    if system.exists():
        return str(system)
    from importlib.util import find_spec

    library = find_spec("matplotlib")
    folder = Path(library.origin).parent if library and library.origin else Path()
    return str(folder / "mpl-data" / "fonts" / "ttf" / f"{name}.ttf")


def _encrypted(content: bytes, recipient: str) -> bytes:
    """Encrypted to a public key, in the age format, version 1."""
    import pyrage

    try:
        key = pyrage.x25519.Recipient.from_str(recipient)
    except (pyrage.RecipientError, ValueError):
        raise VandrelError(
            Code.USAGE,
            "this is no public key of the age format",
            where=Location(option="--recipient"),
            remedy="it begins with age1",
        ) from None
    return bytes(pyrage.encrypt(content, [key]))
