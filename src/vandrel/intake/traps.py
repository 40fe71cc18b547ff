"""What spreadsheets and their senders do to values, as patterns and words: for one cell, and for a column at once."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import datetime
from functools import lru_cache

from msgspec import Struct

from vandrel.intake.description import Column, date_format
from vandrel.intake.table import Cell

POINT_ZERO, SCIENTIFIC = re.compile(r"\d+\.0"), re.compile(r"\d([.,]\d+)?[eE]\+?\d+")
ERRORS = frozenset(("#REF!", "#N/A", "#NAME?", "#VALUE!", "#DIV/0!", "#NUM!", "#NULL!", "#NV", "#BEZUG!", "#WERT!"))
NOTHING = frozenset(("n/a", "na", "null", "none", "nil", "-", "--", "?", "??", "tbd", "unknown", "xxx"))
#: Those of them that people are called.
NAMES_TOO = frozenset(("na", "nil", "null"))
TOTALS = frozenset(("total", "totals", "sum", "summe", "gesamt", "totalt", "antall", "somme", "count", "end of list"))
INVISIBLE = re.compile("[\u00ad\u200b\u2060\ufeff\u00a0\u2007\u202f]")
#: UTF-8 that was read as Windows-1252 looks so: the lead octets of letters beyond ASCII, and what follows them.
TWICE = re.compile(
    "[\u00c2-\u00c5\u00c6-\u00cf\u00d0-\u00df][\u0080-\u00bf\u0152\u0153\u0160\u0161\u0178\u017d\u017e\u0192\u02c6\u02dc\u2013-\u2122]"
)
YES, NO = (
    frozenset(("yes", "true", "1", "x", "y", "ja", "oui")),
    frozenset(("no", "false", "0", "", "n", "nein", "nei", "non")),
)
#: The quote that `unquoted` takes away, in any of many lines; one of several, for all but one are the value's own.
UNQUOTED = re.compile("^'(?='*[=+@-])", re.MULTILINE)
_FORMULA = re.compile("'*[=+@\\t\\r-]")
#: Fields whose values a spreadsheet easily takes for numbers.
LIKE_NUMBERS = frozenset(
    ("number", "badge", "phone", "mobile", "fax", "pager", "home-phone", "postcode", "room", "login")
)


_NOT_IN_XML = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x84\x86-\x9f\ufdd0-\ufdef\ufffe\uffff]")


class CellCheck(Struct, frozen=True):
    """Whether a cell can belong to a column.

    ``misfit`` is the same for many cells, one in each line: a pattern that is found where any of them may not fit.
    """

    test: Callable[[Cell], bool]
    misfit: str = ""


def harmless(cell: str) -> str:
    """A cell that no spreadsheet takes for a formula."""
    return f"'{cell}" if _FORMULA.match(cell) else cell


def legible(cell: str) -> str:
    """A cell as a spreadsheet keeps it: lines end with LF, and what XML 1.0 (2.2) discourages is left out."""
    return _NOT_IN_XML.sub("", cell.replace("\r\n", "\n").replace("\r", "\n"))


def unquoted(value: str) -> str:
    """A value without the quote that `harmless` put before it."""
    return value[1:] if UNQUOTED.match(value) else value


#: What no cell should have in it, and what some take for numbers, in any of many lines.
STRANGE = re.compile(f"[\ufffd]|{INVISIBLE.pattern}|{TWICE.pattern}")
SPOILT = re.compile(f"^(?:{POINT_ZERO.pattern}|{SCIENTIFIC.pattern})$", re.MULTILINE)


def suspect(quote: str) -> re.Pattern[str]:
    """What is found in lines of which any may be a trap: all that one cell is looked through for, and a little more."""
    words = "|".join(sorted(map(re.escape, NOTHING)))
    kinds = [
        r"^[^\S\n]", r"[^\S\n]$", "^['=#]", "[\r\t]", STRANGE.pattern, f"^(?i:{words})$", SPOILT.pattern,
    ]  # fmt: skip
    return re.compile("|".join([*kinds, *([re.escape(quote)] if quote else [])]), re.MULTILINE)


def formats_of(column: Column) -> tuple[str, ...]:
    """The formats in which a column may have its days: those it says, and ISO 8601."""
    return ("%Y-%m-%d", *(date_format(pattern) for pattern in column.dates))


@lru_cache(maxsize=4096)
def day(value: str, formats: tuple[str, ...]) -> str:
    """A day by the first of these formats that fits; empty where none does."""
    for form in formats:
        try:
            return datetime.strptime(value, form).date().isoformat()
        except ValueError:
            continue
    return ""
