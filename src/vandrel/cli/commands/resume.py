"""``vandrel resume``: finish a job that was broken off."""

from __future__ import annotations

import argparse

from vandrel.cli import options
from vandrel.cli.session import Session

NAME = "resume"
HELP = "finish a job that was broken off"
DESCRIPTION = """\
Finish a job that a kill, a full disk or a lost connection broke off: each step that may not have been made is looked up
in the directory, and made if it was not. Passwords are taken from the hand-out of the job. Where it cannot be read
again, as a .pdf or an encrypted one, those that may not have been set are made anew, into a hand-out of their own."""
EXAMPLES = """\
  vandrel resume                            the one job that was broken off
  vandrel resume 12
  vandrel resume 12 --hand-out more.pdf     new passwords where the first ones are lost
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("job", nargs="?", type=options.natural, metavar="JOB", help="its number in the journal")
    parser.add_argument("--hand-out", metavar="FILE", help="new passwords go here, where the first ones are lost")
    parser.add_argument("--recipient", metavar="KEY", default="", help="encrypt that hand-out to this age public key")
    parser.add_argument("--no-passwords", action="store_true", help="finish the rest where they are lost")
    options.add_not_running(parser)


def run(session: Session) -> int:
    """Claim the job, and hand it on: this is the one command whose change was proposed before."""
    from vandrel.cli.present.resumption import present_resumption
    from vandrel.jobs.history.resume import chosen_job

    session.must_have_journal()
    job = chosen_job(session.runner, session.args.job or 0)
    return present_resumption(session, session.runner.journal.claim(job.number, is_dead=session.args.not_running))
