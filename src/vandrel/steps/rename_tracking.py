"""The steps of a job by the names that its objects have now: later steps may have given them new ones."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from msgspec import Struct, structs

from vandrel.directory import dn as names
from vandrel.directory.applied import is_applied
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory
from vandrel.directory.schema import Schema
from vandrel.record.journal import BEGUN, JournalStep
from vandrel.steps.step import Add, Rename, Set, Step, from_record


class Item(Struct, frozen=True):
    """A step as the journal has it, and as it must be made now; the latter is None for a password."""

    record: JournalStep
    step: Step | None
    dn: DN


def track_renames(directory: Directory, records: Sequence[JournalStep]) -> list[Item]:
    """The steps of a job that was broken off, behind the renames of it that were made without anybody's knowing."""
    renames: list[Rename] = []
    moves = []
    for record in reversed(records):
        dn, step = names.parse(record.record["dn"]), from_record(record.record)
        if record.state == BEGUN:
            for rename in reversed(renames):
                dn = _moved(dn, rename)
                step = _following(step, rename, directory.schema) if step is not None else None
            if isinstance(step, Rename) and is_applied(directory, step.operation()):
                renames.append(step)
        moves.append(Item(record, step, dn))
    return moves[::-1]


def left_by(directory: Directory, items: Sequence[Item], dns: Collection[DN]) -> dict[DN, Entry]:
    """These objects as the steps leave them, made or not; without those that are not there and are not to be."""
    own: dict[DN, list[Step]] = {dn: [] for dn in dns}
    for item in items:
        if item.step is not None and item.dn in own:
            own[item.dn].append(item.step)
    freed = {}
    for dn, steps in own.items():
        created = next((step.attributes for step in steps if isinstance(step, Add)), None)
        entry = Entry(dn, dict(created)) if created is not None else directory.get(dn)
        if entry is None:
            continue
        for change in (change for step in steps if isinstance(step, Set) for change in step.changes):
            remaining = [value for value in entry.values_of(change.attribute) if value not in change.removed]
            entry.attributes[change.attribute] = [
                *remaining,
                *(value for value in change.added if value not in remaining),
            ]
        freed[dn] = entry
    return freed


def _moved(dn: DN, rename: Rename) -> DN:
    return dn.moved(rename.dn, rename.new) if dn.is_within(rename.dn) else dn


def _following(step: Step, rename: Rename, schema: Schema) -> Step:
    if isinstance(step, Rename):
        return Rename(step.dn, _moved(step.new, rename))
    if not isinstance(step, Set):
        return structs.replace(step, dn=_moved(step.dn, rename))
    changes = [
        Change(c.attribute, _values(c.removed, rename), _values(c.added, rename), c.is_exclusive)
        if schema.is_reference(c.attribute) else c
        for c in step.changes
    ]  # fmt: skip
    return Set(_moved(step.dn, rename), tuple(changes))


def _values(values: Sequence[Value], rename: Rename) -> tuple[Value, ...]:
    return tuple(str(_moved(names.parse(str(value)), rename)) if value else value for value in values)
