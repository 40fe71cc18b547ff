"""Matching rules (RFC 4517, section 4.2): the form in which the values of an attribute are compared."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from functools import lru_cache

from vandrel.directory import dn
from vandrel.directory.schema.definitions import AttributeType
from vandrel.errors import VandrelError
from vandrel.text.string_prep import fold, prepare, prepare_exact

Key = str | bytes

_TIME = re.compile(r"([0-9]{10})([0-9]{2})?([0-9]{2})?([.,][0-9]+)?(Z|[+-][0-9]{2}(?:[0-9]{2})?)")


def _lines(value: str) -> str:
    """Each line by itself (RFC 4517, section 4.2.13): a dollar sign ends it."""
    return "$".join(map(prepare, value.split("$")))


def _telephone(value: str) -> str:
    return fold(value).replace(" ", "").replace("-", "")


def _integer(value: str) -> str:
    """A whole number as text whose order is the order of the numbers, for all below 10^38 in size."""
    try:
        return f"{int(value) + 10**38:039d}"
    except ValueError:
        return prepare(value)


@lru_cache(maxsize=65_536)  # lists of members are compared again and again
def _name(value: str) -> str:
    try:
        return dn.parse(value).key
    except VandrelError:
        return prepare(value)


def _time(value: str) -> str:
    """Generalized Time in UTC, to the second and with the fraction that it has, so that text order is order in time.

    A fraction is that of the smallest unit given (RFC 4517, section 3.3.13): half past eleven is ``2026113011.5Z``.
    """
    match = _TIME.fullmatch(value)
    if not match:
        return value
    hour, minute, second, fraction, zone = match.groups()
    if hour.startswith("0000"):  # policies write times before the first year (DISABLED and its like)
        return f"{hour}{minute or '00'}{second or '00'}"
    try:
        moment = datetime.strptime(hour + (minute or "00") + (second or "00"), "%Y%m%d%H%M%S").replace(tzinfo=UTC)
        if zone != "Z":
            sign = 1 if zone[0] == "-" else -1
            moment += sign * timedelta(hours=int(zone[1:3]), minutes=int(zone[3:5] or 0))
        behind = (fraction or "")[1:].rstrip("0")
        if behind and second is None:
            from fractions import Fraction

            seconds = Fraction(int(behind), 10 ** len(behind)) * (60 if minute else 3600)
            moment += timedelta(seconds=seconds.numerator // seconds.denominator)
            behind = ""
    except (ValueError, OverflowError):
        return value
    return f"{moment:%Y%m%d%H%M%S}{'.' + behind if behind else ''}"


_RULES: dict[str, Callable[[str], Key]] = {
    "caseIgnoreMatch": prepare,
    "caseIgnoreIA5Match": prepare,
    "caseIgnoreListMatch": _lines,
    "caseExactMatch": prepare_exact,
    "caseExactIA5Match": prepare_exact,
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


#: Rules that can be asked for by name or OID (RFC 4517, section 4.2).
_OIDS = {
    "2.5.13.1": "distinguishedNameMatch", "2.5.13.2": "caseIgnoreMatch", "2.5.13.5": "caseExactMatch",
    "2.5.13.8": "numericStringMatch", "2.5.13.11": "caseIgnoreListMatch", "2.5.13.13": "booleanMatch",
    "2.5.13.14": "integerMatch", "2.5.13.20": "telephoneNumberMatch", "2.5.13.27": "generalizedTimeMatch",
    "1.3.6.1.4.1.1466.109.114.1": "caseExactIA5Match", "1.3.6.1.4.1.1466.109.114.2": "caseIgnoreIA5Match",
}  # fmt: skip
_NAMES = {name.lower(): name for name in _RULES}
#: Rules for text, and those that attributes have for which they can be asked for.
_OF_TEXT, _TEXTS = ("caseIgnoreMatch", "caseExactMatch"), ("caseIgnoreMatch", "caseExactMatch", "telephoneNumberMatch")


def _all_bits(stored: str, asserted: str) -> bool:
    return int(stored) & int(asserted) == int(asserted)


def _any_bit(stored: str, asserted: str) -> bool:
    return bool(int(stored) & int(asserted))


#: [MS-ADTS] 3.1.1.3.4.4: bits of a number, all or any.
_BITS = {"1.2.840.113556.1.4.803": _all_bits, "1.2.840.113556.1.4.804": _any_bit}


def by_rule(rule: str, attribute: AttributeType) -> Callable[[str, str], bool] | None:
    """The test of a value against an assertion by a rule, by name or OID; None where the rule does not fit.

    Without a rule the attribute's own equality counts (RFC 4511, section 4.5.1.7.7).
    """
    if rule in _BITS:
        return _BITS[rule] if attribute.equality == "integerMatch" else None
    named = _NAMES.get((_OIDS.get(rule, rule) or attribute.equality).lower(), "")
    if not named or not (named == attribute.equality or (named in _OF_TEXT and attribute.equality in _TEXTS)):
        return None
    normalize = _RULES[named]
    return lambda stored, asserted: normalize(stored) == normalize(asserted)


def normalizer(equality: str) -> Callable[[str], Key] | None:
    """The function that makes a value of this EQUALITY rule comparable; None where the rule is not known."""
    return _RULES.get(equality)
