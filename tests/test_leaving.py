"""Whoever leaves, and whoever comes back: the routine of the charter, at once, dated, and turned round."""

from __future__ import annotations

import re
import shlex
from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest

from vandrel.errors import Code

from .conftest import Folder
from .test_attic import done, fields
from .test_three import place

__all__ = ["place"]  # the fixture

REPORTS = ("alund", "asblund", "jmeer")
PAST = "2026-01-01"


def today() -> date:
    """The day in the zone of the demo's charter."""
    return datetime.now(ZoneInfo("Europe/Oslo")).date()


def login_of(folder: Folder, number: str) -> list[str]:
    found = folder.run("find", f"number={number}", "--columns", "login", "--as", "csv")
    return sorted(found.out.split()[1:])


def test_a_leaver_is_out_everywhere_and_comes_back_to_the_same(place):
    _, folder = place
    people = ("hbrekke", *REPORTS)
    before = {name: fields(folder, name) for name in people}
    groups = set(before["hbrekke"]["groups"]) - {"Domain Users"}
    assert groups and before["alund"]["manager"] == ["Halvard Brekke"]
    shown = folder.run("leave", "hbrekke", "--successor", "alund", "-n")
    assert {f"-> {word}" for word in ("/Leavers", "no", "(empty)")} <= set(
        re.findall(r"-> \S+", re.sub(" +", " ", shown.out))
    )
    done(folder, "leave", "hbrekke", "--successor", "alund")
    left = folder.run("show", "hbrekke", "--json").json["objects"][0]
    assert (left["place"], left["fields"]["enabled"], left["fields"].get("mail", [])) == ("/Leavers", ["no"], [])
    assert set(left["fields"].get("groups", ())) <= {"Domain Users"}
    assert left["fields"]["notes"] == [f"Left {today().isoformat()}"]
    after = {name: fields(folder, name) for name in REPORTS}
    assert {tuple(each["manager"]) for each in after.values()} == {tuple(before["hbrekke"]["manager"])}
    assert after["alund"]["alias"] == ["halvard.brekke@marrowick.example"]
    # A second time there is nothing to do.
    assert "as it is already" in folder.run("leave", "hbrekke", "-y").out
    done(folder, "edit", "alund", "alias-=halvard.brekke@marrowick.example")
    done(folder, "leave", "hbrekke", "--back")
    assert {name: fields(folder, name) for name in people} == before
    assert folder.run("show", "hbrekke", "--bare", "enabled").out == "yes\n"
    assert folder.run("show", "hbrekke", "--json").json["objects"][0]["place"].endswith("/Deck/Officers")
    # And taken back as a job, where nothing has happened since.
    done(folder, "leave", "hbrekke")
    job = folder.run("journal", "--last", "1", "--json").json["rows"][0]
    assert job["title"] == "leave hbrekke (Halvard Brekke)"  # and not those who get another manager
    done(folder, "undo", str(job["number"]))
    assert {name: fields(folder, name) for name in people} == before


def test_a_last_day_to_come_is_carried_out_by_due_and_then_comes_the_deletion(demo):
    day = (today() + timedelta(days=10)).isoformat()
    told = done(demo, "leave", "hbrekke", "--on", day)
    assert f"through {day}" in told  # still let in
    planned = demo.run("leave", "hbrekke", "--on", day, "-n").out
    assert "moved to /Leavers" in planned and "to Ingrid Marie Åsheim" in planned
    listed = {(row["login"], row["what"], row["to_do"]) for row in demo.run("due", "--json").json["rows"]}
    assert ("hbrekke", "ends", False) in listed
    done(demo, "edit", "hbrekke", f"ends={PAST}")
    assert "leaver's routine to be carried out" in demo.run("due").out
    assert "hbrekke" not in done(demo, "due", "--carry-out", "--only", "enable")
    done(demo, "due", "--carry-out", "--only", "leave")
    state = demo.state()
    assert demo.run("show", "hbrekke", "--json").json["objects"][0]["place"] == "/Leavers"
    assert fields(demo, "hbrekke")["ends"] == [PAST]
    assert "Nothing is due" in done(demo, "due", "--carry-out", "--only", "leave")
    assert demo.state() == state
    # The charter's 90 days from the last day are over.
    assert "to be deleted" in demo.run("due").out
    done(demo, "due", "--carry-out")
    assert demo.run("show", "hbrekke").code == Code.NOT_FOUND.exit_code
    assert "hbrekke (Halvard Brekke)" in demo.run("attic").out
    assert "Nothing is due" in done(demo, "due", "--carry-out")
    # Whoever comes back after all: from the attic, and then to all that was theirs, without the day that is over.
    done(demo, "restore", "hbrekke")
    told = done(demo, "leave", "hbrekke", "--back")
    assert "Halvard Brekke can log on" in told
    assert fields(demo, "hbrekke")["groups"] and "ends" not in fields(demo, "hbrekke")


def test_the_administrative_account_of_the_same_person_leaves_too(demo):
    number = fields(demo, "hbrekke")["number"][0]
    done(demo, "create", "administrator", "Halvard Brekke", f"number={number}", "--hand-out", "a.csv")
    logins = login_of(demo, number)
    assert len(logins) == 2
    told = done(demo, "leave", "hbrekke")
    assert "is of the same person, by its number, and leaves too" in told
    assert {demo.run("show", login, "--bare", "enabled").out for login in logins} == {"no\n"}
    assert {demo.run("show", login, "--json").json["objects"][0]["place"] for login in logins} == {"/Leavers"}
    done(demo, "leave", "hbrekke", "--back")
    assert {demo.run("show", login, "--bare", "enabled").out for login in logins} == {"yes\n"}


@pytest.mark.parametrize("words", ["disable hbrekke", "delete hbrekke", "rename hbrekke surname=Aas",
                                   'handover hbrekke "Tuva Solberg" number=2098 --hand-out t.csv'])  # fmt: skip
def test_other_accounts_of_the_same_person_are_named(demo, words):
    assert "of the same person" not in demo.run(*shlex.split(words), "-n").err
    number = fields(demo, "hbrekke")["number"][0]
    done(demo, "create", "administrator", "Halvard Brekke", f"number={number}", "--hand-out", "a.csv")
    (other,) = set(login_of(demo, number)) - {"hbrekke"}
    told = demo.run(*shlex.split(words), "-n").err
    assert "is of the same person, by its number, and stays as it is" in told
    assert f"vandrel {words.split()[0]} {other}" in told


def test_what_has_changed_meanwhile_is_told_and_left(demo):
    done(demo, "leave", "hbrekke")
    done(demo, "edit", "alund", "manager=toedegaard")
    done(demo, "delete", "team-northquay-deck")
    told = done(demo, "leave", "hbrekke", "--back")
    assert "Anna Lund has another manager by now" in told
    assert "the group team-northquay-deck is not there any more" in told
    assert fields(demo, "alund")["manager"] == ["Tove Ødegård"]
    assert fields(demo, "jmeer")["manager"] == ["Halvard Brekke"]


def test_what_somebody_had_outlives_a_second_leaving(demo):
    """The routine may find more to do later on: what is kept for the return is of the time before the first."""
    before = fields(demo, "hbrekke")
    done(demo, "leave", "hbrekke")
    done(demo, "edit", "hbrekke", "notes=seen again", "enabled=yes")
    assert "notes" in done(demo, "leave", "hbrekke")
    done(demo, "leave", "hbrekke", "--back")
    assert fields(demo, "hbrekke") == before


def test_nothing_is_begun_where_what_somebody_had_cannot_be_kept(demo):
    (demo.path / "attic.db").mkdir()
    before = demo.state()
    refused = demo.run("leave", "hbrekke", "-y")
    assert (refused.code, demo.state()) == (Code.NOT_PERMITTED.exit_code, before), refused.err
    assert demo.run("journal", "--last", "1", "--json").json["rows"][0]["state"] == "in part"
    assert "broken off" not in demo.run("edit", "alund", "title=Mate", "-n").err


def test_a_namesake_among_the_leavers(demo):
    done(demo, "leave", "hbrekke")
    done(demo, "create", "crew", "Halvard Brekke", "number=2999", "site=Northquay", "department=Deck",
         "category=Officers", "--hand-out", "n.csv")  # fmt: skip
    other = login_of(demo, "2999")[0]
    done(demo, "leave", other)
    shown = demo.run("show", other, "--json").json["objects"][0]
    assert (shown["place"], shown["fields"]["name"]) == ("/Leavers", ["Halvard Brekke (2999)"])
    done(demo, "leave", other, "--back")
    assert demo.run("show", other, "--json").json["objects"][0]["fields"]["name"] == ["Halvard Brekke"]


def test_without_a_routine_nobody_leaves(demo):
    charter = demo.path / "charter.yaml"
    text = charter.read_text(encoding="utf-8")
    charter.write_text(re.sub(r"(?m)^leaving:\n(  .*\n)+", "", text), encoding="utf-8")
    refused = demo.run("leave", "hbrekke", "-y")
    assert (refused.code, "leaving: {place: /Leavers" in refused.err) == (Code.CHARTER.exit_code, True)
    charter.write_text(text.replace("place: /Leavers", "place: /Nowhere"), encoding="utf-8")
    assert "/Nowhere" in demo.run("charter", "check").err
    charter.write_text(text, encoding="utf-8")
    unknown = demo.run("leave", "toedegaard", "--back", "-y")
    assert (unknown.code, "is not known here" in unknown.err) == (Code.NOT_FOUND.exit_code, True)
    assert demo.run("leave", "hbrekke", "--back", "--on", "2026-12-31").code == Code.USAGE.exit_code
    assert demo.run("leave", "hbrekke", "--on", "soon").code == Code.USAGE.exit_code


def test_passwords_that_grow_too_old_are_due_on_their_day(demo):
    """The charter gives administrators ninety days; whoever is out or has no such rule needs no new one."""
    rows = demo.run("due", "--within", "91", "--json").json["rows"]
    today = datetime.now(ZoneInfo("Europe/Oslo")).date()
    wanted = {(login, (today + timedelta(days=90)).isoformat()) for login in ("adm-jmueller", "adm-cisiksoy")}
    assert {(row["login"], row["day"]) for row in rows if row["what"] == "needs a new password"} == wanted
    done(demo, "disable", "adm-jmueller")
    rows = demo.run("due", "--within", "91", "--json").json["rows"]
    assert [row["login"] for row in rows if row["what"] == "needs a new password"] == ["adm-cisiksoy"]
