"""Deleted objects: what the attic keeps, what comes back on each of the three directories, and what stands in the way."""

from __future__ import annotations

import csv
import json
import sqlite3
import stat
from contextlib import closing

import pytest

from vandrel.errors import Code

from .conftest import Folder
from .test_three import place

__all__ = ["place"]  # the fixture

OFFICERS = "/Ferries/Northquay/Deck/Officers"
#: What servers stamp and count.
STAMPS = {
    "createTimestamp", "modifyTimestamp", "createTimeStamp", "modifyTimeStamp", "entryCSN", "creatorsName", "modifiersName", "whenCreated", "whenChanged",
    "uSNCreated", "uSNChanged", "lastKnownParent", "pwdLastSet", "pwdChangedTime", "dSCorePropagationData",
    "userAccountControl", "isDeleted", "pwdReset", "badPasswordTime", "lastLogoff", "lastLogon", "logonCount",
    "badPwdCount", "msDS-User-Account-Control-Computed", "codePage", "countryCode", "isRecycled", "operatorCount", "adminCount", "modifiedCount",
}  # fmt: skip


def attributes(folder: Folder, name: str) -> dict[str, list[str]]:
    """What an object has, sorted, without what servers stamp."""
    shown = folder.run("show", name, "--raw", "--json").json["objects"][0]["attributes"]
    return {name: sorted(values) for name, values in shown.items() if name not in STAMPS}


def fields(folder: Folder, name: str) -> dict[str, list[str]]:
    shown = folder.run("show", name, "--json").json["objects"][0]["fields"]
    return {
        name: sorted(values)
        for name, values in shown.items()
        if name not in ("changed", "created", "enabled", "change")
    }


def done(folder: Folder, *words: str) -> str:
    result = folder.run(*words, "-y")
    assert result.code == 0, result.out + result.err
    return result.out + result.err


def test_who_was_deleted_comes_back_with_groups_reports_password_and_identity(place):
    kind, folder = place
    done(folder, "edit", "hbrekke", "password=generate", "change=no", "--hand-out", "hb.csv")
    (row,) = csv.DictReader((folder.path / "hb.csv").read_text().splitlines())
    people = ("hbrekke", "alund", "team-night-watch", "may-sailing-plan")
    before = [(attributes(folder, name), fields(folder, name)) for name in people]
    assert before[0][1]["groups"] and before[0][1]["manager"] and before[1][1]["manager"]
    told = done(folder, "delete", "hbrekke")
    assert "is the manager of" in told
    assert folder.run("show", "hbrekke").code == Code.NOT_FOUND.exit_code
    assert "hbrekke (Halvard Brekke)" in folder.run("attic").out
    more = ["password=generate", "--hand-out", "again.csv"] if kind == "domain" else []
    told = done(folder, "restore", "hbrekke", *more)
    assert ("can log on" in told) and "cannot" not in told
    after = [(attributes(folder, name), fields(folder, name)) for name in people]
    for name, now, then in zip(people, after, before, strict=True):
        for part in (0, 1):  # attributes, entryUUID or objectGUID and objectSid among them; and fields
            lost = {key: value for key, value in then[part].items() if now[part].get(key) != value}
            assert (lost, now[part].keys() - then[part].keys()) == ({}, set()), name
    if kind != "domain":
        assert folder.run("logon", "hbrekke", "--password", "-", stdin=row["password"] + "\n").code == 0
    assert "Nothing in the attic" in folder.run("attic").out
    assert folder.run("restore", "hbrekke", "-y").code == Code.NOT_FOUND.exit_code  # a second time


def test_a_branch_comes_back_whole_the_parents_first(place):
    _, folder = place
    done(folder, "release", OFFICERS)
    people = folder.run("find", "--under", OFFICERS, "--columns", "login", "--as", "csv").out.split()[1:]
    assert len(people) >= 2
    before = {name: fields(folder, name) for name in people}
    units = fields(folder, OFFICERS)
    done(folder, "delete", OFFICERS, "--contents")
    job = str(folder.run("journal", "--last", "1", "--json").json["rows"][0]["number"])
    # One person alone takes the unit along; the others follow, by the job.
    done(folder, "restore", people[0])
    assert fields(folder, OFFICERS) == units
    done(folder, "restore", "--job", job)
    after = {name: fields(folder, name) for name in people}
    assert after == before
    # And the same once more, by taking the job back.
    done(folder, "delete", OFFICERS, "--contents")
    job = str(folder.run("journal", "--last", "1", "--json").json["rows"][0]["number"])
    done(folder, "undo", job)
    assert {name: fields(folder, name) for name in people} == before


def test_a_name_that_was_taken_meanwhile_is_answered_with_the_charters_next(demo):
    done(demo, "delete", "hbrekke")
    done(demo, "create", "crew", "Halvard Brekke", "number=2999", "site=Northquay", "department=Deck",
         "category=Officers", "--hand-out", "n.csv")  # fmt: skip
    told = done(demo, "restore", "1")
    assert "hbrekke is taken by" in told
    columns = ["--columns", "login,name,mail", "--json"]
    twins = demo.run("find", "--where", "(cn=Halvard Brekke*)", *columns).json["rows"]
    assert len({row["login"] for row in twins}) == len({row["name"] for row in twins}) == 2, twins
    assert len({row["mail"] for row in twins}) == 2


def test_new_values_and_another_place_may_be_given(demo):
    done(demo, "delete", "alund")
    told = done(demo, "restore", "alund", "title=Purser", "login=alu", "--to", "/Shore/Office")
    assert f"was in {OFFICERS}" in told
    after = fields(demo, "alu")
    assert (after["title"], after["login"]) == (["Purser"], ["alu"])
    assert demo.run("show", "alu", "--json").json["objects"][0]["place"] == "/Shore/Office"
    done(demo, "delete", "alu", "jmeer")
    several = demo.run("restore", "alu", "jmeer", "title=Purser", "-y")
    assert several.code == Code.USAGE.exit_code


def test_a_circle_of_managers_and_a_group_that_is_gone(demo):
    done(demo, "edit", "hbrekke", "manager=alund")
    circle = {name: fields(demo, name)["manager"] for name in ("alund", "hbrekke")}
    done(demo, "delete", "alund", "hbrekke")
    done(demo, "delete", "team-northquay-deck")
    told = done(demo, "restore", "alund", "hbrekke")
    assert "member of team-northquay-deck, which is not there any more" in told
    assert {name: fields(demo, name)["manager"] for name in ("alund", "hbrekke")} == circle
    done(demo, "restore", "team-northquay-deck")
    assert fields(demo, "team-northquay-deck")["members"]


def test_what_has_another_name_by_now_is_found_by_it(place):
    """A group that came back by another name, one whose old name is another's by now, a manager that was renamed."""
    kind, folder = place
    for name in ("Loft", "Hold"):
        done(folder, "create", "group", name, "kind=team", "members=alund")
    before = fields(folder, "alund")
    done(folder, "edit", "team-loft", "owner=alund")
    done(folder, "delete", "alund", "team-hold")
    done(folder, "restore", "team-hold", "name=team-keel")
    done(folder, "edit", "team-loft", "name=team-mast")
    done(folder, "create", "group", "Loft", "kind=team")
    manager = folder.run("find", "--where", f"(cn={before['manager'][0]})", "--columns", "login", "--json").json[
        "rows"
    ][0]
    done(folder, "edit", manager["login"], "name=Another Name")
    more = ["password=generate", "--hand-out", "h.csv"] if kind == "domain" else []
    told = done(folder, "restore", "alund", *more)
    assert "not there any more" not in told
    after = fields(folder, "alund")
    names = {"team-loft": "team-mast", "team-hold": "team-keel"}
    assert set(after["groups"]) == {names.get(group, group) for group in before["groups"]}
    assert after["manager"] == ["Another Name"] and fields(folder, "team-mast")["owner"]
    assert not fields(folder, "team-loft").keys() & {"members", "owner"}
    done(folder, "edit", manager["login"], f"name={before['manager'][0]}")
    again = folder.run("restore", "alund", "-y")
    assert (again.code, "nothing that was deleted is called" in again.err) == (Code.NOT_FOUND.exit_code, True)


def test_an_attic_that_is_lost_or_is_that_of_another_directory(demo, tmp_path):
    done(demo, "delete", "alund")
    attic = demo.path / "attic.db"
    attic.rename(tmp_path / "attic.db")
    assert demo.run("restore", "alund", "-y").code == Code.NOT_FOUND.exit_code
    last = str(demo.run("journal", "--last", "1", "--json").json["rows"][0]["number"])
    told = demo.run("undo", last, "-n").err
    assert "comes back without its password: the attic has it no more" in told
    (tmp_path / "attic.db").rename(attic)
    with closing(sqlite3.connect(attic)) as other:
        other.execute("UPDATE item SET identity = 'another'")
        other.commit()
    assert "Nothing in the attic." in demo.run("attic").out
    done(demo, "undo", last)
    assert fields(demo, "alund")["login"] == ["alund"]


def test_a_clock_that_was_set_back_and_another_zone(demo):
    done(demo, "delete", "alund")
    with closing(sqlite3.connect(demo.path / "attic.db")) as attic:
        attic.execute("UPDATE item SET deleted = '2199-12-31T23:30:00.000+00:00'")  # by what the clock said then
        attic.commit()
    assert "Nothing to be forgotten" in demo.run("purge", "--expired", "-y").out
    assert "2200-01-01 00:30" in demo.run("attic").out  # in the zone of the charter
    charter = demo.path / "charter.yaml"
    charter.write_text(charter.read_text().replace("Europe/Oslo", "America/Lima"))
    assert "2199-12-31 18:30" in demo.run("attic").out
    done(demo, "restore", "alund")


def test_two_who_bring_the_same_one_back_at_once(demo):
    done(demo, "delete", "alund")
    running = [demo.start("restore", "alund", "-y") for _ in range(3)]
    codes = sorted(process.wait(timeout=60) for process in running)
    assert codes[0] == 0 and all(code in {Code.TAKEN.exit_code, Code.NOT_FOUND.exit_code, 1} for code in codes[1:]), (
        codes
    )
    assert len(demo.run("find", "login=alund", "--json").json["rows"]) == 1
    assert fields(demo, "alund")["groups"]


def test_parents_that_are_gone_for_good_are_told(demo):
    done(demo, "release", OFFICERS)
    done(demo, "delete", OFFICERS, "--contents")
    forgotten = demo.run("purge", OFFICERS, "--confirm", "1")
    assert (forgotten.code, "1 object forgotten for good." in forgotten.out) == (0, True)
    lost = demo.run("restore", "alund", "-y")
    assert (lost.code, "to hold it" in lost.err) == (Code.NO_PARENT.exit_code, True)
    done(demo, "restore", "alund", "--to", "/Shore/Office")


def test_the_attic_is_its_owners_alone_and_must_be_writable(demo):
    done(demo, "delete", "alund")
    attic = demo.path / "attic.db"
    assert stat.S_IMODE(attic.stat().st_mode) == 0o600
    kept = demo.run("attic", "--json").json["rows"]
    assert [(row["label"], row["job"]) for row in kept] == [("alund (Anna Lund)", kept[0]["job"])]
    assert "userPassword" not in json.dumps(kept)
    attic.unlink()
    attic.mkdir()  # nothing can be kept there
    before = demo.state()
    refused = demo.run("delete", "hbrekke", "-y")
    assert refused.code == Code.NOT_PERMITTED.exit_code, refused.err
    assert (demo.state(), "attic" in refused.err) == (before, True)


def test_what_is_damaged_is_told_and_the_rest_comes_back(demo):
    done(demo, "delete", "alund", "hbrekke")
    with closing(sqlite3.connect(demo.path / "attic.db")) as attic:
        attic.execute("UPDATE item SET data = substr(data, 1, 40) WHERE dn LIKE 'cn=Anna%'")
        attic.commit()
    listed = demo.run("attic")
    assert "what is kept of cn=Anna Lund" in listed.err and "hbrekke" in listed.out
    done(demo, "restore", "hbrekke")
    assert demo.run("restore", "alund", "-y").code == Code.NOT_FOUND.exit_code


def test_days_that_are_over(demo):
    done(demo, "delete", "alund", "hbrekke")
    assert "Nothing to be forgotten" in demo.run("purge", "--expired", "-y").out
    with closing(sqlite3.connect(demo.path / "attic.db")) as attic:
        attic.execute("UPDATE item SET deleted = '2026-01-01T00:00:00.000+00:00' WHERE dn LIKE 'cn=Anna%'")
        attic.commit()
    assert "alund" in demo.run("attic", "--until", "2026-02-01").out
    assert "1 object forgotten for good." in demo.run("purge", "--expired", "-y").out
    assert [row["label"] for row in demo.run("attic", "--json").json["rows"]] == ["hbrekke (Halvard Brekke)"]
    told = demo.run("undo", str(demo.run("journal", "--last", "1", "--json").json["rows"][0]["number"]), "-n").err
    assert "comes back without its password: the attic has it no more" in told


@pytest.mark.parametrize("words", [["attic", "--since", "yesterday"], ["purge"], ["restore"]])
def test_wrong_words(demo, words):
    assert demo.run(*words).code == Code.USAGE.exit_code


def test_jobs_that_are_long_over_are_forgotten(demo):
    for office in ("Wherryhouse", "Bridge", "Galley"):
        done(demo, "edit", "alund", f"office={office}")
    begun = demo.run("journal", "--last", "0", "--json").json["rows"]
    last = begun[0]["number"]
    with closing(sqlite3.connect(demo.path / "journal.db")) as journal:
        journal.execute("UPDATE job SET ended = '2026-01-01T00:00:00.000Z'")
        journal.execute("UPDATE job SET state = 'broken off' WHERE number = 2")
        journal.commit()
    assert "Nothing to be forgotten" in demo.run("purge", "--expired", "-y").out  # the charter keeps them for ever
    charter = demo.path / "charter.yaml"
    charter.write_text(charter.read_text() + "\njournal-days: 400\n")
    assert "Nothing to be forgotten" in demo.run("purge", "--expired", "-y").out
    charter.write_text(charter.read_text().replace("journal-days: 400", "journal-days: 30"))
    assert f"{last - 2} jobs of the journal to be forgotten." in demo.run("purge", "--expired", "-n").out
    assert f"{last - 2} jobs of the journal forgotten for good." in demo.run("purge", "--expired", "-y").out
    left = demo.run("journal", "--json").json["rows"]
    assert [job["number"] for job in left] == [last, 2]  # the last one, and one that is to be finished or taken back
    assert "What was before job 2 is forgotten" in demo.run("journal").out
    assert b"Wherryhouse" not in (demo.path / "journal.db").read_bytes()
    done(demo, "edit", "alund", "office=Quay")
    assert demo.run("journal", "--json").json["rows"][0]["number"] == last + 1


def test_a_group_with_power_asks_for_its_name_and_says_who_loses_what(demo):
    done(demo, "edit", "hbrekke", "groups+=team-harbour-masters")
    before = demo.state()
    asked = demo.run("delete", "team-harbour-masters", "-y")
    assert (asked.code, "--confirm team-harbour-masters" in asked.err) == (Code.USAGE.exit_code, True)
    assert "every account of the ferry line; who loses it: hbrekke (Halvard Brekke)" in asked.err
    assert "the charter still names it: role harbour-master, privileged" in asked.err
    wrong = demo.run("delete", "team-harbour-masters", "-y", "--confirm", "team-it")
    assert (wrong.code, demo.state()) == (Code.DECLINED.exit_code, before)
    held = demo.run("delete", "hbrekke", "-n")
    assert "it holds the power of team-harbour-masters: every account of the ferry line" in held.err
    done(demo, "delete", "team-harbour-masters", "--confirm", "team-harbour-masters")
    plain = demo.run("delete", "team-northquay-deck", "-n").err
    assert "the charter still names it: kind crew" in plain and "lose it: " in plain


def test_what_was_deleted_twice_is_forgotten_with_both(demo):
    done(demo, "delete", "alund")
    done(demo, "restore", "alund")
    done(demo, "delete", "alund", "hbrekke")
    with closing(sqlite3.connect(demo.path / "attic.db")) as attic:  # as if somebody had made her anew in between
        attic.execute("UPDATE item SET restored = 0")
        attic.commit()
    told = demo.run("purge", "alund", "--confirm", "2")
    assert (told.code, "2 objects forgotten for good." in told.out) == (0, True), told.err
    assert [row["label"] for row in demo.run("attic", "--json").json["rows"]] == ["hbrekke (Halvard Brekke)"]


def test_for_good_is_for_good(demo):
    refused = demo.run("delete", "alund", "--for-good", "-y")
    assert (refused.code, "--confirm 'Anna Lund'" in refused.err) == (Code.USAGE.exit_code, True)
    told = done(demo, "delete", "alund", "--for-good", "--confirm", "Anna Lund")
    assert "Nothing brings it back." in told
    assert "Nothing in the attic" in demo.run("attic").out


def _titles(demo: Folder, *words: str) -> list[str]:
    return [row["title"] for row in demo.run("journal", "--json", *words).json["rows"]]


def test_the_journal_answers_about_whom_by_whom_when_and_which_field(demo):
    done(demo, "rename", "hbrekke", "surname=Aas")
    done(demo, "edit", "haas", "title=Pilot")
    done(demo, "delete", "haas")
    mine = _titles(demo, "--about", "haas")  # gone, and known under two names
    assert mine[:3] == ["delete haas (Halvard Aas)", "edit haas (Halvard Aas)", "rename hbrekke (Halvard Brekke)"]
    assert _titles(demo, "--about", "Halvard Brekke") == mine
    assert _titles(demo, "--about", "haas", "--field", "title")[:2] == [
        "delete haas (Halvard Aas)",
        "edit haas (Halvard Aas)",
    ]
    assert "rename hbrekke (Halvard Brekke)" in _titles(demo, "--about", "haas", "--field", "@sn")
    whole = _titles(demo, "--last", "0")
    who = demo.run("journal", "--last", "1", "--json").json["rows"][0]["who"]
    assert (_titles(demo, "--by", who.upper(), "--last", "0"), _titles(demo, "--by", "nobody at all")) == (whole, [])
    today = demo.run("journal", "--last", "1", "--json").json["rows"][0]["begun"][:10]
    assert _titles(demo, "--since", "2999-01-01") == _titles(demo, "--until", "2000-01-01") == []
    assert _titles(demo, "--since", f"{today}T00:00:00+00:00", "--until", "2998-01-01", "--last", "0") == whole
    assert "No job fits." in demo.run("journal", "--by", "nobody at all").out
    removed = demo.run("journal", str(demo.run("journal", "--json").json["rows"][0]["number"])).out
    assert "sn - Aas" in removed  # what it was
    for words, code in ((["--about", "nobody at all"], Code.NOT_FOUND), (["--field", "nonsense"], Code.UNKNOWN_FIELD)):
        assert demo.run("journal", *words).code == code.exit_code


OTHERS = """\
dn: cn=lookout,dc=marrowick,dc=example
objectClass: groupOfUniqueNames
cn: lookout
uniqueMember: {who}

dn: cn=helm,dc=marrowick,dc=example
objectClass: alias
objectClass: extensibleObject
cn: helm
aliasedObjectName: {who}
"""


def test_the_last_required_name_leaves_nobody_in_its_place_or_is_told(place):
    kind, folder = place
    if kind == "domain":
        return  # nothing there must point at an object
    who = "cn=Halvard Brekke,ou=Officers,ou=Deck,ou=Northquay,ou=Ferries,dc=marrowick,dc=example"
    (folder.path / "others.ldif").write_text(OTHERS.format(who=who))
    done(folder, "load", "others.ldif")
    told = done(folder, "delete", "hbrekke")
    assert 'vandrel delete "cn=helm,dc=marrowick,dc=example"' in told
    assert "aliasedObjectName keeps the name of" in told

    def names(name: str) -> list[str]:
        values = folder.run("show", f"cn={name},dc=marrowick,dc=example", "--raw", "--json").json["objects"][0]
        return values["attributes"]["uniqueMember" if name == "lookout" else "aliasedObjectName"]

    assert (names("lookout"), names("helm")) == ([""], [who])
    done(folder, "restore", "hbrekke")
    assert (names("lookout"), names("helm")) == ([who], [who])
