"""Deletion objects: what goes along, who loses them, and steps that can be taken back."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from itertools import starmap

import msgspec
from msgspec import Struct

from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import UNIT
from vandrel.jobs.common.personal_groups import groups_of
from vandrel.jobs.common.proposal import (
    Action,
    ObjectChange,
    PointingObject,
    Proposal,
    fixed,
    listed_names,
    unique,
    work_out_proposal,
)
from vandrel.jobs.common.report import count
from vandrel.jobs.common.same_person import told_of_others
from vandrel.jobs.common.selection import Selection, select
from vandrel.jobs.lifecycle.losses import what_goes_along
from vandrel.lazy_list import LazyMap
from vandrel.objects.context import Context
from vandrel.objects.namesakes import Namesakes
from vandrel.steps.checks import still_protected
from vandrel.steps.plan import RunResult
from vandrel.steps.references import KeptReference, give_back, references_taken, with_references
from vandrel.steps.step import Remove, Set, Step

#: Objects up to which each is asked for by itself.
_FEW = 10


class LostReference(Struct, frozen=True):
    """An object that stays, and points at one that goes: by which attribute."""

    holder: DN
    attribute: str
    target: DN


class Deletion(Struct):
    """What is deleted, from the bottom up; who loses it; the steps; and what stands in the way."""

    entries: list[Entry]
    losses: list[LostReference] = msgspec.field(default_factory=list)
    steps: list[Step] = msgspec.field(default_factory=list)
    findings: list[Finding] = msgspec.field(default_factory=list)


class DeleteRequest(Struct, frozen=True):
    """What to delete; with `contents`, all that stands below it as well; `for_good`, without a place in the attic."""

    selection: Selection
    contents: bool = False
    for_good: bool = False


def delete(context: Context, request: DeleteRequest) -> Proposal:
    """Propose a deletion: what goes along, who loses it, and the steps.

    Raises:
        VandrelError: what selecting raises.

    """
    chosen = select(context, request.selection)
    return work_out_proposal(context, partial(_proposed, request=request, chosen=chosen), len(chosen))


def _proposed(context: Context, request: DeleteRequest, chosen: Sequence[Entry]) -> Proposal:
    deletion = work_out_deletion(context, chosen, contents=request.contents)

    def give_back_rest(result: RunResult) -> tuple[str, list[Step]]:
        title = f"give back memberships: {count(len(result.not_deleted), 'object')} could not be deleted"
        return title, give_back(deletion.steps, result.not_deleted, context.directory.schema)

    read = {step.dn.key for step in deletion.steps if isinstance(step, Set)}  # those who point at what goes
    notes, privileged = what_goes_along(context, deletion.entries)
    notes += told_of_others(context, deletion.entries, "delete")
    typed = ", ".join(privileged)
    if request.for_good:
        typed = chosen[0].dn.name if len(chosen) == 1 else str(len(deletion.entries))
    bring_back = "Nothing brings it back." if request.for_good else "To bring back what is gone: vandrel undo {job}"
    return Proposal(
        "delete", f"delete {listed_names(LazyMap(chosen, context.label))}",
        f"Delete {count(len(deletion.entries), 'object')}?", fixed(deletion.steps, read),
        changes=changes_of_deletion(context, deletion),
        findings=unique([*deletion.findings, *notes]), is_atomic=False, when_refused=give_back_rest,
        afterwards=bring_back, for_good=request.for_good, typed=typed,
    )  # fmt: skip


def changes_of_deletion(context: Context, deletion: Deletion) -> list[ObjectChange]:
    """What goes, for people, and who loses it."""
    pointed: dict[DN, list[PointingObject]] = {}
    holders = list({loss.holder for loss in deletion.losses})
    labels = dict(zip(holders, Namesakes(context).shown([str(holder) for holder in holders]), strict=True))
    for loss in deletion.losses:
        holder = PointingObject(loss.holder, loss.attribute, labels[loss.holder])
        pointed.setdefault(loss.target, []).append(holder)
    return [
        ObjectChange(
            Action.DELETE, context.object_type(entry), entry.dn, context.label(entry), context.place(entry.dn.parent),
            pointed_at=tuple(pointed.get(entry.dn, ())),
        )
        for entry in deletion.entries
    ]  # fmt: skip


def work_out_deletion(context: Context, chosen: Sequence[Entry], *, contents: bool = False) -> Deletion:
    """Work out how objects are deleted.

    Args:
        context: the charter and the directory.
        chosen: the objects.
        contents: whether all that stands below one goes along; without, it stands in the way.

    """
    by_key = {entry.dn.key: entry for entry in chosen}
    findings: list[Finding] = []
    for entry, contained in zip(chosen, _contained(context, chosen), strict=True):
        below = [other for other in contained if other.dn.key not in by_key]
        if contents:
            by_key |= {other.dn.key: other for other in below}
        elif below:
            if context.dialect.read(entry, "protected") == ["yes"]:  # the first of the two causes
                findings.append(still_protected(context.dialect, entry.dn))
            below.sort(key=lambda other: (len(other.dn), other.dn.key))
            few = ", ".join(other.dn.name for other in below[:3]) + (" ..." if len(below) > 3 else "")
            what = f"{len(below)} {'objects stand' if len(below) > 1 else 'object stands'} below it: {few}"
            remedy = "move them first, or let them go along: --contents"
            findings.append(Finding(Code.REFUSED, what, Location(place=context.place(entry.dn)), remedy))
        place = context.place(entry.dn)
        if context.dialect.object_type_of(entry) == UNIT and context.charter.designed(places.parse(place)) is not None:
            what = "the charter's hierarchy has this unit: vandrel hierarchy build makes it again"
            findings.append(Finding(Code.REFUSED, what, Location(place=place), severity=NOTE))
    by_key |= {group.dn.key: group for group in groups_of(context, list(by_key.values())).values()}
    deletion = Deletion(sorted(by_key.values(), key=lambda entry: (-len(entry.dn), entry.dn.key)), findings=findings)
    removals = [Remove(entry.dn, entry.attributes) for entry in deletion.entries]
    references: list[KeptReference] = []
    deletion.steps = with_references(context.directory, context.dialect, removals, references.append)
    deletion.findings += map(must_point, references)
    deletion.losses = list(starmap(LostReference, references_taken(deletion.steps, by_key, context.directory.schema)))
    return deletion


def must_point(reference: KeptReference) -> Finding:
    """A note of an object that must have the name of one that goes, and so keeps the name of nobody."""
    holder, attribute, target = reference
    what = f"{attribute} keeps the name of {target}, which goes: the object must have one"
    return Finding(Code.DANGLING, what, Location(dn=str(holder)), f'delete it too: vandrel delete "{holder}"', NOTE)


def _contained(context: Context, chosen: Sequence[Entry]) -> list[list[Entry]]:
    """What stands below each of these: asked one by one where they are few, else found in one look at everything."""
    if len(chosen) <= _FEW:
        return [list(context.directory.search(entry.dn)) for entry in chosen]
    contents: dict[str, list[Entry]] = {entry.dn.key: [] for entry in chosen}
    for other in context.directory.search(context.charter.base):
        for above in other.dn.ancestors():
            if above.key in contents:
                contents[above.key].append(other)
    return [contents[entry.dn.key] for entry in chosen]
