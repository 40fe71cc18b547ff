"""Everything that can go wrong, as data: what, where, why, what to do next, and the exit code for it.

The tens of an exit code name the family (see docs/exit-codes.md); the units tell the cases apart.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

DONE = 0
DONE_IN_PART = 1
WRONG_USAGE = 2
DECLINED = 3
INTERRUPTED = 130

#: code word -> (exit code, meaning). The one table that the program, its manual and docs/exit-codes.md share.
CODES: dict[str, tuple[int, str]] = {
    "done-in-part": (DONE_IN_PART, "done in part: some steps were refused or not reached; the journal says which"),
    "usage": (
        WRONG_USAGE,
        "wrong usage: the command line cannot be read, or an answer is needed and nobody can be asked",
    ),
    "declined": (DECLINED, "the question whether to go on was answered with no; nothing was written"),
    "unknown-field": (10, "no such field or attribute"),
    "unknown-kind": (11, "the charter has no such kind"),
    "bad-name": (12, "a distinguished name or place that cannot be read"),
    "bad-filter": (13, "a filter that cannot be read"),
    "bad-pattern": (14, "a naming pattern that cannot be read"),
    "charter": (15, "faults in the charter"),
    "intake": (18, "faults in the description of a tabular file, or in its rows"),
    "connections": (17, "faults in the file of connections"),
    "bad-value": (16, "a value that its field cannot take"),
    "refused": (20, "refused by a rule"),
    "empty-name": (21, "nothing is left of a name once it is transliterated"),
    "schema": (22, "a value or object that the directory's schema does not allow: too long, wrong syntax, missing"),
    "taken": (23, "a name that must be unique is taken"),
    "no-parent": (24, "the unit that should hold the object does not exist"),
    "password": (25, "a password that breaks the rules in force"),
    "required": (26, "a field that is required has no value"),
    "protected": (27, "the object is protected"),
    "dangling": (28, "a reference to an object that does not exist"),
    "not-kept": (19, "a field that this directory has no attribute for"),
    "changed": (29, "the object has changed since the change was worked out"),
    "not-found": (30, "nothing was found"),
    "ambiguous": (31, "more than one object fits"),
    "out-of-reach": (40, "the directory cannot be opened"),
    "not-permitted": (41, "not permitted: the file, folder or server refuses to be read or written"),
    "disk-full": (42, "no room left on the disk"),
    "damaged": (43, "the directory file is damaged"),
    "foreign": (44, "the file is not a Vandrel directory"),
    "busy": (45, "another process is writing to the directory, or the server has no time"),
    "certificate": (46, "the certificate of the server is not trusted"),
    "limit": (47, "a limit of the server: too many objects at once, or too long a search"),
    "internal": (70, "a fault of the program itself; nothing is left half-made that the journal does not tell of"),
    "interrupted": (INTERRUPTED, "interrupted from the keyboard or by a signal"),
}


class Finding(Struct, frozen=True):
    """One thing that a check found.

    ``code`` is a key of `CODES`; ``where`` names the object, field, file or line; ``fatal`` is false for
    a warning, which is shown and stops nothing.
    """

    code: str
    what: str
    where: str = ""
    remedy: str = ""
    fatal: bool = True

    def as_json(self) -> dict[str, Any]:
        return {
            "code": self.code,
            "what": self.what,
            "where": self.where,
            "remedy": self.remedy,
            "fatal": self.fatal,
        }


class VandrelError(Exception):
    """The root of all errors of this program; carries one finding or several.

    Attributes:
        findings: never empty; the first decides the exit code.

    """

    def __init__(self, code: str, what: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.findings: tuple[Finding, ...] = (Finding(code, what, where, remedy),)

    @property
    def code(self) -> str:
        return self.findings[0].code

    @property
    def exit_code(self) -> int:
        return CODES[self.code][0]


class Refused(VandrelError):
    """A change that its checks do not let through, with every finding."""

    def __init__(self, findings: list[Finding]) -> None:
        fatal = [finding for finding in findings if finding.fatal]
        super().__init__(fatal[0].code, fatal[0].what)
        self.findings = tuple(fatal)


class DirectoryError(VandrelError):
    """What a directory answers instead of doing what it was asked."""


def not_made_with_the_rest() -> DirectoryError:
    """The answer for an operation that would have passed, had its whole sequence passed."""
    return DirectoryError("done-in-part", "not made, because another step of the same change was refused")
