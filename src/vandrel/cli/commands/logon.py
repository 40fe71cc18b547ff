"""``vandrel logon``: try a logon, and say in one sentence why it fails."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session
from vandrel.cli.terminal import input_lines

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

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


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    name = parser.add_argument("name", metavar="NAME", help="whose account")
    complete.attach(name, complete.objects)
    parser.add_argument("--password", choices=("ask", "-"), default="ask", help="where it comes from (default: ask)")


def run(session: Session) -> Report:
    """Ask for the password, and hand the request on."""
    from vandrel.jobs.accounts.try_logon import LogonRequest, try_logon
    from vandrel.jobs.common.resolve import resolve
    from vandrel.secret import Secret

    context = session.context
    entry = resolve(context, session.args.name, ("account",))
    if session.args.password == "-":
        secret = Secret(next(input_lines(), "").rstrip("\r\n"))
    else:
        secret = session.ask(f"Password of {context.label(entry)}")
    return try_logon(context, LogonRequest(entry, secret))
