"""Seats: counted, given and taken by whatever command, refused beyond what there is, and told when they change."""

from __future__ import annotations

from datetime import timedelta

import pytest

from vandrel.charter.load import load
from vandrel.errors import Code

from .conftest import Folder, Result
from .test_attic import done
from .test_backup import job_of

#: Three seats, of which a group with its members may take some; a part is given apart.
POOL = "plans: {about: The planning tool, group: may-sailing-plan, parts: {fares: may-fares}, capacity: 3"
NEW_HAND = ("create", "crew", "Ada Nygård", "number=3001", "site=Kelness", "department=Deck", "category=Hands")


@pytest.fixture
def seats(demo) -> Folder:
    add(demo, POOL + "}")
    return demo


def add(folder: Folder, pool: str) -> None:
    """Write a pool into the charter."""
    path = folder.path / "charter.yaml"
    path.write_text(path.read_text().partition("\nseats:")[0] + f"\nseats:\n  {pool}\n")


def taken(folder: Folder) -> dict[str, str]:
    return {row["seats"]: row["taken"] for row in folder.run("seats", "--json").json["rows"]}


def said(result: Result) -> str:
    return " ".join((result.out + result.err).split())


def test_seats_are_given_wholly_and_by_parts_and_taken_away(seats):
    assert taken(seats) == {"plans": "0", "plans/fares": "0"}
    told = seats.run("seats", "give", "plans", "alund", "hbrekke", "-y")
    assert "plans: 2 of 3 seats are taken then, 0 now" in said(told)
    done(seats, "seats", "give", "plans/fares", "jmeer")
    assert taken(seats) == {"plans": "2", "plans/fares": "3"}
    done(seats, "seats", "take", "plans", "alund", "jmeer")
    assert taken(seats) == {"plans": "1", "plans/fares": "1"}
    assert "Nothing to change" in said(seats.run("seats", "take", "plans", "alund", "-y"))
    undone = seats.run("undo", str(job_of(seats, "seats alund (Anna Lund), jmeer (Jan van der Meer)")), "-y")
    assert undone.code == 0 and taken(seats) == {"plans": "2", "plans/fares": "3"}, said(undone)


@pytest.mark.parametrize(
    "words",
    [("seats", "give", "plans", "team-office"), ("edit", "team-office", "groups+=may-sailing-plan"),
     ("edit", "may-sailing-plan", "members+=team-office"),
     ("edit", "alund", "hbrekke", "jmeer", "tsahin", "groups+=may-sailing-plan")],
)  # fmt: skip
def test_more_than_there_are_is_refused_whatever_gives_them(seats, words):
    before = seats.state()
    told = seats.run(*words, "-y")
    assert told.code == Code.REFUSED.exit_code
    assert "of 3 seats would be taken" in said(told) and "capacity" in said(told)
    assert seats.state() == before
    add(seats, POOL + ", beyond: tell}")
    assert seats.run(*words, "-y").code == 0
    faults = {row["rule"]: row["what"] for row in seats.run("audit", "seats-beyond", "--json").json["rows"]}
    assert faults["seats-beyond"].startswith("plans: ")


def test_whoever_is_created_leaves_comes_back_or_is_deleted_takes_and_frees_a_seat(seats):
    add(seats, "post: {group: team-everybody, capacity: 57}")
    assert taken(seats) == {"post": "56"}
    made = seats.run(*NEW_HAND, "password=none", "-y")
    assert "post: 57 of 57 seats are taken then, 56 now" in said(made)
    full = seats.run(*NEW_HAND[:2], "Ida Vik", *NEW_HAND[4:], "number=3002", "password=none", "-y")
    assert (full.code, "1 more than there are" in said(full)) == (Code.REFUSED.exit_code, True)
    assert "post: 56 of 57" in said(seats.run("leave", "alund", "-y"))
    assert "post: 57 of 57" in said(seats.run("leave", "alund", "--back", "-y"))
    assert "post: 56 of 57" in said(seats.run("delete", "hbrekke", "-y"))
    done(seats, "create", *NEW_HAND[1:2], "Ida Vik", *NEW_HAND[4:], "number=3002", "password=none")
    # What was there before comes back, and what that does to the pool is told.
    back = seats.run("restore", "hbrekke", "-y")
    assert taken(seats) == {"post": "58"}, said(back)
    assert "58 of 57 seats would be taken, 1 more than there are" in said(back)


#: An organization's own field, in which seats stand instead of in groups.
FIELD = """\
fields:
  products: {about: what somebody has a seat of, many: true, attribute: {standard: carLicense, ad: otherPager}}
"""


def test_seats_can_stand_in_a_field(demo):
    add(
        demo,
        "plans: {field: products, parts: {fares: plans-fares}, capacity: 3}\n  atlas: {field: products, value: atlas-7, capacity: 1}",
    )
    path = demo.path / "charter.yaml"
    path.write_text(path.read_text() + FIELD)
    assert taken(demo) == {"plans": "0", "plans/fares": "0", "atlas": "0"}
    told = demo.run("seats", "give", "plans", "alund", "hbrekke", "-y")
    assert "plans: 2 of 3 seats are taken then, 0 now" in said(told)
    assert demo.run("show", "alund", "--bare", "products").out.split() == ["plans", "plans-fares"]
    done(demo, "seats", "give", "plans/fares", "jmeer")
    assert taken(demo) == {"plans": "2", "plans/fares": "3", "atlas": "0"}
    # A group stands for its members; and whatever gives a seat is counted, one that is refused by whatever gives it.
    for words in (("seats", "give", "atlas", "team-it"), ("edit", "alund", "hbrekke", "products+=ATLAS-7")):
        refused = demo.run(*words, "-y")
        assert (refused.code, "1 seats would be taken" in said(refused)) == (Code.REFUSED.exit_code, True)
    made = demo.run(*NEW_HAND, "products=atlas-7", "password=none", "-y")
    assert "atlas: 1 of 1 seats are taken then, 0 now" in said(made)
    assert "atlas: 0 of 1" in said(demo.run("delete", "anygaard", "-y"))
    done(demo, "seats", "give", "atlas", "jmeer")
    back = demo.run("restore", "anygaard", "-y")
    assert "atlas: 2 of 1 seats would be taken, 1 more than there are" in said(back)
    faults = [row["what"] for row in demo.run("audit", "seats-beyond", "--json").json["rows"]]
    assert faults == ["atlas: 2 seats of 1 are taken"]
    assert "plans: 1 of 3" in said(demo.run("leave", "alund", "-y"))
    assert demo.run("show", "alund", "--bare", "products").out.split() == []
    assert "plans: 2 of 3" in said(demo.run("leave", "alund", "--back", "-y"))
    done(demo, "seats", "take", "plans", "alund", "jmeer")
    assert taken(demo) == {"plans": "1", "plans/fares": "1", "atlas": "2"}
    rows = {row["who"].split()[0]: row["how"] for row in demo.run("seats", "atlas", "--json").json["rows"]}
    assert rows == {"anygaard": "directly", "jmeer": "directly"}
    done(demo, "edit", "jmeer", "products=ATLAS-7")  # by any spelling
    assert "Nothing to change" in said(demo.run("seats", "give", "atlas", "jmeer", "-y"))
    assert "atlas: 1 of 1" in said(demo.run("seats", "take", "atlas", "jmeer", "-y"))


def test_seats_are_counted_under_a_new_name_given_by_the_same_change(demo):
    add(demo, "atlas: {field: products, capacity: 1}")
    path = demo.path / "charter.yaml"
    path.write_text(path.read_text() + FIELD)
    given = demo.run("edit", "alund", "name=Anna Berg", "products+=atlas", "-y")
    assert "atlas: 1 of 1 seats are taken then, 0 now" in said(given), said(given)
    # Back in the other order: first the name, then what stands under it.
    undone = demo.run("undo", str(demo.run("journal", "--json").json["rows"][0]["number"]), "-y")
    assert "atlas: 0 of 1 seats are taken then, 1 now" in said(undone), said(undone)
    assert taken(demo) == {"atlas": "0"}


def test_a_seat_takes_the_fields_that_its_pool_asks_for(seats):
    add(seats, POOL + ", requires: [office]}")
    told = seats.run("seats", "give", "plans", "alund", "-y")
    assert told.code == Code.REQUIRED.exit_code and "a seat takes the field office" in said(told)
    done(seats, "edit", "alund", "office=Bridge")
    done(seats, "seats", "give", "plans", "alund")
    done(seats, "edit", "alund", "office=")
    rows = seats.run("audit", "seat-field-missing", "--json").json["rows"]
    assert {row["remedy"] for row in rows} == {"vandrel edit alund office=..."}


def test_directly_and_through_a_group_is_told_and_so_is_a_seat_of_nobody(seats):
    add(seats, POOL.replace("capacity: 3", "capacity: 30") + "}")
    done(seats, "seats", "give", "plans", "team-it")
    login = seats.run("find", "--under", "/Shore/IT", "--columns", "login", "--as", "csv").out.split()[1]
    done(seats, "seats", "give", "plans", login)
    rows = {row["who"].split()[0]: row["how"] for row in seats.run("seats", "plans", "--json").json["rows"]}
    assert rows[login] == "directly and through team-it"
    assert "plans: 1 has it both directly and through a group." in said(seats.run("seats"))
    twice = seats.run("audit", "seat-twice", "--json").json["rows"]
    assert f"vandrel edit {login} groups-=may-sailing-plan" in {row["remedy"] for row in twice}
    done(seats, "disable", login)
    gone = {row["remedy"] for row in seats.run("audit", "seat-of-the-gone", "--json").json["rows"]}
    assert f"vandrel seats take plans {login}" in gone


def test_what_the_months_bring_and_when_a_term_ends(seats):
    today = load(seats.path / "charter.yaml").today()
    ends = (today + timedelta(days=20)).isoformat()
    add(seats, POOL + f', price: 4.5, ends: "{ends}"}}')
    done(seats, "seats", "give", "plans", "alund", "hbrekke")
    row = seats.run("seats", "--json").json["rows"][0]
    assert (row["free"], row["price a month"], row["ends"]) == ("1", "9.00", ends)
    done(seats, "edit", "alund", f"ends={(today + timedelta(days=70)).isoformat()}")
    ahead = seats.run("seats", "plans", "--json").json["tables"]["ahead"]
    assert [line["taken"].split()[0] for line in ahead][:1] == ["2"]
    assert ahead[-1]["taken"].split()[0] == "1" and "the term has ended" in ahead[-1]["taken"]
    due = [row for row in seats.run("due", "--json").json["rows"] if "seats" in row["what"]]
    assert [(row["day"], row["full"], row["to_do"]) for row in due] == [(ends, "plans, 3 seats", False)]
    assert f"{ends} term of seats ends plans, 3 seats" in said(seats.run("due"))
    assert "term" not in said(seats.run("due", "--within", "5"))


@pytest.mark.parametrize(
    ("pool", "told"),
    [("plans: {capacity: 3}", "group"), ("plans: {group: x, capacity: -1}", "-1"), ("Plans: {group: x}", "name of seats"),
     ("plans: {group: x, field: notes}", "need a group or a field, and not both"), ("plans: {field: producs}", "no field 'producs'"),
     ("plans: {field: title}", "no field of accounts that has several"), ("plans: {field: starts}", "several texts"),
     ("plans: {group: x, requires: [offic]}", "did you mean office"), ('plans: {group: x, ends: "soon"}', "no day")],
)  # fmt: skip
def test_a_pool_with_faults_is_told_with_the_place(seats, pool, told):
    add(seats, pool)
    checked = seats.run("charter", "check")
    assert checked.code == Code.CHARTER.exit_code
    assert told in checked.err and "charter.yaml:" in checked.err


def test_wrong_words_and_pools_whose_group_is_not_there(demo, seats):
    assert "did you mean plans" in seats.run("seats", "give", "plan", "alund").err
    assert seats.run("seats", "plans", "alund").code == Code.USAGE.exit_code
    assert seats.run("seats", "give").code == Code.USAGE.exit_code
    add(seats, "post: {group: team-nowhere}")
    assert "post: its group team-nowhere is not there." in said(seats.run("seats"))
    path = demo.path / "charter.yaml"
    path.write_text(path.read_text().partition("\nseats:")[0])
    assert "the charter has no seats" in seats.run("seats").err
