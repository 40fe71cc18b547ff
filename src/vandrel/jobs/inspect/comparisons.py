"""Conditions that no filter of a server can ask for: what lies before and after, and parts of days.

>>> parse("number>=3000", {"number"})
Comparison(name='number', operator='>=', value='3000')
>>> parse("alund", {"number"}), parse("ends=2026-12-31", {"ends"})
(None, None)
"""

from __future__ import annotations

import operator
import re
from collections.abc import Callable, Collection
from datetime import date, timedelta
from fnmatch import fnmatchcase
from typing import Any

from msgspec import Struct

from vandrel.directory.entry import Entry
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import Shape
from vandrel.objects.context import Context
from vandrel.objects.view import STATES, ObjectView
from vandrel.text.nearest import did_you_mean

_WORD = re.compile(r"([a-z][a-z-]*)(<=|>=|<|>)(.+)")
_DAYS = re.compile(r"([+-]\d{1,5})d")
_COMPARE: dict[str, Callable[[Any, Any], bool]] = {
    "<": operator.lt, "<=": operator.le, ">": operator.gt, ">=": operator.ge,
}  # fmt: skip
#: Times that only the directory sets, as `vandrel.dialects.dialect.Dialect.instants` calls them.
INSTANTS = {"created": "created", "changed": "changed", "password-set": "password set", "last-logon": "last logon"}


class Comparison(Struct, frozen=True):
    """A field, ``state`` or a time of `INSTANTS`, an operator, and a day, a number, a state or a pattern of a day."""

    name: str
    operator: str
    value: str


def parse(word: str, fields: Collection[str]) -> Comparison | None:
    """The comparison that a word is; None for anything else."""
    match = _WORD.fullmatch(word)
    if word.startswith("state="):
        return Comparison("state", "=", word.removeprefix("state="))
    if match and (match[1] in fields or match[1] in INSTANTS):
        return Comparison(*match.groups())
    return None


def test_of(context: Context, comparison: Comparison) -> Callable[[Entry], bool]:
    """What tells whether an object fits; one without a value never does.

    Raises:
        VandrelError: ``usage`` for a field that is neither a day nor a number, ``bad-value``.

    """
    name, value, today = comparison.name, comparison.value, context.charter.today()
    if name == "state":
        if value not in STATES:
            remedy = did_you_mean(value, STATES) or f"the states are: {', '.join(STATES)}"
            raise VandrelError(Code.BAD_VALUE, f"{value!r} is no state", where=Location(field=name), remedy=remedy)
        return lambda entry: value in ObjectView(context, entry).states
    if comparison.operator == "=":
        return lambda entry: any(fnmatchcase(said, value) for said in context.dialect.read(entry, name))
    compare, where = _COMPARE[comparison.operator], Location(field=name)
    if name in INSTANTS:
        day = _day(value, today, where)
        zone = context.charter.zone

        def instant_fits(entry: Entry) -> bool:
            instant = dict(context.dialect.instants(entry)).get(INSTANTS[name])
            return instant is not None and compare(instant.astimezone(zone).date(), day)

        return instant_fits
    shape = context.fields[name].shape
    if shape is Shape.DATE:
        day = _day(value, today, where)
        return lambda entry: any(compare(date.fromisoformat(said), day) for said in context.dialect.read(entry, name))
    if shape not in (Shape.NUMBER, Shape.TEXT) or not value.isdecimal():
        what = f"{name} {comparison.operator} {value} compares neither days nor numbers"
        raise VandrelError(Code.USAGE, what, where=where, remedy="write ends<2026-12-31, last-logon<-90d, number>=3000")
    number = int(value)
    return lambda entry: any(
        said.isdecimal() and compare(int(said), number) for said in context.dialect.read(entry, name)
    )


def _day(value: str, today: date, where: Location) -> date:
    """A day as it is written, or so many days from today: ``-90d``."""
    try:
        if days := _DAYS.fullmatch(value):
            return today + timedelta(days=int(days[1]))
        return date.fromisoformat(value)
    except (ValueError, OverflowError):
        remedy = "write 2026-12-31, or -90d for ninety days ago"
        raise VandrelError(Code.BAD_VALUE, f"{value!r} is no day", where=where, remedy=remedy) from None
