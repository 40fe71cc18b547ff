"""Whether the steps of a job still stand, and by which names its objects go now."""

from __future__ import annotations

import pytest

from vandrel.directory import dn as names
from vandrel.directory.operations import Change
from vandrel.record.journal import BEGUN, DONE, JournalStep
from vandrel.steps.rename_tracking import left_by, track_renames
from vandrel.steps.state_check import StateCheck
from vandrel.steps.step import Add, Remove, Rename, Set, Step

from .test_steps import GUESTS, PERSON

FERRIES = names.parse("ou=Ferries,dc=marrowick,dc=example")
OLD, NEW = GUESTS.child("ou", "Old"), FERRIES.child("ou", "New")
ANNA, TOR, EVA = OLD.child("cn", "Anna"), OLD.child("cn", "Tor"), GUESTS.child("cn", "Eva")
#: A neighbour whose name begins as the unit's does.
OLDER = GUESTS.child("ou", "Older")
TEAM = GUESTS.child("cn", "team-x")


def run(bench, *steps: Step) -> None:
    """Make the steps, whatever a check would say."""
    assert not any(bench.context.directory.execute([step.operation() for step in steps], atomic=False))


def unit(dn: names.DN) -> Add:
    return Add(dn, {"objectClass": ["top", "organizationalUnit"], "ou": [dn.name], "l": ["Quay"]})


def person(dn: names.DN, **more: list) -> Add:
    return Add(dn, {"objectClass": list(PERSON), "cn": [dn.name], "sn": ["Lund"], "uid": [dn.name.lower()], **more})


def team(*members: names.DN) -> Add:
    return Add(TEAM, {"objectClass": ["top", "groupOfNames"], "cn": [TEAM.name], "member": list(map(str, members))})


def put(dn: names.DN, attribute: str, *, out: tuple = (), come: tuple = ()) -> Set:
    return Set(dn, (Change(attribute, tuple(map(str, out)), tuple(map(str, come))),))


#: A job that does everything to a few objects. The unit's new name gives its people, and who points at them, new ones.
JOB: tuple[Step, ...] = (
    unit(OLD), unit(OLDER), person(ANNA), person(TOR, manager=[str(ANNA)]), person(EVA), team(ANNA, EVA, OLDER),
    put(ANNA, "title", come=("Mate",)), put(TEAM, "member", out=(EVA,), come=(TOR,)), Rename(OLD, NEW),
    put(ANNA.moved(OLD, NEW), "title", out=("Mate",), come=("Bosun",)), Remove(EVA, person(EVA).attributes),
)  # fmt: skip


def standing(bench, job: tuple[Step | None, ...] = JOB) -> list[int]:
    """The numbers of the steps that do not stand any more."""
    check = StateCheck(bench.context.directory, job)
    return [number for number, step in enumerate(job) if check.of(number, step) is False]


@pytest.mark.parametrize(
    ("meanwhile", "fallen"),
    [
        ([], []),
        ([put(ANNA.moved(OLD, NEW), "title", out=("Bosun",), come=("Cook",))], [6, 9]),
        ([put(ANNA.moved(OLD, NEW), "title", come=("Mate",))], [6, 9]),
        ([put(ANNA.moved(OLD, NEW), "sn", out=("Lund",), come=("Berg",))], [2]),
        ([put(ANNA.moved(OLD, NEW), "description", come=("x",))], []),
        ([put(TOR.moved(OLD, NEW), "manager", out=(ANNA.moved(OLD, NEW),))], [3]),
        ([put(TEAM, "member", out=(TOR.moved(OLD, NEW),))], [5, 7]),
        ([put(TEAM, "member", come=(FERRIES,))], []),
        ([put(OLDER, "l", out=("Quay",))], [1]),
        ([Remove(TOR.moved(OLD, NEW), {})], [3, 5, 7]),
        ([Rename(NEW, OLD)], [0, 2, 3, 5, 6, 7, 8, 9]),
        ([Remove(OLDER, {})], [1, 5, 7]),
        ([person(EVA)], [10]),
    ],
)  # fmt: skip
def test_what_somebody_else_has_changed_fells_the_steps_that_it_concerns(bench, meanwhile, fallen):
    run(bench, *JOB)
    if meanwhile:
        run(bench, *meanwhile)
    assert standing(bench) == fallen


def test_what_a_job_has_made_and_taken_away_itself_stands(bench):
    again = (person(ANNA.moved(OLD, NEW)), Remove(ANNA.moved(OLD, NEW), {}), person(ANNA.moved(OLD, NEW)))
    run(bench, unit(NEW), *again)
    job = (unit(NEW), *again, None)
    check = StateCheck(bench.context.directory, job)
    assert [check.of(number, step) for number, step in enumerate(job)] == [True, True, True, True, None]


def test_a_sign_that_the_server_turns_into_a_time_stands(bench):
    run(bench, unit(OLD), person(ANNA))
    assert standing(bench, (put(ANNA, "pwdLastSet", come=("-1",)), put(ANNA, "title", come=("Mate",)))) == [1]


def records(*steps: Step, begun: bool = True) -> list[JournalStep]:
    return [JournalStep(n, BEGUN if begun else DONE, step.record(), "") for n, step in enumerate(steps, 1)]


def test_what_was_renamed_unnoticed_is_looked_for_by_its_new_name(bench):
    """A job that was broken off: its renames were made, and nobody knows; the steps before go by the new names."""
    run(bench, unit(OLD), unit(OLDER), person(ANNA), team(ANNA))
    before = (put(ANNA, "title", come=("Mate",)), put(TEAM, "manager", out=(OLDER,), come=(ANNA, "")), unit(OLDER),
              Rename(TOR, OLD.child("cn", "Tor B")))  # fmt: skip
    moved = ANNA.moved(OLD, NEW)
    run(bench, Rename(OLD, NEW))
    items = track_renames(bench.context.directory, records(*before, Rename(OLD, NEW)))
    assert [item.step for item in items] == [
        put(moved, "title", come=("Mate",)), put(TEAM, "manager", out=(OLDER,), come=(moved, "")), unit(OLDER),
        Rename(TOR, NEW.child("cn", "Tor B")), Rename(OLD, NEW),
    ]  # fmt: skip
    assert [item.dn for item in items] == [moved, TEAM, OLDER, TOR.moved(OLD, NEW), OLD]
    # What is known to be made was made by the names of then; and a rename that was not made changes no name.
    known = track_renames(bench.context.directory, [*records(*before, begun=False), *records(Rename(OLD, NEW))])
    assert [item.step for item in known] == [*before, Rename(OLD, NEW)]
    not_made = track_renames(bench.context.directory, records(*before, Rename(OLDER, FERRIES.child("ou", "Newer"))))
    assert [item.step for item in not_made[:4]] == list(before)


def test_objects_are_as_the_steps_leave_them_made_or_not(bench):
    run(bench, unit(OLD), person(ANNA, title=["Mate"]), person(EVA))
    steps = (person(TOR, title=["Cook"]), put(TOR, "title", out=("Cook",), come=("Purser",)),
             put(ANNA, "title", out=("Mate",), come=("Bosun", "Diver")), put(ANNA, "title", come=("Bosun",)),
             put(OLDER, "title", come=("x",)), put(EVA, "title", come=("Pilot",)))  # fmt: skip
    left = left_by(bench.context.directory, track_renames(bench.context.directory, records(*steps)), [TOR, ANNA, OLDER])
    assert {dn: entry.values_of("title") for dn, entry in left.items()} == {TOR: ["Purser"], ANNA: ["Bosun", "Diver"]}
