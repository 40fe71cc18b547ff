"""Lists that are worked out in parts and values that are kept once: they are what they would be in one piece."""

from __future__ import annotations

import copy
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec import structs

from vandrel.dialects.standard import StandardDialect
from vandrel.directory import dn as names
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.shared_values import SharedValues
from vandrel.directory.spilled import Spill
from vandrel.intake.description import Description
from vandrel.intake.item import Item
from vandrel.jobs.bulk import batches
from vandrel.jobs.bulk.batches import Batches
from vandrel.jobs.bulk.planner import Planner
from vandrel.jobs.common.proposal import Action, Passwords
from vandrel.jobs.services.profile import Copying, Profile
from vandrel.jobs.services.synchronization import synchronize as synchronization
from vandrel.jobs.services.synchronization.comparison import SynchronizeRequest
from vandrel.lazy_list import LazyList, LazyMap, LazyPart
from vandrel.objects.context import Context
from vandrel.record.links import Link, Links
from vandrel.secret import Secret
from vandrel.steps.plan import Plan
from vandrel.steps.runner import Runner
from vandrel.steps.step import Add, Remove, Set

from .test_jobs import TODAY, hire

BOUNDS = st.none() | st.integers(-12, 12)


@given(st.lists(st.lists(st.integers(), max_size=4), max_size=4), BOUNDS, BOUNDS, st.sampled_from((None, 1, 2, -1, -3)))
def test_a_list_in_parts_is_like_one_in_one_piece(parts, start, stop, step):
    whole = [value for part in parts for value in part]
    lazy = LazyList([LazyPart(len(part), lambda part=part: part) for part in parts])
    assert len(lazy) == len(whole) and list(lazy) == whole and bool(lazy) == bool(whole)
    assert lazy[start:stop:step] == whole[start:stop:step]
    assert [lazy[place] for place in range(-len(whole), len(whole))] == whole + whole
    each = LazyMap(whole, str)
    assert list(each) == list(map(str, whole)) and list(each[start:stop:step]) == list(map(str, whole))[start:stop:step]


def test_values_that_come_again_are_kept_once_and_nothing_else_changes():
    entries = [
        {"objectClass": ["top", "person"], "uid": [f"u{number}"], "l": [("North", "South")[number % 2]], "seeAlso": []}
        for number in range(3000)
    ]
    before, shared = copy.deepcopy(entries), SharedValues()
    for attributes in entries:
        shared.share(attributes)
    assert entries == before
    for name, different in (("objectClass", 1), ("l", 2), ("uid", 3000)):
        assert len({id(attributes[name]) for attributes in entries}) == different


def _rows(count: int) -> list[Item]:
    """People who report to each other in a circle, so that some point at others that come later."""
    return [
        Item(number + 1, {"given": (f"Ada{number}",), "surname": ("Lund",), "number": (str(9000 + number),),
                          "site": ("Northquay",), "department": ("Deck",), "category": ("Hands",),
                          "manager": (str(9000 + (number + 5) % count),)})
        for number in range(count)
    ]  # fmt: skip


def test_steps_of_an_import_are_the_same_however_often_they_are_worked_out(bench, monkeypatch):
    monkeypatch.setattr(batches, "TOGETHER", 4)
    roster = Planner(bench.context, Description(kind="crew", key=["number"]), TODAY).plan(_rows(18))
    secret = Secret("Kv9-fjord-lamp", generated=True)
    of = Batches(bench.context, roster.lines, lambda line: secret, "account")
    streamed = list(of)
    steps, barriers = of.plan()
    assert [step for batch in streamed for step in batch.steps] == list(steps) == list(steps)
    assert steps[5:13] == list(steps)[5:13]
    ends = [sum(len(batch.steps) for batch in streamed[: number + 1]) for number in range(len(streamed))]
    assert set(ends) <= set(barriers)
    result = bench.runner.run(Plan("import", steps, is_atomic=False, barriers=barriers), "test")
    assert not result.refused and sum(isinstance(step, Add) for step in steps) == 18
    context = bench.context
    people = {context.one(entry, "number"): entry for entry in context.directory.search(context.charter.base)}
    for number in range(18):
        manager = names.parse(people[str(9000 + number)].text("manager"))
        assert manager == people[str(9000 + (number + 5) % 18)].dn


@pytest.mark.parametrize("few", [500, 2])  # so many wait in memory
def test_a_synchronization_is_the_same_however_often_it_is_worked_out(bench, monkeypatch, tmp_path, few):
    monkeypatch.setattr(synchronization, "_TOGETHER", 3)
    monkeypatch.setattr(Spill.__init__, "__defaults__", (few,))
    monkeypatch.setattr(synchronization, "_SKEW", timedelta(hours=-1))  # what was just sent is not recent any more
    here = bench.context
    logins = [hire(bench, given=f"Ada{number}", number=str(9000 + number)) for number in range(8)]
    people = {here.one(entry, "login"): entry.dn for entry in here.directory.search(here.charter.base)}
    for number, login in enumerate(logins):  # in a circle, across the parts
        changes = tuple(here.dialect.changes(here.directory.get(people[login]), "manager",
                                             [str(people[logins[(number + 4) % 8]])]))  # fmt: skip
        bench.runner.run(Plan("manager", [Set(people[login], changes)]), "test")
    charter = here.charter.at("dc=other,dc=example")
    directory = EmbeddedDirectory.create(tmp_path / "other.db", [charter.base])
    there = Context(charter, directory, StandardDialect(directory, charter))
    top = Add(charter.base, {"objectClass": ["top", "dcObject", "organization"], "dc": ["other"], "o": ["Other"]})
    runner = Runner(directory, there.dialect, lambda: bench.journal)
    runner.run(Plan("top", [top]), "test")
    links = Links(tmp_path / "links.db", here.directory.identity, directory.identity)
    request = SynchronizeRequest(
        Profile(copying=Copying(send=["login", "number", "full", "surname", "manager"])), "other"
    )
    proposal = synchronization.synchronize(here, there, links, request)
    work = proposal.work(Passwords())
    steps = list(work.steps)
    assert steps == list(work.steps) == [work.steps[place] for place in range(len(steps))]
    made = [step.dn.key for step in steps if isinstance(step, Add)]
    for place, step in enumerate(steps):
        for manager in step.attributes.get("manager", ()) if isinstance(step, Add) else ():
            assert names.parse(str(manager)).key in {each.dn.key for each in steps[:place] if isinstance(each, Add)}
    result = runner.run(Plan("all", work.steps, is_atomic=False, barriers=work.barriers), "test")
    assert not result.refused and len(set(made)) == len(made)
    copies = {there.one(entry, "number"): entry for entry in directory.search(charter.base)}
    for number in range(8):
        manager = names.parse(copies[str(9000 + number)].text("manager"))
        assert manager == copies[str(9000 + (number + 4) % 8)].dn
    proposal.keep(result)
    changed = here.directory.get(people[logins[5]])
    bench.runner.run(Plan("name", [Set(changed.dn, tuple(here.dialect.changes(changed, "surname", ["Vik"])))]), "test")
    gone = here.directory.get(people[logins[7]])
    remove = Remove(gone.dn, gone.attributes)
    bench.runner.run(Plan("gone", [remove]), "test")
    wanted = [(Action.CHANGE, copies["9005"].dn, [("surname", ("Vik",))]),
              (Action.CHANGE, copies["9007"].dn, [("enabled", ("no",))])]  # fmt: skip
    for recent in (True, False):
        again = synchronization.synchronize(here, there, links, structs.replace(request, recent=recent))
        told = [(each.action, each.dn, [(field.field, field.after) for field in each.fields]) for each in again.changes]
        # Whose manager is gone here has none there either.
        assert [each for each in told if each[2][0][0] != "manager"] == wanted, recent
    work = again.work(Passwords())
    result = runner.run(Plan("again", work.steps, is_atomic=False, read=work.read), "test")
    assert not result.refused
    again.keep(result)
    for recent in (True, False):
        assert not synchronization.synchronize(here, there, links, structs.replace(request, recent=recent)).changes
    bench.runner.run(Plan("back", [structs.replace(remove.reverse(), was=gone.identifier)]), "test")
    for recent in (True, False):
        back = synchronization.synchronize(here, there, links, structs.replace(request, recent=recent))
        told = {each.dn: [(field.field, field.after) for field in each.fields] for each in back.changes}
        assert ("enabled", ("yes",)) in told[copies["9007"].dn] and not back.tables, (recent, told)
    directory.close()


def test_links_are_read_one_by_one_together_and_all(tmp_path):
    links = Links(tmp_path / "links.db", "here", "there")
    assert links.read().get("a") is None and not list(links.read().identifiers())
    whole, part = Link("a", "1", {"title": ("Cook",)}), Link("b", "2", {})
    links.keep([whole, part], [], datetime.now(UTC))
    before = links.read()
    for ahead in ([], ["a", "c"]):  # by itself, or together with others
        before.look_ahead(ahead)
        assert (before.get("a"), before["b"], before.get("c")) == (whole, part, None)
        with pytest.raises(KeyError):
            before["c"]
    assert list(before.all()) == [whole, part] and list(before.identifiers()) == [("a", "1"), ("b", "2")]
