"""A job that is stopped at every single write, and again during its recovery, ends as if it had never been stopped."""

from __future__ import annotations

import shutil
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from itertools import count
from pathlib import Path

import pytest

from vandrel.dialects.standard import StandardDialect
from vandrel.directory import dn as names
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.operations import Change, SetPassword
from vandrel.errors import Code, VandrelError
from vandrel.jobs.common.report import Report
from vandrel.jobs.common.selection import Selection
from vandrel.jobs.history.undo import UndoRequest, undo_job
from vandrel.jobs.lifecycle.attic import AtticSelection
from vandrel.jobs.lifecycle.delete import DeleteRequest, delete
from vandrel.jobs.lifecycle.restore import RestoreRequest, restore
from vandrel.objects.context import Context
from vandrel.record.attic import Attic
from vandrel.record.journal import BROKEN, DONE, PART, Journal
from vandrel.secret import Secret
from vandrel.steps.plan import Plan
from vandrel.steps.runner import Runner
from vandrel.steps.step import Rename, Set

from .conftest import IS_SOAK
from .test_steps import ANNA, GUESTS, add

#: Of the points at which a recovery is stopped, `make test` takes each sixth, and `make soak` takes all.
STRIDE = 1 if IS_SOAK else 6

BOSS, BO = GUESTS.child("cn", "Boss"), GUESTS.child("cn", "Bo")
BORIS = GUESTS.child("cn", "Boris")
STEPS = [
    add(), add(BO, "bo"), add(BOSS, "boss"),
    Set(ANNA, (Change("manager", (), (str(BOSS),)), Change("title", (), ("Mate",)))),
    Set(BO, (Change("manager", (), (str(ANNA),)),)),
    Rename(BO, BORIS), Set(BORIS, (Change("title", (), ("Cook",)),)), Set(ANNA, (Change("title", ("Mate",), ("Captain",)),)),
]  # fmt: skip
PLAN = Plan("crew", STEPS, is_atomic=False, barriers=(3, 5))
VOLATILE = {"entryUUID", "createTimestamp", "modifyTimestamp"}
#: Where a write can be cut: before it, in the middle of a batch, or after it but before anybody knows.
MOMENTS = ("before", "half", "after")


class Killed(BaseException):
    """The process is gone."""


class Folder:
    """A directory and a journal in a folder of their own, opened as a new process would."""

    def __init__(self, base: Path, target: Path, charter) -> None:
        target.mkdir()
        for name in ("directory.db", "journal.db"):
            shutil.copy(base / name, target / name)
        self.directory = EmbeddedDirectory(target / "directory.db")
        self.journal = Journal(target / "journal.db")
        self.context = Context(charter, self.directory, StandardDialect(self.directory, charter))

    def runner(self) -> Runner:
        return Runner(self.directory, self.context.dialect, lambda: self.journal)

    def state(self) -> dict[str, list[str]]:
        return {
            str(entry.dn): sorted(f"{name}={sorted(map(str, values))}" for name, values in entry.attributes.items() if name not in VOLATILE)
            for entry in self.directory.search(self.context.charter.base)
        }  # fmt: skip

    def killed(self, what: Callable[[], object], at: int, moment: str) -> bool:
        """Do something in a process that is killed at the `at`-th write; whether it came to that."""
        with killing(at, moment):
            try:
                what()
            except Killed:
                for job in self.journal.jobs():  # the locks of a process go with it
                    self.journal.release(job.number)
                return True
        return False

    def broken(self) -> int:
        return next((job.number for job in self.journal.broken()), 0)

    def undo(self, number: int) -> None:
        proposal = undo_job(self.context, runner := self.runner(), UndoRequest(number))
        if isinstance(proposal, Report):
            runner.abandon(proposal.abandons)
            return
        assert not [finding for finding in proposal.findings if finding.is_fatal], proposal.findings
        steps = proposal.steps
        runner.run(Plan("undo", steps, proposal.findings, undoes=number), "undo")

    def close(self) -> None:
        self.directory.close()
        self.journal.close()


@contextmanager
def killing(at: int, moment: str) -> Iterator[None]:
    """Every write to the directory or the journal counts; at the given one the process dies."""
    writes, dead = count(1), []

    def cut(original: Callable[..., object]) -> Callable[..., object]:
        def write(self, *given, **named):
            if dead:
                raise Killed
            is_it = next(writes) == at
            if is_it and (dead.append(True) or moment == "before"):
                raise Killed
            if is_it and moment == "half" and original.__name__ == "execute":
                original(self, given[0][: len(given[0]) // 2], atomic=False)
                raise Killed
            done = original(self, *given, **named)
            if is_it:
                raise Killed
            return done

        return write

    with pytest.MonkeyPatch.context() as patch:
        for owner, method in (
            (EmbeddedDirectory, "execute"),
            *((Journal, name) for name in ("begin", "write", "mark", "end")),
            *((Attic, name) for name in ("put", "settle", "take_out")),
        ):
            patch.setattr(owner, method, cut(getattr(owner, method)))
        yield


@pytest.fixture
def folder(bench, tmp_path) -> Iterator[Callable[[], Folder]]:
    bench.context.directory.close()
    bench.journal.close()
    numbers, opened = count(), []

    def new() -> Folder:
        while opened:
            opened.pop().close()
        opened.append(Folder(tmp_path, tmp_path / f"case-{next(numbers)}", bench.context.charter))
        return opened[-1]

    yield new
    for each in opened:
        each.close()


def points(
    folder: Callable[[], Folder],
    prepare: Callable[[Folder], object],
    what: Callable[[Folder], object],
    first: int = 0,
    stride: int = 1,
) -> list[tuple[int, str]]:
    """All points at which something can be killed; or each of so many, beginning elsewhere for each first stop."""
    found = []
    for moment in MOMENTS:
        for at in count(1 + first % stride, stride):
            prepare(case := folder())
            if not case.killed(lambda case=case: what(case), at, moment):
                break
            found.append((at, moment))
    return found


def run(case: Folder) -> None:
    case.runner().run(PLAN, "crew")


def test_a_job_is_finished_from_every_point(folder):
    whole = folder()
    before = whole.state()
    run(whole)
    expected = whole.state()
    tried = Counter()
    for first in points(folder, lambda case: None, run):

        def prepare(case: Folder, first=first) -> None:
            case.killed(lambda: run(case), *first)

        def resume(case: Folder) -> None:
            if number := case.broken():
                try:
                    case.runner().resume(number)
                except VandrelError as error:
                    assert error.code is Code.REFUSED, error
                    assert case.state() == before  # its steps were not even written down

        for second in [None, *points(folder, prepare, resume, first[0], STRIDE)]:
            prepare(case := folder())
            if second is not None:
                case.killed(lambda case=case: resume(case), *second)
            resume(case)
            jobs = list(case.journal.jobs())
            if case.state() == before:
                run(case)
            tried[second is not None] += 1
            assert case.state() == expected, (first, second)
            assert not case.broken(), (first, second)
            refused = [step for job in jobs for step in case.journal.steps(job.number) if step.state == "refused"]
            assert not refused, (first, second, refused)
            assert {job.state for job in jobs} <= {DONE, PART}, (first, second)
    assert tried[False] >= 30, tried
    print(f"crash points: {dict(tried)}")
    assert tried[True] >= 500 // STRIDE, tried


def test_a_job_is_taken_back_from_every_point(folder):
    whole = folder()
    before = whole.state()
    tried = Counter()
    for first in points(folder, lambda case: None, run):

        def prepare(case: Folder, first=first) -> None:
            case.killed(lambda: run(case), *first)

        def take_back(case: Folder) -> None:
            if number := case.broken():
                case.undo(number)

        for second in [None, *points(folder, prepare, take_back, first[0], STRIDE)]:
            prepare(case := folder())
            if case.state() == before and not case.broken():
                continue
            if second is not None:
                case.killed(lambda case=case: take_back(case), *second)
                undoing = [job for job in case.journal.jobs() if job.undoes and job.state == BROKEN]
                for job in undoing:  # the taking back is itself a job that can be finished
                    try:
                        case.runner().resume(job.number)
                    except VandrelError as error:
                        assert error.code is Code.REFUSED, error
            if case.state() != before:
                numbers = [job.number for job in case.journal.jobs() if job.title == "crew"]
                case.undo(numbers[0])
            tried[second is not None] += 1
            assert case.state() == before, (first, second)
    assert tried[False] >= 20, tried
    print(f"crash points: {dict(tried)}")
    assert tried[True] >= 100 // STRIDE, tried


def test_what_is_deleted_and_restored_is_in_the_directory_or_in_the_attic_at_every_point(folder):
    """Stopped at each write, again during the recovery, and then gone on with: deletion first, restoration after it."""
    password = SetPassword(ANNA, Secret("Kv9-fjord-lamp", generated=True), True)

    def begin(case: Folder) -> None:
        run(case)
        assert case.directory.execute([password], atomic=True) == [None]
        expected[case] = case.state() | {"": [case.directory.get(ANNA).text("entryUUID")]}

    def delete_her(case: Folder) -> None:
        proposal = delete(case.context, DeleteRequest(Selection([str(ANNA)])))
        case.runner().run(Plan("delete", proposal.steps, is_atomic=False), "delete")

    def restore_her(case: Folder) -> None:
        selection = AtticSelection(names=(str(ANNA),))
        proposal = restore(case.context, case.runner().attic, RestoreRequest(selection), lambda dn, job: dn)
        case.runner().run(Plan("restore", proposal.steps, is_atomic=False), "restore")

    def go_on(case: Folder) -> None:
        if number := case.broken():
            try:
                case.runner().resume(number)
            except VandrelError as error:
                assert error.code is Code.REFUSED, error  # nothing of it was written down

    def held(case: Folder) -> bool:
        entry = case.directory.get(ANNA)
        kept = [item.entry for item in case.runner().attic.items(key=ANNA.key)]
        return any(each.values_of("userPassword") for each in [entry, *kept] if each is not None)

    expected: dict[Folder, dict[str, list[str]]] = {}
    tried = Counter()
    for at_work, before in ((delete_her, begin), (restore_her, lambda case: (begin(case), delete_her(case)))):
        for first in points(folder, before, at_work):

            def prepare(case: Folder, first=first, at_work=at_work, before=before) -> None:
                before(case)
                case.killed(lambda: at_work(case), *first)

            for second in [None, *points(folder, prepare, go_on, first[0], STRIDE)]:
                prepare(case := folder())
                assert held(case), (at_work, first)
                if second is not None:
                    case.killed(lambda case=case: go_on(case), *second)
                    assert held(case), (at_work, first, second)
                go_on(case)
                assert held(case) and not case.broken(), (at_work, first, second)
                tried[at_work.__name__, second is not None] += 1
                if case.directory.get(ANNA) is None:
                    restore_her(case)
                identifier = case.directory.get(ANNA).text("entryUUID")
                assert case.state() | {"": [identifier]} == expected[case], (at_work, first, second)
                assert not list(case.runner().attic.items()), (at_work, first, second)
    print(f"crash points: {dict(tried)}")
    assert min(tried.values()) >= 15 // STRIDE, tried


def test_an_own_account_that_was_edited_meanwhile_is_no_strangers(folder):
    case = folder()
    case.killed(lambda: run(case), 5, "after")  # begin, three writes, the first batch
    number = case.broken()
    case.directory.execute(
        [Set(ANNA, (Change("description", (), ("new here",)), Change("sn", ("Lund",), ("Lunde",)))).operation()],
        atomic=True,
    )
    result = case.runner().resume(number)
    assert (result.refused, result.changed_since, result.made) == ([], [ANNA], len(STEPS))
    assert case.directory.get(ANNA).texts("sn") == ["Lunde"]


def test_a_strangers_account_of_the_same_name_is_left_alone(folder):
    case = folder()
    case.killed(lambda: run(case), 5, "before")
    case.directory.execute([add(login="another").operation()], atomic=True)
    result = case.runner().resume(case.broken())
    assert str(ANNA) in [dn for dn, _ in result.refused]
    assert result.changed_since == []
    assert case.directory.get(names.parse(str(ANNA))).texts("uid") == ["another"]
