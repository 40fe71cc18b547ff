"""``vandrel synchronize``: one way into another directory or a service outside."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "synchronize"
HELP = "copy people and groups one way into another directory or a service; again and again"
DESCRIPTION = """\
Make another directory, or a service that takes people in, what a profile says: who goes there, with which fields, under
which names, in which place. The first run finds who is there already; later ones change what differs, and nothing where
nothing does. Whoever came from elsewhere is left alone. What somebody changed there since it was sent is told, and
written over only with --overwrite. Passwords are never sent. The job stands in the journal of the other directory."""
EXAMPLES = """\
  vandrel synchronize school.profile.yaml --into school --dry-run
  vandrel synchronize school.profile.yaml --into school --hand-out first.csv
  vandrel synchronize partner.profile.yaml --into ../partner/directory.db --same alund=anna.l
  vandrel synchronize learning --into learning --under /Ferries/Northquay --yes
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("profile", metavar="PROFILE", help="one that is shipped, or a file")
    parser.add_argument("--into", required=True, metavar="NAME", help="a connection, a URL or a file: what is changed")
    parser.add_argument("--into-who", default="", metavar="WHO", help="an identity of that connection")
    under = parser.add_argument("--under", metavar="PLACE", default="",
                                help="only this unit and what stands below it; nobody goes by such a run")  # fmt: skip
    complete.attach(under, complete.places)
    parser.add_argument("--same", action="append", default=[], metavar="NAME=NAME", help="who here is whom there")
    parser.add_argument("--new", action="append", default=[], metavar="NAME", help="who here is nobody there yet")
    parser.add_argument("--most-gone", type=options.natural, metavar="N",
                        help="stop where more would go (default: a twentieth, 3 at the least)")  # fmt: skip
    parser.add_argument("--overwrite", action="store_true", help="write over what was changed there since it was sent")
    parser.add_argument("--recent", action="store_true",
                        help="read there only what changed since the last run, and no deletions")  # fmt: skip
    options.add_hand_out(parser)


def run(session: Session) -> Proposal:
    """Open both directories, and hand the request on."""
    from vandrel import file_names
    from vandrel.jobs.services.profile import load
    from vandrel.jobs.services.synchronization.comparison import SynchronizeRequest
    from vandrel.jobs.services.synchronization.synchronize import synchronize
    from vandrel.record.links import Links

    args = session.args
    here = session.turn_to(args.into, args.into_who)
    there = session.context
    links = Links(session.journal_path.with_name(file_names.LINKS), here.directory.identity, there.directory.identity)
    request = SynchronizeRequest(
        load(args.profile, here.charter), args.profile, args.under, options.answers(args.same), frozenset(args.new),
        args.most_gone, args.overwrite, args.recent, bool(args.hand_out),
    )  # fmt: skip
    return synchronize(here, there, links, request)
