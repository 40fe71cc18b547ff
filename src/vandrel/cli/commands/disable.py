"""``vandrel disable``: keep accounts and computers out."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "disable"
HELP = "disable accounts and computers"
DESCRIPTION = """\
Disable accounts and computers: they stay where they are, with everything they have, and nobody can log on with
them. With a day on which they come back, `vandrel due` enables them again. Where a server does not heed a mark, it is
said."""
EXAMPLES = """\
  vandrel disable alund jmueller
  vandrel disable alund --back 2027-01-07
  vandrel disable --where "(employeeType=seasonal)" --under /Ferries
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_names(parser)
    parser.add_argument("--back", metavar="DAY", help="the day on which they come back, as 2027-01-07")


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.jobs.common.assignments import Assignment
    from vandrel.jobs.common.edit_proposal import edit_all
    from vandrel.jobs.common.selection import select

    context, args = session.context, session.args
    chosen = select(context, options.selection(session, args.names), ("account", "computer"))
    back = [Assignment("back", "=", (args.back,))] if args.back else []
    return edit_all(context, chosen, [Assignment("enabled", "=", ("no",)), *back], NAME)
