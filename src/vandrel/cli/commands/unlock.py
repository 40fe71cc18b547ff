"""``vandrel unlock``: lift what bad attempts have locked."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

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
    """Add its options."""
    options.add_names(parser)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    return options.set_field(session, "locked", "no", ("account",))
