"""``vandrel resume``: finish a job that was broken off."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli.journal import number
from vandrel.cli.session import Session, exit_code

if TYPE_CHECKING:
    from vandrel.record.journal import Record
    from vandrel.secret import Secret
    from vandrel.steps.runner import Passwords

NAME = "resume"
HELP = "finish a job that was broken off"
DESCRIPTION = """\
Finish a job that a kill, a full disk or a lost connection broke off: each step that may not have been made is looked up
in the directory, and made if it was not."""
EXAMPLES = """\
  vandrel resume        the one job that was broken off
  vandrel resume 12
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("job", nargs="?", type=number, metavar="JOB", help="its number in the journal")


def _from_hand_out(session: Session) -> Passwords:
    """Finds generated passwords in the hand-outs that the records name: they exist nowhere else."""
    from pathlib import Path

    from vandrel.directory import dn as names
    from vandrel.intake.hand_out import read

    files: dict[str, dict[str, Secret]] = {}

    def find(record: Record) -> Secret | None:
        kept = str(record.get("kept", ""))
        if not kept:
            return None
        if kept not in files:
            files[kept] = read(Path(kept))
        entry = session.house.directory.get(names.parse(record["dn"])) if files[kept] else None
        return files[kept].get(session.house.one(entry, "login")) if entry is not None else None

    return find


def run(session: Session) -> int:
    from vandrel.errors import VandrelError

    journal = session.journal()
    chosen = session.args.job
    if chosen is None:
        broken = [job for job in journal.broken() if job.directory == session.directory.location]
        if not broken:
            raise VandrelError("not-found", "no job was broken off", remedy="vandrel journal lists them all")
        if len(broken) > 1:
            numbers = ", ".join(str(job.number) for job in broken)
            raise VandrelError(
                "ambiguous", f"several jobs were broken off: {numbers}", remedy="name one: vandrel resume JOB"
            )
        chosen = broken[0].number
    job = journal.job(chosen)
    session.must_be_of_this_directory(job)
    session.out.note(f"Job {job.number}: {job.title}; {job.made} of {job.planned} steps are known to be made.")
    if session.args.dry_run:
        session.out.note("Dry run: nothing was changed.")
        return 0
    session.out.confirm("Finish it?", yes=session.args.yes)
    report = session.runner.resume(chosen, _from_hand_out(session))
    session.report(report)
    if session.out.as_json:
        refused = [{"dn": dn, "why": str(error)} for dn, error in report.refused]
        session.out.json(
            {"command": "resume", "job": chosen, "planned": report.planned, "made": report.made, "refused": refused}
        )
    return exit_code(report)
