"""Finishing a job that was broken off: which it is, and which passwords it may not have set."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from msgspec import Struct

from vandrel.charter.passwords import generate
from vandrel.directory.entry import Entry
from vandrel.errors import Code, Location, VandrelError
from vandrel.intake import hand_out
from vandrel.jobs.common.report import count
from vandrel.objects.context import Context
from vandrel.record.journal import Job, Record
from vandrel.secret import Secret
from vandrel.steps.plan import RunResult
from vandrel.steps.runner import Runner

_OWN_NAMES = ("given", "surname", "login")


class OpenPassword(Struct, frozen=True):
    """A password that may not have been set: its record, the account, and the password if it is known."""

    record: Record
    entry: Entry
    login: str
    secret: Secret | None = None

    @property
    def hand_out(self) -> str:
        """The hand-out where it stands; empty for none."""
        return str(self.record.get("hand-out", ""))


def chosen_job(runner: Runner, number: int) -> Job:
    """The job that was named, or the only one that was broken off.

    Raises:
        VandrelError: ``not-found``, ``ambiguous``, ``foreign``.

    """
    if number:
        return runner.own_job(number)
    broken = [job for job in runner.journal.broken() if runner.is_own(job)]
    if not broken:
        raise VandrelError(Code.NOT_FOUND, "no job was broken off", remedy="vandrel journal lists them all")
    if len(broken) > 1:
        what = f"several jobs were broken off: {', '.join(str(job.number) for job in broken)}"
        raise VandrelError(Code.AMBIGUOUS, what, remedy="name one: vandrel resume JOB")
    return broken[0]


def open_passwords(context: Context, runner: Runner, job: int) -> list[OpenPassword]:
    """The passwords that a job may not have set, from the hand-outs that its records name: they exist nowhere else.

    Raises:
        VandrelError: what `vandrel.intake.hand_out.read` raises.

    """
    in_doubt = runner.passwords_in_doubt(job)
    names = {str(record["hand-out"]) for record, _ in in_doubt if record.get("hand-out")}
    by_hand_out = {name: {slip.login: slip.secret for slip in hand_out.read(Path(name))} for name in names}
    passwords = []
    for record, entry in in_doubt:
        login = context.one(entry, "login")
        secret = by_hand_out.get(str(record.get("hand-out", "")), {}).get(login)
        passwords.append(OpenPassword(record, entry, login, secret))
    return passwords


def what_is_lost(passwords: list[OpenPassword], job: int) -> VandrelError:
    """The error for passwords that nobody knows any more."""
    sheets = _sheets(passwords)
    where = f"cannot be read from {' and '.join(sheets)}" if sheets else "stand in no record"
    what = f"{count(len(passwords), 'password')} may not have been set, and {where}"
    remedy = f"vandrel resume {job} --hand-out FILE makes new ones; --no-passwords finishes the rest"
    return VandrelError(Code.USAGE, what, where=Location(job=job), remedy=remedy)


def what_is_void(passwords: Sequence[OpenPassword]) -> str:
    """Say that these got new passwords, and which sheets have old ones."""
    sheets = _sheets(passwords)
    void = f"; what {' and '.join(sheets)} has for them is void" if sheets else ""
    return f"New passwords for {count(len(passwords), 'account')}{void}."


def _sheets(passwords: Sequence[OpenPassword]) -> list[str]:
    return sorted({Path(each.hand_out).name for each in passwords if each.hand_out})


def leave_out_missing(context: Context, passwords: Sequence[OpenPassword], result: RunResult) -> None:
    """Take accounts that are not there out of the hand-outs of a job; who has an account stays on the sheet."""
    by_dn = {each.entry.dn: each for each in passwords}
    void: dict[str, set[str]] = {}
    for dn in result.not_created:
        if (each := by_dn.get(dn)) is not None and each.hand_out and context.directory.get(dn) is None:
            void.setdefault(each.hand_out, set()).add(each.login)
    for name, logins in void.items():
        hand_out.leave_out(Path(name), logins, context.charter.document.organization)


def new_password(context: Context, entry: Entry) -> Secret:
    """A new password in place of one that is lost."""
    value = partial(context.one, entry)
    return generate(context.rules_for(entry), [value(name) for name in _OWN_NAMES])
