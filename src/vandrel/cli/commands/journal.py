"""``vandrel journal``: what was done, when, by whom, to what."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from vandrel.cli import complete
from vandrel.cli.session import Session, count

if TYPE_CHECKING:
    from vandrel.record.journal import Job, JournalStep

NAME = "journal"
HELP = "what was done, when, by whom, to what"
DESCRIPTION = """\
List the jobs that changed the directory, newest first, or one of them step by step, with the state before. No password
is ever in it."""
EXAMPLES = """\
  vandrel journal                 the last twenty jobs
  vandrel journal 12              job 12, step by step
  vandrel journal 12 --standing   which of its steps the directory still has
  vandrel journal --about alund   the jobs that changed one object
"""
WRITES = False

_LAST = 20


def number(text: str) -> int:
    """A number of a job, or of jobs."""
    if not text.isdecimal() or len(text) > 15:
        raise argparse.ArgumentTypeError(f"{text!r} is no number")
    return int(text)


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("job", nargs="?", type=number, metavar="JOB", help="the number of one job")
    parser.add_argument(
        "--last", type=number, default=_LAST, metavar="N", help="how many jobs to list (default: 20; 0: all)"
    )
    parser.add_argument(
        "--standing", action="store_true", help="which steps of the job still stand, as the directory is now"
    )
    about = parser.add_argument("--about", metavar="NAME", help="only jobs that changed this object")
    complete.attach(about, complete.objects)


def run(session: Session) -> int:
    journal = session.journal()
    if session.args.standing:
        return _standing(session)
    if session.args.job is not None:
        job = journal.job(session.args.job)
        steps = list(journal.steps(job.number))
        if session.out.as_json:
            session.out.json(
                {"command": "journal", "job": _job_json(job), "steps": [_step_json(step) for step in steps]}
            )
        else:
            _show_job(session, job, steps)
        return 0
    about = ""
    if session.args.about:
        from vandrel.jobs.common.resolve import resolve

        about = str(resolve(session.context, session.args.about).dn)
    jobs = list(journal.jobs(session.args.last, about))
    if session.out.as_json:
        session.out.json({"command": "journal", "jobs": [_job_json(job) for job in jobs]})
        return 0
    rows = [
        (str(job.number), _when(session, job.begun), job.who, job.title, f"{job.made} of {job.planned}", job.state)
        for job in jobs
    ]
    session.out.table(("job", "when", "who", "what", "steps", "state"), rows)
    return 0


def _standing(session: Session) -> int:
    """Each step of a job beside what the directory has now; the exit code tells whether all of it stands.

    Raises:
        VandrelError: ``usage`` without a job; ``foreign`` for one of another directory.

    """
    from vandrel.errors import CODES, Code, VandrelError

    if session.args.job is None:
        raise VandrelError(Code.USAGE, "which job?", remedy="vandrel journal JOB --standing")
    session.must_be_of_this_directory(session.journal().job(session.args.job))
    found = list(session.runner.standing(session.args.job))
    words = {True: "stands", False: "no longer so", None: "cannot be told"}
    gone = sum(stands is False for _, stands in found)
    if session.out.as_json:
        steps = [{"number": i.number, "step": i.record["step"], "dn": i.record["dn"], "stands": s} for i, s in found]
        session.out.json({"command": "journal", "job": session.args.job, "steps": steps})
    else:
        rows = [(str(i.number), i.record["step"], i.record["dn"], words[stands]) for i, stands in found]
        session.out.table(("step", "", "object", "now"), rows)
        session.out.note(f"{count(len(found), 'step')}: {len(found) - gone} stand, {gone} no longer.")
    return CODES["changed"][0] if gone else 0


def _when(session: Session, stamp: str) -> str:
    from datetime import datetime

    if not stamp:
        return ""
    return datetime.fromisoformat(stamp).astimezone(session.charter.zone).strftime("%Y-%m-%d %H:%M:%S")


def _show_job(session: Session, job: Job, steps: list[JournalStep]) -> None:
    session.out.heading(f"Job {job.number}: {job.title}")
    ended = f" to {_when(session, job.ended)[11:]}" if job.ended else ""
    facts = [
        ("state", f"{job.state}: {job.made} of {count(job.planned, 'step')} made, {job.refused} refused"),
        ("when", _when(session, job.begun) + ended),
        ("who", f"{job.who} on {job.host}"),
        ("command", job.command),
        ("directory", job.directory),
    ]
    session.out.table(("fact", "value"), facts, header=False)
    session.out.line()
    rows: list[tuple[str, str, str, str]] = []
    for step in steps:
        lines = list(described(step.record))
        state = step.state + (f": {step.why}" if step.why else "")
        rows.append((str(step.number), step.record["step"], step.record["dn"], state))
        rows += [("", "", f"  {line}", "") for line in lines]
    session.out.table(("step", "", "object and change", "state"), rows)


def described(record: dict[str, Any]) -> list[str]:
    """What a step does, attribute by attribute."""
    match record["step"]:
        case "add" | "remove":
            sign = "+" if record["step"] == "add" else "-"
            return [f"{name} {sign} {_say(value)}" for name, values in record["attributes"].items() for value in values]
        case "set":
            lines = []
            for name, gone, come in record["changes"]:
                lines += [f"{name} - {_say(value)}" for value in gone] + [f"{name} + {_say(value)}" for value in come]
            return lines
        case "rename":
            return [f"-> {record['new']}"]
    if not record["set"]:
        return ["the password was taken away"]
    made = "generated" if record["generated"] else "typed"
    return [f"a new password, {made}" + (", to be changed at the next logon" if record["must-change"] else "")]


def _say(value: object) -> str:
    if isinstance(value, bytes):
        return f"({len(value)} octets)"
    return str(value) or "(the empty name)"


def _job_json(job: Job) -> dict[str, object]:
    return {name: getattr(job, name) for name in job.__struct_fields__}


def _step_json(step: JournalStep) -> dict[str, object]:
    plain = {
        key: [described(step.record)] if key in ("attributes", "changes") else value
        for key, value in step.record.items()
    }
    return {"number": step.number, "state": step.state, "why": step.why, **plain}
