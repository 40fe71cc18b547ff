"""``vandrel release``: let protected objects be deleted and moved."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "release"
HELP = "release protected objects"
DESCRIPTION = """\
Release protected objects, on purpose, so that they can be deleted, renamed and moved again."""
EXAMPLES = """\
  vandrel release /Ferries/Northquay/Stores
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_names(parser)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    return options.set_field(session, "protected", "no")
