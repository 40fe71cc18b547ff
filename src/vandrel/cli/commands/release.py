"""``vandrel release``: let protected objects be deleted and moved."""

from __future__ import annotations

import argparse

from vandrel.cli import selection
from vandrel.cli.session import Session

NAME = "release"
HELP = "release protected objects"
DESCRIPTION = """\
Release protected objects, on purpose, so that they can be deleted, renamed and moved again."""
EXAMPLES = """\
  vandrel release /Ferries/Northquay/Stores
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    selection.add_names(parser)


def run(session: Session) -> int:
    from vandrel.cli.change import change
    from vandrel.jobs.common.assignments import Assignment

    entries = selection.chosen(session, session.args.names)
    return change(session, entries, [Assignment("protected", "=", ("no",))], NAME)
