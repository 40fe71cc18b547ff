"""``vandrel enable``: let accounts and computers in again."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

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
    """Add its options."""
    options.add_names(parser)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.jobs.common.edit_proposal import edit_all
    from vandrel.jobs.common.selection import select
    from vandrel.jobs.lifecycle.due import ENABLING

    context, args = session.context, session.args
    chosen = select(context, options.selection(session, args.names), ("account", "computer"))
    return edit_all(context, chosen, ENABLING, NAME)
