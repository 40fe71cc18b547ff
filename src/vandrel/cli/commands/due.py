"""``vandrel due``: dated intentions in one list, and what is to be done today."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report

NAME = "due"
HELP = "who starts, comes back and ends, and enabling those whose day has come"
DESCRIPTION = """\
List the dated intentions of the coming days: who starts, who comes back, whose last day it is. With --enable, those
whose day has come are enabled: one command for a scheduler. An end needs nobody: the directory, where it can, keeps the
account out from the day after."""
EXAMPLES = """\
  vandrel due                     the next thirty days
  vandrel due --within 7
  vandrel due --enable --yes      every morning, by a scheduler
"""
WRITES = True

_DAYS = 30


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument(
        "--within", type=options.natural, default=_DAYS, metavar="DAYS", help="how far ahead (default: 30)"
    )
    parser.add_argument("--enable", action="store_true", help="enable those whose day has come")


def run(session: Session) -> Proposal | Report:
    """Hand the request on."""
    from vandrel.jobs.lifecycle.due import DueRequest, due

    return due(session.context, DueRequest(session.args.within, session.args.enable))
