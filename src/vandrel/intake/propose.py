"""What the columns of a tabular file seem to mean: a description proposed from its header and first rows."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import date, datetime
from pathlib import Path
from typing import Any

from msgspec import Struct, structs

from vandrel.charter.charter import Charter
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, FIELDS, UNIT, Field, FieldCatalog, Shape
from vandrel.intake.description import BETWEEN, Column, Description, File, Mode, ObjectType, as_yaml, date_format
from vandrel.intake.table import Row, Table, open_table, sheets_of, text
from vandrel.text.string_prep import prepare
from vandrel.text.transliterate import to_ascii

#: The least share of values that differ, in a column by which rows are recognized.
_APART = 0.95
#: Words that headers use, in the languages of the people who send such files.
_WORDS = {
    "given": "given name, first name, firstname, forename, christian name, vorname, fornavn, förnamn, prénom, nombre, "
    "imię",
    "surname": "surname, last name, lastname, family name, nachname, familienname, etternavn, efternamn, nom, "
    "apellido, nazwisko",
    "middle": "middle name, middle names, zweiter vorname, mellomnavn",
    "full": "full name, name, fullname, vollständiger name, fullt navn",
    "display": "display name, displayed name, shown as, anzeigename, visningsnavn, visningsnamn, nom affiché",
    "name": "entry name, object name, common name, cn",
    "generation": "suffix, generation",
    "number": "employee number, employee no, employee id, staff no, staff number, staff id, personnel number, "
    "personalnummer, ansattnummer, ansattnr, matricule, emp no, empno, id, no, nr",
    "badge": "badge, card, staff card, ausweis",
    "kind": "kind, type, account type, art",
    "title": "title, job, job title, position, rank, role, function, stilling, beruf, funktion, poste",
    "company": "company, firm, firma, selskap, société",
    "department": "department, dept, abteilung, avdeling, service",
    "division": "division, bereich",
    "site": "site, town, city, location, port, standort, sted, ort, ville, havn",
    "category": "category, class, kategorie, kategori",
    "office": "office, büro, kontor, bureau",
    "room": "room, raum, rom, zimmer",
    "manager": "manager, supervisor, reports to, boss, vorgesetzter, leder, chef",
    "sponsor": "sponsor, responsible",
    "owner": "owner, besitzer",
    "mail": "mail, e-mail, email, mail address, email address, e-post, courriel",
    "alias": "alias, aliases, other mail",
    "phone": "phone, telephone, telefon, tel, tlf, téléphone",
    "mobile": "mobile, cell, cell phone, mobil, handy, portable",
    "fax": "fax",
    "street": "street, address, strasse, straße, gate, adresse, rue",
    "postcode": "postcode, post code, zip, zip code, plz, postnummer, postnr, code postal",
    "province": "state, province, county, fylke, land region",
    "country": "country, country code, land, pays",
    "starts": "starts, start, start date, first day, entry date, hired, eintritt, beginn, startdato, début",
    "ends": "ends, end, end date, last day, expires, until, austritt, ende, sluttdato, fin",
    "language": "language, sprache, språk, langue",
    "groups": "groups, group, teams, team, memberships, gruppen, grupper, groupes",
    "login": "login, user, username, user name, logon name, account, benutzer, brukernavn, kennung",
    "principal": "principal, principal name, upn",
    "password": "password, passwort, passord, first password, mot de passe",
    "place": "place, unit, ou, organizational unit, einheit, enhet",
    "notes": "notes, note, remarks, remark, comment, comments, description, bemerkung, merknad",
    "enabled": "enabled, active, aktiv",
    "members": "members, mitglieder, medlemmer",
    "web": "web, web page, website, homepage",
    "home": "home folder, home directory",
}  # fmt: skip
_GUESSES = {prepare(word): field for field, words in _WORDS.items() for word in words.split(", ")}
_GUESSES |= {prepare(name): name for name in FIELDS}
_GUESSES |= {re.sub(r"[^a-z0-9]+", "", to_ascii(word).lower()): field for word, field in list(_GUESSES.items())}

#: Ways to write a day, the unmistakable ones first.
_DATES = ("YYYY-MM-DD", "DD.MM.YYYY", "YYYY/MM/DD", "DD/MM/YYYY", "MM/DD/YYYY", "DD-MM-YYYY", "DD.MM.YY", "MM/DD/YY")
_YES, _NO = ("yes", "ja", "oui", "true", "x", "1", "y", "j"), ("no", "nein", "nei", "non", "false", "0", "n", "")
#: Between several values in one cell. People write a stroke within numbers and titles, not within names of groups.
_LISTS, _STROKE = (";", "|", ","), "/"


def guess(header: str, fields: Mapping[str, Field]) -> str:
    """The field that a header seems to mean; empty where it tells nothing."""
    low = prepare(header)
    if low in fields:
        return low
    return _GUESSES.get(low) or _GUESSES.get(re.sub(r"[^a-z0-9]+", "", to_ascii(header).lower()), "")


def looks_like_header(cells: Sequence[object], fields: Mapping[str, Field]) -> bool:
    """Whether a row reads like names of columns."""
    words = [str(cell).strip() for cell in cells if str(cell).strip()]
    number = sum(bool(guess(word, fields)) for word in words)
    return bool(words) and number * 2 >= len(words) and not any("@" in word or word.isdecimal() for word in words)


class Proposed(Struct, frozen=True):
    """The text of a description that a file seems to need, the sheet that it is for, and all sheets of the file."""

    text: str
    sheet: str
    sheets: Sequence[str]


def propose_for_file(
    path: Path, layout: Mapping[str, Any], charter: Charter, object_type: ObjectType = "account", kind: str = "",
    mode: Mode = "create",
) -> Proposed:  # fmt: skip
    """Propose a description of a file; of several sheets, of the first whose columns mean something.

    Args:
        path: the file.
        layout: how it is written, as far as that is known: the arguments of `open_table`.
        charter: the fields, and the words that they may have.
        object_type: what each row is.
        kind: of which kind.
        mode: whether rows are made, change what is there, or both.

    Raises:
        VandrelError: ``bad-value`` for a file without rows; what `open_table` raises.

    """
    sheets, options = sheets_of(path), dict(layout)
    sheet = options.pop("sheet", None)
    for name in [*sheets, sheets[0]] if sheets and not sheet else [sheet]:
        described, table, comments = propose(
            open_table(path, **options, sheet=name), charter, object_type, kind, mode
        )  # fmt: skip
        if described.key:
            break
    if not described.columns:
        where = Location(file=str(path))
        raise VandrelError(Code.BAD_VALUE, "the file has no rows", where=where, remedy="is it the right one?")
    return Proposed(as_yaml(described, table.layout, comments), table.layout.sheet, sheets)


def propose(
    table: Table, charter: Charter, object_type: ObjectType = "account", kind: str = "", mode: Mode = "create"
) -> tuple[Description, Table, dict[str, str]]:
    """A description of a table, the table with the header that was found, and a word on each column."""
    fields = charter.fields
    rows = [row for row in table.sample() if not row.empty]
    header = next((row.number for row in rows[:10] if looks_like_header(row.cells, fields)), 0)
    table = Table(table.path, structs.replace(table.layout, header=header))
    names = table.header()
    body = [row for row in rows if row.number > header] if header else rows
    columns: dict[str, str | Column] = {}
    comments: dict[str, str] = {}
    used: set[str] = set()
    for index, name in enumerate(names):
        values = [text(row.cells[index]) for row in body if index < len(row.cells) and row.cells[index] != ""]
        field = guess(name, fields) if header else _by_values(values, charter, used)
        field = field if _fits(field, object_type, fields) and (field not in used or fields[field].many) else ""
        used |= {field} - {""}
        column, comment = _column(
            fields.get(field), values, [row.cells[index] for row in body if index < len(row.cells)]
        )
        column = column or field
        if field == name and field in fields and fields[field].many:  # as `find --to` writes it
            column, comment = Column(field=field, split=BETWEEN), ""
        columns[name] = column
        comments[name] = comment or ("" if field else "left out: " + (", ".join(values[:3]) or "always empty"))
    if object_type == ACCOUNT and not used & {"given", "surname"}:
        _whole_names(columns, comments, used)
    repeating = _repeating(names, columns, body)
    telling = ("number", "login", "mail")
    key: list[str] = [str(name) for name in telling if name in used and name not in repeating][:1]
    if object_type != ACCOUNT:
        key = ["place" if object_type == UNIT and "place" in used else "name"]
    key = key or [name for name in ("given", "surname", "full", "name", "site", "company", "place") if name in used]
    layout = table.layout
    file = File(layout.encoding, layout.separator, layout.quote, layout.header, layout.sheet)
    described = Description(object_type=object_type, kind=kind, file=file, columns=columns, key=key, mode=mode)
    return described, table, comments


def _repeating(names: Sequence[str], columns: Mapping[str, str | Column], rows: Sequence[Row]) -> set[str]:
    """The fields that tell nobody apart: empty, or shared by many rows; that a few share a value is their fault."""
    repeating = set()
    for index, name in enumerate(names):
        column = columns[name]
        values = [value for row in rows if index < len(row.cells) and (value := prepare(text(row.cells[index])))]
        if not values or len(set(values)) < _APART * len(values):
            repeating.add(column if isinstance(column, str) else column.field)
    return repeating


def _whole_names(columns: dict[str, str | Column], comments: dict[str, str], used: set[str]) -> None:
    """Where no column has parts of names, what is called a name is the whole name of a person."""
    for header, field in columns.items():
        if field == "name" and "full" not in used:
            columns[header] = "full"
            used ^= {"name", "full"}
        if columns[header] == "full":
            comments[header] = "taken apart into given name and surname"


def _fits(field: str, object_type: str, fields: FieldCatalog) -> bool:
    if field in ("place", "password"):
        return field == "place" or object_type == ACCOUNT
    spec = fields.get(field)
    return spec is not None and object_type in spec.on and spec.shape not in (Shape.SECRET, Shape.OCTETS)


def _by_values(values: Sequence[str], charter: Charter, used: set[str]) -> str:
    """The field that values without a header seem to belong to: only where they leave no doubt."""
    if not values:
        return ""
    if all("@" in value for value in values):
        return "mail"
    for name in charter.fields:
        words = {prepare(word) for word in charter.words_of(name) or ()}
        if words and name not in used and all(prepare(value) in words for value in values):
            return name
    if all(value.isdecimal() for value in values) and len(set(values)) == len(values) and "number" not in used:
        return "number"
    return ""


def _column(spec: Field | None, values: Sequence[str], cells: Sequence[object]) -> tuple[str | Column, str]:
    if spec is None:
        return "", ""
    field, shape = spec.name, spec.shape
    if shape is Shape.DATE:
        if all(isinstance(cell, (date, datetime)) or cell == "" for cell in cells):
            return field, ""
        fitting = [pattern for pattern in _DATES if values and all(_is_day(value, pattern) for value in values)]
        mostly = fitting or sorted(_DATES, key=lambda pattern: -sum(_is_day(value, pattern) for value in values))[:1]
        doubt = "is the day or the month first?" if {"DD/MM/YYYY", "MM/DD/YYYY"} <= set(fitting) else ""
        return Column(field=field, dates=[mostly[0]]), doubt
    if shape is Shape.FLAG:
        return Column(field=field, yes=list(_YES), no=list(_NO)), ""
    if spec.many:
        return _several(spec, values)
    if field == "number":
        widths = {len(value) for value in values if value.isdecimal()}
        zeros = any(value.startswith("0") for value in values)
        if zeros and len(widths) > 1:
            return field, "some have lost leading zeros: {field: number, pad: N} fills them up"
    return field, ""


def _several(spec: Field, values: Sequence[str]) -> tuple[str | Column, str]:
    """A field that can have several values: split where marks are seen within cells, and in lists of names always."""
    field = spec.name
    names = spec.shape in (Shape.MEMBERSHIPS, Shape.REFERENCE)
    inside = [mark for mark in (*_LISTS, *(_STROKE if names else "")) if any(mark in value for value in values)]
    if field == "notes":  # sentences have marks of their own
        return field, f'if each is a note of its own: {{field: notes, split: "{inside[0]}"}}' if inside else ""
    if inside or names:
        return Column(field=field, split=inside[0] if inside else _LISTS[0]), ""
    return field, ""


def _is_day(value: str, pattern: str) -> bool:
    try:
        datetime.strptime(value, date_format(pattern))
    except ValueError:
        return False
    return True
