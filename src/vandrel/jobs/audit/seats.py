"""Rules on seats: who has one and should not, and pools that are given away twice."""

from __future__ import annotations

from collections.abc import Iterator

from vandrel.directory.entry import Entry
from vandrel.jobs.audit.rule import Fault, Weight, command, edit, login_of, rule
from vandrel.jobs.audit.survey import Survey
from vandrel.steps.seat_check import CountedSeats, Holders, counted_seats


@rule("seat-of-the-gone", Weight.FAULT, "It is paid for, and nobody sits on it.")
def seat_of_the_gone(survey: Survey) -> Iterator[Fault]:
    """Accounts that are out, and have a seat."""
    for seats, entries in _holdings(survey):
        for entry in entries:
            if not survey.is_enabled(entry):
                mended = command("seats", "take", seats.title, login_of(survey, entry))
                yield Fault(entry, f"out, and has a seat of {seats.title}", mended)


@rule("seat-twice", Weight.ADVICE, "Whoever takes it away once thinks that it is gone.")
def seat_twice(survey: Survey) -> Iterator[Fault]:
    """Accounts that have a seat both directly and through a group."""
    for seats, entries in _holdings(survey):
        if seats.group is None:
            continue
        inner = {dn.key for dn in survey.members.get(seats.group.dn.key, ())}
        for entry in entries:
            above = {group.dn.key: group.dn.name for group in survey.all_groups_of(entry.dn.key).values()}
            through = [name for key, name in above.items() if key in inner]
            if entry.dn.key in inner and through:
                mended = edit(survey, entry, f"groups-={seats.group.dn.name}")
                yield Fault(entry, f"has {seats.title} directly, and through {', '.join(sorted(through))}", mended)


@rule("seats-beyond", Weight.FAULT, "The maker counts too, and sends a bill.")
def seats_beyond(survey: Survey) -> Iterator[Fault]:
    """Pools of seats of which more are taken than there are, told of their group, or of the top."""
    top = survey.entries.get(survey.context.charter.base.key)
    for seats, entries in _holdings(survey):
        most = seats.pool.capacity
        told_of = seats.group or top
        if most is not None and len(entries) > most and told_of is not None:
            yield Fault(told_of, f"{seats.title}: {len(entries)} seats of {most} are taken")


@rule("seat-field-missing", Weight.FAULT, "The service may not serve whoever lacks it.")
def seat_field_missing(survey: Survey) -> Iterator[Fault]:
    """Accounts with a seat that lack a field which it takes."""
    for seats, entries in _holdings(survey):
        for field in seats.pool.requires:
            for entry in entries:
                if not survey.one(entry, field):
                    yield Fault(entry, f"{seats.title} takes the field {field}", edit(survey, entry, f"{field}=..."))


def _holdings(survey: Survey) -> Iterator[tuple[CountedSeats, list[Entry]]]:
    """The pools and parts, with the accounts that have a seat."""
    context = survey.context
    if not context.charter.document.seats:
        return
    holders = Holders(context.directory, context.dialect)
    for seats in counted_seats(context.directory, context.dialect):
        keys = holders.have(seats)
        yield seats, [entry for key in keys if (entry := survey.entries.get(key)) is not None]
