"""Seats that a change gives and frees: how many are taken then, and whether there are so many."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property

from msgspec import Struct

from vandrel.charter.document import SeatPool
from vandrel.dialects.dialect import Dialect
from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import And, Compare, Or
from vandrel.directory.member_lists import BY_NAME
from vandrel.directory.port import Directory
from vandrel.errors import NOTE, STOP, Code, Finding, Location
from vandrel.fields import ACCOUNT, GROUP
from vandrel.steps.step import Add, Remove, Rename, Set, Step
from vandrel.text.string_prep import prepare


class CountedSeats(Struct, frozen=True):
    """A pool or a part of one, which are counted by themselves.

    Attributes:
        title: what people call it.
        pool: what the charter says of it.
        group: the group behind it; None where a field is.
        value: what stands in the field of whoever has a seat.

    """

    title: str
    pool: SeatPool
    group: Entry | None
    value: str = ""

    @property
    def where(self) -> Location:
        """Where a fault with it is."""
        return Location(dn=str(self.group.dn)) if self.group is not None else Location(field=self.pool.field)


def counted_seats(directory: Directory, dialect: Dialect) -> list[CountedSeats]:
    """The pools of the charter that this directory can keep, each before its parts."""
    declared = [
        (title, pool, key)
        for name, pool in dialect.charter.document.seats.items()
        for title, key in (
            (name, pool.group or pool.value or name), *((f"{name}/{part}", each) for part, each in pool.parts.items()),
        )
    ]  # fmt: skip
    groups = {key for _, pool, key in declared if pool.group}
    entries: dict[str, Entry] = {}
    if groups:
        where = Or(tuple(Compare("cn", "=", group) for group in groups))
        entries = {prepare(entry.dn.name): entry for entry in directory.search(dialect.charter.base, where=where)
                 if dialect.object_type_of(entry) == GROUP}  # fmt: skip
    seats = []
    for title, pool, key in declared:
        if pool.group and prepare(key) in entries:
            seats.append(CountedSeats(title, pool, entries[prepare(key)]))
        elif pool.field and dialect.attribute(pool.field, ACCOUNT):
            seats.append(CountedSeats(title, pool, None, key))
    return seats


class Holders:
    """Who has seats: who is in a group, directly or through others, or has them in a field."""

    def __init__(self, directory: Directory, dialect: Dialect) -> None:
        self._directory, self._dialect = directory, dialect

    def have(self, seats: CountedSeats) -> dict[str, DN]:
        """Whoever has a seat, by the keys of their names."""
        if seats.group is not None:
            return self.of(self._dialect.members(seats.group))
        attribute = self._dialect.attribute(seats.pool.field, ACCOUNT)
        where = And((self._dialect.filter_for(ACCOUNT), Compare(attribute, "=", seats.value)))
        entries = self._directory.search(self._dialect.charter.base, where=where, only=[attribute])
        return {entry.dn.key: entry.dn for entry in entries}

    def of(self, members: Sequence[str]) -> dict[str, DN]:
        """The objects that are no groups, by the keys of their names: these members, and those of groups among them."""
        holders: dict[str, DN] = {}
        visited: set[str] = set()
        waiting = list(members)
        while waiting:
            by_key = {dn.key: dn for dn in map(names.name_in, waiting) if dn is not None and dn.key not in visited}
            visited |= by_key.keys()
            waiting = []
            for key, dn in by_key.items():
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
    restores = any(isinstance(step, Add) and step.restores for step in steps)
    return list(_judged(directory, dialect, steps, gives_back=gives_back or restores))


def _judged(
    directory: Directory, dialect: Dialect, steps: Sequence[Step], *, gives_back: bool
) -> Iterator[Finding]:  # fmt: skip
    touched = _Touched(directory, dialect, steps)
    if not touched.attributes & {*BY_NAME, *touched.fields}:
        return
    holders = Holders(directory, dialect)
    for seats in counted_seats(directory, dialect):
        if not touched.concerns(seats):
            continue
        pool = seats.pool
        before = holders.have(seats)
        after = touched.after(seats, before, holders)
        now, then = len(before), len(after)
        of = f" of {pool.capacity}" if pool.capacity is not None else ""
        if pool.capacity is not None and then > max(pool.capacity, now):
            severity = NOTE if gives_back or pool.beyond == "tell" else STOP
            what = f"{seats.title}: {then}{of} seats would be taken, {then - pool.capacity} more than there are"
            remedy = "free some, or let there be more: the charter's capacity; or beyond: tell"
            yield Finding(Code.REFUSED, what, seats.where, remedy, severity)
        elif now != then:
            yield Finding(
                Code.REFUSED, f"{seats.title}: {then}{of} seats are taken then, {now} now", seats.where, "", NOTE
            )
        new = [dn for each, dn in after.items() if each not in before]
        yield from _lacking(directory, dialect, steps, seats, new)


class _Touched:
    """What a change does to the lists and fields in which seats stand.

    Attributes:
        attributes: all that it changes.
        fields: the attributes of the fields that have pools.

    """

    def __init__(self, directory: Directory, dialect: Dialect, steps: Sequence[Step]) -> None:
        self._schema, self._dialect, self._steps = directory.schema, dialect, steps
        pools = dialect.charter.document.seats.values()
        self.fields = {dialect.attribute(pool.field, ACCOUNT) for pool in pools if pool.field} - {""}
        self.attributes: set[str] = set()
        self._deleted: set[str] = set()
        #: By the key of a group, the members that come and go.
        self._added: dict[str, list[str]] = {}
        self._removed: dict[str, list[str]] = {}
        #: By the key of a new name, that name and the one that it has now.
        self._renamed: dict[str, tuple[DN, DN]] = {}
        for step in steps:
            match step:
                case Rename(dn, new):
                    self._renamed[new.key] = new, self._now(dn)
                case Set(dn, changes):
                    self.attributes.update(change.attribute for change in changes)
                    for change in changes:
                        if change.attribute in BY_NAME:
                            self._added.setdefault(self._now(dn).key, []).extend(map(str, change.added))
                            self._removed.setdefault(self._now(dn).key, []).extend(map(str, change.removed))
                case Add(_, attributes):
                    self.attributes.update(self.fields & attributes.keys())
                case Remove(dn, attributes):
                    self._deleted.add(self._now(dn).key)
                    self.attributes.update(self.fields & attributes.keys())

    def concerns(self, seats: CountedSeats) -> bool:
        """Whether anything is done to what these seats stand in."""
        if seats.group is not None:
            return seats.group.dn.key in self._added or seats.group.dn.key in self._removed
        return self._dialect.attribute(seats.pool.field, ACCOUNT) in self.attributes

    def after(self, seats: CountedSeats, before: dict[str, DN], holders: Holders) -> dict[str, DN]:
        """Who has a seat once it is made, by the names that they have now."""
        if seats.group is None:
            return self._with_the_value(seats, before)
        key = seats.group.dn.key
        remaining = {self._now(dn).key for dn in map(names.name_in, self._removed.get(key, ())) if dn is not None}
        come = [str(self._now(dn)) for dn in map(names.name_in, self._added.get(key, ())) if dn is not None]
        members = self._dialect.members(seats.group)
        stays = [value for value in members if (dn := names.name_in(value)) is not None and dn.key not in remaining]
        after = holders.of([*stays, *come])
        return {each: dn for each, dn in after.items() if each not in self._deleted}

    def _with_the_value(self, seats: CountedSeats, before: dict[str, DN]) -> dict[str, DN]:
        attribute = self._dialect.attribute(seats.pool.field, ACCOUNT)
        value = self._schema.key(attribute, seats.value)
        after = dict(before)
        for step in self._steps:
            come, go = _values(step, attribute)
            if value in self._schema.keys(attribute, list(map(str, go))):
                after.pop(self._now(step.dn).key, None)
            if value in self._schema.keys(attribute, list(map(str, come))):
                after[self._now(step.dn).key] = self._now(step.dn)
        return after

    def _now(self, dn: DN) -> DN:
        """The name that an object has now, of which this is perhaps the new one."""
        for above in (dn, *dn.ancestors()) if self._renamed else ():
            if above.key in self._renamed:
                return dn.moved(*self._renamed[above.key])
        return dn


def _values(step: Step, attribute: str) -> tuple[list[Value], list[Value]]:
    """The values of an attribute that come with a step, and those that go."""
    match step:
        case Add(_, attributes):
            return attributes.get(attribute, []), []
        case Remove(_, attributes):
            return [], attributes.get(attribute, [])
        case Set(_, changes):
            mine = [change for change in changes if change.attribute == attribute]
            return [v for change in mine for v in change.added], [v for change in mine for v in change.removed]
    return [], []


def _lacking(
    directory: Directory, dialect: Dialect, steps: Sequence[Step], seats: CountedSeats, new: Sequence[DN]
) -> Iterator[Finding]:  # fmt: skip
    """Who gets a seat and lacks a field that it takes."""
    coming = {step.dn.key: Entry(step.dn, step.attributes) for step in steps if isinstance(step, Add)}
    for dn in new if seats.pool.requires else ():
        entry = coming.get(dn.key) or directory.get(dn)
        for field in seats.pool.requires if entry is not None else ():
            if entry is not None and not dialect.read(entry, field):
                what = f"{seats.title}: a seat takes the field {field}, and {dn.name} has none"
                yield Finding(Code.REQUIRED, what, Location(dn=str(dn), field=field), f"set it first: {field}=...")
