"""``vandrel resume``: finish a job that was broken off."""

from __future__ import annotations

import argparse
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import structs

from vandrel.cli import options
from vandrel.cli.session import Session
from vandrel.intake.hand_out import must_be_possible

if TYPE_CHECKING:
    from vandrel.cli.present.json_output import Outcome
    from vandrel.cli.present.passwords import HandOut
    from vandrel.jobs.history.resume import OpenPassword
    from vandrel.record.journal import Job
    from vandrel.secret import Secret
    from vandrel.steps.plan import RunResult
    from vandrel.steps.runner import Runner

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
    """Finish the job: this is the one command whose change was proposed before."""
    from vandrel.cli.present.json_output import ResultData, encode, refusals_of
    from vandrel.cli.present.passwords import HandOut
    from vandrel.cli.present.proposals import exit_code, tell_result
    from vandrel.jobs.history.resume import chosen_job, open_passwords

    args, terminal, context, runner = session.args, session.terminal, session.context, session.runner
    session.must_have_journal()
    job = chosen_job(runner, args.job or 0)
    job = runner.journal.claim(job.number, is_dead=args.not_running)
    terminal.note(f"Job {job.number}: {job.title}; {job.made} of {job.planned} steps are known to be made.")
    hand_out = HandOut(session, args.hand_out, args.recipient)
    passwords = open_passwords(context, runner, job.number, _kept(runner, job.number))
    secrets = _secrets(session, job.number, passwords, hand_out)
    if args.dry_run:
        terminal.note("Dry run: nothing was changed.")
        terminal.write(encode(ResultData(NAME, "dry run", 0, job=job.number)) if terminal.as_json else "")
        return 0
    terminal.confirm("Finish it?", yes=args.yes)
    told: list[str] = []

    def before_end(result: RunResult) -> None:
        _leave_out(session, result, passwords)
        told.extend(_rows_told(session, job, result) if job.results else ())

    result = hand_out.around(lambda: runner.resume(job.number, lambda record: secrets.get(record["dn"]), before_end))
    assert result is not None
    tell_result(session, result)
    for line in told:
        terminal.note(line)
    code = exit_code(result)
    if terminal.as_json:
        outcome: Outcome = "done" if code == 0 else "done in part"
        facts = {"planned": result.planned, "made": result.made}
        data = ResultData(NAME, outcome, code, job=job.number, facts=facts, refused=refusals_of(result))
        terminal.write(encode(data))
    else:
        hand_out.deliver()
    return code


def _secrets(session: Session, job: int, passwords: list[OpenPassword], hand_out: HandOut) -> dict[str, Secret]:
    """The passwords that are still to be set, by the names of the accounts: the first ones, or new ones for a hand-out.

    Raises:
        VandrelError: first ones are lost, and no hand-out is there for new ones.

    """
    from vandrel.errors import NOTE
    from vandrel.jobs.history.resume import new_password, what_is_lost

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
    session.terminal.note(_made_anew(lost))
    return secrets


def _kept(runner: Runner, job: int) -> dict[str, dict[str, Secret]]:
    """The passwords of the hand-outs that the records of a job name: they exist nowhere else."""
    from vandrel.intake.hand_out import read

    names = {str(record["kept"]) for record, _ in runner.passwords_in_doubt(job) if record.get("kept")}
    return {name: {slip.login: slip.secret for slip in read(Path(name))} for name in names}


def _made_anew(lost: list[OpenPassword]) -> str:
    from vandrel.jobs.common.report import count

    sheets = sorted({Path(each.hand_out).name for each in lost if each.hand_out})
    void = f"; what {' and '.join(sheets)} has for them is void" if sheets else ""
    return f"New passwords for {count(len(lost), 'account')}{void}."


def _rows_told(session: Session, job: Job, result: RunResult) -> list[str]:
    """Finish the file that tells what became of each row; what to say of it."""
    from vandrel.cli.present.rows import ResultsFile
    from vandrel.errors import NOTE, VandrelError
    from vandrel.jobs.bulk.outcomes import finished
    from vandrel.steps.step import from_record

    results = ResultsFile(job.results)
    steps = [from_record(step.record) for step in session.runner.journal.steps(job.number)]
    try:
        results.end(finished(results.read(), [step for step in steps if step is not None], result), job.number)
    except VandrelError as error:
        session.terminal.findings(structs.replace(finding, severity=NOTE) for finding in error.findings)
        return []
    return [f"Results: {job.results}"]


def _leave_out(session: Session, result: RunResult, passwords: list[OpenPassword]) -> None:
    """Take accounts that are not there out of the hand-outs of the job; who has an account stays on the sheet."""
    from vandrel.intake.hand_out import leave_out

    by_dn = {each.entry.dn: each for each in passwords}
    void: dict[str, set[str]] = {}
    for dn in result.lost:
        if (each := by_dn.get(dn)) is not None and each.hand_out and session.directory.get(dn) is None:
            void.setdefault(each.hand_out, set()).add(each.login)
    for name, logins in void.items():
        leave_out(Path(name), logins, session.charter.document.organization)
