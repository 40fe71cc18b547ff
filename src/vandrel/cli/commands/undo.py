"""``vandrel undo``: take a job of the journal back."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report

NAME = "undo"
HELP = "take a job of the journal back, wholly or one step"
DESCRIPTION = """\
Take back what a job did, the last step first, if what it changed is still as it left it; otherwise it is said what
has changed since. A password cannot be taken back. Taking back is a job of its own, and can be taken back as well."""
EXAMPLES = """\
  vandrel undo 12             all of job 12
  vandrel undo 12 --step 3    its third step alone
  vandrel undo 12 -n          show what would be done
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("job", type=options.natural, metavar="JOB", help="the number of the job in the journal")
    parser.add_argument("--step", type=options.natural, metavar="N", default=0, help="only this step of it")
    options.add_not_running(parser)


def run(session: Session) -> Proposal | Report:
    """Hand the request on."""
    from vandrel.jobs.history.undo import UndoRequest, undo_job

    session.must_have_journal()
    args = session.args
    return undo_job(session.context, session.runner, UndoRequest(args.job, args.step, args.not_running))
