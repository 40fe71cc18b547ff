"""``vandrel undo``: take a job of the journal back."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli.commands.journal import described, number
from vandrel.cli.session import Session, exit_code, steps_as_json

if TYPE_CHECKING:
    from vandrel.record.journal import Job

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

_SHOWN = 20


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("job", type=number, metavar="JOB", help="the number of the job in the journal")
    parser.add_argument("--step", type=number, metavar="N", default=0, help="only this step of it")


def run(session: Session) -> int:
    from datetime import datetime

    from vandrel.errors import Code, Location, Refused, VandrelError, are_fatal
    from vandrel.jobs.history.undo import title_of, undo, undone_by
    from vandrel.record.journal import BROKEN
    from vandrel.steps.runner import Plan

    job = session.journal().job(session.args.job)
    session.must_be_of_this_directory(job)
    if by := undone_by(session.journal(), job):
        raise VandrelError(
            Code.REFUSED,
            f"job {by} took it back already",
            where=Location(job=job.number),
            remedy=f"vandrel undo {by} redoes it",
        )
    ended = datetime.fromisoformat(job.ended) if job.ended else None
    made = list(session.runner.standing(job.number))
    if job.state == BROKEN and not made:
        return _abandoned(session, job)
    found = undo(session.context, made, ended, session.args.step)
    plan = Plan(title_of(job, session.args.step), found.steps, found.findings)
    _preview(session, plan)
    if are_fatal(found.findings):
        raise Refused(found.findings)
    report = session.carry_out(plan, f"Take back job {job.number}?")
    if job.state == BROKEN and report is not None and not report.in_part and not session.args.step:
        session.runner.abandon(job.number)
    if session.out.as_json:
        own = report.job if report else None
        session.out.json({"command": NAME, "undoes": job.number, "steps": steps_as_json(plan), "job": own})
    return exit_code(report)


def _abandoned(session: Session, job: Job) -> int:
    """A job that was broken off before anything was made needs no more than to be let go."""
    if not session.args.dry_run:
        session.runner.abandon(job.number)
    if session.out.as_json:
        session.out.json({"command": NAME, "undoes": job.number, "steps": [], "job": None})
    session.out.note(f"Nothing of job {job.number} was made. It will not be finished any more.")
    return 0


def _preview(session: Session, plan: object) -> None:
    from vandrel.steps.runner import Plan

    assert isinstance(plan, Plan)
    if session.out.as_json or session.out.quiet:
        return
    session.out.heading(plan.title[0].upper() + plan.title[1:])
    rows: list[tuple[str, str]] = []
    for step in plan.steps[:_SHOWN]:
        record = step.record()
        rows.append((f"  {record['step']}", record["dn"]))
        if record["step"] != "remove" and (record["step"] != "add" or len(plan.steps) <= _SHOWN):
            rows += [("", f"  {line}") for line in described(record)]
    session.out.table(("step", "object and change"), rows, header=False)
    if len(plan.steps) > _SHOWN:
        session.out.line(f"  and {len(plan.steps) - _SHOWN} more steps")
    session.out.line()
