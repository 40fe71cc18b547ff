"""``vandrel enable``: let accounts and computers in again."""

from __future__ import annotations

import argparse

from vandrel.cli import selection
from vandrel.cli.session import Session

NAME = "enable"
HELP = "enable accounts and computers"
DESCRIPTION = """\
Enable accounts and computers that were disabled, or prepared before their first day."""
EXAMPLES = """\
  vandrel enable alund
  vandrel find enabled=no kind=crew --columns login --as csv | tail -n +2 | vandrel enable - --yes
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    selection.add_names(parser)


def run(session: Session) -> int:
    from vandrel.cli.change import change
    from vandrel.jobs.lifecycle.due import ENABLING

    entries = selection.chosen(session, session.args.names, ("account", "computer"))
    return change(session, entries, list(ENABLING), NAME)
