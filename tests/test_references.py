"""Names that point at what a plan renames and removes: which steps are added, and what the names are afterwards."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from msgspec import structs

from vandrel.dialects.standard import StandardDialect
from vandrel.directory.dn import DN
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.entry import Entry
from vandrel.directory.operations import Change
from vandrel.directory.port import Capabilities
from vandrel.fields import ACCOUNT
from vandrel.jobs.common.edit import Edit
from vandrel.jobs.common.edit_order import in_order
from vandrel.secret import Secret
from vandrel.steps.references import (
    additions_apart,
    give_back,
    own_references,
    pointing_again,
    references_of,
    references_taken,
    with_references,
    without_references,
)  # fmt: skip
from vandrel.steps.step import Add, Password, Remove, Rename, Set, Step

from .test_standing import ANNA, EVA, FERRIES, NEW, OLD, OLDER, TEAM, TOR, person, put, run, team, unit


class Plain(EmbeddedDirectory):
    """A directory that leaves names as they are when an object goes or gets another name, as many servers do."""

    @property
    def capabilities(self) -> Capabilities:
        return structs.replace(super().capabilities, mends_references=False)


@pytest.fixture
def place(bench) -> Iterator[tuple[Plain, StandardDialect]]:
    directory = Plain(bench.context.directory.path)
    run(bench, unit(OLD), unit(OLDER), person(ANNA), person(TOR, manager=[str(ANNA)]),
        person(EVA, manager=[str(ANNA)], secretary=[str(TOR)]), team(ANNA, EVA))  # fmt: skip
    yield directory, StandardDialect(directory, bench.context.charter)
    directory.close()


def added(place, *steps: Step) -> list[Step]:
    """What is added to some steps, in order; those themselves stay as they are."""
    whole = with_references(*place, steps)
    assert [step for step in whole if step in steps] == list(steps)
    return [step for step in whole if step not in steps]


def test_who_points_at_a_renamed_unit_and_what_is_in_it_points_at_the_new_names(place):
    anna, tor = ANNA.moved(OLD, NEW), TOR.moved(OLD, NEW)
    steps = added(place, Rename(OLD, NEW))
    assert {(step.dn, change.attribute, change.removed, change.added) for step in steps for change in step.changes} == {
        (TEAM, "member", (str(ANNA),), (str(anna),)), (tor, "manager", (str(ANNA),), (str(anna),)),
        (EVA, "manager", (str(ANNA),), (str(anna),)), (EVA, "secretary", (str(TOR),), (str(tor),)),
    }  # fmt: skip
    whole = with_references(*place, [Rename(OLD, NEW)])
    assert whole[0] == Rename(OLD, NEW)  # before it, nobody has the new names


def test_two_renames_one_after_the_other_are_both_followed(place):
    end = NEW.child("cn", "Anna B")
    anna = ANNA.moved(OLD, NEW)
    steps = with_references(*place, [Rename(OLD, NEW), Rename(anna, end)])
    last = steps[steps.index(Rename(anna, end)) + 1 :]
    assert {(step.dn, step.changes) for step in last} == {
        (TEAM, (Change("member", (str(anna),), (str(end),)),)), (EVA, (Change("manager", (str(anna),), (str(end),)),)),
        (TOR.moved(OLD, NEW), (Change("manager", (str(anna),), (str(end),)),)),
    }  # fmt: skip


def test_a_directory_that_sees_to_renames_needs_no_step_but_where_something_goes(bench, place):
    mending = bench.context.directory, bench.context.dialect
    assert with_references(*mending, [Rename(OLD, NEW)]) == [Rename(OLD, NEW)]
    gone = Remove(ANNA.moved(OLD, NEW), {})
    steps = [step for step in with_references(*mending, [Rename(OLD, NEW), gone]) if isinstance(step, Set)]
    assert {step.dn for step in steps} == {TEAM, TOR.moved(OLD, NEW), EVA}
    assert all(change.removed == (str(gone.dn),) for step in steps for change in step.changes)


def test_who_points_at_what_goes_points_there_no_more_before_it_goes(place):
    title, last = put(EVA, "title", come=("Mate",)), [Remove(ANNA, {}), Remove(TOR, {})]
    first, *mended, anna, tor = with_references(*place, [title, *last])
    # Both go in one run: who stays loses both names at once, and nobody mends who goes as well.
    assert [first, anna, tor] == [title, *last]
    assert {step.dn: {(change.attribute, change.removed) for change in step.changes} for step in mended} == {
        TEAM: {("member", (str(ANNA),))}, EVA: {("manager", (str(ANNA),)), ("secretary", (str(TOR),))},
    }  # fmt: skip


def test_what_goes_in_two_runs_is_mended_before_each(place):
    title = put(EVA, "title", come=("Mate",))
    whole = with_references(*place, [Remove(TOR, {}), title, Remove(ANNA, {})])
    assert whole[:3] == [put(EVA, "secretary", out=(TOR,)), Remove(TOR, {}), title]
    assert whole[-1] == Remove(ANNA, {})
    assert {(step.dn, step.changes) for step in whole[3:-1]} == {
        (TEAM, (Change("member", (str(ANNA),)),)), (EVA, (Change("manager", (str(ANNA),)),)),
    }  # fmt: skip


def test_what_earlier_steps_give_and_take_is_known_by_then(place):
    joins, leaves = put(TEAM, "member", come=(TOR,)), put(EVA, "secretary", out=(TOR,))
    assert added(place, joins, leaves, Remove(TOR, {})) == [put(TEAM, "member", out=(TOR,))]
    new = OLDER.child("cn", "Ida")
    assert added(place, person(new, manager=[str(TOR)]), put(EVA, "secretary", out=(TOR,)), Remove(TOR, {})) == [
        put(new, "manager", out=(TOR,))
    ]
    assert added(place, put(OLDER.child("cn", "Nobody"), "manager", come=(TOR,)), Remove(FERRIES, {})) == []


def test_a_list_that_must_not_be_empty_gets_the_name_of_nobody(place):
    (step,) = [step for step in added(place, Remove(ANNA, {}), Remove(EVA, {})) if step.dn == TEAM]
    assert (set(step.changes[0].removed), step.changes[0].added) == ({str(ANNA), str(EVA)}, ("",))


def test_who_must_have_a_name_keeps_it_and_that_is_told(bench, place):
    alias = OLDER.child("cn", "Also Eva")
    run(bench, Add(alias, {"objectClass": ["top", "alias", "extensibleObject"], "cn": ["Also Eva"],
                           "aliasedObjectName": [str(EVA)]}))  # fmt: skip
    kept: list[tuple[DN, str, DN]] = []
    steps = with_references(*place, [Remove(EVA, {})], kept.append)
    assert kept == [(alias, "aliasedObjectName", EVA)]
    assert steps == [put(TEAM, "member", out=(EVA,)), Remove(EVA, {})]


def test_additions_that_point_at_later_ones_do_so_once_those_are_there(place):
    directory, dialect = place
    ida, per, crew = (OLDER.child("cn", name) for name in ("Ida", "Per", "crew"))
    group = Add(crew, {"objectClass": ["top", "groupOfNames"], "cn": ["crew"], "member": [str(ida), str(per)]})
    steps = [group, person(ida, manager=[str(per)], secretary=[str(EVA)]), person(per, manager=[str(ida)])]
    apart = list(additions_apart(steps, dialect, directory.schema))
    assert [step.attributes.get("member") for step in apart[:1]] == [[""]]
    assert [(step.attributes.get("manager"), step.attributes.get("secretary")) for step in apart[1:3]] == [
        (None, [str(EVA)]), ([str(ida)], None),
    ]  # fmt: skip
    assert not any(directory.execute([step.operation() for step in apart], atomic=False))
    assert directory.get(crew).values_of("member") == [str(ida), str(per)]
    assert directory.get(ida).values_of("manager") == [str(per)]
    # Whoever is there already is no reason to wait, and additions in the right order stay as they are.
    assert list(additions_apart(steps[::-1][:1], dialect, directory.schema)) == steps[::-1][:1]


def test_an_entry_without_some_of_its_names_and_with_them_again(place):
    directory, dialect = place
    entry = directory.get(TEAM)
    bare = without_references(entry, [("member", ANNA), ("member", EVA)], dialect)
    assert (bare.values_of("member"), set(entry.values_of("member"))) == ([""], {str(ANNA), str(EVA)})
    assert without_references(entry, [("member", ANNA)], dialect).values_of("member") == [str(EVA)]
    eva = without_references(directory.get(EVA), [("manager", ANNA)], dialect)
    assert ("manager" in eva.attributes, eva.values_of("secretary")) == (False, [str(TOR)])
    again = list(pointing_again(bare, [("member", ANNA), ("member", ANNA)], dialect))
    assert sorted((change.removed, change.added) for change in again) == [((), (str(ANNA),)), (("",), ())]
    assert list(pointing_again(eva, [("manager", ANNA), ("secretary", TOR)], dialect)) == [
        Change("manager", (), (str(ANNA),)), Change("secretary", (), (str(TOR),)),
    ]  # fmt: skip


def test_what_was_taken_is_told_and_given_back(place):
    directory, _ = place
    steps = [put(TEAM, "member", out=(ANNA, EVA)), put(EVA, "title", out=(ANNA,)), put(TOR, "manager", out=(ANNA,)),
             Set(EVA, (Change("manager", (str(ANNA),), (str(TOR),)),)), Remove(ANNA, {})]  # fmt: skip
    taken = list(references_taken(steps, {ANNA.key}, directory.schema))
    assert taken == [(TEAM, "member", ANNA), (TOR, "manager", ANNA), (EVA, "manager", ANNA)]
    assert give_back(steps, [ANNA], directory.schema) == [
        put(TEAM, "member", come=(ANNA,)), put(TOR, "manager", come=(ANNA,)), put(EVA, "manager", come=(ANNA,)),
    ]  # fmt: skip
    assert give_back(steps, [TOR], directory.schema) == []


def test_references_are_names_that_clients_write(place):
    directory, _ = place
    mixed = {"member": ["", str(ANNA), "no name"], "title": [str(ANNA)], "manager": [str(TOR)]}
    assert set(references_of(mixed, directory.schema)) == {("member", ANNA), ("manager", TOR)}
    own = own_references(directory)
    assert {"member", "manager", "owner", "seeAlso"} <= {*own}
    assert not {"creatorsName", "modifiersName", "subschemaSubentry", "title"} & {*own}


def test_what_changes_with_a_name_follows_it_unless_something_else_knows_the_old_name(bench):
    base = bench.context.charter.base
    old, new, group = base.child("cn", "Anna Lund"), base.child("cn", "Anna Berg"), base.child("cn", "Deck")
    named, surname = Change("cn", (), ("Anna Berg",)), Change("sn", ("Lund",), ("Berg",))
    rename, password = Rename(old, new), Password(old, Secret("Kv9-fjord-lamp"), True)
    own, chief, joining = Set(old, (named, surname)), Set(old, (Change("manager", (), (str(group),)),)), Set(group, ())

    def ordered(*steps: Step, passwords: tuple[Step, ...] = ()) -> list[Step]:
        edit = Edit(Entry(old, {"cn": ["Anna Lund"]}), ACCOUNT, steps=[*steps, rename])
        return in_order(bench.context, [edit], passwords)

    assert ordered(own) == [rename, Set(new, (surname,))]  # the name has come with the renaming
    assert ordered(Set(old, (named,))) == [rename]
    assert ordered(chief) == [chief, rename]
    assert ordered(own, joining) == [own, joining, rename]
    assert ordered(own, passwords=(password,)) == [own, password, rename]
