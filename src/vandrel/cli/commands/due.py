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
HELP = "who starts, comes back, ends and is deleted; and carrying out what is due"
DESCRIPTION = """\
List the dated intentions of the coming days: who starts, who comes back, whose last day it is, whose account is
deleted. With --carry-out, what is due is done in one job: whose day has come is enabled, whose last day is over goes
through the leaver's routine of the charter, whose days as a leaver are over is deleted into the attic. One command for
a scheduler: late, twice or again, it does what is left to do. An end needs nobody: the directory, where it can, keeps
the account out from the day after."""
EXAMPLES = """\
  vandrel due                               the next thirty days
  vandrel due --within 7
  vandrel due --carry-out --yes             every morning, by a scheduler
  vandrel due --carry-out --only enable
"""
WRITES = True

_DAYS = 30


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument(
        "--within", type=options.natural, default=_DAYS, metavar="DAYS", help="how far ahead (default: 30)"
    )
    parser.add_argument("--carry-out", action="store_true", help="do what is due today")
    parser.add_argument(
        "--only",
        action="append",
        choices=("enable", "leave", "delete"),
        help="of what is due, only this; may be repeated",
    )
    options.add_mail_report(parser)


def run(session: Session) -> Proposal | Report:
    """Hand the request on."""
    from vandrel.jobs.lifecycle.due import DELETE, ENABLE, LEAVE, DueRequest, due

    args = session.args
    if args.only and not args.carry_out:
        from vandrel.errors import Code, Location, VandrelError

        raise VandrelError(Code.USAGE, "only what is carried out can be chosen", where=Location(option="--only"))
    actions = (args.only or (ENABLE, LEAVE, DELETE)) if args.carry_out else ()
    return due(session.context, session.attic, DueRequest(args.within, actions))
