"""``vandrel due``: dated intentions in one list, and what is to be done today."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli.commands.journal import number
from vandrel.cli.session import Session, count

if TYPE_CHECKING:
    from vandrel.directory.entry import Entry

NAME = "due"
HELP = "who starts, comes back and ends, and enabling those whose day has come"
DESCRIPTION = """\
List the dated intentions of the coming days: who starts, who comes back, whose last day it is. With --enable, those
whose day has come are enabled: one command for a scheduler. An end needs nobody: the directory, where it can, keeps the
account out from the day after."""
EXAMPLES = """\
  vandrel due                     the next thirty days
  vandrel due --within 7
  vandrel due --enable --yes      every morning, by a scheduler
"""
WRITES = True

_DAYS = 30


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--within", type=number, default=_DAYS, metavar="DAYS", help="how far ahead (default: 30)")
    parser.add_argument("--enable", action="store_true", help="enable those whose day has come")


def run(session: Session) -> int:
    from vandrel.jobs.lifecycle.due import WORDS, intentions

    context, today = session.context, session.charter.today()
    found = intentions(context, today, session.args.within)
    waiting = [item for item in found if item.to_do]
    if session.args.enable:
        return _enable(session, [item.entry for item in waiting])
    if session.out.as_json:
        objects = [{"dn": str(i.entry.dn), "what": i.field, "day": i.day.isoformat(), "to-do": i.to_do} for i in found]
        session.out.json({"command": NAME, "intentions": objects})
        return 0
    rows = [
        (
            item.day.isoformat(), WORDS[item.field], context.one(item.entry, "login"),
            context.one(item.entry, "full") or item.entry.dn.name, "to be enabled" if item.to_do else "",
        )
        for item in found
    ]  # fmt: skip
    if rows:
        session.out.table(("day", "what", "login", "full", ""), rows)
    else:
        session.out.note(f"Nothing within {count(session.args.within, 'day')}.")
    if waiting:
        session.out.note(f"{count(len(waiting), 'account')} to be enabled: vandrel due --enable")
    return 0


def _enable(session: Session, entries: list[Entry]) -> int:
    from vandrel.cli.change import change
    from vandrel.jobs.lifecycle.due import ENABLING

    if not entries:
        session.out.note("Nobody is to be enabled today.")
        if session.out.as_json:
            session.out.json({"command": NAME, "objects": [], "steps": [], "job": None})
        return 0
    return change(session, entries, list(ENABLING), "enable")
