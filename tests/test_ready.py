"""Whether people are ready for a service, and suffixes: what is told, and what one change mends."""

from __future__ import annotations

from pathlib import Path

import pytest

from vandrel.charter.load import from_text
from vandrel.demo.world import charter_text
from vandrel.errors import Code
from vandrel.jobs.services.suffixes import proven_on, why_not_routable
from vandrel.text.countries import COUNTRIES

from .conftest import Folder
from .test_attic import done

#: A profile that nobody of the demo is against.
EASY = "vandrel-profile: 1\nabout: anything\n"


def told(folder: Folder, profile: str, *words: str) -> dict[tuple[str, str], str]:
    """What is wrong, with the command that mends it: by demand and logon name."""
    (folder.path / "own.yaml").write_text(profile)
    rows = folder.run("ready", "own.yaml", *words, "--json").json["rows"]
    return {(row["demand"], row["label"].split()[0]): row["remedy"] for row in rows}


@pytest.mark.parametrize(
    ("spoil", "profile", "demand", "remedy"),
    [
        ("@vandrelPrincipalName=alund@old.local", "suffix: routable", "suffix",
         "vandrel edit alund principal=alund@marrowick.example"),
        ("@vandrelPrincipalName=alund@elsewhere.example", "suffix: proven", "suffix",
         "vandrel edit alund principal=alund@marrowick.example"),
        ("title=Mate", "principal-is-mail: true", "principal-is-mail",
         "vandrel edit alund principal=anna.lund@marrowick.example"),
        ("display=", "requires: [display]", "required", "vandrel edit alund 'display=Lund, Anna'"),
        ("office=", "requires: [office]", "required", "vandrel edit alund office=..."),
        ("title=Boots&Braces", 'forbids: {title: "&<>"}', "characters", "vandrel edit alund title=BootsBraces"),
        ("title=Quartermaster", "lengths: {title: 12}", "length", "vandrel edit alund title=..."),
        ("country=XX", "location: country", "location", "vandrel edit alund country=..."),
        ("badge=HBREKKE", "compares: [login, badge]", "twice", ""),
        ("badge=hbrékke", "compares: [login, badge]", "twice", ""),
        ("@employeeNumber=2001", "", "person-twice", ""),
    ],
)  # fmt: skip
def test_each_demand_is_told_with_what_mends_it(demo, spoil, profile, demand, remedy):
    before = told(demo, EASY + profile)
    done(demo, "edit", "alund", spoil)
    found = told(demo, EASY + profile)
    assert found[demand, "alund"] == remedy
    assert {key for key in found if key[1] not in ("alund", "hbrekke")} == {
        key for key in before if key[1] not in ("alund", "hbrekke")
    }


def test_a_photograph_that_is_too_large(demo):
    (demo.path / "a.jpg").write_bytes(b"\xff\xd8\xff\xe0" + bytes(5000) + b"\xff\xd9")
    done(demo, "edit", "alund", "photo=a.jpg")
    assert ("photo", "alund") in told(demo, EASY + "photo-limit: 5000")
    assert not told(demo, EASY + "photo-limit: 6000")


def test_one_change_makes_ready_what_needs_no_answer_and_nothing_is_left_of_it(demo):
    before = demo.run("ready", "learning", "--json").json["rows"]
    assert demo.run("ready", "learning", "--mend", "-y").code == 0
    left = demo.run("ready", "learning", "--json").json["rows"]
    assert {row["demand"] for row in before} == {"principal-is-mail", "required", "characters"}
    assert {row["what"] for row in left} == {"given is empty"}
    assert demo.run("show", "tohara", "--json").json["objects"][0]["fields"]["principal"] == [
        "thomas.ohara@marrowick.example"
    ]
    assert "61 of 63 accounts ready" in demo.run("ready", "learning").out
    assert "61 of 61" not in demo.run("ready", "learning", "--under", "/Ferries").out


def test_who_is_out_or_of_another_kind_or_elsewhere_is_not_looked_at(demo):
    done(demo, "edit", "alund", "office=")
    assert ("required", "alund") in told(demo, EASY + "requires: [office]")
    assert ("required", "alund") not in told(demo, EASY + "requires: [office]", "--under", "/Shore")
    assert ("required", "alund") not in told(demo, EASY + "requires: [office]\nkinds: [staff]")
    done(demo, "disable", "alund")
    assert ("required", "alund") not in told(demo, EASY + "requires: [office]")


@pytest.mark.parametrize(
    ("text", "said"),
    [("requires: [officce]", "did you mean office"), ("kinds: [crw]", "did you mean crew"), ("suffix: maybe", "proven or routable"),
     ("location: nowhere", "there is no field"), ("lengths: {titel: 3}", "title"), ("nonsense: 1", "nonsense"),
     ("requires: []]", "YAML")],
)  # fmt: skip
def test_a_profile_with_faults_is_told_with_the_place(demo, text, said):
    (demo.path / "own.yaml").write_text(EASY + text)
    done_so = demo.run("ready", "own.yaml")
    assert done_so.code == Code.BAD_VALUE.exit_code
    assert said in done_so.err and "own.yaml:3" in done_so.err


def test_profiles_that_are_shipped_are_listed_and_others_are_files(demo):
    assert {row["profile"] for row in demo.run("ready", "--json").json["rows"]} == {"learning", "second-directory"}
    assert demo.run("ready", "lerning").code == Code.NOT_FOUND.exit_code
    assert "did you mean learning" in demo.run("ready", "lerning").err


def test_suffixes_are_listed_with_who_uses_them(demo):
    done(demo, "edit", "alund", "@vandrelPrincipalName=alund@old.local")
    rows = {row["suffix"]: row for row in demo.run("suffixes", "--json").json["rows"]}
    assert {name: (row["accounts"], row["registered by"], row["proven"]) for name, row in rows.items()} == {
        "marrowick.example": ("62", "charter", "2026-03-02"),
        "guests.marrowick.example": ("1", "charter", "2026-03-02"),
        "old.local": ("1", "nobody", "not recorded"),
    }
    assert rows["old.local"]["routable"] == "no public name server answers for it"
    proof = demo.run("suffixes", "prove", "marrowick.example")
    assert proof.out == demo.run("suffixes", "prove", "MARROWICK.example").out  # the same each time
    assert 'IN TXT "vandrel-domain=' in proof.out
    assert demo.run("suffixes", "prove", "corp.local").code == Code.BAD_VALUE.exit_code
    assert demo.run("suffixes", "prove").code == Code.USAGE.exit_code


@pytest.mark.parametrize(
    ("suffix", "is_routable"),
    [("marrowick.example", True), ("ships.marrowick.example", True), ("Marrowick.Example", True), ("corp", False),
     ("harbour.local", False), ("x.home.arpa", False), ("10.0.0.1 ", False), ("kai.internal", False),
     ("inside.example", False), ("", False)],
)  # fmt: skip
def test_what_the_internet_can_route(suffix, is_routable):
    charter = from_text(charter_text() + "internal: [inside.example]\n", Path("charter.yaml"))
    assert (not why_not_routable(charter, suffix)) is is_routable


def test_a_domain_is_proven_with_what_stands_below_it():
    charter = from_text(charter_text(), Path("charter.yaml"))
    proven = ("marrowick.example", "Guests.Marrowick.example", "a.b.marrowick.example")
    assert {proven_on(charter, name) for name in proven} == {"2026-03-02"}
    assert not any(proven_on(charter, name) for name in ("example", "notmarrowick.example", ""))


def test_the_codes_of_countries_are_those_of_the_standard():
    """As the zone tables of the system list them, where there are any."""
    table = Path("/usr/share/zoneinfo/iso3166.tab")
    assert len(COUNTRIES) == 249
    if table.exists():
        assert {line[:2] for line in table.read_text().splitlines() if line and line[0] != "#"} == COUNTRIES
