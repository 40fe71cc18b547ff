"""Taking a job back: the reverse of its steps, if what it changed is still as it left it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta

from msgspec import Struct, structs

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.member_lists import BY_NAME
from vandrel.directory.operations import Change
from vandrel.directory.port import Scope
from vandrel.directory.secret_attributes import is_secret
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT
from vandrel.jobs.common.proposal import Proposal, fixed
from vandrel.jobs.common.report import Report
from vandrel.jobs.history.in_fields import changes_in_fields
from vandrel.jobs.lifecycle.attic import kept_by_server
from vandrel.objects.context import Context
from vandrel.record.attic import Item
from vandrel.record.journal import BEGUN, BROKEN, Job, JournalStep
from vandrel.steps.references import additions_apart, with_references
from vandrel.steps.runner import Runner
from vandrel.steps.step import Add, Remove, Rename, Set, Step, from_record
from vandrel.steps.superior_guards import is_guard_still_needed


class UndoPlan(Struct):
    """The steps that take a job back, and what stands in the way or cannot come back."""

    steps: list[Step]
    findings: list[Finding]
    #: By the key of its name, with what an object was made that is to be removed.
    attributes: dict[str, Mapping[str, Sequence[Value]]] = {}


def title_of(job: Job, only: int = 0) -> str:
    """What the journal calls the taking back of a job, or of one step of it."""
    return f"undo job {job.number}{f', step {only}' if only else ''}: {job.title}"


#: Objects of which the same is said one by one.
_SAME = 3
#: Clocks of servers and of this machine differ a little.
_TOLERANCE = timedelta(seconds=5)


class UndoRequest(Struct, frozen=True):
    """What to take back.

    Attributes:
        job: the number of the job.
        step: the number of the one step of it; 0 for all of its steps.
        is_dead: whether somebody vouches that no process is at work on the job.

    """

    job: int
    step: int = 0
    is_dead: bool = False


def undo_job(context: Context, runner: Runner, request: UndoRequest) -> Proposal | Report:
    """Propose to take a job back; of one that was broken off before anything was made there is nothing to propose.

    Raises:
        VandrelError: ``not-found`` where there is no such job, ``foreign`` for one of another directory, ``refused``
            where it was taken back already, ``busy`` where a process is at work on it.

    """
    journal = runner.journal
    job = runner.own_job(request.job)
    job = journal.claim(job.number, is_dead=request.is_dead)
    if by := journal.undone_by(job.number):
        raise VandrelError(
            Code.REFUSED, f"job {by} took it back already", where=Location(job=job.number),
            remedy=f"vandrel undo {by} redoes it",
        )  # fmt: skip
    is_broken = job.state == BROKEN
    standing = list(runner.standing(job.number))
    if is_broken and not standing:
        return Report(
            "undo", summary=[f"Nothing of job {job.number} was made. It will not be finished any more."],
            abandons=job.number,
        )  # fmt: skip
    undoing = undo(
        context, standing, datetime.fromisoformat(job.seen), request.step, was_killed=not job.ended,
        references={item.entry.dn.key: item for item in runner.attic.items(job=job.number)},
    )  # fmt: skip
    whole = not request.step
    return Proposal(
        "undo", title_of(job, request.step), f"Take back job {job.number}?", fixed(undoing.steps),
        changes=changes_in_fields(context, undoing.steps), findings=undoing.findings,
        undoes=job.number if whole else 0, ends_job=job.number if is_broken and whole else 0,
    )  # fmt: skip


def undo(
    context: Context,
    applied: Iterable[tuple[JournalStep, bool | None]],
    ended: datetime,
    only: int = 0,
    *,
    was_killed: bool = False,
    references: Mapping[str, Item] = {},
) -> UndoPlan:
    """Work out how the steps of a job are taken back, the last first.

    Args:
        context: the charter and the directory.
        applied: the steps that were made, each with whether it still stands (None: cannot be told).
        ended: when the job ended, or the last sign of life of one that was killed; what it created is not removed if
            it was changed after that.
        only: the number of the one step to take back; 0 for all.
        was_killed: whether the last batch may have been made without a sign of it.
        references: what the attic has of the objects that the job deleted, by the keys of their names.

    Raises:
        VandrelError: ``not-found`` where the job made no such step.

    """
    chosen = [(item, stands) for item, stands in applied if only in (0, item.number)]
    if not chosen:
        what = f"no step {only} of the job was made" if only else "no step of the job was made"
        raise VandrelError(Code.NOT_FOUND, what, remedy="vandrel journal JOB lists them")
    undoing = UndoPlan([], [])
    # A password goes with its account; and of an account that was never made, none was set.
    created = {item.record["dn"] for item, _ in chosen if item.record["step"] == "add"}
    chosen = [each for each in chosen if not (_is_password(each[0]) and _without_owner(context, each[0], created))]
    renames = [step for item, _ in chosen if isinstance(step := from_record(item.record), Rename)]
    same = kept_by_server(context) if references else ()
    for item, stands in reversed(chosen):
        _one(context, undoing, item, stands, renames, references, same)
    undoing.findings = _few(undoing.findings)
    undoing.steps = [step for step in undoing.steps if not _changed_since(context, undoing, step, ended, was_killed)]
    steps = _additions_first(context, with_references(context.directory, context.dialect, undoing.steps))
    steps = list(_with_nobody_in_place(context, steps))
    undoing.steps = list(additions_apart(steps, context.dialect, context.directory.schema))
    return undoing


def _additions_first(context: Context, steps: Sequence[Step]) -> list[Step]:
    """The steps, none of which points at an object before that is back."""
    coming = {step.dn.key for step in steps if isinstance(step, Add)}
    ordered: list[Step] = []
    waiting: list[tuple[Step, set[str]]] = []
    for step in steps:
        targets = _targets(context, step) & coming if isinstance(step, Set) else None
        if targets:
            waiting.append((step, targets))
            continue
        ordered.append(step)
        if isinstance(step, Add) and step.dn.key in coming:
            coming.discard(step.dn.key)
            ordered += [other for other, needed in waiting if not needed & coming]
            waiting = [(other, needed) for other, needed in waiting if needed & coming]
    return ordered


def _with_nobody_in_place(context: Context, steps: Sequence[Step]) -> Iterator[Step]:
    """The steps, with the empty name in lists of members that others have emptied since, and only there.

    Where a group must have a member, the first one takes the place of the empty name, and the last one leaves it.
    """
    #: By the key of a group and an attribute; None where none of its values need be there.
    lists: dict[tuple[str, str], set[DN] | None] = {}
    renames: list[Rename] = []
    most = 2 + sum(len(change.removed) for step in steps if isinstance(step, Set) for change in step.changes)
    for step in steps:
        if isinstance(step, Rename):
            renames.append(step)
            lists = {which: _renamed(members, [step]) for which, members in lists.items() if members is not None}
        changes = step.changes if isinstance(step, Set) else ()
        for attribute in {change.attribute for change in changes} & {*BY_NAME}:
            nobody, which = context.dialect.placeholder(attribute), (step.dn.key, attribute)
            if nobody is None:
                continue
            if which not in lists:
                concerned = [value for change in changes if change.attribute == attribute
                             for value in map(str, (*change.removed, *change.added))]  # fmt: skip
                lists[which] = _list_of(context, step.dn, attribute, concerned, renames, most)
            members = lists[which]
            if members is None:
                continue
            for change in changes:
                if change.attribute == attribute:
                    members -= _named(change.removed)
                    members |= _named(change.added)
            is_added = any(nobody in change.added for change in changes if change.attribute == attribute)
            if bool(members) == is_added:
                changes = tuple(_with_nobody(changes, attribute, nobody, is_added=not members))
        if not isinstance(step, Set):
            yield step
        elif changes:
            yield Set(step.dn, tuple(changes))


def _list_of(
    context: Context, dn: DN, attribute: str, concerned: Sequence[str], renames: Sequence[Rename], most: int
) -> set[DN] | None:  # fmt: skip
    """Some of a list of members that must have one, as they are called after these renames; None for other lists.

    Those that are concerned, and at most so many others: more than all steps take away are enough to know whether
    somebody is left.
    """
    directory = context.directory
    entry = next(directory.search(dn, Scope.BASE, only=["objectClass"]), None)
    if entry is None or attribute not in directory.schema.shape(tuple(entry.texts("objectClass")))[0]:
        return None
    return _renamed(_named(directory.some_values(dn, attribute, concerned, most)), renames)


def _named(values: Iterable[Value]) -> set[DN]:
    """Those that are somebody."""
    return {names.parse(str(value)) for value in values if value}


def _renamed(members: Iterable[DN], renames: Sequence[Rename]) -> set[DN]:
    """Names as they are after these renames."""
    renamed = set(members)
    for rename in renames:
        renamed = {dn.moved(rename.dn, rename.new) if dn.is_within(rename.dn) else dn for dn in renamed}
    return renamed


def _with_nobody(changes: Iterable[Change], attribute: str, nobody: str, *, is_added: bool) -> Iterator[Change]:
    """The changes, which put the empty name into a list, or do not any more."""
    for change in changes:
        is_other = change.attribute != attribute
        added = tuple(value for value in change.added if is_other or value != nobody)
        if added or change.removed:
            yield structs.replace(change, added=added)
    if is_added:
        yield Change(attribute, added=(nobody,))


def _targets(context: Context, step: Set) -> set[str]:
    schema = context.directory.schema
    added = (value for change in step.changes if schema.is_reference(change.attribute) for value in change.added)
    return {names.parse(str(value)).key for value in added if value}


def _is_password(item: JournalStep) -> bool:
    return bool(item.record["step"] == "password")


def _without_owner(context: Context, item: JournalStep, created: Collection[str]) -> bool:
    dn = item.record["dn"]
    return dn in created or (item.state == BEGUN and context.directory.get(names.parse(dn)) is None)


def _few(findings: Sequence[Finding]) -> list[Finding]:
    """The findings, of which many that say the same of many objects become one."""
    same = Counter((finding.what, finding.is_fatal) for finding in findings)
    few = [finding for finding in findings if same[finding.what, finding.is_fatal] <= _SAME]
    for what, fatal in same:
        if same[what, fatal] > _SAME:
            first = next(f for f in findings if (f.what, f.is_fatal) == (what, fatal))
            few.append(
                structs.replace(first, where=Location(text=f"{same[what, fatal]} objects, the first {first.where}"))
            )
    return few


def _one(
    context: Context, undoing: UndoPlan, item: JournalStep, stands: bool | None, renames: Sequence[Rename],
    references: Mapping[str, Item], same: Collection[str],
) -> None:  # fmt: skip
    where = Location(dn=str(item.record.get("new") or item.record["dn"]))
    step = from_record(item.record)
    if isinstance(step, Set) and _only_mends(context, step, renames):
        return  # it came with a rename, and comes again when that is taken back
    back = step.reverse() if step is not None else None
    if item.record.get("redacted"):
        undoing.findings.append(Finding(Code.REFUSED, "what is secret in it is in no record", where, severity=NOTE))
    if back is None:
        what = "a password cannot be taken back: it is in no record"
        who = context.typed(names.parse(where.dn))
        undoing.findings.append(Finding(Code.REFUSED, what, where, f"give a new one: vandrel reset {who}", NOTE))
        return
    if stands is False:
        undoing.findings.append(
            Finding(Code.CHANGED, _since(context, item), where, "take it back by hand, or leave it")
        )
        return
    if isinstance(back, Add):
        back, lacking = _back_again(context, back, references.get(back.dn.key), same)
        if lacking:
            undoing.findings.append(Finding(Code.REFUSED, lacking, where, severity=NOTE))
    elif isinstance(back, Remove):
        entry = context.directory.get(back.dn)
        if entry is not None and context.dialect.read(entry, "protected") == ["yes"]:
            flag = context.dialect.read(Entry(back.dn, back.attributes), "protected")
            if flag == ["yes"]:  # it was protected by what is taken back, and by nobody since
                undoing.steps.append(Set(back.dn, tuple(context.dialect.changes(entry, "protected", ("no",)))))
        undoing.attributes[back.dn.key] = back.attributes
        back = Remove(back.dn, entry.attributes if entry else back.attributes)
    if is_guard_still_needed(context.directory, context.dialect, back, undoing.steps):
        return  # other protected objects stay there
    undoing.steps.append(back)


def _back_again(context: Context, back: Add, item: Item | None, same: Collection[str]) -> tuple[Add, str]:
    """The addition of what was deleted, from the attic where it is there; and, in words, what does not come back."""
    if item is None:
        attributes, lacking = context.dialect.addable(Entry(back.dn, back.attributes))
        is_account = context.object_type(Entry(back.dn, back.attributes)) == ACCOUNT
        without = "it comes back without its password: the attic has it no more" if is_account else ""
        return Add(back.dn, attributes, as_held=True), lacking or without
    attributes, lacking = context.dialect.addable(item.entry, is_same=item.entry.identifier in same)
    return Add(back.dn, attributes, item.entry.identifier, item.number, as_held=True), lacking


def _changed_since(context: Context, undoing: UndoPlan, step: Step, ended: datetime, was_killed: bool) -> bool:
    """Whether an object that would be removed has got more than the job gave it; then that is told."""
    entry = context.directory.get(step.dn) if isinstance(step, Remove) else None
    if entry is None or _is_as_made(context, entry, undoing.attributes.get(step.dn.key, {})):
        return False
    instants = dict(context.dialect.instants(entry))
    changed, created = instants.get("changed"), instants.get("created")
    last = max(ended, created) if created and was_killed else ended
    if changed is None or changed <= last + _TOLERANCE:
        return False
    what = f"the object has been changed since it was made{_when(context, entry)}"
    undoing.findings.append(Finding(Code.CHANGED, what, Location(dn=str(step.dn)), "delete it on purpose, or leave it"))
    return True


def _is_as_made(context: Context, entry: Entry, step: Mapping[str, Sequence[Value]]) -> bool:
    """Whether an object has what it was made with and no more, beside what directories set and what is secret."""
    schema = context.directory.schema

    def kept(attributes: Mapping[str, Sequence[Value]]) -> dict[str, set[object]]:
        return {
            name: {schema.key(name, value) for value in values} for name, values in attributes.items()
            if not is_secret(name) and not ((definition := schema.attribute(name)) and definition.read_only)
        }  # fmt: skip

    return bool(step) and kept(entry.attributes) == kept(step)


def _only_mends(context: Context, step: Set, renames: Sequence[Rename]) -> bool:
    """Whether a step does no more than let names follow a rename of the same job."""
    moved = [(rename.dn, rename.new) for rename in renames]

    def follows(change: Change) -> bool:
        if not context.directory.schema.is_reference(change.attribute) or not change.removed:
            return False
        then = set()
        for value in change.removed:
            dn = names.parse(str(value)) if value else None
            moved_dn = next((dn.moved(old, new) for old, new in moved if dn and dn.is_within(old)), None)
            then.add(moved_dn.key if moved_dn else "")
        return then == {names.parse(str(value)).key for value in change.added if value}

    return bool(moved) and all(map(follows, step.changes))


def _since(context: Context, item: JournalStep) -> str:
    """That something else happened to the object since, when, and by whom, as far as the directory tells."""
    dn = names.parse(str(item.record.get("new") or item.record["dn"]))
    entry = context.directory.get(dn)
    if entry is None:
        return "the object is not there any more"
    return f"the object is not as the job left it{_when(context, entry)}"


def _when(context: Context, entry: Entry) -> str:
    stamps = dict(context.dialect.instants(entry))
    by = entry.text("modifiersName")
    when = stamps.get("changed")
    text = f": it was changed {when.astimezone(context.charter.zone):%Y-%m-%d %H:%M}" if when else ""
    return f"{text} by {by}" if by and text else text
