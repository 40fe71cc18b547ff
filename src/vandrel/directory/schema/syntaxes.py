"""LDAP syntaxes (RFC 4517, section 3.3): is a value well formed, and are its values text or octets."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection
from datetime import date

from vandrel.directory import dn
from vandrel.errors import VandrelError

Value = str | bytes

_ARC = "1.3.6.1.4.1.1466.115.121.1."
DIRECTORY_STRING = _ARC + "15"
DN_SYNTAX = _ARC + "12"
NAME_AND_UID = _ARC + "34"
BOOLEAN = _ARC + "7"
GENERALIZED_TIME = _ARC + "24"
INTEGER = _ARC + "27"
OCTET_STRING = _ARC + "40"

#: Syntaxes whose values are octets; all others are text.
BINARY = frozenset({OCTET_STRING, _ARC + "28", _ARC + "4", _ARC + "5", _ARC + "8", _ARC + "23"})

#: Syntaxes of which any text may be asked for: octets, text of any characters and of some.
ANY_ASSERTION = BINARY | {DIRECTORY_STRING, *(_ARC + number for number in ("26", "36", "41", "44", "50", "38"))}

_PRINTABLE = r"[A-Za-z0-9'()+,\-./:? ]+"
_DAY = r"([0-9]{4})(0[1-9]|1[0-2])(0[1-9]|[12][0-9]|3[01])"
_ZONE = r"(Z|[+-](?:[01][0-9]|2[0-3])(?:[0-5][0-9])?)"
_TIME = _DAY + r"([01][0-9]|2[0-3])(?:([0-5][0-9])([0-5][0-9]|60)?)?([.,][0-9]+)?" + _ZONE
#: What has been in the calendar: policies write a year of 0.
_NO_YEAR = "0000"


def _is_text(value: str) -> str:
    return "" if value else "must not be empty"


def _is_ia5(value: str) -> str:
    return "" if value.isascii() else "may have ASCII characters only"


def _is_dn(value: str) -> str:
    try:
        dn.parse(value)
    except VandrelError as error:
        return str(error)
    return ""


class _PatternCheck:
    """The check by a pattern, compiled at the first value: most of a schema is never asked for in one run."""

    __slots__ = ("_lines", "_match", "_pattern", "_why")

    def __init__(self, pattern: str, why: str) -> None:
        self._pattern, self._why = pattern, why
        self._match: Callable[[str], object] | None = None
        self._lines: Callable[[str], object] | None = None

    def __call__(self, value: str) -> str:
        if self._match is None:
            self._match = re.compile(self._pattern).fullmatch
        return "" if self._match(value) else self._why

    def all(self, values: Collection[str]) -> bool:
        """Whether all of these fit; they are one line each."""
        if self._lines is None:
            self._lines = re.compile(f"(?:{self._pattern})(?:\n(?:{self._pattern}))*+").fullmatch
        return self._lines("\n".join(values)) is not None


def _is_time(value: str) -> str:
    match = re.fullmatch(_TIME, value)
    if match and match.group(1) != _NO_YEAR:
        try:
            date(*map(int, match.group(1, 2, 3)))
        except ValueError:
            return "is no day of the calendar"
    return "" if match else "must be a Generalized Time such as 20261231220000Z"


_CHECKS: dict[str, Callable[[str], str]] = {
    DIRECTORY_STRING: _is_text,
    DN_SYNTAX: _is_dn,
    BOOLEAN: _PatternCheck("TRUE|FALSE", "must be TRUE or FALSE"),
    GENERALIZED_TIME: _is_time,
    INTEGER: _PatternCheck(r"0|-?[1-9][0-9]*", "must be a whole number"),
    _ARC + "26": _is_ia5,
    _ARC + "11": _PatternCheck("[A-Za-z]{2}", "must be a country code of two letters, as NO (ISO 3166-1)"),
    _ARC + "36": _PatternCheck(r"[0-9 ]+", "may have digits and spaces only"),
    _ARC + "44": _PatternCheck(_PRINTABLE, "may have letters, digits, space and ' ( ) + , - . / : ? only"),
    _ARC + "50": _PatternCheck(_PRINTABLE, "may have digits, letters, space and ' ( ) + , - . / : ? only"),
    _ARC + "22": _PatternCheck(r"[A-Za-z0-9'()+,\-./:? ]+(\$[A-Za-z0-9]+)*", "is not a fax number"),
    _ARC + "41": _is_text,
    _ARC + "38": _PatternCheck(r"[A-Za-z][A-Za-z0-9-]*|[0-9]+(\.[0-9]+)+", "is not a name or OID"),
    "1.3.6.1.1.16.1": _PatternCheck(r"[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}", "is not a UUID"),
}


def validator(syntax: str) -> Callable[[Value], str]:
    """The check of a syntax, by its OID: what is wrong with a value, or an empty string.

    The answer reads after the name of the attribute: ``mail may have ASCII characters only``. A syntax that
    is not listed here accepts every text.
    """
    if syntax == DIRECTORY_STRING:  # most of all values: the shortest way
        return lambda value: "" if value and value.__class__ is str else _is_text(value) or "must be text"  # type: ignore[arg-type]
    if syntax in BINARY:
        return lambda value: "" if isinstance(value, bytes) else "must be given as octets"
    check = _CHECKS.get(syntax, _any_text)
    return lambda value: check(value) if isinstance(value, str) else "must be text"


def pass_all(syntax: str, values: Collection[str]) -> bool:
    """Whether a syntax has nothing against any of many values, which are texts of one line each."""
    if syntax in BINARY:
        return not values
    check = _CHECKS.get(syntax, _any_text)
    if check is _is_text:
        return all(values)
    if check is _is_ia5:
        return "".join(values).isascii()
    return check.all(values) if isinstance(check, _PatternCheck) else not any(map(check, values))


def _any_text(value: str) -> str:
    return ""
