"""``vandrel leave``: the leaver's routine of the charter, today or on a later day, and the way back."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "leave"
HELP = "carry out the leaver's routine of the charter, or turn it round"
DESCRIPTION = """\
Disable accounts of people who leave, take them out of their groups and roles, move them to the place for leavers, and
hand on whom and what they looked after, as the charter says for their kind; other accounts of the same person leave
too. With --on a later day only the last day is set, and vandrel due does the rest. What they had is kept: --back gives
the same accounts, groups, place and reports back."""
EXAMPLES = """\
  vandrel leave hbrekke
  vandrel leave hbrekke --on 2026-12-31 --successor alund
  vandrel leave - --yes < leavers.txt
  vandrel leave hbrekke password=generate --back --hand-out halvard.csv
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_names(parser)
    parser.add_argument("--on", type=options.day, metavar="DAY", help="the last day, as 2026-12-31 (default: today)")
    for name, what in (("successor", "takes mail or reports over, where the charter says so"),
                       ("manager", "gets the reports, whatever the charter says")):  # fmt: skip
        person = parser.add_argument(f"--{name}", metavar="NAME", default="", help=f"who {what}")
        complete.attach(person, complete.objects)
    parser.add_argument("--back", action="store_true", help="for whoever comes back: give back what was taken")
    options.add_hand_out(parser)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.lifecycle.leave import LeaveRequest, ReturnRequest, come_back, leave

    args = session.args
    plain, assignments = options.split(session, args.names)
    selection = options.selection(session, plain)
    if args.back:
        if args.on or args.successor or args.manager:
            raise VandrelError(Code.USAGE, "a way back takes no day and no heir", where=Location(option="--back"))
        return come_back(session.context, session.attic, ReturnRequest(selection, assignments))
    if assignments:
        what, remedy = "what is set when somebody leaves stands in the charter", "leaving: {sets: {...}}"
        raise VandrelError(Code.USAGE, what, where=Location(field=assignments[0].field), remedy=remedy)
    return leave(session.context, LeaveRequest(selection, args.on, args.successor, args.manager))
