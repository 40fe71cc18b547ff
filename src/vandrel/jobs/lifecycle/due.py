"""Dated intentions: who starts, comes back, ends, leaves and is deleted; and what is to be done about it on the day."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from datetime import date, timedelta

from msgspec import Struct, structs

from vandrel.charter.passwords import PasswordRules
from vandrel.directory.entry import Entry
from vandrel.fields import ACCOUNT, COMPUTER
from vandrel.jobs.accounts.password_age import ages
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.proposal import Passwords, Proposal, Work, unique
from vandrel.jobs.common.report import Report, Table, count
from vandrel.jobs.lifecycle.attic import expired_items
from vandrel.jobs.lifecycle.delete import Deletion, changes_of_deletion, work_out_deletion
from vandrel.jobs.lifecycle.leave import LeaverRoutine, is_with_leavers, with_other_accounts
from vandrel.objects.context import Context
from vandrel.record.attic import Attic

#: What each date says, in words.
WORDS = {
    "starts": "starts", "back": "comes back", "ends": "ends", "leaves": "has left", "deleted": "is deleted",
    "password": "needs a new password",
}  # fmt: skip
#: What is done when the day has come: the word for it, and what is to be done in words.
ENABLE, LEAVE, DELETE = "enable", "leave", "delete"
_DONE = {"starts": ENABLE, "back": ENABLE, "leaves": LEAVE, "deleted": DELETE}
_TO_DO = {ENABLE: "to be enabled", LEAVE: "leaver's routine to be carried out", DELETE: "to be deleted"}

#: Attributes by which a server holds one account to rules of its own.
_OF_ONE_ACCOUNT = ("pwdPolicySubentry", "msDS-ResultantPSO")
#: What enables an account, and takes the day of its return with it.
ENABLING = (Assignment("enabled", "=", ("yes",)), Assignment("back", "=", ()))


class DueDate(Struct, frozen=True):
    """One dated intention. With ``to_do``, its day has come and what belongs to it has not been done."""

    entry: Entry
    field: str
    day: date
    to_do: bool


def intentions(context: Context, today: date, within: int) -> list[DueDate]:
    """What is due by `within` days from today, the earliest first.

    First days and returns that lie behind count as long as the account is still disabled. An end that lies behind
    counts where the charter has a leaver's routine that has not been carried out, or says when the account is deleted.
    """
    last = today + timedelta(days=within)
    rules: dict[tuple[str, ...], PasswordRules] = {}
    due_dates = [
        intention
        for object_type in (ACCOUNT, COMPUTER)
        for entry in context.directory.search(context.charter.base, where=context.dialect.filter_for(object_type))
        for intention in (*_of(context, entry, today), *_password(context, entry, today, rules))
        if intention.day <= last
    ]
    return sorted(due_dates, key=lambda intention: (intention.day, intention.entry.dn.key))


def _of(context: Context, entry: Entry, today: date) -> Iterator[DueDate]:
    disabled = context.dialect.read(entry, "enabled") == ["no"]
    for field in ("starts", "back", "ends"):
        if not (text := context.one(entry, field)):
            continue
        day = date.fromisoformat(text)
        if field == "ends" and day >= today:
            yield DueDate(entry, field, day, to_do=False)
        elif field == "ends":
            yield from _after_the_end(context, entry, day, today)
        elif disabled:
            # Who has a first day and comes back later is not enabled for the first day's sake.
            later = context.one(entry, "back") if field == "starts" else ""
            yield DueDate(entry, field, day, to_do=day <= today and not later)


def _password(
    context: Context, entry: Entry, today: date, rules: dict[tuple[str, ...], PasswordRules]
) -> Iterator[DueDate]:  # fmt: skip
    """The day on which the password of an enabled account grows too old, if it lies ahead.

    `rules` remembers those of accounts for which the charter and the server have the same.
    """
    if context.object_type(entry) != ACCOUNT or context.dialect.read(entry, "enabled") == ["no"]:
        return
    key = (context.one(entry, "kind"), *(entry.text(name) for name in _OF_ONE_ACCOUNT))
    if key not in rules:
        rules[key] = context.rules_for(entry)
    expires = ages(context, entry, rules[key]).expires
    day = expires.astimezone(context.charter.zone).date() if expires is not None else None
    if day is not None and day >= today:
        yield DueDate(entry, "password", day, to_do=False)


def _after_the_end(context: Context, entry: Entry, ended: date, today: date) -> Iterator[DueDate]:
    rules = context.charter.leaving(context.one(entry, "kind"))
    if rules is None or context.object_type(entry) != ACCOUNT:
        return
    if not is_with_leavers(context, entry, rules) or context.dialect.read(entry, "enabled") != ["no"]:
        yield DueDate(entry, "leaves", ended + timedelta(days=1), to_do=True)
    elif rules.deleted_after is not None:
        day = ended + timedelta(days=max(rules.deleted_after, 1))
        yield DueDate(entry, "deleted", day, to_do=day <= today)


class DueRequest(Struct, frozen=True):
    """How many days to look ahead; or which of `ENABLE`, `LEAVE`, `DELETE` to carry out, where their day has come."""

    within: int = 30
    carry_out: Collection[str] = ()


def due(context: Context, attic: Attic, request: DueRequest) -> Proposal | Report:
    """List dated intentions, or propose to carry out those whose day has come."""
    due_dates = intentions(context, context.charter.today(), request.within)
    if request.carry_out:
        waiting = [each for each in due_dates if each.to_do and _DONE[each.field] in request.carry_out]
        return _carry_out(context, waiting)
    rows = [
        (
            each.day.isoformat(), WORDS[each.field], context.one(each.entry, "login"),
            context.one(each.entry, "full") or each.entry.dn.name, str(each.entry.dn), each.to_do,
            _DONE.get(each.field, ""),
        )
        for each in due_dates
    ]  # fmt: skip
    rows += [(day, "term of seats ends", "", name, "", False, "") for day, name in _terms(context, request.within)]
    rows.sort(key=lambda row: row[0])
    display_rows = [(*row[:4], _TO_DO[row[6]] if row[5] else "") for row in rows]
    table = Table("listed", "", ("day", "what", "login", "full", ""), display_rows, has_header=True)
    summary = [f"Nothing within {count(request.within, 'day')}."] if not rows else []
    waits = sum(row[5] for row in rows)
    summary += [f"{count(waits, 'account')} to be seen to: vandrel due --carry-out"] if waits else []
    if over := len(expired_items(context, attic)):
        summary.append(f"{count(over, 'object')} in the attic past the days that it is kept: vandrel purge --expired")
    columns = ("day", "what", "login", "full", "dn", "to_do", "action")
    return Report("due", columns, rows, tables=[table], is_for_programs=True, summary=summary)


def _terms(context: Context, within: int) -> Iterator[tuple[str, str]]:
    """The last day of the terms of seats that end within so many days, and whose seats they are."""
    today = context.charter.today()
    for name, pool in context.charter.document.seats.items():
        if pool.ends and 0 <= (date.fromisoformat(pool.ends) - today).days <= within:
            yield pool.ends, f"{name}, {count(pool.capacity, 'seat')}" if pool.capacity else name


def _carry_out(context: Context, waiting: Sequence[DueDate]) -> Proposal:
    """Enable, let go and delete in one job."""
    by_action: dict[str, list[Entry]] = {ENABLE: [], LEAVE: [], DELETE: []}
    for each in waiting:
        by_action[_DONE[each.field]].append(each.entry)
    editor, routine = Editor(context), LeaverRoutine(context, context.charter.today())
    edits: list[Edit] = [editor.edit(entry, ENABLING) for entry in by_action[ENABLE]]
    people = with_other_accounts(context, by_action[LEAVE])
    edits += routine.edits([entry for entry in people if routine.rules(entry) is not None])
    deletion = work_out_deletion(context, by_action[DELETE]) if by_action[DELETE] else Deletion([])
    proposal = propose(context, edits, routine.passwords, "due", passwords_for=routine.barred)

    def work(passwords: Passwords) -> Work:
        return Work([*proposal.work(passwords).steps, *deletion.steps])

    figures = ", ".join(f"{action} {len(entries)}" for action, entries in by_action.items() if entries)
    return structs.replace(
        proposal, title=f"due: {figures}", question=f"{figures.capitalize()}?", work=work, is_atomic=False,
        changes=[*proposal.changes, *changes_of_deletion(context, deletion)], leavers=routine.had,
        findings=unique([*proposal.findings, *routine.findings, *deletion.findings]), nothing="Nothing is due today.",
    )  # fmt: skip
