"""Finishing a job that was broken off: which it is, and which passwords it may not have set."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from msgspec import Struct

from vandrel.charter.passwords import generate
from vandrel.directory.entry import Entry
from vandrel.errors import Code, Location, VandrelError
from vandrel.jobs.common.report import count
from vandrel.objects.context import Context
from vandrel.record.journal import Job, Record
from vandrel.secret import Secret
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
        return str(self.record.get("kept", ""))


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


def open_passwords(
    context: Context, runner: Runner, job: int, kept: Mapping[str, Mapping[str, Secret]]
) -> list[OpenPassword]:  # fmt: skip
    """The passwords that the job may not have set.

    Args:
        context: the charter and the directory.
        runner: the runner of the job.
        job: its number.
        kept: the passwords of each hand-out, by logon name.

    """
    passwords = []
    for record, entry in runner.passwords_in_doubt(job):
        login = context.one(entry, "login")
        secret = kept.get(str(record.get("kept", "")), {}).get(login)
        passwords.append(OpenPassword(record, entry, login, secret))
    return passwords


def what_is_lost(lost: list[OpenPassword], job: int) -> VandrelError:
    """The error for passwords that nobody knows any more."""
    sheets = sorted({each.hand_out.rpartition("/")[2] for each in lost if each.hand_out})
    where = f"cannot be read from {' and '.join(sheets)}" if sheets else "stand in no record"
    what = f"{count(len(lost), 'password')} may not have been set, and {where}"
    remedy = f"vandrel resume {job} --hand-out FILE makes new ones; --no-passwords finishes the rest"
    return VandrelError(Code.USAGE, what, where=Location(job=job), remedy=remedy)


def new_password(context: Context, entry: Entry) -> Secret:
    """A new password in place of one that is lost."""
    value = partial(context.one, entry)
    return generate(context.rules_for(entry), [value(name) for name in _OWN_NAMES])
