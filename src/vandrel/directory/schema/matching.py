"""Matching rules (RFC 4517, section 4.2): the form in which the values of an attribute are compared."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from vandrel.directory import dn
from vandrel.errors import VandrelError
from vandrel.text.string_prep import fold, prepare

Key = str | bytes

_SPACES = re.compile(r"\s+")


def exact(value: str) -> str:
    """The text itself."""
    return _SPACES.sub(" ", value.strip())


def _telephone(value: str) -> str:
    return fold(value).replace(" ", "").replace("-", "")


def _integer(value: str) -> str:
    """A whole number as text whose order is the order of the numbers, for all below 10^38 in size."""
    try:
        return f"{int(value) + 10**38:039d}"
    except ValueError:
        return prepare(value)


def _name(value: str) -> str:
    try:
        return dn.parse(value).key
    except VandrelError:
        return prepare(value)


def _time(value: str) -> str:
    """Generalized Time in UTC with the fraction it has, so that text order is order in time."""
    match = re.fullmatch(r"(\d{10})(\d\d)?(\d\d)?([.,]\d+)?(Z|[+-]\d\d(?:\d\d)?)", value)
    if not match:
        return value
    hour, minute, second, fraction, zone = match.groups()
    if hour.startswith("0000"):
        return f"{hour}{minute or '00'}{second or '00'}{(fraction or '').replace(',', '.')}Z"
    try:
        moment = datetime.strptime(hour + (minute or "00") + (second or "00"), "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        return value
    if zone != "Z":
        sign = 1 if zone[0] == "-" else -1
        moment += sign * timedelta(hours=int(zone[1:3]), minutes=int(zone[3:5] or 0))
    return f"{moment:%Y%m%d%H%M%S}{(fraction or '').replace(',', '.').rstrip('.0')}Z"


_RULES: dict[str, Callable[[str], Key]] = {
    "caseIgnoreMatch": prepare,
    "caseIgnoreIA5Match": prepare,
    "caseIgnoreListMatch": prepare,
    "caseExactMatch": exact,
    "caseExactIA5Match": exact,
    "distinguishedNameMatch": _name,
    "uniqueMemberMatch": _name,
    "booleanMatch": str.upper,
    "integerMatch": _integer,
    "numericStringMatch": lambda value: value.replace(" ", ""),
    "telephoneNumberMatch": _telephone,
    "generalizedTimeMatch": _time,
    "objectIdentifierMatch": str.lower,
    "UUIDMatch": str.lower,
}


def normalizer(equality: str) -> Callable[[str], Key] | None:
    """The function that makes a value of this EQUALITY rule comparable; None where the rule is not known."""
    return _RULES.get(equality)
