"""``vandrel move``: objects and whole units to another place."""

from __future__ import annotations

import argparse

from vandrel.cli import complete, selection
from vandrel.cli.session import Session

NAME = "move"
HELP = "move accounts, groups, computers and whole units"
DESCRIPTION = """\
Move objects, units with all below them, to a place that is given exactly. What changes there is shown first: fields and
default groups that follow from the place by the charter, inherited policies, whether the place is meant for them. What
points at the objects still does."""
EXAMPLES = """\
  vandrel move alund --to /Ferries/Sandhaven/Deck/Officers
  vandrel move /Ferries/Northquay/Stores --to /Shore
  vandrel move --where "(employeeType=seasonal)" --to /Leavers --fields-stay
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    selection.add_names(parser)
    to = parser.add_argument("--to", metavar="PLACE", required=True, help="the unit, exactly: /Shore/Office")
    complete.attach(to, complete.places)
    parser.add_argument("--fields-stay", action="store_true", help="fields and groups do not follow the place")


def run(session: Session) -> int:
    from vandrel.cli.change import carry_out
    from vandrel.jobs.hierarchy.move import Mover

    mover = Mover(session.context, session.args.to)
    entries = selection.chosen(session, session.args.names)
    edits = [mover.move(entry, fields_follow=not session.args.fields_stay) for entry in entries]
    return carry_out(session, edits, verb=NAME)
