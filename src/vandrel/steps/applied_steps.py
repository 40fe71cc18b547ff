"""Which steps of a job that was broken off the directory has, though nobody took note of them."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import structs

from vandrel.directory.applied import applied, is_applied, shows
from vandrel.directory.entry import Entry
from vandrel.directory.port import Directory
from vandrel.record.journal import BEGUN, REFUSED
from vandrel.steps.rename_tracking import Item
from vandrel.steps.step import Add, Remove, Rename, Set, Step, from_record, without_lost


def applied_steps(directory: Directory, items: Sequence[Item]) -> set[int]:
    """The numbers of the steps that were begun and that the directory has, as far as it tells.

    Later steps of a job may have changed the same object again. Steps on one object are made one after the other, so
    the first ones of them are applied, and the others are not: the most of them that explain what the object is now.

    Args:
        directory: where the job was at work.
        items: all steps of the job, in their order, by the names that their objects have now.

    """
    not_created = {item.dn for item in items if item.record.state == REFUSED and isinstance(item.step, Add)}
    by_object: dict[str, list[Item]] = {}
    numbers, still_elsewhere = set(), []
    for item in items:
        step = without_lost(item.step, not_created) if item.step is not None else None
        if item.record.state != BEGUN or step is None:
            continue
        if not isinstance(step, Rename):
            by_object.setdefault(step.dn.key, []).append(structs.replace(item, step=step))
        elif is_applied(directory, step.operation()):
            numbers.add(item.record.number)
        else:
            still_elsewhere.append(step.new)
    for own in by_object.values():
        if any(own[0].dn.is_within(name) for name in still_elsewhere):  # it has another name so far
            continue
        entry = directory.get(own[0].dn)
        most = next(most for most in range(len(own), -1, -1) if _explain(directory, own[:most], entry))
        numbers |= {item.record.number for item in own[:most]}
    return numbers


def _explain(directory: Directory, items: Sequence[Item], entry: Entry | None) -> bool:
    """Whether an object is as it would be if all of these had been made; each one is taken back for the one before."""
    for item in reversed(items):
        assert item.step is not None
        if not (shows(directory, item.step.operation(), entry) or _shows_old_names(directory, item, entry)):
            return False
        entry = _as_found(item.step, entry)
    return True


def _shows_old_names(directory: Directory, item: Item, entry: Entry | None) -> bool:
    """Whether an object still refers to others by the names that they had when the step was made.

    Where the server does not follow a rename, a later step of the job does, and it may not have been made.
    """
    step = from_record(item.record.record)
    return isinstance(step, Set) and shows(directory, step.operation(), entry)


def _as_found(step: Step, entry: Entry | None) -> Entry | None:
    """The object as a step that was made found it."""
    match step:
        case Add():
            return None
        case Remove(dn, attributes):
            return Entry(dn, attributes)
        case Set(_, changes) if entry is not None:
            return applied(entry, [change.reverse() for change in reversed(changes)])
    return entry
