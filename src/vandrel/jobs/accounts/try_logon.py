"""A logon that is tried, and the one cause where it fails."""

from __future__ import annotations

from msgspec import Struct

from vandrel.directory.entry import Entry
from vandrel.errors import Code
from vandrel.jobs.accounts.logon import logon_state
from vandrel.jobs.common.report import Report
from vandrel.objects.context import Context
from vandrel.secret import Secret

#: What the server says keeps somebody out, in words.
_CAUSES = {
    "hours": "this hour is none of the allowed ones", "machine": "it may not be used from this machine",
    "expired": "the password is too old", "disabled": "the account is disabled", "ended": "its last day is over",
    "locked": "bad attempts have locked it",
}  # fmt: skip


class LogonRequest(Struct, frozen=True):
    """The account, and its password."""

    entry: Entry
    secret: Secret


def try_logon(context: Context, request: LogonRequest) -> Report:
    """Try a logon, and name the one cause where it fails."""
    entry = request.entry
    name = context.label(entry)
    why = context.directory.try_logon(entry.dn, request.secret)
    state = logon_state(context, entry, context.charter.today())
    able = why == "" and (state.able is not False or not context.directory.capabilities.embedded)
    if able:
        message = f"{name} has logged on{state.though}."
    elif why == "change":
        message = f"{name}: the password is right, and must be changed before anything else."
    elif why in _CAUSES:
        message = f"{name} cannot log on: {_CAUSES[why]}."
    elif state.able is False:  # the server tells no cause, and the account itself does
        message = state.sentence
    else:
        message = f"{name} cannot log on: the password is wrong, or the server keeps the cause to itself."
    row = (str(entry.dn), able, why, message)
    return Report(
        "logon", ("dn", "able", "cause", "sentence"), [row], is_for_programs=True, text=f"{message}\n",
        exit_code=0 if able else Code.NOT_PERMITTED.exit_code,
    )  # fmt: skip
