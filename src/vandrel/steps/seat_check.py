"""Seats that a change gives and frees: how many are taken then, and whether there are so many."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property

from msgspec import Struct

from vandrel.charter.document import SeatPool
from vandrel.dialects.dialect import Dialect
from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.filter import Compare, Or
from vandrel.directory.member_lists import BY_NAME
from vandrel.directory.port import Directory
from vandrel.errors import NOTE, STOP, Code, Finding, Location, VandrelError
from vandrel.fields import GROUP
from vandrel.steps.step import Add, Remove, Set, Step
from vandrel.text.string_prep import prepare


class SeatGroup(Struct, frozen=True):
    """The group behind a pool or a part of one; ``title`` is what people call it."""

    title: str
    pool: SeatPool
    entry: Entry


def seat_groups(directory: Directory, dialect: Dialect) -> list[SeatGroup]:
    """The groups behind the pools of the charter that are there, the pool itself before its parts."""
    wanted = [
        (title, pool, group)
        for name, pool in dialect.charter.document.seats.items()
        for title, group in ((name, pool.group), *((f"{name}/{part}", group) for part, group in pool.parts.items()))
    ]
    if not wanted:
        return []
    where = Or(tuple(Compare("cn", "=", group) for group in {group for _, _, group in wanted}))
    found = {prepare(entry.dn.name): entry for entry in directory.search(dialect.charter.base, where=where)
             if dialect.object_type_of(entry) == GROUP}  # fmt: skip
    return [SeatGroup(title, pool, found[prepare(group)]) for title, pool, group in wanted if prepare(group) in found]


class Holders:
    """Who is in a group, directly or through others."""

    def __init__(self, directory: Directory, dialect: Dialect) -> None:
        self._directory, self._dialect = directory, dialect

    def of(self, members: Sequence[str]) -> dict[str, DN]:
        """The objects that are no groups, by the keys of their names: these members, and those of groups among them."""
        holders: dict[str, DN] = {}
        seen: set[str] = set()
        waiting = list(members)
        while waiting:
            asked = {dn.key: dn for dn in map(_name, waiting) if dn is not None and dn.key not in seen}
            seen |= asked.keys()
            waiting = []
            for key, dn in asked.items():
                group = self._directory.get(dn) if key in self._groups else None
                if group is None:
                    holders[key] = dn
                else:
                    waiting += self._dialect.members(group)
        return holders

    @cached_property
    def _groups(self) -> frozenset[str]:
        """The keys of the names of all groups, without their members."""
        base, where = self._dialect.charter.base, self._dialect.filter_for(GROUP)
        return frozenset(entry.dn.key for entry in self._directory.search(base, where=where, only=["cn"]))


def check_seats(
    directory: Directory, dialect: Dialect, steps: Sequence[Step], *, gives_back: bool = False
) -> list[Finding]:  # fmt: skip
    """What a change does to pools of seats: a note where their number changes, a refusal beyond what there is.

    Args:
        directory: the directory.
        dialect: how it keeps groups.
        steps: the whole change.
        gives_back: whether it gives back what was there before; then more than there are is told and not refused.

    """
    if not dialect.charter.document.seats:
        return []
    added, removed = _changes(steps)
    if not added and not removed:
        return []
    restores = any(isinstance(step, Add) and step.restores for step in steps)
    return list(_judged(directory, dialect, steps, added, removed, gives_back=gives_back or restores))


def _judged(
    directory: Directory, dialect: Dialect, steps: Sequence[Step], added: dict[str, list[str]],
    removed: dict[str, list[str]], *, gives_back: bool,
) -> Iterator[Finding]:  # fmt: skip
    holders = Holders(directory, dialect)
    gone = {step.dn.key for step in steps if isinstance(step, Remove)}
    for seats in seat_groups(directory, dialect):
        key, pool = seats.entry.dn.key, seats.pool
        if key not in added and key not in removed:
            continue
        members = dialect.members(seats.entry)
        before = holders.of(members)
        left = {dn.key for value in removed.get(key, ()) if (dn := _name(value)) is not None}
        stays = [value for value in members if (dn := _name(value)) is not None and dn.key not in left]
        after = holders.of([*stays, *added.get(key, ())])
        after = {each: dn for each, dn in after.items() if each not in gone}
        now, then = len(before), len(after)
        of = f" of {pool.capacity}" if pool.capacity is not None else ""
        where = Location(dn=str(seats.entry.dn))
        if pool.capacity is not None and then > max(pool.capacity, now):
            severity = NOTE if gives_back or pool.beyond == "tell" else STOP
            what = f"{seats.title}: {then}{of} seats would be taken, {then - pool.capacity} more than there are"
            remedy = "free some, or let there be more: the charter's capacity; or beyond: tell"
            yield Finding(Code.REFUSED, what, where, remedy, severity)
        elif now != then:
            yield Finding(Code.REFUSED, f"{seats.title}: {then}{of} seats are taken then, {now} now", where, "", NOTE)
        new = [dn for each, dn in after.items() if each not in before]
        yield from _lacking(directory, dialect, steps, seats, new)


def _lacking(
    directory: Directory, dialect: Dialect, steps: Sequence[Step], seats: SeatGroup, new: Sequence[DN]
) -> Iterator[Finding]:  # fmt: skip
    """Who gets a seat and lacks a field that it takes."""
    coming = {step.dn.key: Entry(step.dn, step.attributes) for step in steps if isinstance(step, Add)}
    for dn in new if seats.pool.requires else ():
        entry = coming.get(dn.key) or directory.get(dn)
        for field in seats.pool.requires if entry is not None else ():
            if entry is not None and not dialect.read(entry, field):
                what = f"{seats.title}: a seat takes the field {field}, and {dn.name} has none"
                yield Finding(Code.REQUIRED, what, Location(dn=str(dn), field=field), f"set it first: {field}=...")


def _changes(steps: Sequence[Step]) -> tuple[dict[str, list[str]], dict[str, list[str]]]:
    """The members that come and go, by the key of the group's name."""
    added: dict[str, list[str]] = {}
    removed: dict[str, list[str]] = {}
    for step in steps:
        for change in step.changes if isinstance(step, Set) else ():
            if change.attribute in BY_NAME:
                added.setdefault(step.dn.key, []).extend(map(str, change.added))
                removed.setdefault(step.dn.key, []).extend(map(str, change.removed))
    return added, removed


def _name(value: str) -> DN | None:
    try:
        return names.parse(value) or None
    except VandrelError:
        return None
