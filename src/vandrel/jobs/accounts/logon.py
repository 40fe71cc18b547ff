"""Whether an account can log on, in one sentence that can be read in one way only."""

from __future__ import annotations

from datetime import UTC, date, datetime

from msgspec import Struct

from vandrel.directory.entry import Entry
from vandrel.jobs.accounts.password_age import ages
from vandrel.objects.context import Context
from vandrel.text import week
from vandrel.text.nearest import listed

#: Rules of the charter, which no server knows of.
_OURS = ("charter", "kind ", "built in")


class LogonState(Struct, frozen=True):
    """``able`` and the sentence that says so, with every cause where it is not."""

    able: bool
    sentence: str


def logon_state(context: Context, entry: Entry, today: date) -> LogonState:
    """What the directory says about an account; no logon is tried.

    Only what the directory acts on keeps somebody out: a mark that it does not heed is named as such.
    """
    read = context.dialect.read
    name = context.one(entry, "full") or entry.dn.name
    starts, ends = context.one(entry, "starts"), context.one(entry, "ends")
    causes: list[str] = []
    unheeded: list[tuple[str, str]] = []

    def mark(field: str, cause: str, else_: str) -> None:
        why = context.dialect.why_not_heeded(field, entry)
        if why:
            unheeded.append((else_, why))
        else:
            causes.append(cause)

    back = context.one(entry, "back")
    if read(entry, "enabled") == ["no"]:
        until = f" until {back}" if back else ""
        mark("enabled", f"the account is disabled{until}", f"it is marked as disabled{until}")
    if starts and date.fromisoformat(starts) > today:
        mark("starts", f"its first day is {starts}", f"its first day is {starts}")
    if ends and date.fromisoformat(ends) < today:
        mark("ends", f"its last day was {ends}", f"its last day was {ends}")
    if context.dialect.is_locked(entry):
        causes.append("bad attempts have locked it")
    if not context.dialect.has_password(entry):
        causes.append("it has no password")
    elif since := _too_old(context, entry):
        causes.append(f"its password is too old, since {since}")
    if causes:
        return LogonState(False, f"{name} cannot log on: {listed(causes, 'and')}.")
    forms = listed([form for field in ("login", "principal") if (form := context.one(entry, field))], "or")
    limits = {field: ", ".join(read(entry, field)) for field in ("hours", "machines")}
    only = []
    for field, limit in limits.items():
        if not limit or limit == "all":
            continue
        said = limit if field == "hours" else f"on {limit}"
        if why := context.dialect.why_not_heeded(field, entry):
            unheeded.append((f"it is meant for {said} only", why))
        else:
            only.append(said)
    if unheeded:
        said = listed([what for what, _ in unheeded], "and")
        return LogonState(True, f"{name} can log on as {forms}, though {said}: {unheeded[0][1]}.")
    until = f", through {ends}" if ends and not context.dialect.why_not_heeded("ends", entry) else ""
    within = f", only {', '.join(only)}" if only else ""
    outside = (
        " This hour is none of them."
        if limits["hours"] in " ".join(only) and _is_outside(context, limits["hours"])
        else ""
    )
    return LogonState(True, f"{name} can log on as {forms}{until}{within}.{outside}{_first(context, entry)}")


def _is_outside(context: Context, hours: str) -> bool:
    """Whether this very hour, by the organization's clock, is none of the allowed ones."""
    if not hours:
        return False
    now = datetime.now(context.charter.zone)
    return not week.parse(hours)[now.isoweekday() % 7 * 24 + now.hour]


def _too_old(context: Context, entry: Entry) -> str:
    """The day since which the password is too old, by a rule that a server holds to; empty where it is not."""
    if not context.dialect.password_layers(entry):
        return ""
    known = ages(context, entry, context.password_rules(context.one(entry, "kind"), entry))
    if known.expires is None or known.source.startswith(_OURS) or known.expires > datetime.now(UTC):
        return ""
    return known.expires.astimezone(context.charter.zone).date().isoformat()


def _first(context: Context, entry: Entry) -> str:
    if context.dialect.read(entry, "change") != ["yes"]:
        return ""
    if why := context.dialect.why_not_heeded("change", entry):
        return f" A new password is due at the next logon, but nothing enforces that: {why}."
    return " The password must be changed at the next logon."
