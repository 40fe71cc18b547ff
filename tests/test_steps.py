"""Steps, checks, the runner and the journal, on the core alone."""

from __future__ import annotations

import os
import signal
import stat
import time
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from vandrel.directory import dn as names
from vandrel.directory.applied import is_applied
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.operations import Change
from vandrel.errors import Code, DirectoryError, Refused, VandrelError
from vandrel.jobs.history.undo import UndoRequest, undo_job
from vandrel.record.journal import BROKEN, DONE, PART, RUNNING, JobQuery, Journal, NewJob
from vandrel.secret import Secret
from vandrel.steps import runner as runner_module
from vandrel.steps.plan import Plan
from vandrel.steps.runner import Runner
from vandrel.steps.step import Add, Password, Remove, Rename, Set, from_record

PERSON = ["top", "person", "organizationalPerson", "inetOrgPerson", "vandrelAccount"]
GUESTS = names.parse("ou=Guests,dc=marrowick,dc=example")
ANNA = GUESTS.child("cn", "Anna")
SECRET = Secret("Kv9-fjord-lamp", generated=True)


def add(dn=ANNA, login="anna", **more) -> Add:
    return Add(dn, {"objectClass": list(PERSON), "cn": [dn.name], "sn": ["Lund"], "uid": [login], **more})


def run(bench, *steps, is_atomic=True):
    return bench.runner.run(Plan("test", list(steps), is_atomic=is_atomic), "vandrel test")


def codes(bench, *steps) -> list[str]:
    return [finding.code for finding in bench.runner.check(Plan("test", list(steps)))]


CHANGE = Set(ANNA, (Change("title", (), ("Mate",)), Change("sn", ("Lund",), ("Brekke",))))


@pytest.mark.parametrize(
    "step",
    [add(), CHANGE, Rename(ANNA, GUESTS.child("cn", "Anna B")), Remove(ANNA, {"cn": ["Anna"], "jpegPhoto": [b"\xff"]})],
)
def test_a_step_survives_its_record(bench, step):
    number = bench.journal.begin(NewJob("c", "t", "d", "d", 1, 1))
    bench.journal.write(number, 1, [step.record()])
    (item,) = bench.journal.steps(number)
    assert from_record(item.record) == step


@pytest.mark.parametrize(
    ("before", "step"), [([], add()), ([add()], CHANGE), ([add()], Rename(ANNA, GUESTS.child("cn", "Anna B")))]
)
def test_a_step_and_its_reverse_leave_what_was(bench, before, step):
    if before:
        run(bench, *before)
    was = _contents(bench)
    assert not is_applied(bench.context.directory, step.operation())
    run(bench, step)
    assert is_applied(bench.context.directory, step.operation())
    assert _contents(bench) != was
    run(bench, step.reverse())
    assert _contents(bench) == was


def test_what_was_removed_comes_back_without_its_birth_marks(bench):
    run(bench, add(title=["Mate"]))
    entry = bench.context.directory.get(ANNA)
    remove = Remove(ANNA, entry.attributes)
    run(bench, remove)
    assert is_applied(bench.context.directory, remove.operation())
    run(bench, remove.reverse())
    assert bench.context.directory.get(ANNA).text("title") == "Mate"


def _contents(bench) -> list:
    own = {"entryUUID", "createTimestamp", "modifyTimestamp"}
    found = bench.context.directory.search(bench.context.charter.base)
    return [(str(e.dn), sorted((k, v) for k, v in e.attributes.items() if k not in own)) for e in found]


def test_a_password_is_in_no_record_and_cannot_be_taken_back(bench, tmp_path):
    step = Password(ANNA, SECRET, True)
    assert step.reverse() is None
    assert from_record(step.record()) is None
    run(bench, add(), step)
    bench.journal.close()
    for file in tmp_path.iterdir():
        assert SECRET.reveal().encode() not in file.read_bytes()
    again = Set(ANNA, (Change("userPassword", (b"{SSHA512}x",), ()),))
    assert b"SSHA" not in repr(again.record()).encode()


BOSS = GUESTS.child("cn", "Boss")


@pytest.mark.parametrize(
    ("steps", "expected"),
    [
        ([add(), add(BOSS, "boss", manager=[str(ANNA)])], []),
        ([add(manager=[str(BOSS)]), add(BOSS, "boss")], []),
        ([add(manager=[str(BOSS)])], ["dangling"]),
        ([add(), add()], ["taken"]),
        ([add(), add(BOSS, "ANNA")], ["taken"]),
        ([add(mail=["a@x.example"]), add(BOSS, "b", vandrelMailAlias=["A@x.example"])], ["taken"]),
        ([add(GUESTS.child("ou", "No").child("cn", "X"))], ["no-parent"]),
        ([add(title=["x" * 65])], ["schema"]),
        ([add(titel=["x"])], ["unknown-field"]),
        ([CHANGE], ["not-found"]),
        ([add(), CHANGE, Password(ANNA, SECRET, True), Remove(ANNA, {}), add()], []),
        ([Password(BOSS, SECRET, True)], ["not-found"]),
        ([add(), Set(ANNA, (Change("nosuch", (), ("x",)),))], ["unknown-field"]),
        ([add(), Set(ANNA, (Change("entryUUID", (), ("x",)),))], ["schema", "schema"]),
        ([add(), Rename(ANNA, ANNA.child("cn", "x"))], ["refused"]),
        ([Remove(GUESTS, {})], ["protected"]),
        ([Rename(GUESTS, names.parse("ou=Visitors,dc=marrowick,dc=example"))], ["protected"]),
        ([add(), add(BOSS, "boss"), Rename(BOSS, ANNA)], ["taken"]),
    ],
)
def test_the_checks_that_hold_for_every_change(bench, steps, expected):
    assert codes(bench, *steps) == expected


def test_a_finding_stops_everything(bench):
    was = _contents(bench)
    jobs = len(list(bench.journal.jobs()))
    with pytest.raises(Refused) as caught:
        run(bench, add(), add(BOSS, "boss", title=["x" * 65]))
    assert caught.value.exit_code == 22
    assert _contents(bench) == was
    assert len(list(bench.journal.jobs())) == jobs


def test_the_journal_holds_who_when_what_and_the_state_before(bench):
    report = run(bench, add())
    report = run(bench, CHANGE)
    job = bench.journal.job(report.job)
    assert (job.state, job.planned, job.made, job.refused, job.command) == (DONE, 1, 1, 0, "vandrel test")
    assert job.who
    assert job.begun <= job.ended
    (item,) = bench.journal.steps(job.number)
    assert item.record["changes"] == [["title", [], ["Mate"], False], ["sn", ["Lund"], ["Brekke"], False]]
    assert [j.number for j in bench.journal.jobs(query=JobQuery((str(ANNA),)))] == [job.number, job.number - 1]
    assert stat.S_IMODE(bench.journal.path.stat().st_mode) == 0o600


def test_a_refusal_of_the_directory_is_reported_and_the_rest_goes_on(bench, monkeypatch):
    # Somebody takes the name between check and run.
    monkeypatch.setattr("vandrel.steps.checks.Checks.check", lambda self, steps: [])
    run(bench, add())
    report = run(bench, add(BOSS, "anna"), add(GUESTS.child("cn", "C"), "c"), is_atomic=False)
    assert (report.made, report.is_in_part) == (1, True)
    assert report.refused[0][0] == str(BOSS)
    assert report.refused[0][1].code == "taken"
    assert bench.journal.job(report.job).state == PART
    whole = run(bench, add(BOSS, "anna"), add(GUESTS.child("cn", "D"), "d"))
    assert (whole.made, len(whole.refused)) == (0, 2)
    assert bench.context.directory.get(GUESTS.child("cn", "D")) is None


def broken_off(bench, monkeypatch, steps, *, after: int) -> int:
    """The number of a job that broke off when `after` of its steps were made and the journal did not know it yet."""
    directory = bench.context.directory
    execute = type(directory).execute

    def fail(self, operations, **how):
        execute(self, operations[:after], atomic=False)
        raise DirectoryError("disk-full", "no room left on the disk")

    with monkeypatch.context() as patch:
        patch.setattr(type(directory), "execute", fail)
        with pytest.raises(DirectoryError):
            run(bench, *steps)
    return next(bench.journal.jobs(1)).number


@pytest.mark.parametrize("after", [0, 1, 2, 3])
def test_a_job_that_broke_off_is_finished_exactly(bench, monkeypatch, after):
    steps = [add(), add(BOSS, "boss"), Set(ANNA, (Change("manager", (), (str(BOSS),)),))]
    number = broken_off(bench, monkeypatch, steps, after=after)
    assert [job.number for job in bench.journal.broken()] == [number]
    report = bench.runner.resume(number)
    assert (report.made, report.refused) == (3, [])
    assert bench.journal.job(number).state == DONE
    assert bench.context.directory.get(ANNA).text("manager") == str(BOSS)
    assert not bench.journal.broken()
    with pytest.raises(VandrelError, match="not broken off"):
        bench.runner.resume(number)


def test_a_password_that_may_not_have_been_set_is_reported(bench, monkeypatch):
    number = broken_off(bench, monkeypatch, [add(), Password(ANNA, SECRET, True)], after=1)
    report = bench.runner.resume(number)
    assert report.made == 1
    assert "in no record" in str(report.refused[0][1])
    assert bench.journal.job(number).state == PART


@pytest.mark.parametrize("after", [0, 1, 2])
def test_what_a_record_withholds_is_not_passed_over_in_silence(bench, monkeypatch, after):
    hashed = [b"{SSHA512}not a real one"]
    steps = [
        add(userPassword=hashed),
        Set(ANNA, (Change("userPassword", tuple(hashed), ()), Change("title", (), ("Mate",)))),
    ]
    number = broken_off(bench, monkeypatch, steps, after=after)
    report = bench.runner.resume(number)
    # Of an account that is not there, what was to follow is not told as well.
    told = ["it may not have been made, and what is secret in it is in no record"]
    assert [str(error) for _, error in report.refused] == told
    assert (bench.context.directory.get(ANNA) is None) is (
        after == 0
    )  # never an account without the password it was to have
    assert b"SSHA512" not in repr([item.record for item in bench.journal.steps(number)]).encode()


@contextmanager
def elsewhere(bench) -> Iterator[int]:
    """The number of a job that another process is at work on, until the block ends; then that process is killed."""
    ready, go = os.pipe()
    child = os.fork()
    if not child:
        try:
            here = (bench.context.directory.location, bench.context.directory.identity)
            number = Journal(bench.journal.path).begin(NewJob("vandrel test", "t", *here, 2, 2))
            os.write(go, bytes([number]))
            time.sleep(60)
        finally:
            os._exit(1)
    try:
        yield os.read(ready, 1)[0]
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        os.close(ready)
        os.close(go)


def test_a_job_belongs_to_its_process_while_that_lives(bench):
    with elsewhere(bench) as number:
        assert bench.journal.job(number).state == RUNNING
        for way in (bench.runner.resume, lambda number: undo_job(bench.context, bench.runner, UndoRequest(number))):
            with pytest.raises(VandrelError, match="a process is at work on job") as caught:
                way(number)
            assert caught.value.code is Code.BUSY
    assert bench.journal.job(number).state == BROKEN
    with pytest.raises(VandrelError, match="before its first step"):
        bench.runner.resume(number)
    assert bench.journal.job(number).state == PART


def test_somebody_can_vouch_that_a_job_is_dead(bench):
    with elsewhere(bench) as number:
        assert bench.journal.claim(number, is_dead=True).state == BROKEN
        with pytest.raises(VandrelError, match="before its first step"):
            bench.runner.resume(number)


def test_a_job_that_is_being_taken_back_is_not_taken_back_twice(bench):
    number = run(bench, add()).job
    proposal = undo_job(bench.context, bench.runner, UndoRequest(number))
    run_again = [Plan("undo", proposal.steps, undoes=number)] * 2
    assert bench.runner.run(run_again[0], "undo").made == 1
    bench.runner.run(Plan("again", [add()]), "test")
    with pytest.raises(VandrelError, match="took it back already"):
        bench.runner.run(run_again[1], "undo")


def test_a_moved_folder_is_the_same_directory(bench, tmp_path):
    number = run(bench, add()).job
    bench.context.directory.close()
    moved = EmbeddedDirectory((tmp_path / "directory.db").rename(tmp_path / "elsewhere.db"))
    runner = Runner(moved, bench.context.dialect, lambda: bench.journal)
    assert runner.own_job(number).number == number
    other = EmbeddedDirectory.create(tmp_path / "directory.db", [bench.context.charter.base])
    with pytest.raises(VandrelError, match="was at work on"):
        Runner(other, bench.context.dialect, lambda: bench.journal).own_job(number)
    moved.close()
    other.close()


def test_a_long_run_goes_in_batches_and_tells_of_its_progress(bench, monkeypatch):
    monkeypatch.setattr("vandrel.steps.runner.BATCH", 10)
    seen = []
    steps = [add(GUESTS.child("cn", f"P{n}"), f"p{n}") for n in range(25)]
    report = bench.runner.run(Plan("t", steps), "c", lambda made, planned: seen.append((made, planned)))
    assert seen == [(10, 25), (20, 25), (25, 25)]
    assert (report.made, report.is_in_part) == (25, False)
    assert len(list(bench.journal.steps(report.job))) == 25


def test_a_journal_is_no_directory_and_the_reverse(bench, tmp_path):
    with pytest.raises(DirectoryError) as caught:
        Journal(tmp_path / "directory.db")
    assert caught.value.code == "foreign"


def test_what_somebody_else_has_made_is_neither_finished_nor_taken_back(bench):
    """Two that make the same: the second is refused, stops, and is then resumed; it leaves the first one's work alone."""
    people = [ANNA.parent.child("cn", f"Person {number}") for number in range(40)]
    steps: list = [add(dn, dn.name) for dn in people]
    steps += [Password(dn, Secret(f"Kv9-fjord-{number}"), False) for number, dn in enumerate(people)]
    barriers = [len(people)]
    assert not bench.runner.run(Plan("first", steps, is_atomic=False, barriers=barriers), "first").is_in_part
    theirs = [
        Password(step.dn, Secret("Qx7-reef-anchor"), False) if isinstance(step, Password) else step for step in steps
    ]
    second = bench.runner.run(
        Plan("second", theirs, is_atomic=False, barriers=barriers, most_refused=4), "second", checked=True
    )
    assert (second.stopped, second.made, len(second.refused), second.tried) == (True, 0, 5, 5)
    assert list(bench.runner.standing(second.job)) == []  # nothing to take back
    assert len(bench.runner.passwords_in_doubt(second.job)) == 35
    finished = bench.runner.resume(second.job, lambda record: Secret("Qx7-reef-anchor"))
    assert (finished.made, len(finished.refused), len(finished.not_created)) == (0, 40, 40)
    assert all(
        bench.context.directory.verify_password(dn, Secret(f"Kv9-fjord-{number}")) for number, dn in enumerate(people)
    )


@pytest.mark.parametrize(
    ("mine", "theirs"),
    [
        (("", "Mate"), ("", "Cook")),  # two that saw nothing
        (("Mate", ""), ("Mate", "Cook")),  # a clearing beside a change
        (("Mate", "Boss"), ("Mate", "Cook")),
    ],
)
def test_a_value_that_nobody_saw_is_not_written_over(bench, mine, theirs):
    def change(before: str, after: str) -> Set:
        removed, added = ((value,) if value else () for value in (before, after))
        return Set(ANNA, (Change("title", removed, added, is_exclusive=True),))

    before = {"title": [mine[0]]} if mine[0] else {}
    run(bench, add(**before))
    assert run(bench, change(*theirs)).made == 1
    result = run(bench, change(*mine), is_atomic=False)
    assert [error.code for _, error in result.refused] == [Code.CHANGED]
    assert bench.context.directory.get(ANNA).texts("title") == [theirs[1]]
    assert run(bench, change(*theirs[::-1])).made == 1  # and it can be taken back


@pytest.mark.parametrize("name", ["sambaNTPassword", "authPassword", "krbPrincipalKey", "dBCSPwd", "userPKCS12"])
def test_secrets_by_other_names_are_in_no_record(name):
    """RFC 3112, RFC 2798 2.8, [MS-ADA3], and schemas of other programs."""
    for step in (Set(ANNA, (Change(name, ("old",), ("new-one",)),)), Add(ANNA, {"sn": ["Lund"], name: ["new-one"]}),
                 Remove(ANNA, {"sn": ["Lund"], name: ["new-one"]})):  # fmt: skip
        said = repr(step.record())
        assert "new-one" not in said and "old" not in said
        assert isinstance(step, Remove) or step.record()["redacted"]


def _sizes(seconds_of, steps: int = 4000) -> list[int]:
    """The sizes of the batches of a plan, each of which takes as long as `seconds_of` says of its size."""
    sizer = runner_module._BatchSizer(Plan("test", [None] * steps), all_at_once=False)  # type: ignore[list-item]
    sizes = []
    while sizer.start < sizer.stop:
        sizes.append(sizer.stop - sizer.start)
        sizer.go_on(seconds_of(sizes[-1]))
    return sizes


def test_batches_shrink_on_a_slow_server_and_not_over_a_long_line():
    assert _sizes(lambda steps: steps * 0.04)[:5] == [250, 125, 62, 31, 15]  # until one takes a moment
    # Four answers of a fifth of a second, and sixteen steps on their way at a time: 125 cost more each than 250.
    assert _sizes(lambda steps: 0.8 + steps / 16 * 0.2)[:5] == [250, 125, 250, 250, 250]
    assert _sizes(lambda steps: 0.1)[:4] == [250, 500, 1000, 2000]
