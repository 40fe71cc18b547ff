"""Assignments as people write them: ``title="Second mate"``, ``groups+=team-deck``, ``phone-=...``, ``office=``."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from msgspec import Struct

from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import FIELDS, Field, Shape

#: Where a password comes from.
PASSWORD_CHOICES = ("ask", "generate", "none", "-")

_ASSIGNMENT = re.compile(
    r"(@?[A-Za-z][A-Za-z0-9-]*|@[A-Za-z][A-Za-z0-9-]*(?:;[A-Za-z0-9-]+)+)(\+=|-=|=)(.*)", re.DOTALL
)


class Assignment(Struct, frozen=True):
    """One field, what is done to it (``=``, ``+=``, ``-=``), and the values; a raw attribute begins with ``@``.

    With ``literal`` nothing is built from the values, and whom they name is known: by names in full, of objects that
    are there or that the same request makes.
    """

    field: str
    operator: str
    values: tuple[str, ...]
    literal: bool = False

    @property
    def raw(self) -> bool:
        """Whether it is about a raw attribute."""
        return self.field.startswith("@")


def parse(word: str, fields: Mapping[str, Field] = FIELDS) -> Assignment | None:
    """The assignment that a word is; None if it is a name.

    A distinguished name has ``=`` in it too: what begins with a naming attribute that is no field of ours and
    goes on with a comma is one.
    """
    match = _ASSIGNMENT.fullmatch(word)
    if not match:
        return None
    field, operator, text = match.groups()
    # a phone-=1: the hyphen belongs to the operator
    if operator == "=" and field.endswith("-"):
        field, operator = field[:-1], "-="
    if field not in fields and not field.startswith("@") and re.search(r",\s*[A-Za-z]+=", text):
        return None
    shape = fields[field].shape if field in fields else Shape.TEXT
    many = field in fields and fields[field].many
    if shape is Shape.MEMBERSHIPS or (shape is Shape.REFERENCE and many) or field in ("alias", "roles"):
        values = tuple(_split(text))
    else:
        values = (text,) if text else ()
    return Assignment(field, operator, values)


def _split(text: str) -> list[str]:
    """Names divided by commas; a distinguished name keeps its own."""
    if "=" in text:
        return [part.strip() for part in text.split(";") if part.strip()]
    return [part.strip() for part in text.split(",") if part.strip()]


def split(words: Iterable[str], fields: Mapping[str, Field] = FIELDS) -> tuple[list[str], list[Assignment]]:
    """Words taken apart into names and assignments."""
    plain: list[str] = []
    assignments: list[Assignment] = []
    for word in words:
        assignment = parse(word, fields)
        if assignment is None:
            plain.append(word)
        else:
            assignments.append(assignment)
    return plain, assignments


def as_fields(assignments: Iterable[Assignment]) -> dict[str, tuple[str, ...]]:
    """The values of fields of a new object, by field.

    Raises:
        VandrelError: ``unknown-field`` for a raw attribute.

    """
    fields: dict[str, tuple[str, ...]] = {}
    for assignment in assignments:
        if assignment.raw:
            what, remedy = "raw attributes are set on what exists", "create first, then edit"
            raise VandrelError(Code.UNKNOWN_FIELD, what, where=Location(field=assignment.field), remedy=remedy)
        fields[assignment.field] = (*fields.get(assignment.field, ()), *assignment.values)
    return fields


def must_be_choice(typed: str) -> str:
    """The choice that ``password=...`` makes.

    Raises:
        VandrelError: ``usage`` for anything else: it may be a password, which must never stand in a command line.

    """
    if typed not in PASSWORD_CHOICES:
        raise VandrelError(
            Code.USAGE, "a password is never given on the command line, where other people can see it",
            where=Location(field="password"),
            remedy="write password=ask, password=generate, password=none, or password=- to read it from standard input",
        )  # fmt: skip
    return typed


def check_passwords(assignments: Iterable[Assignment]) -> None:
    """See to it that assignments to the password are choices, and no passwords.

    Raises:
        VandrelError: ``usage``.

    """
    for assignment in assignments:
        if assignment.field == "password":
            must_be_choice(assignment.values[0] if assignment.values else "none")


def flag(field: str, value: str) -> str:
    """``yes`` or ``no``.

    Raises:
        VandrelError: code ``bad-value``.

    """
    word = value.casefold()
    if word in ("yes", "true", "on", "1"):
        return "yes"
    if word in ("no", "false", "off", "0", ""):
        return "no"
    raise VandrelError(
        Code.BAD_VALUE,
        f"{field} is yes or no, and {value!r} is neither",
        where=Location(field=field),
        remedy=f"write {field}=yes or {field}=no",
    )
