"""``vandrel move``: objects and whole units to another place."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

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
    """Add its options."""
    options.add_names(parser)
    to = parser.add_argument("--to", metavar="PLACE", required=True, help="the unit, exactly: /Shore/Office")
    complete.attach(to, complete.places)
    parser.add_argument("--fields-stay", action="store_true", help="fields and groups do not follow the place")


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.jobs.hierarchy.move import MoveRequest, move

    args = session.args
    request = MoveRequest(options.selection(session, args.names), args.to, not args.fields_stay)
    return move(session.context, request)
