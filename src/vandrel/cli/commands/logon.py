"""``vandrel logon``: try a logon, and say in one sentence why it fails."""

from __future__ import annotations

import argparse

from vandrel.cli import complete
from vandrel.cli.session import Session, read_secret_line

NAME = "logon"
HELP = "try a logon with a password, and say why it fails"
DESCRIPTION = """\
Try whether somebody can log on with a password, by a real bind, and name the cause where not: disabled, ended,
locked, outside of the hours, another machine, a change that is due, or the wrong password. Too many bad attempts
lock an account: this is one."""
EXAMPLES = """\
  vandrel logon alund                  asks for the password, unseen
  vandrel logon alund --password -     reads it from standard input
"""
WRITES = False

_CAUSES = {
    "hours": "this hour is none of the allowed ones", "machine": "it may not be used from this machine",
    "expired": "the password is too old", "disabled": "the account is disabled", "ended": "its last day is over",
    "locked": "bad attempts have locked it",
}  # fmt: skip


def configure(parser: argparse.ArgumentParser) -> None:
    name = parser.add_argument("name", metavar="NAME", help="whose account")
    complete.attach(name, complete.objects)
    parser.add_argument("--password", choices=("ask", "-"), default="ask", help="where it comes from (default: ask)")


def run(session: Session) -> int:
    from vandrel.errors import CODES
    from vandrel.jobs.accounts.logon import logon_state
    from vandrel.jobs.common.resolve import resolve
    from vandrel.secret import Secret

    context = session.context
    entry = resolve(context, session.args.name, ("account",))
    name = context.label(entry)
    typed = session.args.password == "-"
    secret = Secret(read_secret_line()) if typed else session.ask(f"Password of {name}")
    why = context.directory.try_logon(entry.dn, secret)
    state = logon_state(context, entry, session.charter.today())
    able = why == "" and (state.able or not context.directory.capabilities.embedded)
    if able:
        said = f"{name} has logged on."
    elif why == "change":
        said = f"{name}: the password is right, and must be changed before anything else."
    elif why in _CAUSES:
        said = f"{name} cannot log on: {_CAUSES[why]}."
    elif not state.able:  # the server tells no cause, and the account itself does
        said = state.sentence
    else:
        said = f"{name} cannot log on: the password is wrong, or the server keeps the cause to itself."
    if session.out.as_json:
        session.out.json({"command": NAME, "dn": str(entry.dn), "able": able, "cause": why, "sentence": said})
    else:
        session.out.line(said)
    return 0 if able else CODES["not-permitted"][0]
