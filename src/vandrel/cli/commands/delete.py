"""``vandrel delete``: objects that go, one or thousands, and who loses them."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "delete"
HELP = "delete accounts, groups, computers and units"
DESCRIPTION = """\
Delete objects, by name, by filter or from a list: what stands below them, which groups they leave, and who loses a
manager is shown first, and asked once for all. Everything goes into the attic first: vandrel restore brings it back,
with its memberships and reports, and with its password where the directory showed it."""
EXAMPLES = """\
  vandrel delete alund
  vandrel delete /Ferries/Northquay/Stores --contents
  vandrel delete --where "(employeeType=seasonal)" --under /Ferries/Kelness -n
  vandrel find kind=seasonal ends="2026-*" --columns login --as csv | tail -n +2 | vandrel delete - --yes
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_names(parser)
    parser.add_argument("--contents", action="store_true", help="all that stands below a unit goes along")
    parser.add_argument("--for-good", action="store_true", help="do not keep it in the attic: nothing brings it back")
    options.add_confirm(parser, "the name of what carries power or goes for good")


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.jobs.lifecycle.delete import DeleteRequest, delete

    args = session.args
    return delete(session.context, DeleteRequest(options.selection(session, args.names), args.contents, args.for_good))
