"""``vandrel disable``: keep accounts and computers out."""

from __future__ import annotations

import argparse

from vandrel.cli import selection
from vandrel.cli.session import Session

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
    selection.add_names(parser)
    parser.add_argument("--back", metavar="DAY", help="the day on which they come back, as 2027-01-07")


def run(session: Session) -> int:
    from vandrel.cli.change import change
    from vandrel.jobs.common.assignments import Assignment

    entries = selection.chosen(session, session.args.names, ("account", "computer"))
    back = [Assignment("back", "=", (session.args.back,))] if session.args.back else []
    return change(session, entries, [Assignment("enabled", "=", ("no",)), *back], NAME)
