"""``vandrel resume``: finish a job that was broken off."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli.commands.journal import number
from vandrel.cli.session import Session, count, exit_code

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from vandrel.cli.passwords import HandOut
    from vandrel.directory.entry import Entry
    from vandrel.record.journal import Record
    from vandrel.secret import Secret
    from vandrel.steps.runner import Report

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
    parser.add_argument("job", nargs="?", type=number, metavar="JOB", help="its number in the journal")
    parser.add_argument("--hand-out", metavar="FILE", help="new passwords go here, where the first ones are lost")
    parser.add_argument("--recipient", metavar="KEY", default="", help="encrypt that hand-out to this age public key")
    parser.add_argument("--no-passwords", action="store_true", help="finish the rest where they are lost")


def run(session: Session) -> int:
    from vandrel.cli.passwords import HandOut

    number = _chosen(session)
    job = session.journal().job(number)
    session.must_be_of_this_directory(job)
    session.out.note(f"Job {job.number}: {job.title}; {job.made} of {job.planned} steps are known to be made.")
    hand_out = HandOut(session, session.args.hand_out, session.args.recipient)
    secrets, lost, owners = _passwords(session, number)
    secrets |= _made_anew(session, number, lost, hand_out)
    if session.args.dry_run:
        session.out.note("Dry run: nothing was changed.")
        return 0
    session.out.confirm("Finish it?", yes=session.args.yes)
    report = hand_out.around(lambda: session.runner.resume(number, lambda record: secrets.get(record["dn"])))
    assert report is not None
    _take_back(session, report, owners)
    session.report(report)
    if session.out.as_json:
        refused = [{"dn": dn, "why": str(error)} for dn, error in report.refused]
        session.out.json(
            {"command": "resume", "job": number, "planned": report.planned, "made": report.made, "refused": refused}
        )
    else:
        hand_out.deliver()
    return exit_code(report)


def _chosen(session: Session) -> int:
    """The number of the job that was named, or of the only one that was broken off.

    Raises:
        VandrelError: ``not-found`` or ``ambiguous``.

    """
    from vandrel.errors import Code, VandrelError

    if session.args.job is not None:
        return int(session.args.job)
    broken = [job for job in session.journal().broken() if job.directory == session.directory.location]
    if not broken:
        raise VandrelError(Code.NOT_FOUND, "no job was broken off", remedy="vandrel journal lists them all")
    if len(broken) > 1:
        numbers = ", ".join(str(job.number) for job in broken)
        raise VandrelError(
            Code.AMBIGUOUS, f"several jobs were broken off: {numbers}", remedy="name one: vandrel resume JOB"
        )
    return broken[0].number


def _passwords(
    session: Session, number: int
) -> tuple[dict[str, Secret], list[tuple[Record, Entry]], dict[str, tuple[str, str]]]:  # fmt: skip
    """The passwords that may not have been set, by the names of their accounts; and the accounts whose are lost.

    They are taken from the hand-outs that the records name: they exist nowhere else. The last is the hand-out and the
    logon name of each account.
    """
    from pathlib import Path

    from vandrel.intake.hand_out import read

    files: dict[str, dict[str, Secret]] = {"": {}}
    found: dict[str, Secret] = {}
    owners: dict[str, tuple[str, str]] = {}
    lost = []
    for record, entry in session.runner.passwords_in_doubt(number):
        kept, login = str(record.get("kept", "")), session.context.one(entry, "login")
        if kept not in files:
            files[kept] = {slip.login: slip.secret for slip in read(Path(kept))}
        owners[str(entry.dn)] = kept, login
        secret = files[kept].get(login)
        if secret is not None:
            found[str(entry.dn)] = secret
        else:
            lost.append((record, entry))
    return found, lost, owners


def _take_back(session: Session, report: Report, owners: Mapping[str, tuple[str, str]]) -> None:
    """Take what was not set out of the hand-out of the job."""
    from pathlib import Path

    from vandrel.intake.hand_out import leave_out

    void: dict[str, set[str]] = {}
    for dn in report.lost | report.unset:
        kept, login = owners.get(str(dn), ("", ""))
        void.setdefault(kept, set()).add(login)
    for kept, logins in void.items():
        if kept:
            leave_out(Path(kept), logins, session.charter.document.organization)


def _made_anew(
    session: Session, number: int, lost: Sequence[tuple[Record, Entry]], hand_out: HandOut
) -> dict[str, Secret]:  # fmt: skip
    """New passwords in place of those that are lost, put into a hand-out.

    Raises:
        VandrelError: ``usage`` where nobody said what to do about them.

    """
    from functools import partial
    from pathlib import Path

    from vandrel.charter.passwords import generate
    from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
    from vandrel.intake.hand_out import must_be_possible
    from vandrel.jobs.common.edit import password_rules

    args, context = session.args, session.context
    if not lost or args.no_passwords:
        return {}
    sheets = sorted({Path(str(record["kept"])).name for record, _ in lost if record.get("kept")})
    if args.hand_out is None:
        where = f"cannot be read from {' and '.join(sheets)}" if sheets else "stand in no record"
        what = f"{count(len(lost), 'password')} may not have been set, and {where}"
        remedy = f"vandrel resume {number} --hand-out FILE makes new ones; --no-passwords finishes the rest"
        if not args.dry_run:
            raise VandrelError(Code.USAGE, what, where=Location(job=number), remedy=remedy)
        session.out.findings([Finding(Code.USAGE, what, Location(job=number), remedy, severity=NOTE)])
        return {}
    must_be_possible(Path(args.hand_out), args.recipient)
    made = {}
    for _, entry in lost:
        value = partial(context.one, entry)
        secret = generate(password_rules(context, entry), [value(name) for name in ("given", "surname", "login")])
        hand_out.add(entry.dn, value, secret)
        made[str(entry.dn)] = secret
    void = f"; what {' and '.join(sheets)} has for them is void" if sheets else ""
    session.out.note(f"New passwords for {count(len(lost), 'account')}{void}.")
    return made
