"""Snapshots: what anybody has changed or deleted is found, told and put back; and what is stored is what there was."""

from __future__ import annotations

import sqlite3
import stat
from contextlib import closing
from datetime import UTC, date, datetime, timedelta
from unittest.mock import Mock
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vandrel.directory import dn as names
from vandrel.directory.entry import Entry
from vandrel.directory.operations import Change, DeleteEntry, ModifyEntry
from vandrel.directory.packing import pack
from vandrel.directory.port import Changes
from vandrel.errors import Code
from vandrel.jobs.snapshots.keep import TakeRequest, ThinRequest, take, to_drop
from vandrel.record.snapshot_writer import Source
from vandrel.record.snapshots import Snapshot, Snapshots

from . import servers
from .conftest import Folder
from .test_attic import done, fields
from .test_three import _toured, place

__all__ = ["place"]  # the fixture

BASE = names.parse("dc=marrowick,dc=example")


def told(folder: Folder, *words: str) -> dict[str, tuple[list[str], list[str]]]:
    """What differs: by object, what has happened and the changes in words."""
    rows = folder.run("snapshot", "differences", *words, "--json").json["rows"]
    return {row["label"]: (row["what"], row["changes"]) for row in rows}


def with_another_program(kind: str, folder: Folder, *operations) -> None:
    """Do it straight in the directory, past all of the program's record."""
    if kind == "embedded":
        from vandrel.directory.embedded.store import EmbeddedDirectory

        directory = EmbeddedDirectory(folder.path / "directory.db")
    else:
        directory = servers.open_directory(_toured[kind][1].server.settings())
    assert directory.execute(operations, atomic=False) == [None] * len(operations)
    directory.close()


def test_what_another_program_deleted_and_changed_is_found_and_put_back(place):
    kind, folder = place
    before = {name: fields(folder, name) for name in ("hbrekke", "alund", "team-night-watch")}
    done(folder, "snapshot", "take")
    halvard, anna = (names.parse(folder.run("show", each, "--bare", "dn").out.strip()) for each in ("hbrekke", "alund"))
    with_another_program(
        kind, folder, DeleteEntry(halvard), ModifyEntry(anna, (Change("title", ("Second mate",), ("Cook",)),))
    )
    if kind == "slapd":  # there the other program leaves names of nobody behind
        group = names.parse(folder.run("show", "team-night-watch", "--bare", "dn").out.strip())
        with_another_program(kind, folder, ModifyEntry(group, (Change("member", (str(halvard),)),)))
        with_another_program(kind, folder, ModifyEntry(anna, (Change("manager", (str(halvard),)),)))
    differing = told(folder, "1")
    assert differing["hbrekke (Halvard Brekke)"][0] == ["deleted"]
    assert "title: Second mate -> Cook" in differing["alund (Anna Lund)"][1]
    assert list(told(folder, "1", "--what", "deleted")) == ["hbrekke (Halvard Brekke)"]
    assert list(told(folder, "1", "--field", "title")) == ["alund (Anna Lund)"]
    assert folder.run("restore", "hbrekke", "-n").code == Code.NOT_FOUND.exit_code  # no attic knows of it
    more = ["password=generate", "--hand-out", "h.csv"] if kind == "domain" else []
    done(folder, "restore", "hbrekke", *more, "--from-snapshot", "1")
    done(folder, "restore", "alund", "--from-snapshot", "1", "--field", "title")
    for name, had in before.items():
        assert fields(folder, name) == had, name
    after = told(folder, "1")
    if kind == "domain":  # the new password is due, and the server's flags say so
        assert all({change.split(":")[0] for change in each[1]} <= {"@pwdLastSet", "@userAccountControl",
                   "@adminCount",
                   "@operatorCount", "@lastKnownParent"} or each[0] == ["created"] for each in after.values()), after  # fmt: skip
    else:  # the overlay of that server has put a name of nobody into groups, and nothing tells it from a member
        left = [(["changed"], ["members: + nobody"])] if kind == "slapd" else []
        assert [each for each in after.values() if each not in left] == [], after
    assert "with other marks of the directory alone" in folder.run("snapshot", "differences", "1").out


def test_days_and_states_that_differ_are_told_as_fields(place):
    _, folder = place
    done(folder, "snapshot", "take")
    done(folder, "edit", "jmeer", "ends=2027-01-31")
    done(folder, "disable", "alund")
    changes = {label.partition(" ")[0]: changes for label, (_, changes) in told(folder, "1").items()}
    assert changes["jmeer"] == ["ends: (empty) -> 2027-01-31"]
    assert changes["alund"] == ["enabled: yes -> no"]
    assert list(told(folder, "1", "--field", "enabled")) == ["alund (Anna Lund)"]


def test_moves_and_renames_are_no_deletions(demo):
    done(demo, "snapshot", "take")
    done(demo, "rename", "jmeer", "surname=Vos")
    done(demo, "move", "jvos", "--to", "/Shore/Office", "-y")
    done(demo, "create", "group", "Day crew", "kind=team", "members=alund")
    done(demo, "snapshot", "take")
    done(demo, "edit", "alund", "phone=1")
    between, since = told(demo, "1", "2"), told(demo, "2")
    assert between["jvos (Jan Vos)"][0] == ["renamed", "moved", "changed"]
    assert {"name: Jan van der Meer -> Jan Vos", "place: /Ferries/Northquay/Deck/Officers -> /Shore/Office"} <= set(
        between["jvos (Jan Vos)"][1]
    )
    assert between["team-day-crew"][0] == ["created"]
    assert "team-everybody" not in between  # that it names Jan by the new name is no change of the group
    assert set(since) == {"alund (Anna Lund)"}
    assert told(demo, "2", "1")["team-day-crew"][0] == ["deleted"]
    assert "jvos (Jan Vos)" in told(demo, "1", "--under", "/Shore") and "team-day-crew" not in told(
        demo, "1", "--under", "/Shore"
    )


def test_a_snapshot_is_opened_and_what_has_changed_since_can_be_made_there_again(demo):
    """Moved, renamed, exchanged, deleted and made again: the copy of what was becomes what is."""
    done(demo, "snapshot", "take")
    done(demo, "release", "/Shore/Office", "/Shore/IT")
    done(demo, "move", "/Shore/Office", "--to", "/Boatyard")
    done(demo, "create", "unit", "/Shore/Office")
    done(demo, "move", "jmueller", "--to", "/Shore/Office")
    done(demo, "delete", "/Shore/IT", "--contents")
    for who, name in (("jmeer", "Nobody"), ("hbrekke", "Jan van der Meer"), ("jmeer", "Halvard Brekke")):
        done(demo, "edit", who, f"name={name}")
    done(demo, "delete", "alund")
    again = ("create", "crew", "Anna Lund", "number=2998", "site=Northquay", "department=Deck", "category=Officers")
    done(demo, *again, "groups+=team-office", "--hand-out", "t.csv")
    done(demo, "edit", "hbrekke", "manager=alund", "office=Bridge")
    told = demo.run("snapshot", "differences", "1", "--ldif", "since.ldif")
    assert told.code == 0 and "in since.ldif" in told.out and "(empty) -> (empty)" not in told.out, told.out + told.err
    assert demo.run("snapshot", "differences", "1", "--ldif", "since.ldif").code == Code.TAKEN.exit_code
    assert demo.run("export", "--from-snapshot", "1", "--schema", "--to", "then.ldif").code == 0
    done(demo, "load", "then.ldif", "--directory", "then.db")
    then = ("--directory", "then.db")
    assert demo.run("show", "alund", "--bare", "number", *then).out == "2003\n"
    rehearsed = demo.run("load", "since.ldif", "-y", *then)
    assert rehearsed.code == 0, rehearsed.out + rehearsed.err
    copies = [demo.run("export", "--where", "(!(objectClass=dcObject))", *words).out for words in ((), then)]
    now, made = (
        sorted(sorted(record.replace("\n ", "").splitlines()) for record in copy.split("\n\n")) for copy in copies
    )
    assert now == made
    old = demo.run("export", "/Shore/IT", "--from-snapshot", "1", "--only", "ou", "--where", "(ou=*)").out
    assert old == "version: 1\n\ndn: ou=IT,ou=Shore,dc=marrowick,dc=example\nou: IT\n\n"


def test_several_come_back_from_one_snapshot(demo):
    done(demo, "snapshot", "take")
    before = {name: fields(demo, name) for name in ("alund", "hbrekke", "jmeer")}
    done(demo, "delete", *before, "--for-good", "--confirm", "3")
    done(demo, "restore", "alund", "hbrekke", "jmeer", "--from-snapshot", "1")
    assert {name: fields(demo, name) for name in before} == before


def test_groups_go_back_as_well(demo):
    before = fields(demo, "alund")["groups"]
    done(demo, "snapshot", "take")
    done(demo, "edit", "alund", "groups=")
    done(demo, "restore", "alund", "--from-snapshot", "1", "--field", "groups")
    assert fields(demo, "alund")["groups"] == before
    done(demo, "create", "crew", "Tor Vik", "number=2999", "site=Kelness", "department=Deck", "category=Hands",
         "--hand-out", "t.csv")  # fmt: skip
    new = demo.run("restore", "tvik", "--from-snapshot", "1", "--field", "title", "-y")
    assert (new.code, "is not in snapshot 1" in new.err) == (Code.NOT_FOUND.exit_code, True)


def test_what_is_damaged_is_named_and_the_rest_is_kept(demo):
    done(demo, "snapshot", "take")
    path = demo.path / "snapshots.db"
    assert stat.S_IMODE(path.stat().st_mode) == 0o600
    assert demo.run("snapshot", "verify").code == 0
    with closing(sqlite3.connect(path)) as file:
        file.execute("UPDATE spell SET start = start + 1 WHERE "
                     "dn LIKE 'cn=Anna Lund,ou=Officers%'")  # fmt: skip
        file.commit()
    verified = demo.run("snapshot", "verify")
    assert (verified.code, "what a snapshot holds of cn=Anna Lund,ou=Officers" in verified.err) == (
        Code.DAMAGED.exit_code, True,
    )  # fmt: skip
    done(demo, "delete", "hbrekke", "--for-good", "--confirm", "Halvard Brekke")
    assert "what a snapshot holds of cn=Anna Lund" in done(demo, "restore", "hbrekke", "--from-snapshot", "1")
    with closing(sqlite3.connect(path)) as file:
        file.execute("DELETE FROM spell WHERE dn LIKE 'cn=Arne Lund%'")
        file.commit()
    assert "snapshot 1 had" in demo.run("snapshot", "verify", "1").err


@pytest.mark.parametrize(
    ("words", "code"),
    [("take 1", Code.USAGE), ("differences", Code.USAGE), ("differences 9", Code.NOT_FOUND), ("verify 9", Code.NOT_FOUND),
     ("take --under /Nowhere", Code.NOT_FOUND)],
)  # fmt: skip
def test_wrong_words(demo, words, code):
    assert demo.run("snapshot", *words.split()).code == code.exit_code


@pytest.mark.parametrize(("who", "day", "seen"), [("a", 1, ""), ("b", 1, "Mate"), ("a", 2, "Mate")])
def test_what_may_be_read_by_now_is_kept_though_no_entry_changed(tmp_path, who, day, seen):
    """No change of an entry tells of rights: another identity, and another day, read all of it."""
    entry = Entry(BASE.child("cn", "Ann"), {"entryUUID": ["1"]})
    directory = Mock(bound_as="", changes=lambda base, since, known: Changes("1", [] if since == "1" else None))
    directory.packed = lambda base: [pack(entry)]
    charter = Mock(base=BASE, zone=UTC, **{"today.return_value": date(2026, 3, 1)})
    context = Mock(charter=charter, directory=directory, **{"place.return_value": "/"})
    snapshots = Snapshots(tmp_path / "snapshots.db", "here")
    take(context, snapshots, TakeRequest(who="a"))
    entry.attributes["title"] = ["Mate"]
    charter.today.return_value = date(2026, 3, day)
    take(context, snapshots, TakeRequest(who=who))
    assert [e.text("title") for e in snapshots.entries(snapshots.one(2))] == [seen]


def test_what_comes_twice_because_it_was_moved_meanwhile_is_kept_once(tmp_path):
    """A server gives out an object once more where it goes to a place that is yet to be read."""
    ann, moved = (Entry(BASE.child("ou", unit).child("cn", "Ann"), {"entryUUID": ["1"]}) for unit in ("Deck", "Shore"))
    snapshots = Snapshots(tmp_path / "snapshots.db", "here")
    for number in (1, 2):
        snapshot, _ = snapshots.take(BASE, "x", map(pack, (ann, moved)))
        assert (snapshot.entries, snapshots.verify(snapshot)) == (1, []), number
        assert [entry.dn for entry in snapshots.entries(snapshot)] == [ann.dn]


#: Objects by identifier, each with a name and a value; a snapshot is what there is then.
WORLDS = st.lists(
    st.dictionaries(st.sampled_from("abcd"), st.tuples(st.sampled_from(["Ann", "Bo"]), st.integers(0, 2)), max_size=4),
    min_size=1, max_size=6,
)  # fmt: skip


@settings(max_examples=60)
@given(worlds=WORLDS, forgotten=st.sets(st.integers(1, 6), max_size=3), tells=st.sampled_from([None, False, True]))
def test_each_snapshot_is_what_there_was_whatever_is_forgotten(tmp_path_factory, worlds, forgotten, tells):
    """Whether all is read each time, or what has changed; then whether that goes over names that point at others."""
    snapshots = Snapshots(tmp_path_factory.mktemp("s") / "snapshots.db", "here")
    taken: dict[int, set] = {}
    before: dict[str, Entry] = {}
    for world in worlds:
        entries = [
            Entry(BASE.child("cn", f"{name} {key}"), {"entryUUID": [key], "title": [str(value)]})
            for key, (name, value) in world.items()
        ]
        now = {entry.identifier: entry for entry in entries}
        changed = [entry.dn for key, entry in now.items() if before.get(key) != entry]
        said = Changes("stamp", changed, frozenset(before.keys() - now.keys()), has_references=bool(tells))
        by_name = {entry.dn: pack(entry) for entry in entries}
        source = None if tells is None else Source(lambda since, known, said=said: said, by_name.get)
        asked = map(pack, entries)
        snapshot, _ = snapshots.take(BASE, "x", asked, source)
        if tells and before:
            assert len(list(asked)) == len(entries)  # nothing was read but what has changed
        before = now
        taken[snapshot.number] = {(each.dn.key, each.text("title")) for each in entries}
        if snapshot.number in forgotten and len(taken) % 2:  # some at once, the others at the end
            snapshots.drop([snapshot.number])
    snapshots.drop(sorted(forgotten))
    left = {number: held for number, held in taken.items() if number not in forgotten}
    assert {snapshot.number for snapshot in snapshots.all()} == set(left)
    for snapshot in snapshots.all():
        held = [snapshots.entry(each) for each in snapshots.held(snapshot)]
        assert {(entry.dn.key, entry.text("title")) for entry in held} == left[snapshot.number]
        assert snapshots.verify(snapshot) == []
        for other in snapshots.all():
            differing = {each.dn.key for pair in snapshots.differing(snapshot, other) for each in pair if each}
            expected = {key for key, _ in left[snapshot.number] ^ left[other.number]}
            assert differing == expected


def test_the_last_of_each_day_week_and_month_stays():
    zone = ZoneInfo("Europe/Oslo")
    begin = datetime(2026, 11, 28, 20, tzinfo=UTC)
    line = [Snapshot(100 - n, begin - timedelta(hours=12 * n), "x", BASE, 1) for n in range(80)]  # forty days
    gone = {snapshot.number for snapshot in to_drop(line, ThinRequest(3, 2, 2), zone)}
    stays = sorted({100 - n for n in range(80)} - gone, reverse=True)
    # 28, 27 and 26 November in the evening; Sunday 22 November ends the week before; 31 October the month before.
    days = [(begin - timedelta(hours=12 * (100 - number))).astimezone(zone).strftime("%m-%d %H") for number in stays]
    assert days == ["11-28 21", "11-27 21", "11-26 21", "11-22 21", "10-31 21"]
