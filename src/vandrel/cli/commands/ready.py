"""``vandrel ready``: whether people are ready for a service outside, and making them so."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report

NAME = "ready"
HELP = "whether people are ready for a service outside; make them so"
DESCRIPTION = """\
Compare the enabled accounts with what a service demands, as its profile says: suffixes that the internet can route and
that are proven to be ours, the principal name equal to the mail address, values that no two people share, characters,
lengths, fields that may not be empty, a legal location. --mend makes what needs nobody's answer, as one change. A
profile is a small file; some are shipped, and are listed without a name."""
EXAMPLES = """\
  vandrel ready                              the profiles that are shipped
  vandrel ready learning --under /Ferries
  vandrel ready learning --mend --dry-run
  vandrel ready our-mail.profile.yaml
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("profile", nargs="?", metavar="PROFILE", help="one that is shipped, or a file")
    under = parser.add_argument("--under", metavar="PLACE", default="", help="only this unit and what stands below it")
    complete.attach(under, complete.places)
    parser.add_argument("--mend", action="store_true", help="mend what needs nobody's answer")


def run(session: Session) -> Proposal | Report:
    """Hand the request on."""
    from vandrel.jobs.common.report import Report
    from vandrel.jobs.services.profile import load, shipped
    from vandrel.jobs.services.readiness import ReadinessRequest, make_ready, readiness

    args, charter = session.args, session.charter
    if not args.profile:
        return Report("ready", ("profile", "about"), [(name, load(name, charter).about) for name in shipped()])
    request = ReadinessRequest(load(args.profile, charter), args.profile, args.under)
    if args.mend:
        return make_ready(session.context, request)
    return readiness(session.context, request)
