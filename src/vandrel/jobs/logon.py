"""Whether an account can log on, in one sentence that can be read in one way only."""

from __future__ import annotations

from datetime import date

from msgspec import Struct

from vandrel.directory.entry import Entry
from vandrel.jobs.house import House
from vandrel.text.nearest import listed


class LogonState(Struct, frozen=True):
    """``able`` and the sentence that says so, with every cause where it is not."""

    able: bool
    sentence: str


def logon_state(house: House, entry: Entry, today: date) -> LogonState:
    """What the directory says about an account; no logon is tried."""
    read = house.dialect.read
    name = house.one(entry, "full") or entry.dn.name
    causes, unsure = [], ""
    if read(entry, "enabled") == ["no"]:
        causes.append("the account is disabled")
        unsure = house.dialect.why_not_disabled(entry)
    if house.dialect.is_locked(entry):
        causes.append("bad attempts have locked it")
    if not house.dialect.has_password(entry):
        causes.append("it has no password")
    starts, ends = house.one(entry, "starts"), house.one(entry, "ends")
    if starts and date.fromisoformat(starts) > today:
        causes.append(f"its first day is {starts}")
    if ends and date.fromisoformat(ends) < today:
        causes.append(f"its last day was {ends}")
    if unsure and len(causes) == 1:
        return LogonState(True, f"{name} is marked as disabled and can log on all the same: {unsure}.")
    if causes:
        return LogonState(False, f"{name} cannot log on: {listed(causes, 'and')}.")
    forms = listed([form for field in ("login", "principal") if (form := house.one(entry, field))], "or")
    until = f", through {ends}" if ends else ""
    first = " The password must be changed at the next logon." if read(entry, "change") == ["yes"] else ""
    return LogonState(True, f"{name} can log on as {forms}{until}.{first}")
