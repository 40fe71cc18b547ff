"""What a job that changes something hands back: a proposal, worked out in full and not yet made.

A presenter shows it, refuses it, asks, runs it and reads back; no job does any of that by itself.
"""

from __future__ import annotations

from array import array
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence, Set
from enum import Enum
from typing import Any, TypeVar

from msgspec import Struct

from vandrel.charter.passwords import PasswordRules
from vandrel.directory.dn import DN
from vandrel.errors import Finding, are_fatal
from vandrel.jobs.common.report import Table
from vandrel.lazy_list import LazyMap
from vandrel.objects.context import Context
from vandrel.secret import Secret
from vandrel.steps.checks import foresee_checks
from vandrel.steps.plan import RunResult
from vandrel.steps.step import Step

_T = TypeVar("_T")


class Action(Enum):
    """What happens to an object; one that was deleted and comes back is restored."""

    CREATE = "create"
    RESTORE = "restore"
    CHANGE = "change"
    DELETE = "delete"


class FieldChange(Struct, frozen=True):
    """One field of one object, before and after, as people read its values.

    Attributes:
        field: one of our fields, or ``@attribute``.
        before: its values now; empty for a new object.
        after: its values afterwards.
        rule: what gave the new values, in words; empty where they were typed for this very change.
        passed: names that the rule would have given first, each with why it cannot be had.
        is_partial: whether only the values that go and come are known, which may stand among others.
        concerned: the names in full of objects that come and go, where the list is too long to be read for them.

    """

    field: str
    before: tuple[str, ...] = ()
    after: tuple[str, ...] = ()
    rule: str = ""
    passed: tuple[str, ...] = ()
    is_partial: bool = False
    concerned: tuple[str, ...] = ()


class PointingObject(Struct, frozen=True):
    """An object that stays and points at one that is deleted: by which attribute, and what people call it."""

    holder: DN
    attribute: str
    label: str


class ObjectChange(Struct, frozen=True):
    """What happens to one object.

    Attributes:
        action: creation, restoration, change or deletion.
        object_type: account, group, unit, computer; empty for anything else.
        dn: its name now, or the one that it is to get.
        label: what people call it.
        place: the place that holds it.
        fields: what changes, field by field.
        kind: its kind in the charter, if it is new.
        new_dn: its name afterwards, where that changes.
        pointed_at: who loses it, if it is deleted; None where nobody has looked.
        row: the row of a file, or the number in a series, that it comes from; 0 for none.

    """

    action: Action
    object_type: str
    dn: DN
    label: str
    place: str
    fields: tuple[FieldChange, ...] = ()
    kind: str = ""
    new_dn: DN | None = None
    pointed_at: tuple[PointingObject, ...] | None = None
    row: int = 0

    def after(self, field: str) -> str:
        """The values of a field afterwards, as one text."""
        return next((", ".join(change.after) for change in self.fields if change.field == field), "")


class Credential(Struct, frozen=True):
    """An account that is to get a password; a presenter obtains it.

    Attributes:
        dn: the account.
        rules: the rules in force for it.
        source: ``ask``, ``generate``, ``-`` for standard input, ``none``.
        value: gives its fields, for the hand-out.
        check: finds what is wrong with a password.
        secret: a password that was given already, in a row of a file.
        is_first: whether the account is new.

    """

    dn: DN
    rules: PasswordRules
    source: str
    value: Callable[[str], str]
    check: Callable[[Secret], list[Finding]]
    secret: Secret | None = None
    is_first: bool = True


class LazyChanges(LazyMap[_T, ObjectChange]):
    """What happens to very many objects, worked out for each only when it is looked at."""

    def __init__(
        self, objects: Sequence[_T], change_of: Callable[[_T], ObjectChange], action_of: Callable[[_T], Action]
    ) -> None:  # fmt: skip
        """Take whatever the objects are known by, and what makes of one its change, and its action alone."""
        super().__init__(objects, change_of)
        self._action_of = action_of

    def of_action(self, action: Action) -> Sequence[ObjectChange]:
        """Those of one action."""
        places = array("q", (place for place, each in enumerate(self._objects) if self._action_of(each) is action))
        return LazyMap(places, self._one)


class Passwords(Struct, frozen=True):
    """The passwords that were obtained, by account, and the name of the hand-out where generated ones stand."""

    secrets: Mapping[DN, Secret | None] = {}
    hand_out: str = ""


class Work(Struct, frozen=True):
    """The steps of a proposal, where a new batch must begin, and what was read just now: see `steps.plan.Plan`."""

    steps: Sequence[Step]
    barriers: Sequence[int] = ()
    findings: Sequence[Finding] = ()
    read: Set[str] = frozenset()


class RowOutcome(Struct, frozen=True):
    """What became of one row of a file: a word, the object, and why it did not go as it was meant to."""

    row: int
    result: str
    name: str = ""
    place: str = ""
    dn: str = ""
    why: str = ""


class Proposal(Struct, frozen=True):
    """A change worked out in full.

    Attributes:
        command: the verb, for programs that read JSON.
        title: what the journal calls the job.
        question: what is asked before it is made.
        work: gives the steps once the passwords are there.
        changes: what happens to each object.
        findings: what the job found; the common checks come on top.
        credentials: accounts that get a password.
        is_atomic: whether it is made whole or not at all, where the directory can.
        is_many: whether objects are shown as samples and figures, however few they are.
        is_file: whether its rows are those of a file, whose faults are summed up in one error.
        most_refused: refusals after which the job stops; None for no limit.
        tables: more that is shown before the question.
        summary: lines that are shown before the question, and left out by --quiet.
        nothing: what is said where there is nothing to do.
        missing: fields that are required and that somebody may be asked for.
        dry_batches: batches of steps that stand for all, for the checks of a dry run of very many; and the keys of
            names that the others would make.
        outcomes: what became of each row, from what the runner tells.
        rows: the rows as they are before anything is made.
        when_refused: the title and the steps of a second change that puts right what refused steps have left.
        afterwards: what is said when it was made, with the number of the job.
        undoes: the job that this one takes back.
        ends_job: a job that was broken off, and that needs no finishing once this was made.
        for_good: whether what it deletes does not go into the attic.
        leavers: what people had who leave by it, by the identifiers of their accounts.
        typed: what must be typed as well before it is made, --yes or not; empty for nothing.
        left_out: how many parts of it a rule refused, while the others go on.
        keep: takes note of what was made, from what the runner tells; from None, that nothing had to be made.

    """

    command: str
    title: str
    question: str
    work: Callable[[Passwords], Work]
    changes: Sequence[ObjectChange] = ()
    findings: Sequence[Finding] = ()
    credentials: Sequence[Credential] = ()
    is_atomic: bool = True
    is_many: bool = False
    is_file: bool = False
    most_refused: int | None = None
    tables: Sequence[Table] = ()
    summary: Sequence[str] = ()
    nothing: str = "Nothing to change."
    missing: Sequence[str] = ()
    dry_batches: Callable[[], tuple[Iterator[Sequence[Step]], Container[str]]] | None = None
    outcomes: Callable[[RunResult | None, Sequence[Step]], Iterable[RowOutcome]] | None = None
    rows: Sequence[RowOutcome] = ()
    when_refused: Callable[[RunResult], tuple[str, Sequence[Step]]] | None = None
    afterwards: str = ""
    undoes: int = 0
    ends_job: int = 0
    left_out: int = 0
    for_good: bool = False
    leavers: Mapping[str, Mapping[str, Any]] = {}
    typed: str = ""
    keep: Callable[[RunResult | None], None] | None = None

    @property
    def is_fatal(self) -> bool:
        """Whether a finding of the job stops it."""
        return are_fatal(self.findings)

    @property
    def steps(self) -> Sequence[Step]:
        """The steps of a proposal that needs no passwords."""
        return self.work(Passwords()).steps


def work_out_proposal(context: Context, work: Callable[[Context], Proposal], objects: int = 1) -> Proposal:
    """Do a piece of work; what it asks about a few objects, and what checks its steps, is asked together."""

    def foreseen(here: Context) -> None:
        planned = work(here).work(Passwords())
        foresee_checks(here.dialect, planned.steps, planned.read)

    context.ask_ahead(foreseen, objects)
    return work(context)


def fixed(steps: Iterable[Step], read: Set[str] = frozenset()) -> Callable[[Passwords], Work]:
    """The work of a proposal whose steps hang on no password."""
    work = Work(list(steps), read=read)
    return lambda passwords: work


def listed_names(names: Sequence[str], most: int = 10) -> str:
    """Names for a title: the first ones, and how many more there are."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def unique(findings: Iterable[Finding]) -> list[Finding]:
    """Each finding once, in the order in which they came."""
    return list(dict.fromkeys(findings))
