"""``vandrel journal``: what was done, when, by whom, to what."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "journal"
HELP = "what was done, when, by whom, to what"
DESCRIPTION = """\
List the jobs that changed the directory, newest first, or one of them step by step, with the state before. No password
is ever in it."""
EXAMPLES = """\
  vandrel journal                 the last twenty jobs
  vandrel journal 12              job 12, step by step
  vandrel journal 12 --verify   which of its steps the directory still has
  vandrel journal --about alund   the jobs that changed one object, under whatever name, be it gone or not
  vandrel journal --by toedegaard --since 2026-11-01 --field groups
"""
WRITES = False

_LAST = 20


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("job", nargs="?", type=options.natural, metavar="JOB", help="the number of one job")
    parser.add_argument(
        "--last", type=options.natural, default=_LAST, metavar="N", help="how many jobs to list (default: 20; 0: all)"
    )
    parser.add_argument(
        "--verify", action="store_true", help="which steps of the job still stand, as the directory is now"
    )
    about = parser.add_argument("--about", metavar="NAME", help="only jobs that changed this object")
    complete.attach(about, complete.objects)
    parser.add_argument("--by", metavar="WHO", default="", help="of this user, or of this identity on the server")
    field = parser.add_argument("--field", metavar="FIELD", help="only jobs that changed this field, or @attribute")
    complete.attach(field, complete.columns)
    options.add_times(parser, "begun")


def run(session: Session) -> Report:
    """Hand the request on."""
    from vandrel.jobs.history.journal import JournalRequest, attributes_of, list_jobs, names_about, verify
    from vandrel.record.journal import JobQuery

    args = session.args
    session.must_have_journal()
    if args.verify:
        return verify(session.runner, args.job or 0)
    journal = session.journal()
    about = names_about(session.context, journal, session.attic, args.about) if args.about else ()
    attributes = attributes_of(session.context, args.field) if args.field else ()
    query = JobQuery(about, args.by, *options.times(session), attributes)
    return list_jobs(journal, JournalRequest(args.job or 0, args.last, query), session.charter.zone)
