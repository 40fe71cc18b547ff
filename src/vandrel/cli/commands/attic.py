"""``vandrel attic``: what was deleted, by whom, and until when it can be restored."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "attic"
HELP = "what was deleted, by whom, and until when it can be restored"
DESCRIPTION = """\
List the objects that were deleted, the last first. They are kept whole, with who pointed at them, and with their
password hashes where the directory shows them, for the days that the charter names (attic_days), in a file for its
owner alone, beside the journal."""
EXAMPLES = """\
  vandrel attic
  vandrel attic lund                          whatever was called so
  vandrel attic --job 12                      what one job deleted
  vandrel attic --kind seasonal --since 2026-10-01
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_attic_selection(parser)


def run(session: Session) -> Report:
    """Hand the request on."""
    from vandrel.jobs.lifecycle.attic import list_attic

    return list_attic(session.context, session.attic, options.attic_selection(session, session.args.names))
