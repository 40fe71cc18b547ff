"""Seats: who has which, directly or through groups, how many are left, and what the coming months bring."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.audit.statistics import months
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.proposal import Proposal
from vandrel.jobs.common.report import Report, Table
from vandrel.jobs.common.selection import Selection, select
from vandrel.objects.context import Context
from vandrel.steps.seat_check import CountedSeats, Holders, counted_seats
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare

#: Months that are looked ahead.
_AHEAD = 12
#: Objects that are asked for one by one.
_FEW = 20


class SeatRequest(Struct, frozen=True):
    """A pool, or a part of one as ``post/archive``; and who is to get or lose a seat."""

    title: str
    selection: Selection
    takes_away: bool = False


class Seat(Struct, frozen=True):
    """One seat: who has it, whether directly, and the groups through which they have it too."""

    dn: DN
    is_direct: bool
    through: tuple[str, ...]


def list_pools(context: Context) -> Report:
    """Every pool and part with how many seats are taken and free, and what is to be known of them."""
    _must_have_pools(context)
    holders, rows, notes = Holders(context.directory, context.dialect), [], []
    counted = counted_seats(context.directory, context.dialect)
    for seats in counted:
        holdings = list(_holdings(context, holders, seats))
        pool, number = seats.pool, len(holdings)
        free = str(pool.capacity - number) if pool.capacity is not None else ""
        price = f"{pool.price * number:,.2f}" if pool.price is not None and "/" not in seats.title else ""
        capacity = "" if pool.capacity is None else str(pool.capacity)
        rows.append((seats.title, capacity, str(number), free, price, pool.ends, pool.about))
        twice = sum(seat.is_direct and bool(seat.through) for seat in holdings)
        if twice:
            notes.append(
                f"{seats.title}: {twice} {'has' if twice == 1 else 'have'} it both directly and through a group."
            )
    there = {seats.title.partition("/")[0] for seats in counted}
    for name, pool in context.charter.document.seats.items():
        if name not in there:
            why = f"its group {pool.group} is not there" if pool.group else f"this directory does not keep {pool.field}"
            notes.append(f"{name}: {why}.")
    columns = ("seats", "capacity", "taken", "free", "price a month", "ends", "about")
    return Report("seats", columns, rows, summary=notes)


def list_holders(context: Context, title: str) -> Report:
    """Who has a seat of one pool, how, and how many there will be in the coming months."""
    seats = _pool(context, title)
    holdings = list(_holdings(context, Holders(context.directory, context.dialect), seats))
    rows = []
    people = _entries(context, holdings)
    for seat in holdings:
        entry = people.get(seat.dn.key)
        if entry is None:
            continue
        how = " and ".join([*(["directly"] if seat.is_direct else []), *(f"through {name}" for name in seat.through)])
        state = "" if context.one(entry, "enabled") != "no" else "disabled"
        rows.append((context.label(entry), context.place(entry.dn.parent), how, context.one(entry, "ends"), state))
    rows.sort()
    ahead = list(_ahead(context, seats, list(people.values())))
    of = f" of {seats.pool.capacity}" if seats.pool.capacity is not None else ""
    tables = [
        Table("ahead", "Taken at the end of the month, as last days and returns stand", ("month", "taken"), ahead)
    ]
    out = sum(bool(row[4]) for row in rows)
    summary = [f"{len(rows)}{of} taken" + (f", {out} by accounts that are disabled." if out else ".")]
    return Report(
        "seats", ("who", "place", "how", "ends", "state"), rows, tables=tables if rows else [], summary=summary
    )


def change_seats(context: Context, request: SeatRequest) -> Proposal:
    """Propose to give seats, wholly or a part, or to take them away.

    Raises:
        VandrelError: ``not-found`` for a pool that the charter does not have; what selecting raises.

    """
    seats = [_pool(context, request.title)]
    if "/" not in seats[0].title:  # wholly: all of its parts
        seats = [each for each in counted_seats(context.directory, context.dialect)
                 if each.title.partition("/")[0] == seats[0].title]  # fmt: skip
    chosen = select(context, request.selection, (ACCOUNT, GROUP))
    editor = Editor(context)
    if seats[0].group is None:
        people = Holders(context.directory, context.dialect).of([str(entry.dn) for entry in chosen])
        values, field = tuple(each.value for each in seats), seats[0].pool.field
        entries = [entry for dn in people.values() if (entry := context.directory.get(dn)) is not None]
        edits = [editor.edit(entry, _in_field(context, entry, field, values, request)) for entry in entries]
    else:
        groups = [each.group for each in seats if each.group is not None]
        edits = [editor.edit(entry, _in_groups(context, entry, groups, request)) for entry in chosen]
    return propose(context, edits, (), "seats")


def _in_field(
    context: Context, entry: Entry, field: str, values: Sequence[str], request: SeatRequest
) -> list[Assignment]:  # fmt: skip
    has = {prepare(value): value for value in context.dialect.read(entry, field)}
    changed = tuple(has.get(prepare(value), value) for value in values if (prepare(value) in has) == request.takes_away)
    return [Assignment(field, "-=" if request.takes_away else "+=", changed, literal=True)] if changed else []


def _in_groups(
    context: Context, entry: Entry, groups: Sequence[Entry], request: SeatRequest
) -> list[Assignment]:  # fmt: skip
    if request.takes_away:
        own = {group.dn.key for group in context.groups_of(entry)}
        groups = [group for group in groups if group.dn.key in own]
    group_names = tuple(str(group.dn) for group in groups)
    return (
        [Assignment("groups", "-=" if request.takes_away else "+=", group_names, literal=True)] if group_names else []
    )


def _must_have_pools(context: Context) -> None:
    if not context.charter.document.seats:
        what, remedy = "the charter has no seats", "write them: seats: {post: {group: may-post, capacity: 70}}"
        raise VandrelError(Code.NOT_FOUND, what, where=Location(file=str(context.charter.source)), remedy=remedy)


def _pool(context: Context, title: str) -> CountedSeats:
    _must_have_pools(context)
    groups = {seats.title: seats for seats in counted_seats(context.directory, context.dialect)}
    if title not in groups:
        remedy = did_you_mean(title, groups) or f"there are: {', '.join(groups)}"
        raise VandrelError(Code.NOT_FOUND, f"there are no seats {title!r}", where=Location(text=title), remedy=remedy)
    return groups[title]


def _holdings(context: Context, holders: Holders, seats: CountedSeats) -> Iterator[Seat]:
    if seats.group is None:
        yield from (Seat(dn, True, ()) for dn in holders.have(seats).values())
        return
    members = context.dialect.members(seats.group)
    direct = holders.of(members)
    through: dict[str, list[str]] = {}
    keys = {dn.key for value in members if value and (dn := names.parse(value))}
    for value in filter(None, members):
        member = names.parse(value)
        for key in holders.of([value]) if member.key not in direct else ():
            through.setdefault(key, []).append(member.name)
    for key, dn in direct.items():
        yield Seat(dn, key in keys, tuple(sorted(through.get(key, ()))))


def _entries(context: Context, holdings: Sequence[Seat]) -> dict[str, Entry]:
    """The objects that have seats, by the keys of their names: one by one if they are few, else in one pass."""
    keys = {seat.dn.key for seat in holdings}
    if len(keys) <= _FEW:
        entries = (context.directory.get(seat.dn) for seat in holdings)
        return {entry.dn.key: entry for entry in entries if entry is not None}
    everybody = context.directory.search(context.charter.base)
    return {entry.dn.key: entry for entry in everybody if entry.dn.key in keys}


def _ahead(context: Context, seats: CountedSeats, entries: Sequence[Entry]) -> Iterator[tuple[str, str]]:
    """How many seats are taken at the end of each month: whose last day is over has left."""
    today = context.charter.today()
    ends = Counter(
        context.one(entry, "ends")[:7] for entry in entries if context.one(entry, "ends") >= today.isoformat()
    )
    number = len(entries)
    for label in months(today, 0, _AHEAD):
        number -= ends[label]
        term = "  the term has ended" if seats.pool.ends and seats.pool.ends[:7] < label else ""
        yield label, f"{number}{term}"
