"""``vandrel hierarchy``: the charter's design beside what exists, and building what is missing."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report

NAME = "hierarchy"
HELP = "the charter's units beside what exists; build what is missing"
DESCRIPTION = """\
Draw the hierarchy that the charter designs beside the directory: what is built, missing, not protected, misplaced or
not in the charter, and which accounts stand where they do not belong. `build` makes the missing units and groups, and
the directory itself where there is none; what stands elsewhere by that name, and could be no other, it moves home with
all that is in it. `delegate` puts in force what the charter delegates: as access entries
where the server keeps them on units; for slapd as text of access rules, which its own administrator loads."""
EXAMPLES = """\
  vandrel hierarchy                  what is there and what is not
  vandrel hierarchy --differences    only what is not as designed
  vandrel hierarchy --to units.svg   as a picture, before anything exists too
  vandrel hierarchy build --dry-run  what would be made
  vandrel hierarchy build
  vandrel hierarchy delegate          let teams do what the charter delegates to them
  vandrel hierarchy delegate --rules  the same as access rules for slapd
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument(
        "action",
        nargs="?",
        choices=("draw", "build", "delegate"),
        default="draw",
        help="draw (the default), build or delegate",
    )
    parser.add_argument("--rules", action="store_true", help="with delegate: print access rules for slapd, in LDIF")
    parser.add_argument("--to", metavar="FILE", help="draw it into a file as well: .svg, .png or .pdf")
    parser.add_argument("--differences", action="store_true", help="draw only what is not as designed")


def run(session: Session) -> Proposal | Report:
    """Hand the request on; the file of the directory is made where there is none."""
    from vandrel.cli.new_directory import make_directory
    from vandrel.jobs.common.report import Report
    from vandrel.jobs.hierarchy.access_rules import as_ldif
    from vandrel.jobs.hierarchy.build import DrawRequest, build, draw
    from vandrel.jobs.hierarchy.delegation import delegate

    args = session.args
    if session.is_missing and (args.action != "build" or args.dry_run):
        session.terminal.note("There is no directory yet: this is the charter alone.")
        session.rehearse()
    if args.action == "delegate":
        if args.rules:
            return Report("hierarchy delegate", text=as_ldif(session.context))
        return delegate(session.context)
    if args.action == "draw":
        report = draw(session.context, DrawRequest(args.differences))
        if args.to:
            from pathlib import Path

            from vandrel.cli.figures import hierarchy_figure, save

            assert report.drawing is not None
            save(hierarchy_figure(report.drawing), Path(args.to))
        return report
    if session.is_missing and not make_directory(session):
        return Report("hierarchy build")
    return build(session.context)
