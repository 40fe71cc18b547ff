"""Everything that can go wrong, as data: code, severity, location, what is wrong and what to do next.

The tens of an exit code name the family (see docs/exit-codes.md); the units tell the cases apart.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import Enum, StrEnum

from msgspec import Struct

DONE = 0
INTERRUPTED = 130


class Code(StrEnum):
    """What went wrong. The one table that the program, its manual and docs/exit-codes.md share.

    Each member has an exit code and a meaning. Codes of single cells of a tabular file share the exit code of
    `Code.INTAKE`.
    """

    exit_code: int
    meaning: str

    def __new__(cls, word: str, exit_code: int, meaning: str) -> Code:
        """Make one member from the three parts of its definition."""
        member = str.__new__(cls, word)
        member._value_ = word
        member.exit_code = exit_code
        member.meaning = meaning
        return member

    DONE_IN_PART = "done-in-part", 1, "done in part: some steps were refused or not reached; the journal says which"
    USAGE = "usage", 2, "wrong usage: the command line cannot be read, or an answer is needed and nobody can be asked"
    DECLINED = "declined", 3, "the question whether to go on was answered with no; nothing was written"
    HALF_SET = "half-set", 4, "a password was set, and a mark that belongs to it was refused; the report says which"
    FAULTS_FOUND = "faults-found", 5, "an audit found faults"
    UNKNOWN_FIELD = "unknown-field", 10, "no such field or attribute"
    UNKNOWN_KIND = "unknown-kind", 11, "the charter has no such kind"
    BAD_NAME = "bad-name", 12, "a distinguished name or place that cannot be read"
    BAD_FILTER = "bad-filter", 13, "a filter that cannot be read"
    BAD_PATTERN = "bad-pattern", 14, "a naming pattern that cannot be read"
    CHARTER = "charter", 15, "faults in the charter"
    BAD_VALUE = "bad-value", 16, "a value that its field cannot take"
    CONNECTIONS = "connections", 17, "faults in the file of connections"
    INTAKE = "intake", 18, "faults in the description of a tabular file, or in its rows"
    NOT_KEPT = "not-kept", 19, "a field that this directory has no attribute for"
    REFUSED = "refused", 20, "refused by a rule"
    EMPTY_NAME = "empty-name", 21, "nothing is left of a name once it is transliterated"
    SCHEMA = (
        "schema",
        22,
        "a value or object that the directory's schema does not allow: too long, wrong syntax, missing",
    )
    TAKEN = "taken", 23, "a name that must be unique is taken"
    NO_PARENT = "no-parent", 24, "the unit that should hold the object does not exist"
    PASSWORD = "password", 25, "a password that breaks the rules in force"
    REQUIRED = "required", 26, "a field that is required has no value"
    PROTECTED = "protected", 27, "the object is protected"
    DANGLING = "dangling", 28, "a reference to an object that does not exist"
    CHANGED = "changed", 29, "the object has changed since the change was worked out"
    NOT_FOUND = "not-found", 30, "nothing was found"
    AMBIGUOUS = "ambiguous", 31, "more than one object fits"
    OUT_OF_REACH = "out-of-reach", 40, "the directory cannot be opened"
    NOT_PERMITTED = "not-permitted", 41, "not permitted: the file, folder or server refuses to be read or written"
    DISK_FULL = "disk-full", 42, "no room left on the disk"
    DAMAGED = "damaged", 43, "the directory file is damaged"
    FOREIGN = "foreign", 44, "the file is not a Vandrel directory"
    BUSY = "busy", 45, "another process is writing to the directory, or the server has no time"
    CERTIFICATE = "certificate", 46, "the certificate of the server is not trusted"
    LIMIT = "limit", 47, "a limit of the server: too many objects at once, or too long a search"
    INTERNAL = "internal", 70, "a fault of the program itself; the journal tells of everything that was made"
    INTERRUPTED = "interrupted", INTERRUPTED, "interrupted from the keyboard or by a signal"
    # What is wrong with one cell or row of a tabular file.
    HEADER = "header", 18, "a header that is missing, repeated, or taken for data"
    ROWS = "rows", 18, "another number of rows than expected"
    SHIFTED = "shifted", 18, "cells that stand in the column beside theirs"
    SHORT = "short", 18, "a row that is cut short"
    TOTALS = "totals", 18, "a line of totals"
    TWICE = "twice", 18, "a row or key that stands in the file again"
    DATE = "date", 18, "a cell that is no day"
    DATE_SERIAL = "date-serial", 18, "a spreadsheet's number in place of a day"
    DATE_MADE = "date-made", 18, "a day or time that a spreadsheet made of a value"
    NUMBER_MADE = "number-made", 18, "a number that a spreadsheet made of a value"
    ZEROS_LOST = "zeros-lost", 18, "a number without its leading zeros"
    WORD = "word", 18, "a word that is neither yes nor no"
    PLACEHOLDER = "placeholder", 18, "placeholder text, not a value"
    FORMULA = "formula", 18, "an error or a formula of a spreadsheet"
    ENCODING = "encoding", 18, "text that was read in the wrong encoding"
    QUOTES = "quotes", 18, "quotes that are taken as text"
    INVISIBLE = "invisible", 18, "a character that does not show"
    LINE_BREAK = "line-break", 18, "a line break or tab within a value"
    PASSWORD_MISSING = "password-missing", 18, "a row without a password in a file that has a column for them"
    PLACE = "place", 18, "a place other than the one where the object is"

    @property
    def is_of_rows(self) -> bool:
        """Whether the code is about rows of a tabular file and has no exit code of its own."""
        return self.exit_code == Code.INTAKE.exit_code and self is not Code.INTAKE


class Severity(Enum):
    """Whether a finding stops what was asked for."""

    STOP = "stop"
    NOTE = "note"


STOP, NOTE = Severity.STOP, Severity.NOTE


class Location(Struct, frozen=True, omit_defaults=True):
    """Where something was found. Only the parts that apply are set.

    Attributes:
        file: path of a file, or the name of a text that was given in its place.
        line: line of the file, counted from 1.
        column: character of the line or of the text, counted from 1.
        octet: octet of the file, counted from 0.
        row: row of a tabular file, counted from 1; 0 for the file as a whole.
        header: header of a column of a tabular file.
        dn: distinguished name of an object.
        place: place of an object, as ``/Ferries/Northquay``.
        field: one of our fields, or ``@attribute``.
        option: option of the command line, with its hyphens.
        job: number of a job in the journal.
        server: URL, host or name of a connection.
        text: what somebody typed.

    """

    file: str = ""
    line: int = 0
    column: int = 0
    octet: int | None = None
    row: int = 0
    header: str = ""
    dn: str = ""
    place: str = ""
    field: str = ""
    option: str = ""
    job: int = 0
    server: str = ""
    text: str = ""

    def __str__(self) -> str:
        """Say it in the form that people and editors know: ``charter.yaml:3:7``, ``row 4, Surname``."""
        parts = [self._in_file(), self.option, self.server]
        parts += [f"job {self.job}"] if self.job else []
        parts += [f"row {self.row}"] if self.row else []
        parts += [self.header, self.dn or self.place, self.field, self.text]
        return ", ".join(filter(None, parts))

    def _in_file(self) -> str:
        if self.octet is not None:
            return f"{self.file}, octet {self.octet}"
        if self.file and self.line and self.column:
            return f"{self.file}:{self.line}:{self.column}"
        parts = [self.file]
        parts += [f"line {self.line}"] if self.line else []
        parts += [f"column {self.column}"] if self.column else []
        return ", ".join(filter(None, parts))


NOWHERE = Location()


class Finding(Struct, frozen=True):
    """One thing that a check found.

    Attributes:
        code: what it is.
        what: the finding in words.
        where: where it was found.
        remedy: what to do about it, in words; empty where nothing can be done.
        severity: whether it stops what was asked for.
        value: the value that it is about; never a password.

    """

    code: Code
    what: str
    where: Location = NOWHERE
    remedy: str = ""
    severity: Severity = Severity.STOP
    value: str = ""

    @property
    def is_fatal(self) -> bool:
        """Whether it stops what was asked for."""
        return self.severity is Severity.STOP


def are_fatal(findings: Iterable[Finding]) -> bool:
    """Whether any of the findings stops what was asked for."""
    return any(finding.severity is Severity.STOP for finding in findings)


class VandrelError(Exception):
    """The root of all errors of this program; carries one finding or several.

    Attributes:
        findings: never empty; the first decides the exit code.

    """

    def __init__(self, code: Code, what: str, *, where: Location = NOWHERE, remedy: str = "") -> None:
        """Carry one finding that is fatal."""
        super().__init__(what)
        self.findings: tuple[Finding, ...] = (Finding(code, what, where, remedy),)

    @property
    def code(self) -> Code:
        """What went wrong, by the first finding."""
        return self.findings[0].code

    @property
    def exit_code(self) -> int:
        """The exit code of the program for it."""
        return self.code.exit_code


class Refused(VandrelError):
    """A change that its checks do not let through, with every fatal finding."""

    def __init__(self, findings: Iterable[Finding]) -> None:
        """Keep the fatal ones; there must be at least one."""
        fatal = tuple(finding for finding in findings if finding.is_fatal)
        super().__init__(fatal[0].code, fatal[0].what)
        self.findings = fatal


class DirectoryError(VandrelError):
    """What a directory answers instead of doing what it was asked."""


def not_made_with_the_rest() -> DirectoryError:
    """Make the answer for an operation that would have passed, had its whole sequence passed."""
    return DirectoryError(Code.DONE_IN_PART, "not made, because another step of the same change was refused")
