"""Going on with a job that was broken off: what is in doubt is looked up, and only then made."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import datetime, timedelta

from vandrel.dialects.dialect import Dialect
from vandrel.directory import place as places
from vandrel.directory.applied import is_applied
from vandrel.directory.operations import SetPassword
from vandrel.directory.port import Directory
from vandrel.errors import Code, Location, VandrelError
from vandrel.record.attic import Attic
from vandrel.record.journal import AHEAD, BEGUN, DONE, MADE, PART, REFUSED, Job, Journal, JournalStep, Record
from vandrel.secret import Secret
from vandrel.steps.applied_steps import applied_steps
from vandrel.steps.deletion_keeper import DeletionKeeper
from vandrel.steps.name_guard import NameGuard, not_created
from vandrel.steps.plan import RunResult
from vandrel.steps.rename_tracking import Item, track_renames
from vandrel.steps.step import Add, Step, with_secrets, without_lost

#: How far the clocks of a server and of this machine may be apart.
_CLOCKS = timedelta(minutes=5)

#: Finds the password that a record tells of.
Passwords = Callable[[Record], Secret | None]
#: What is done with the result when all is made and the job has not ended.
BeforeEnd = Callable[[RunResult], None]


def end_job(journal: Journal, result: RunResult, before_end: BeforeEnd) -> None:
    """End a job of which all is made; what is to be done before fails without the job being open again.

    Raises:
        VandrelError: what `before_end` raises.

    """
    state = PART if result.is_in_part else DONE
    try:
        before_end(result)
    except VandrelError:
        journal.end(result.job, state)
        raise
    journal.end(result.job, state)


def _withheld(dn: str) -> VandrelError:
    what = "it may not have been made, and what is secret in it is in no record"
    return VandrelError(Code.DONE_IN_PART, what, where=Location(dn=dn), remedy="give the command of the job again")


class Resumption:
    """Finishes jobs on one directory."""

    def __init__(self, directory: Directory, dialect: Dialect, attic: Attic) -> None:
        self._directory, self._dialect, self._attic = directory, dialect, attic

    def finish(self, journal: Journal, job: Job, password: Passwords, before_end: BeforeEnd) -> RunResult:
        """Look up what was begun, make it if it was not made, then make the rest.

        Raises:
            VandrelError: ``refused`` where the job was broken off before its first step.

        """
        number = job.number
        report = RunResult(job=number, planned=job.planned)
        started = time.perf_counter()
        items = list(journal.steps(number))
        if len(items) < job.planned:
            journal.end(number, PART)
            raise VandrelError(
                Code.REFUSED, f"job {number} was broken off before its first step: nothing was made",
                where=Location(job=number),
                remedy=f"give its command again: {job.command}",
            )  # fmt: skip
        first = next((item for item in items if item.state in (BEGUN, AHEAD)), None)
        if first is not None and first.state == AHEAD:
            journal.mark(number, first.number, [], first.number, is_known=False)
        guard = NameGuard(self._directory, self._dialect)
        report.twice = guard.twice
        tracked = list(track_renames(self._directory, items))
        keeper = DeletionKeeper(
            self._directory, guard, self._attic, job, [item.step for item in tracked], reads_again=True
        )  # fmt: skip
        states = applied_steps(self._directory, tracked)
        for item in tracked:
            self._finish(journal, report, job, item, password, keeper, was_applied=item.record.number in states)
        report.seconds = time.perf_counter() - started
        end_job(journal, report, before_end)
        return report

    def _finish(
        self, journal: Journal, report: RunResult, job: Job, item: Item, password: Passwords, keeper: DeletionKeeper,
        *, was_applied: bool,
    ) -> None:  # fmt: skip
        record, step, dn, error = item.record, item.step, str(item.dn), None
        if record.state == MADE:
            report.made += 1
            return
        is_lost = item.dn in report.not_created or (step is not None and without_lost(step, report.not_created) is None)
        if record.state == REFUSED:
            if not is_lost:
                report.refused.append((dn, VandrelError(Code.DONE_IN_PART, record.why, where=Location(dn=dn))))
            if isinstance(step, Add):
                report.not_created.add(step.dn)
            return
        if is_lost:
            journal.mark(report.job, record.number, [not_created(dn)], record.number + 1, is_known=False)
            return
        step, is_withheld = self._with_what_is_secret(
            without_lost(step, report.not_created) if step is not None else None, record
        )
        # An addition that is there was made whole; of a change whose values are not in the record nothing can be told.
        if is_withheld and not (isinstance(step, Add) and was_applied):
            error = _withheld(dn)
        elif step is None and (
            (secret := password(record.record | {"dn": dn})) is not None or not record.record["set"]
        ):  # fmt: skip
            operation = SetPassword(item.dn, secret, bool(record.record["must-change"]))
            error = self._directory.execute([operation], atomic=True)[0]
        elif step is None:
            error = VandrelError(
                Code.DONE_IN_PART, "the password may not have been set: it is in no record", where=Location(dn=dn),
                remedy=f"give one: vandrel edit {places.typed(item.dn, self._dialect.charter.base)} password=generate",
            )  # fmt: skip
        elif was_applied or (record.state == BEGUN and is_applied(self._directory, step.operation())):
            pass
        elif record.state == BEGUN and isinstance(step, Add) and self._was_made(step, job):
            report.changed_since.append(step.dn)
        else:
            error = keeper.execute([step], atomic=True)[0]
        if error is None:
            report.made += 1
            keeper.settle([step] if step is not None else [], [error])
        else:
            report.refused.append((dn, error))
            if step is None:
                report.take_unset(item.dn, error)
            elif isinstance(step, Add):
                report.not_created.add(step.dn)
        journal.mark(report.job, record.number, [error], record.number + 1, is_known=False)

    def _with_what_is_secret(self, step: Step | None, record: JournalStep) -> tuple[Step | None, bool]:
        """The step with what its record withholds, where the attic has it; and whether something is still withheld."""
        if isinstance(step, Add) and step.restores and (item := self._attic.item(step.restores)) is not None:
            return with_secrets(step, self._dialect.addable(item.entry)[0]), False
        return step, bool(record.record.get("redacted"))

    def _was_made(self, step: Add, job: Job) -> bool:
        """Whether an object was made by this job and has been changed since.

        The job found the name free when it began. So an object of that name that was made afterwards, with the same
        unique values, is its own.
        """
        entry = self._directory.get(step.dn)
        if entry is None:
            return False
        created = dict(self._dialect.instants(entry)).get("created")
        if created is None or created < datetime.fromisoformat(job.begun) - _CLOCKS:
            return False
        schema = self._directory.schema
        shared = [name for name in self._dialect.unique_attributes() if name in step.attributes]
        return all(
            {schema.key(name, value) for value in step.attributes[name]}
            & {schema.key(name, value) for value in entry.values_of(name)}
            for name in shared
        )
