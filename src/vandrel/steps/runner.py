"""The one runner: checks steps, makes them, records them. No command writes in any other way."""

from __future__ import annotations

import time
from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from functools import cached_property
from itertools import islice

from vandrel import file_names
from vandrel.dialects.ahead import ask_ahead
from vandrel.dialects.dialect import Dialect
from vandrel.directory.entry import Entry
from vandrel.directory.port import Directory
from vandrel.directory.spilled import Spill
from vandrel.errors import Code, Finding, Location, Refused, VandrelError, are_fatal
from vandrel.gc_control import gc_paused, let_go
from vandrel.lazy_list import LazyList
from vandrel.record.attic import Attic
from vandrel.record.journal import AHEAD, BEGUN, BROKEN, MADE, PART, REFUSED, Job, Journal, JournalStep, NewJob, Record
from vandrel.steps.applied_steps import applied_steps
from vandrel.steps.checks import Checks
from vandrel.steps.deletion_keeper import DeletionKeeper
from vandrel.steps.name_guard import NameGuard, not_created
from vandrel.steps.plan import Plan, RunResult
from vandrel.steps.rename_tracking import left_by, track_renames
from vandrel.steps.resumption import BeforeEnd, Passwords, Resumption, end_job
from vandrel.steps.seat_check import check_seats
from vandrel.steps.state_check import StateCheck
from vandrel.steps.step import Add, Password, Remove, Step, from_record, without_lost
from vandrel.steps.step import Set as SetStep
from vandrel.steps.superior_guards import with_superior_guards

#: Steps in one transaction and one entry of the journal. Larger ones gain nothing and lose more at a kill.
BATCH = 4000
#: The same for servers, to begin with and at the least; and the seconds that one batch should take there.
_FIRST_BATCH, _LEAST_BATCH, _MOMENT = 250, 10, 1.0
#: How much more a step may cost in a smaller batch: beyond that, what takes long is the way there and not the work.
_DEARER = 1.15

Progress = Callable[[int, int], None]


class _BatchSizer:
    """The batches of a plan, one after the other: servers get as many steps at a time as they make in a moment.

    So whoever looks on sees it go on, and not much is in doubt after a kill, however slow a server is. Over a long line
    small batches only wait more often: they shrink no further once their steps cost more each. The steps behind
    ``start``, up to ``stop``, are at work.
    """

    def __init__(self, plan: Plan, *, all_at_once: bool) -> None:
        self._ends = (*plan.barriers, len(plan.steps))
        self._size = BATCH if all_at_once else _FIRST_BATCH
        self._least = _LEAST_BATCH
        #: How many steps the batch before had, and what each cost.
        self._before = (0, 0.0)
        self.start, self.stop = 0, self._stop(0)

    def _stop(self, start: int) -> int:
        return min(start + self._size, next((end for end in self._ends if end > start), start))

    def go_on(self, seconds: float) -> None:
        """The next batch, of which the last one took so many seconds."""
        steps = max(self.stop - self.start, 1)
        before, cost = self._before
        if seconds < _MOMENT / 2:
            self._size = min(self._size * 2, BATCH)
        elif seconds > _MOMENT:
            if steps < before and seconds / steps > _DEARER * cost:
                self._least = before
            self._size = max(self._size // 2, self._least)
        self._before = (steps, seconds / steps)
        self.start = self.stop
        self.stop = self._stop(self.start)


class Runner:
    """Runs plans against one directory with one journal."""

    def __init__(self, directory: Directory, dialect: Dialect, open_journal: Callable[[], Journal]) -> None:
        self._directory = directory
        self._dialect = dialect
        self._open_journal = open_journal
        self._completed: tuple[Plan, Plan] | None = None
        #: The number of the job that was begun last; 0: none was.
        self.job = 0

    @property
    def journal(self) -> Journal:
        """The journal of the directory; made where there is none."""
        return self._open_journal()

    @cached_property
    def attic(self) -> Attic:
        """The attic of the directory, beside its journal."""
        return Attic(self.journal.path.with_name(file_names.ATTIC), self._directory.identity)

    def own_job(self, number: int) -> Job:
        """A job that was at work on this directory.

        Raises:
            VandrelError: ``not-found`` where there is none of this number, ``foreign`` for one of another directory.

        """
        job = self.journal.job(number)
        if not self.is_own(job):
            raise VandrelError(
                Code.FOREIGN, f"job {number} was at work on {job.directory}, and this is {self._directory.location}",
                where=Location(job=number), remedy=f"name that one: --directory {job.directory}",
            )  # fmt: skip
        return job

    def is_own(self, job: Job) -> bool:
        """Whether a job was at work on this directory, wherever that was then."""
        if job.identity == job.directory:  # the directory did not tell which it was
            return job.directory == self._directory.location
        return job.identity == self._directory.identity

    def check(self, plan: Plan) -> list[Finding]:
        """All findings of a plan, those that stop it first."""
        plan = self._complete(plan)
        ask_ahead(self._dialect, lambda dialect: self._check_batches(plan, dialect, most=1), again=True)
        findings = [*plan.findings, *self._check_batches(plan, self._dialect)]
        findings += check_seats(self._directory, self._dialect, plan.steps, gives_back=bool(plan.undoes))
        return sorted(dict.fromkeys(findings), key=lambda finding: not finding.is_fatal)

    @staticmethod
    def _check_batches(plan: Plan, dialect: Dialect, most: int | None = None) -> list[Finding]:
        """The findings of the first batches of a plan, or of all of them."""
        checks = Checks(dialect.directory, dialect, plan.read, gives_back=bool(plan.undoes), spill=_spill_for(plan))
        checks.announce(plan.steps)
        return [finding for _, batch in islice(_batches(plan), most) for finding in checks.check(batch)]

    def _complete(self, plan: Plan) -> Plan:
        """The plan with what protection needs of superiors, which are looked at once for the check and the run."""
        completed, complete = self._completed or (None, plan)
        if completed is not plan:
            complete = with_superior_guards(self._directory, self._dialect, plan)
            self._completed = (plan, complete)
        return complete

    def check_in_turn(
        self, batches: Iterable[Sequence[Step]], coming: Container[str] = ()
    ) -> Iterator[list[Finding]]:  # fmt: skip
        """The findings of each of many batches that are no whole plan; what earlier ones would make counts as there.

        `coming` are keys of names of objects that are made as well: steps may point at them.
        """
        checks = Checks(self._directory, self._dialect, coming=coming)
        for batch in batches:
            checks.announce(batch)
            yield checks.check(batch)

    def run(
        self, plan: Plan, command: str, progress: Progress = lambda made, planned: None, *, checked: bool = False,
        before_end: BeforeEnd = lambda result: None,
    ) -> RunResult:  # fmt: skip
        """Check a plan, unless that was done just now, and make it.

        `before_end` is called when all is made and the job has not ended: what it writes, a job that is broken off
        there is resumed for.

        Raises:
            Refused: a finding stops it; nothing was written.
            DirectoryError: the directory as a whole failed; what was made before stays and is in the journal.

        """
        with gc_paused(is_large=len(plan.steps) > BATCH):
            findings = [] if checked else self.check(plan)
            if are_fatal(findings):
                raise Refused(findings)
            return self._make(plan, command, progress, before_end)

    def _make(self, plan: Plan, command: str, progress: Progress, before_end: BeforeEnd) -> RunResult:
        plan = self._complete(plan)
        report = RunResult(planned=len(plan.steps))
        if not plan.steps:
            return report
        started = time.perf_counter()
        journal = self._open_journal()
        turns = _BatchSizer(
            plan, all_at_once=self._directory.capabilities.embedded or (plan.is_atomic and len(plan.steps) <= BATCH)
        )
        if plan.undoes:
            self._still_to_undo(journal, plan.undoes)
        here = self._directory
        new = NewJob(
            command, plan.title, here.location, here.identity, len(plan.steps), turns.stop, plan.undoes, here.bound_as,
            plan.results,
        )  # fmt: skip
        report.job = self.job = journal.begin(new)
        try:
            for first, batch in _batches(plan):
                journal.write(report.job, first, [step.record() for step in batch])
            if plan.leavers:
                self.attic.keep_leavers(report.job, plan.leavers)
        except BaseException:  # nothing was made, so there is nothing to go on with
            self.job = 0
            _end(journal, report.job, PART)
            raise
        guard = NameGuard(here, self._dialect, _spill_for(plan))
        report.twice = guard.twice
        maker = guard if plan.for_good else DeletionKeeper(here, guard, self.attic, journal.job(report.job), plan.steps)
        try:
            while turns.start < turns.stop:
                self._batch(journal, report, turns, plan, maker)
                let_go()  # libraries for protocols leave circles behind with each request
                progress(report.tried, report.planned)
                if report.stopped:
                    before_end(report)
                    _end(journal, report.job, BROKEN)
                    return report
        except BaseException:
            _end(journal, report.job, BROKEN)
            raise
        finally:
            report.seconds = time.perf_counter() - started
        end_job(journal, report, before_end)
        return report

    @staticmethod
    def _still_to_undo(journal: Journal, number: int) -> None:
        """See to it that nobody is at work on a job, or has taken it back in the meantime."""
        journal.claim(number)
        if by := journal.undone_by(number):
            what, remedy = f"job {by} took it back already", f"vandrel undo {by} redoes it"
            raise VandrelError(Code.REFUSED, what, where=Location(job=number), remedy=remedy)

    def _batch(
        self, journal: Journal, report: RunResult, turns: _BatchSizer, plan: Plan, maker: NameGuard | DeletionKeeper
    ) -> None:  # fmt: skip
        whole, first = plan.is_atomic and len(plan.steps) <= BATCH, turns.start + 1
        batch = plan.steps[turns.start : turns.stop]
        most = None if plan.most_refused is None else plan.most_refused - len(report.refused)
        remaining = [without_lost(step, report.not_created) for step in batch] if report.not_created else batch
        start = time.perf_counter()
        answers = iter(maker.execute([step for step in remaining if step is not None], atomic=whole, most_refused=most))
        outcomes: list[VandrelError | None] = []
        for step, of in zip(remaining, batch, strict=True):
            try:
                outcomes.append(next(answers) if step is not None else not_created(str(of.dn)))
            except StopIteration:  # there were too many refusals
                break
        turns.go_on(time.perf_counter() - start)
        report.tried += len(outcomes)
        refusals = sum(error is not None and step is not None for step, error in zip(remaining, outcomes, strict=False))
        report.stopped = most is not None and refusals > most
        journal.mark(report.job, first, outcomes, report.tried if report.stopped else turns.stop)
        for step, tried, error in zip(batch, remaining, outcomes, strict=False):
            if error is None:
                report.made += 1
                continue
            if tried is None:  # for an object that is lost, which has been told
                continue
            report.refused.append((str(step.dn), error))
            if isinstance(step, Add):
                report.not_created.add(step.dn)
            elif isinstance(step, Remove):
                report.not_deleted.add(step.dn)
            elif isinstance(step, Password):
                report.take_unset(step.dn, error)
            elif isinstance(step, SetStep):
                for value in (value for change in step.changes for value in change.added if isinstance(value, str)):
                    report.kept_out.setdefault(value, []).append((step.dn, error))

    # --- going on after a kill

    def resume(
        self, number: int, password: Passwords = lambda record: None, before_end: BeforeEnd = lambda result: None
    ) -> RunResult:
        """Finish a job that was broken off: what was begun is looked up, and made if it was not; then comes the rest.

        A password is in no record: `password` finds it by its record, in a hand-out; where it cannot, and the
        password may not have been set, the report says so. `before_end` is what `run` takes.

        Raises:
            VandrelError: ``not-found`` where there is no such job, ``refused`` where it has ended, ``busy`` where a
                process is at work on it.

        """
        journal = self._open_journal()
        job = journal.claim(number)
        try:
            self._must_be_broken(job)
            self.job = number
            return Resumption(self._directory, self._dialect, self.attic).finish(journal, job, password, before_end)
        finally:
            journal.release(number)

    @staticmethod
    def _must_be_broken(job: Job) -> None:
        if job.state != BROKEN:
            what = f"job {job.number} was not broken off: it is {job.state}"
            raise VandrelError(Code.REFUSED, what, where=Location(job=job.number))

    def passwords_in_doubt(self, number: int) -> list[tuple[Record, Entry]]:
        """The passwords that a job was to set and may not have set: their records, and the accounts as it leaves them.

        Raises:
            VandrelError: ``not-found`` where there is no such job.

        """
        journal = self._open_journal()
        journal.job(number)
        items = track_renames(self._directory, list(journal.steps(number)))
        not_created = {item.dn for item in items if item.record.state == REFUSED and isinstance(item.step, Add)}
        unsure = [
            item for item in items
            if item.record.state in (BEGUN, AHEAD) and item.record.record["step"] == "password"
            and item.record.record["set"]
            and item.dn not in not_created
        ]  # fmt: skip
        entries = left_by(self._directory, items, {item.dn for item in unsure})
        return [(item.record.record, entries[item.dn]) for item in unsure if item.dn in entries]

    def standing(self, number: int) -> Iterator[tuple[JournalStep, bool | None]]:
        """The steps of a job that were made, each with whether the directory is still as it left it.

        Of a job that was broken off, those count as well that nobody had taken note of, and the directory has.

        Something else may have been done to an object since; or, where servers replicate to each other, a change made
        elsewhere may have won. None where nothing can be told: a password is in no record.

        Raises:
            VandrelError: ``not-found`` where there is no such job.

        """
        journal = self._open_journal()
        journal.job(number)
        items = track_renames(self._directory, list(journal.steps(number)))
        states = applied_steps(self._directory, items)
        applied = [
            item.record for item in items
            if item.record.state == MADE or item.record.number in states
            or (item.record.state == BEGUN and item.step is None)
        ]  # fmt: skip
        steps = [None if record.record.get("redacted") else from_record(record.record) for record in applied]
        standing = StateCheck(self._directory, steps)
        for place, (record, step) in enumerate(zip(applied, steps, strict=True)):
            yield record, standing.of(place, step)

    def abandon(self, number: int) -> None:
        """Take note that a job that was broken off is not to be finished any more."""
        self._open_journal().end(number, PART)


def _batches(plan: Plan) -> Iterator[tuple[int, Sequence[Step]]]:
    """The steps in batches, each with the number of its first, counted from 1."""
    steps, start = plan.steps, 0
    for end in (*plan.barriers, len(steps)):
        for begin in range(start, end, BATCH):
            yield begin + 1, steps[begin : min(begin + BATCH, end)]
        start = max(start, end)


def _spill_for(plan: Plan) -> Spill | None:
    """Where what is known of the steps is kept: beside them, if they are too many to be held."""
    return Spill() if isinstance(plan.steps, LazyList) else None


def _end(journal: Journal, job: int, state: str) -> None:
    try:
        journal.end(job, state)
    except VandrelError:
        return  # the disk that failed the directory may fail the journal too; the first error is the one to tell
