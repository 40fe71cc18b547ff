"""``vandrel purge``: deleted objects, and jobs that are long over, are forgotten for good."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "purge"
HELP = "forget deleted objects for good"
DESCRIPTION = """\
Take objects out of the attic for good: those that are named, or with --expired those whose days are over. What was kept
of them is overwritten; nothing brings it back. With --expired go the jobs of the journal as well that ended before the
charter's journal-days. Objects whose days are not over are purged only once their number is
typed, or given with --confirm. What a service itself keeps of people who were deleted is purged with --there."""
EXAMPLES = """\
  vandrel purge --expired --yes       every night, by a scheduler
  vandrel purge alund --confirm 1
  vandrel purge --job 12
  vandrel purge --there bell@harbour.example --directory courses
"""
WRITES = True
_QUESTION = "How many objects are forgotten for good? Type the number:"


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_attic_selection(parser)
    parser.add_argument(
        "--expired", action="store_true", help="those that have been kept for as long as the charter says"
    )
    parser.add_argument("--there", action="store_true", help="what the directory itself keeps of deleted objects")
    options.add_confirm(parser, "how many objects are forgotten")


def run(session: Session) -> Report:
    """Choose, ask, and forget."""
    from msgspec import structs

    from vandrel.jobs.lifecycle.purge import PurgeRequest, purge, purge_there

    args, out = session.args, session.terminal
    if args.there:
        report, identifiers = purge_there(session.context, args.names)
        if args.dry_run:
            return report
        out.confirm_typed(_QUESTION, str(len(identifiers)), option=args.confirm)
        for identifier in identifiers:
            session.context.directory.forget(identifier)
        return structs.replace(report, summary=[f"{len(identifiers)} forgotten there for good."])
    request = PurgeRequest(options.attic_selection(session, args.names), args.expired)
    journal = session.journal() if session.has_journal else None
    report, forgotten = purge(session.context, session.attic, journal, request)
    if not forgotten or args.dry_run:
        return report
    if args.expired:
        out.confirm(f"Forget {forgotten} for good?", yes=args.yes)
    else:
        out.confirm_typed(_QUESTION, str(len(forgotten.objects)), option=args.confirm)
    session.attic.purge(forgotten.objects)
    if journal is not None and forgotten.jobs:
        journal.forget(forgotten.jobs)
    return structs.replace(report, summary=[f"{forgotten} forgotten for good."])
