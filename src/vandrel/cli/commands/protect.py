"""``vandrel protect``: keep objects from deletion and moves."""

from __future__ import annotations

import argparse

from vandrel.cli import selection
from vandrel.cli.session import Session

NAME = "protect"
HELP = "protect objects from deletion, renaming and moves"
DESCRIPTION = """\
Protect any object from deletion, renaming and moves, by the directory itself where it can. `vandrel probe` says
who sees to it."""
EXAMPLES = """\
  vandrel protect /Ferries/Northquay gg-everybody
  vandrel protect --where "(objectClass=organizationalUnit)"
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    selection.add_names(parser)


def run(session: Session) -> int:
    from vandrel.cli.change import change
    from vandrel.jobs.common.assignments import Assignment

    entries = selection.chosen(session, session.args.names)
    return change(session, entries, [Assignment("protected", "=", ("yes",))], NAME)
