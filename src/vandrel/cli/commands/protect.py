"""``vandrel protect``: keep objects from deletion and moves."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "protect"
HELP = "protect objects from deletion, renaming and moves"
DESCRIPTION = """\
Protect any object from deletion, renaming and moves, by the directory itself where it can. `vandrel probe` says
who sees to it."""
EXAMPLES = """\
  vandrel protect /Ferries/Northquay team-everybody
  vandrel protect --where "(objectClass=organizationalUnit)"
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_names(parser)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    return options.set_field(session, "protected", "yes")
