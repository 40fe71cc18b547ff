"""``vandrel compare``: two objects side by side."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "compare"
HELP = "two objects side by side, groups too"
DESCRIPTION = """\
Put two objects side by side: what differs, what only one of them has, and, with --all, what is the same. Groups are
compared one by one."""
EXAMPLES = """\
  vandrel compare alund bdahl
  vandrel compare adm-alund adm-tsund --all
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    for place in ("left", "right"):
        name = parser.add_argument(place, metavar="NAME", help="account, group, unit or computer")
        complete.attach(name, complete.objects)
    parser.add_argument("--all", action="store_true", help="also what is the same")


def run(session: Session) -> Report:
    """Hand the request on."""
    from vandrel.jobs.inspect.compare import CompareRequest, compare

    args = session.args
    return compare(session.context, CompareRequest(args.left, args.right, args.all))
