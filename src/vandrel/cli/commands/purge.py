"""``vandrel purge``: deleted objects are forgotten for good."""

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
of them is overwritten; nothing brings it back. Objects whose days are not over are purged only once their number is
typed, or given with --confirm."""
EXAMPLES = """\
  vandrel purge --expired --yes       every night, by a scheduler
  vandrel purge alund --confirm 1
  vandrel purge --job 12
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_attic_selection(parser)
    parser.add_argument(
        "--expired", action="store_true", help="those that have been kept for as long as the charter says"
    )
    options.add_confirm(parser, "how many objects are forgotten")


def run(session: Session) -> Report:
    """Choose, ask, and forget."""
    from msgspec import structs

    from vandrel.jobs.common.report import count
    from vandrel.jobs.lifecycle.purge import PurgeRequest, purge

    args, out = session.args, session.terminal
    request = PurgeRequest(options.attic_selection(session, args.names), args.expired)
    report, numbers = purge(session.context, session.attic, request)
    if not numbers or args.dry_run:
        return report
    if args.expired:
        out.confirm(f"Forget {count(len(numbers), 'object')} for good?", yes=args.yes)
    else:
        out.confirm_typed(
            "How many objects are forgotten for good? Type the number:", str(len(numbers)), given=args.confirm
        )
    session.attic.purge(numbers)
    return structs.replace(report, summary=[f"{count(len(numbers), 'object')} forgotten for good."])
