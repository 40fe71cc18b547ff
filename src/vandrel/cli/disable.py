"""``vandrel disable``: keep accounts and computers out."""

from __future__ import annotations

import argparse

from vandrel.cli import selection
from vandrel.cli.session import Session

NAME = "disable"
HELP = "disable accounts and computers"
DESCRIPTION = """\
Disable accounts and computers: they stay where they are, with everything they have, and nobody can log on with
them. Where a server does not heed that, it is said."""
EXAMPLES = """\
  vandrel disable alund jmueller
  vandrel disable --where "(employeeType=seasonal)" --under /Ferries
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    selection.add_names(parser)


def run(session: Session) -> int:
    from vandrel.cli.change import change
    from vandrel.jobs.assignments import Assignment

    entries = selection.chosen(session, session.args.names, ("account", "computer"))
    return change(session, entries, [Assignment("enabled", "=", ("no",))], NAME)
