"""Deletion objects: what goes along, who loses them, and steps that can be taken back."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

import msgspec
from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.operations import Change
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import UNIT
from vandrel.jobs.common.proposal import Action, ObjectChange, PointingObject, Proposal, fixed, listed_names, unique
from vandrel.jobs.common.report import count
from vandrel.jobs.common.selection import Selection, select
from vandrel.objects.context import Context
from vandrel.steps.plan import RunResult
from vandrel.steps.references import own_references, pointing_at
from vandrel.steps.step import Remove, Set, Step

#: Objects up to which each is asked for by itself.
_FEW = 10


class LostReference(Struct, frozen=True):
    """An object that stays, and points at one that goes: by which attribute."""

    holder: DN
    attribute: str
    gone: DN


class Deletion(Struct):
    """What is deleted, from the bottom up; who loses it; the steps; and what stands in the way."""

    entries: list[Entry]
    losses: list[LostReference] = msgspec.field(default_factory=list)
    steps: list[Step] = msgspec.field(default_factory=list)
    findings: list[Finding] = msgspec.field(default_factory=list)


class DeleteRequest(Struct, frozen=True):
    """What to delete; with `contents`, all that stands below it as well."""

    selection: Selection
    contents: bool = False


def delete(context: Context, request: DeleteRequest) -> Proposal:
    """Propose a deletion: what goes along, who loses it, and the steps.

    Raises:
        VandrelError: what selecting raises.

    """
    chosen = select(context, request.selection)
    deletion = work_out_deletion(context, chosen, contents=request.contents)
    pointed: dict[DN, list[PointingObject]] = {}
    for loss in deletion.losses:
        pointed.setdefault(loss.gone, []).append(PointingObject(loss.holder, loss.attribute))

    def give_back_rest(result: RunResult) -> tuple[str, list[Step]]:
        title = f"give back memberships: {count(len(result.stayed), 'object')} could not be deleted"
        return title, give_back(deletion, result.stayed)

    return Proposal(
        "delete", f"delete {listed_names([entry.dn.name for entry in chosen])}",
        f"Delete {count(len(deletion.entries), 'object')}?", fixed(deletion.steps),
        changes=[
            ObjectChange(
                Action.DELETE, context.object_type(entry), entry.dn, context.label(entry),
                context.place(entry.dn.parent), pointed_at=tuple(pointed.get(entry.dn, ())),
            )
            for entry in deletion.entries
        ],
        findings=unique(deletion.findings), is_atomic=False, when_refused=give_back_rest,
        afterwards="To bring back what is gone: vandrel undo {job}",
    )  # fmt: skip


def work_out_deletion(context: Context, chosen: Sequence[Entry], *, contents: bool = False) -> Deletion:
    """Work out how objects are deleted.

    Names that point at them are taken away before, by steps of their own, even where the directory does that by itself:
    what is in no step cannot be taken back, and some servers put another name in their place.

    Args:
        context: the charter and the directory.
        chosen: the objects.
        contents: whether all that stands below one goes along; without, it stands in the way.

    """
    gone = {entry.dn.key: entry for entry in chosen}
    findings: list[Finding] = []
    for entry, contained in zip(chosen, _contained(context, chosen), strict=True):
        below = [other for other in contained if other.dn.key not in gone]
        if contents:
            gone |= {other.dn.key: other for other in below}
        elif below:
            below.sort(key=lambda other: (len(other.dn), other.dn.key))
            few = ", ".join(other.dn.name for other in below[:3]) + (" ..." if len(below) > 3 else "")
            what = f"{len(below)} {'objects stand' if len(below) > 1 else 'object stands'} below it: {few}"
            remedy = "move them first, or let them go along: --contents"
            findings.append(Finding(Code.REFUSED, what, Location(place=context.place(entry.dn)), remedy))
        place = context.place(entry.dn)
        if context.dialect.object_type_of(entry) == UNIT and context.charter.designed(places.parse(place)) is not None:
            what = "the charter's hierarchy has this unit: vandrel hierarchy build makes it again"
            findings.append(Finding(Code.REFUSED, what, Location(place=place), severity=NOTE))
    deletion = Deletion(sorted(gone.values(), key=lambda entry: (-len(entry.dn), entry.dn.key)), findings=findings)
    for holder in pointing_at(context.directory, [entry.dn for entry in deletion.entries]):
        lost = [] if holder.dn.key in gone else list(_losses(context, holder, gone))
        if lost:
            deletion.losses += lost
            deletion.steps.append(Set(holder.dn, tuple(_changes(context, holder, lost))))
    deletion.steps += [Remove(entry.dn, entry.attributes) for entry in deletion.entries]
    return deletion


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


def give_back(deletion: Deletion, stayed: Collection[DN]) -> list[Step]:
    """The steps that give objects back what points at them, where they could not be deleted after all."""
    keys = {dn.key for dn in stayed}
    steps: list[Step] = []
    for step in deletion.steps:
        if not isinstance(step, Set):
            continue
        changes = [
            Change(change.attribute, (), kept) for change in step.changes
            if (kept := tuple(value for value in change.removed if value and names.parse(str(value)).key in keys))
        ]  # fmt: skip
        if changes:
            steps.append(Set(step.dn, tuple(changes)))
    return steps


def _losses(context: Context, holder: Entry, gone: Mapping[str, Entry]) -> Iterator[LostReference]:
    for attribute in own_references(context.directory):
        for value in holder.texts(attribute):
            entry = gone.get(names.parse(value).key) if value else None
            if entry is not None:
                yield LostReference(holder.dn, attribute, entry.dn)


def _changes(context: Context, holder: Entry, losses: Sequence[LostReference]) -> Iterator[Change]:
    """What takes the names away; a group must not be left without a member where the schema demands one."""
    for attribute in dict.fromkeys(loss.attribute for loss in losses):
        going = {loss.gone.key: loss.gone for loss in losses if loss.attribute == attribute}
        changes = context.dialect.member_change(holder, [], list(going.values())) if attribute == "member" else []
        values = [value for value in holder.texts(attribute) if value and names.parse(value).key in going]
        yield from changes or [Change(attribute, tuple(values))]
