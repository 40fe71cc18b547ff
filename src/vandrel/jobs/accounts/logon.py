"""Whether an account can log on, in one sentence that can be read in one way only."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

from msgspec import Struct

from vandrel.directory.entry import Entry
from vandrel.jobs.accounts.password_age import ages
from vandrel.objects.context import Context
from vandrel.text.nearest import listed

#: Rules of the charter, which no server knows of.
_OURS = ("charter", "kind ", "built in")


#: The third answer.
_UNSEEN = "Whether the account has a password is not shown to this identity."


class LogonState(Struct, frozen=True):
    """``able`` and the sentence that says so, with every cause where it is not; None where it cannot be seen.

    ``though`` is what is meant to keep somebody out and does not, in words.
    """

    able: bool | None
    sentence: str
    though: str = ""


def logon_state(context: Context, entry: Entry, today: date) -> LogonState:
    """What the directory says about an account; no logon is tried.

    Only what the directory acts on keeps somebody out: a mark that it does not heed is named as such.
    """
    name = context.title(entry)
    causes, unheeded = _causes(context, entry, today)
    if causes:
        unseen = "" if context.dialect.has_password(entry) is not None else f" {_UNSEEN}"
        return LogonState(False, f"{name} cannot log on: {listed(causes, 'and')}.{unseen}")
    if context.dialect.has_password(entry) is None:
        return LogonState(None, f"Nothing keeps {name} from logging on that can be seen. {_UNSEEN}")
    forms = listed([form for field in ("login", "principal") if (form := context.one(entry, field))], "or")
    hours = ", ".join(context.dialect.read(entry, "hours"))
    only = []
    for field, limit in (("hours", hours), ("machines", ", ".join(context.dialect.read(entry, "machines")))):
        if limit in ("", "all") or (field, limit) == ("hours", "none"):
            continue
        text = limit if field == "hours" else f"on {limit}"
        if why := context.dialect.why_not_heeded(field, entry):
            unheeded.append((f"it is meant for {text} only", why))
        else:
            only.append(text)
    if unheeded:
        though = f", though {listed([what for what, _ in unheeded], 'and')}: {unheeded[0][1]}"
        return LogonState(True, f"{name} can log on as {forms}{though}.", though)
    ends = context.one(entry, "ends")
    until = f", through {ends}" if ends and not context.dialect.why_not_heeded("ends", entry) else ""
    within = f", only {', '.join(only)}" if only else ""
    outside = " This hour is none of them." if hours in only and _is_outside(context, hours) else ""
    return LogonState(True, f"{name} can log on as {forms}{until}{within}.{outside}{_first(context, entry)}")


def _causes(context: Context, entry: Entry, today: date) -> tuple[list[str], list[tuple[str, str]]]:
    """What keeps somebody out; and what is marked though the directory does not heed it, each with the reason."""
    causes: list[str] = []
    unheeded: list[tuple[str, str]] = []
    starts, ends, back = (context.one(entry, field) for field in ("starts", "ends", "back"))
    until = f" until {back}" if back else ""
    marks = (
        ("enabled", context.dialect.read(entry, "enabled") == ["no"], f"{{}} disabled{until}"),
        ("starts", bool(starts) and date.fromisoformat(starts) > today, f"its first day is {starts}"),
        ("ends", bool(ends) and date.fromisoformat(ends) < today, f"its last day was {ends}"),
        ("hours", context.dialect.read(entry, "hours") == ["none"], "no hour of the week is allowed to it"),
    )
    for field, is_marked, what in marks:
        if not is_marked:
            continue
        if why := context.dialect.why_not_heeded(field, entry):
            unheeded.append((what.format("it is marked as"), why))
        else:
            causes.append(what.format("the account is"))
    if context.dialect.is_locked(entry):
        causes.append("bad attempts have locked it")
    if context.dialect.has_password(entry) is False:
        causes.append("it has no password")
    elif since := _too_old(context, entry):
        causes.append(f"its password is too old, since {since}")
    return causes, unheeded


def _is_outside(context: Context, hours: str) -> bool:
    """Whether this very hour, by the organization's clock, is none of the allowed ones."""
    if not hours:
        return False
    from vandrel.text import week  # most accounts have no hours

    now = datetime.now(context.charter.zone) - timedelta(minutes=context.dialect.hours_late)
    return not week.parse(hours)[now.isoweekday() % 7 * 24 + now.hour]


def _too_old(context: Context, entry: Entry) -> str:
    """The day since which the password is too old, by a rule that a server holds to; empty where it is not."""
    if not context.dialect.password_layers(entry):
        return ""
    age = ages(context, entry, context.password_rules(context.one(entry, "kind"), entry))
    if age.expires is None or age.source.startswith(_OURS) or age.expires > datetime.now(UTC):
        return ""
    return age.expires.astimezone(context.charter.zone).date().isoformat()


def _first(context: Context, entry: Entry) -> str:
    if context.dialect.read(entry, "change") != ["yes"]:
        return ""
    if why := context.dialect.why_not_heeded("change", entry):
        return f" A new password is due at the next logon, but nothing enforces that: {why}."
    return " The password must be changed at the next logon."
