"""A job that was broken off, taken through to its end: passwords, the run, its results."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import structs

from vandrel.cli.present.json_output import Outcome, ResultData, encode, refusals_of
from vandrel.cli.present.passwords import HandOut
from vandrel.cli.present.proposals import exit_code, tell_result
from vandrel.cli.present.rows import ResultsFile
from vandrel.errors import DONE, NOTE, VandrelError
from vandrel.intake.hand_out import must_be_possible
from vandrel.jobs.bulk.outcomes import finished
from vandrel.jobs.history.resume import leave_out_missing, new_password, open_passwords, what_is_lost, what_is_void
from vandrel.steps.step import from_record

_NAME = "resume"

if TYPE_CHECKING:
    from vandrel.cli.session import Session
    from vandrel.jobs.history.resume import OpenPassword
    from vandrel.record.journal import Job
    from vandrel.secret import Secret
    from vandrel.steps.plan import RunResult


def present_resumption(session: Session, job: Job) -> int:
    """Finish a job that this run has claimed; the exit code.

    Raises:
        VandrelError: passwords are lost, and no hand-out is there for new ones; ``declined``; what the run raises.

    """
    args, terminal, context, runner = session.args, session.terminal, session.context, session.runner
    terminal.note(f"Job {job.number}: {job.title}; {job.made} of {job.planned} steps are known to be made.")
    hand_out = HandOut(session, args.hand_out, args.recipient)
    passwords = open_passwords(context, runner, job.number)
    secrets = _secrets(session, job.number, passwords, hand_out)
    if args.dry_run:
        terminal.note("Dry run: nothing was changed.")
        terminal.write(encode(ResultData(_NAME, "dry run", DONE, job=job.number)) if terminal.as_json else "")
        return DONE
    terminal.confirm("Finish it?", yes=args.yes)
    notes: list[str] = []

    def before_end(result: RunResult) -> None:
        leave_out_missing(context, passwords, result)
        notes.extend(_rows_told(session, job, result) if job.results else ())

    result = hand_out.around(lambda: runner.resume(job.number, lambda record: secrets.get(record["dn"]), before_end))
    assert result is not None
    tell_result(session, result)
    for line in notes:
        terminal.note(line)
    code = exit_code(result)
    if terminal.as_json:
        outcome: Outcome = "done" if code == DONE else "done in part"
        facts = {"planned": result.planned, "made": result.made}
        data = ResultData(_NAME, outcome, code, job=job.number, facts=facts, refused=refusals_of(result))
        terminal.write(encode(data))
    else:
        hand_out.deliver()
    return code


def _secrets(session: Session, job: int, passwords: list[OpenPassword], hand_out: HandOut) -> dict[str, Secret]:
    """The passwords that are still to be set, by the names of the accounts: the first ones, or new ones for a hand-out.

    Raises:
        VandrelError: first ones are lost, and no hand-out is there for new ones.

    """
    args, context = session.args, session.context
    lost = [each for each in passwords if each.secret is None]
    secrets = {str(each.entry.dn): each.secret for each in passwords if each.secret is not None}
    if not lost or args.no_passwords:
        return secrets
    if args.hand_out is None:
        error = what_is_lost(lost, job)
        if not args.dry_run:
            raise error
        session.terminal.findings(structs.replace(finding, severity=NOTE) for finding in error.findings)
        return secrets
    must_be_possible(Path(args.hand_out), args.recipient)
    for each in lost:
        secrets[str(each.entry.dn)] = secret = new_password(context, each.entry)
        hand_out.add(each.entry.dn, partial(context.one, each.entry), secret)
    session.terminal.note(what_is_void(lost))
    return secrets


def _rows_told(session: Session, job: Job, result: RunResult) -> list[str]:
    """Finish the file that tells what became of each row; what to say of it."""
    results = ResultsFile(job.results)
    steps = [from_record(step.record) for step in session.runner.journal.steps(job.number)]
    try:
        results.end(finished(results.read(), [step for step in steps if step is not None], result), job.number)
    except VandrelError as error:
        session.terminal.findings(structs.replace(finding, severity=NOTE) for finding in error.findings)
        return []
    return [f"Results: {job.results}"]
