"""``vandrel verify``: whether our files are as they were written."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "verify"
HELP = "look whether the files of Vandrel are as they were written"
DESCRIPTION = """\
Read the file of an embedded directory, the journal, the attic and the snapshots from one end to the other, and name
what is damaged and what brings it back. A damaged entry is left out of everything else, and told."""
EXAMPLES = """\
  vandrel verify
  vandrel restore alund --from-snapshot 3        what it proposes for a damaged entry
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options; there are none."""


def run(session: Session) -> Report:
    """Hand the files on."""
    from vandrel.jobs.inspect.verify import OwnFiles, verify

    journal = session.journal() if session.has_journal else None
    return verify(session.context, OwnFiles(journal, session.attic, session.snapshots))
