"""``vandrel unlock``: lift what bad attempts have locked."""

from __future__ import annotations

import argparse

from vandrel.cli import selection
from vandrel.cli.session import Session

NAME = "unlock"
HELP = "unlock accounts that bad attempts have locked"
DESCRIPTION = """\
Unlock accounts that a series of bad attempts has locked. Password and settings stay as they are; for a new
password and the unlocking in one step there is `vandrel reset`."""
EXAMPLES = """\
  vandrel unlock alund
  vandrel unlock --where "(title=*mate*)"
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    selection.add_names(parser)


def run(session: Session) -> int:
    from vandrel.cli.change import change
    from vandrel.jobs.common.assignments import Assignment

    entries = selection.chosen(session, session.args.names, ("account",))
    return change(session, entries, [Assignment("locked", "=", ("no",))], NAME)
