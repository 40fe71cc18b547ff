"""Dated intentions: who starts, who comes back, who ends; and what is to be done about it on the day."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, timedelta

from msgspec import Struct, structs

from vandrel.directory.entry import Entry
from vandrel.fields import ACCOUNT, COMPUTER
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit_proposal import edit_all
from vandrel.jobs.common.proposal import Proposal
from vandrel.jobs.common.report import Report, Table, count
from vandrel.objects.context import Context

#: What each date says, in words.
WORDS = {"starts": "starts", "back": "comes back", "ends": "ends"}

#: What enables an account, and takes the day of its return with it.
ENABLING = (Assignment("enabled", "=", ("yes",)), Assignment("back", "=", ()))


class DueDate(Struct, frozen=True):
    """One dated intention. With ``to_do``, an account is disabled and was to be enabled by this day."""

    entry: Entry
    field: str
    day: date
    to_do: bool


def intentions(context: Context, today: date, within: int) -> list[DueDate]:
    """What is due by `within` days from today, the earliest first.

    First days and returns that lie behind count as long as the account is still disabled; ends that lie behind do not.
    """
    last = today + timedelta(days=within)
    due_dates = [
        intention
        for object_type in (ACCOUNT, COMPUTER)
        for entry in context.directory.search(context.charter.base, where=context.dialect.filter_for(object_type))
        for intention in _of(context, entry, today)
        if intention.day <= last
    ]
    return sorted(due_dates, key=lambda intention: (intention.day, intention.entry.dn.key))


def _of(context: Context, entry: Entry, today: date) -> Iterator[DueDate]:
    disabled = context.dialect.read(entry, "enabled") == ["no"]
    for field in WORDS:
        if not (said := context.one(entry, field)):
            continue
        day = date.fromisoformat(said)
        if field == "ends":
            if day >= today:
                yield DueDate(entry, field, day, to_do=False)
        elif disabled:
            # Who has a first day and comes back later is not enabled for the first day's sake.
            later = context.one(entry, "back") if field == "starts" else ""
            yield DueDate(entry, field, day, to_do=day <= today and not later)


class DueRequest(Struct, frozen=True):
    """How many days to look ahead, and whether those whose day has come are enabled."""

    within: int = 30
    enable: bool = False


def due(context: Context, request: DueRequest) -> Proposal | Report:
    """List dated intentions, or propose to enable those whose day has come."""
    due_dates = intentions(context, context.charter.today(), request.within)
    waiting = [intention for intention in due_dates if intention.to_do]
    if request.enable:
        proposal = edit_all(context, [intention.entry for intention in waiting], ENABLING, "enable")
        return structs.replace(proposal, command="due", nothing="Nobody is to be enabled today.")
    rows = [
        (
            each.day.isoformat(), WORDS[each.field], context.one(each.entry, "login"),
            context.one(each.entry, "full") or each.entry.dn.name, str(each.entry.dn), each.to_do,
        )
        for each in due_dates
    ]  # fmt: skip
    seen = [(*row[:4], "to be enabled" if row[5] else "") for row in rows]
    table = Table("listed", "", ("day", "what", "login", "full", ""), seen, has_header=True)
    summary = [f"Nothing within {count(request.within, 'day')}."] if not rows else []
    summary += [f"{count(len(waiting), 'account')} to be enabled: vandrel due --enable"] if waiting else []
    columns = ("day", "what", "login", "full", "dn", "to_do")
    return Report("due", columns, rows, tables=[table], is_for_programs=True, summary=summary)
