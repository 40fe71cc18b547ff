"""From the rows of a file that were worked out to the proposal that makes them. What import and series share."""

from __future__ import annotations

from collections.abc import Collection, Container, Iterable, Iterator, Sequence
from functools import partial

from msgspec import Struct

from vandrel.charter.passwords import check
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.jobs.bulk.batches import Batches
from vandrel.jobs.bulk.outcomes import outcomes
from vandrel.jobs.bulk.roster import Line, Roster, State, last_row
from vandrel.jobs.common.draft import BatchDraft
from vandrel.jobs.common.new_object import creation
from vandrel.jobs.common.proposal import (
    Action,
    Credential,
    LazyChanges,
    ObjectChange,
    Passwords,
    Proposal,
    RowOutcome,
    Work,
)  # fmt: skip
from vandrel.jobs.common.report import count
from vandrel.lazy_list import LazyMap, LazySet
from vandrel.objects.context import Context
from vandrel.secret import Secret
from vandrel.steps.plan import RunResult
from vandrel.steps.step import Step


class BulkOptions(Struct, frozen=True):
    """How far to go, and whether accounts get passwords.

    Attributes:
        first: make only the first so many; 0 for all.
        most_refused: stop after more refusals than this.
        no_passwords: whether accounts are made without, disabled.
        sound_only: whether rows with faults are left out instead of stopping the rest.

    """

    first: int = 0
    most_refused: int = 20
    no_passwords: bool = False
    sound_only: bool = False


def _action_of(line: Line) -> Action:
    """New objects have a draft, and those that change an edit."""
    return Action.CHANGE if line.draft is None else Action.CREATE


def _change_of(context: Context, object_type: str, line: Line) -> ObjectChange:
    if line.draft is not None:
        return creation(context, line.draft, object_type, line.item.row)
    assert line.edit is not None
    entry = line.edit.entry
    return ObjectChange(
        Action.CHANGE, object_type, entry.dn, context.label(entry),
        context.place(entry.dn.parent), tuple(line.edit.differences), row=line.item.row,
    )  # fmt: skip


def propose_roster(
    context: Context, roster: Roster, object_type: str, options: BulkOptions, command: str, name: str,
    findings: Iterable[Finding] = (), *, is_file: bool = True,
) -> Proposal:  # fmt: skip
    """The proposal that makes what a roster holds.

    Args:
        context: the charter and the directory.
        roster: the rows, worked out.
        object_type: what each row is.
        options: how far to go.
        command: the verb, for titles.
        name: the name of the file or the stem, for titles.
        findings: what is wrong with the file as a whole.
        is_file: whether the rows are those of a file, which somebody can mend.

    """
    ordered = sorted([*findings, *roster.findings()], key=lambda f: f.where.row)
    if options.sound_only and not any(f.is_fatal and f.where.row == 0 for f in ordered):
        ordered = [finding for finding in ordered if not finding.is_fatal]
    lines = [line for line in roster.lines if line.state in (State.NEW, State.CHANGED)][: options.first or None]
    absent = _absent(roster, lines)
    summary = [f"{name}: {count(len(roster.lines), 'row')} read: {_figures(roster)}."]
    if roster.missing:
        note = f"{count(len(roster.missing), 'object')} not in the file, left alone: --missing lists them"
        summary.insert(0, note)

    def work(passwords: Passwords) -> Work:
        return _work(context, lines, object_type, passwords, absent)

    def dry_batches() -> tuple[Iterator[Sequence[Step]], Container[str]]:
        coming = LazySet(lambda: {dn.key for line in lines if (dn := line.dn) is not None})
        stand_in = Secret("", generated=True)
        some = Batches(context, _one_of_each(lines), lambda line: stand_in, object_type, absent=absent)
        return (batch.steps for batch in some), coming

    def tell(result: RunResult | None, steps: Sequence[Step]) -> Iterable[RowOutcome]:
        for outcome in outcomes(roster, lines, steps, result):
            yield _row(context, outcome.line, outcome.result, outcome.why)

    return Proposal(
        command, f"{command} {name}", f"Make {count(len(lines), 'object')}?", work,
        changes=LazyChanges(lines, partial(_change_of, context, object_type), _action_of), findings=ordered,
        credentials=[] if options.no_passwords else _credentials(context, lines),
        is_atomic=False, is_many=True, is_file=is_file,
        most_refused=options.most_refused, summary=summary, dry_batches=dry_batches, outcomes=tell,
        rows=LazyMap(roster.lines, lambda line: _row(context, line, line.state.value)),
    )  # fmt: skip


def _figures(roster: Roster) -> str:
    states = list(State)
    counted = sorted(roster.counts().items(), key=lambda pair: states.index(pair[0]))
    return ", ".join(f"{number} {state.value}" for state, number in counted) or "nothing to do"


def _row(context: Context, line: Line, result: str, why: str = "") -> RowOutcome:
    dn = line.dn
    place = context.place(dn.parent) if dn is not None else ""
    return RowOutcome(line.item.row, result, line.name, place, str(dn) if dn is not None else "", why)


def _absent(roster: Roster, lines: Sequence[Line]) -> set[str]:
    """The keys of the names of objects that are not to be made now."""
    last = last_row(lines)
    absent = (line.dn for line in roster.lines if line.state is State.NEW and line.item.row > last)
    return {dn.key for dn in absent if dn is not None}


def _one_of_each(lines: Iterable[Line]) -> list[Line]:
    """Of accounts that are alike, one.

    What is each one's own was looked at when it was worked out: that its values fit, and that its names are free.
    """
    alike: set[int] = set()
    chosen = []
    for line in lines:
        kind = id(line.draft.shared) if isinstance(line.draft, BatchDraft) else 0
        if not kind or kind not in alike:
            alike.add(kind)
            chosen.append(line)
    return chosen


def _credentials(context: Context, lines: Iterable[Line]) -> Sequence[Credential]:
    """Who gets a password: new accounts."""
    getting = [line for line in lines if line.draft is not None and line.state is State.NEW
               and line.draft.rules is not None]  # fmt: skip
    return LazyMap(getting, partial(_credential, context))


def _credential(context: Context, line: Line) -> Credential:
    draft = line.draft
    assert draft is not None and draft.rules is not None and draft.dn is not None
    source = "none" if str(draft.rules.rules["first"].value) == "none" else "generate"
    find = partial(check, rules=draft.rules, login=draft.value("login"), full=draft.value("full"),
                   words=[context.charter.document.organization])  # fmt: skip
    return Credential(draft.dn, draft.rules, source, draft.value, find, line.item.secret)


def _work(
    context: Context, lines: Sequence[Line], object_type: str, passwords: Passwords, absent: Collection[str]
) -> Work:  # fmt: skip
    def secret(line: Line) -> Secret | None:
        dn = line.dn if passwords.secrets else None
        return passwords.secrets.get(dn) if dn is not None else None

    batches = Batches(context, lines, secret, object_type, passwords.hand_out, frozenset(absent))
    steps, barriers = batches.plan()
    findings = [*_one_for_all(list(passwords.secrets.values()))]
    if batches.left_out:
        what = f"{count(batches.left_out, 'manager or the like')} left out: they stand in rows that are made later"
        remedy = "once all are made, the same file with --mode both sets them"
        findings.append(Finding(Code.DONE_IN_PART, what, Location(option="--first"), remedy, NOTE))
    read = {dn.key for line in lines if line.state is State.CHANGED and (dn := line.dn) is not None}
    return Work(steps, barriers, findings, read)


def _one_for_all(secrets: Sequence[Secret | None]) -> Iterator[Finding]:
    passwords = [secret for secret in secrets if secret is not None]
    number = len(passwords) - len({id(secret) for secret in passwords})
    if number:
        what = (
            f"{number + 1} people get the same password, and each of them knows that of the others until it is changed"
        )
        remedy = "generated ones differ: --hand-out FILE"
        yield Finding(Code.PASSWORD, what, Location(option="--password"), remedy, NOTE)
