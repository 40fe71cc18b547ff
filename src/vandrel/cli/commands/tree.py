"""``vandrel tree``: the places of the directory, drawn."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "tree"
HELP = "draw the places of the directory"
DESCRIPTION = """\
Draw the units below a place as they are in the directory, with the number of accounts and groups directly in each.
What the server made of its own accord is told apart from units."""
EXAMPLES = """\
  vandrel tree                       everything
  vandrel tree /Ferries/Northquay    one branch
  vandrel tree northquay --objects   with the accounts and groups
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    place = parser.add_argument("place", nargs="?", metavar="PLACE", help="the unit to begin with (default: the top)")
    complete.attach(place, complete.places)
    parser.add_argument("--objects", action="store_true", help="draw the accounts and groups too")
    parser.add_argument("--depth", type=options.natural, metavar="N", help="levels to draw")


def run(session: Session) -> Report:
    """Hand the request on."""
    from vandrel.jobs.inspect.tree import TreeRequest, tree

    args = session.args
    return tree(session.context, TreeRequest(args.place or "", args.depth, args.objects))
