"""The charter: faults in one go, with position and remedy; kinds, places, hierarchy, dates."""

from __future__ import annotations

import json
from datetime import UTC, date, datetime
from importlib import resources
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.charter.document import Document, json_schema
from vandrel.charter.load import CharterFaults, from_text, load
from vandrel.demo.world import charter_text
from vandrel.errors import VandrelError
from vandrel.text.yaml_source import read

SMALL = """\
organization: Skelling Boatyard
base: dc=skelling,dc=example
suffixes: [skelling.example]
lists:
  department: [Slip, Sails]
names:
  login: "{given 1}{surname}"
kinds:
  staff:
    place: /Staff/{department}
    requires: [surname]
hierarchy:
  Staff:
    units:
      "{department}": {holds: [staff]}
"""


def faults(text: str) -> list[tuple[str, str, str]]:
    """(line:column, what, remedy) of every fault."""
    with pytest.raises(CharterFaults) as caught:
        from_text(text, Path("c.yaml"))
    assert caught.value.exit_code == 15
    return [(str(f.where).removeprefix("c.yaml:"), f.what, f.remedy) for f in caught.value.findings]


def test_a_small_charter_is_right():
    charter = from_text(SMALL, Path("c.yaml"))
    assert [unit.place for unit in charter.design] == [("Staff",), ("Staff", "Slip"), ("Staff", "Sails")]
    assert all(unit.protected for unit in charter.design)


def test_the_shipped_charters_are_right():
    from_text(charter_text(), Path("demo.yaml"))
    starter = resources.files("vandrel.charter").joinpath("starter.yaml").read_text("utf-8")
    text = starter.replace("$organization", '"X"').replace("$base", "dc=x,dc=example").replace("$domain", "x.example")
    from_text(text, Path("starter.yaml"))


# What is put in, in place of what; where it is reported; words of the fault; words of the remedy.
FAULTS = [
    ("base: dc=skelling,dc=example", "base: skelling", "2:7", "'=' is expected", "cn=Anna Lund"),
    ("organization: Skelling Boatyard\n", "", "1:1", "organization is missing", "every charter has"),
    ("suffixes: [skelling.example]", "suffixes: [skelling_example]", "3:12", "is no domain", "marrowick.example"),
    ("suffixes: [skelling.example]", "suffixes: [a.example, A.example]", "3:23", "second time", "keep one"),
    ("suffixes: [skelling.example]", "suffixes: []", "3:11", "suffixes is empty", ""),
    ("lists:", "list:", "4:1", "unknown key 'list'", "did you mean lists?"),
    ("[Slip, Sails]", "[Slip, slip]", "5:22", "'slip' stands here for the second time", ""),
    ("[Slip, Sails]", "[Slip, 7]", "5:22", "7 stands here, and text is allowed", ""),
    ('"{given 1}{surname}"', '"{given 1}{surnam}"', "7:21", "unknown field 'surnam'", "surname"),
    ('"{given 1}{surname}"', '"{given 1}{surname"', "7:20", "'{' is not closed", ""),
    ('"{given 1}{surname}"', '["{surname}{count}", "{surname}"]', "7:11", "no rung after it", "put it last"),
    ('"{given 1}{surname}"', '{ladder: ["{surname}"], style: ascii lowr}', "7:47", "'lowr' is no word", "did you mean lower?"),
    ('"{given 1}{surname}"', '{ladder: ["{surname}"], longest: 30}', "7:43", "20 characters at most", ""),
    ('"{given 1}{surname}"', '{ladder: []}', "7:19", "must not be empty", ""),
    ('"{given 1}{surname}"', '3', "7:10", "3 stands here", ""),
    ('login: "{given 1}{surname}"', 'mail: "{given}.{surname}"', "7:9", "needs an @", "{domain}"),
    ('login: "{given 1}{surname}"', 'full: "{display}"\n  display: "{full}"', "7:9", "circle: full from display from full", ""),
    ("requires: [surname]", "requires: [surnam]", "11:16", "no field 'surnam'", "surname"),
    ("place: /Staff/{department}", "place: Staff", "10:12", "begins with '/'", "write /Staff"),
    ("place: /Staff/{department}", "place: /Staf/{department}", "10:12", "no unit of the hierarchy", ""),
    ("    place: /Staff/{department}\n", "", "9:3", "has no place", ""),
    ("requires: [surname]", "ends: 31-31", "11:11", "no day of the year", ""),
    ("requires: [surname]", "ends: 02-29", "11:11", "no day of the year", ""),
    ("requires: [surname]", "suffix: other.example", "11:13", "none of the suffixes", ""),
    ("requires: [surname]", "sets: {titel: Mate}", "11:12", "no field that can be set", "did you mean title?"),
    ("requires: [surname]", "password: {minimum-age: 9, maximum-age: 3}", "11:29", "may not be changed for 9 days", "less than maximum-age"),
    ("requires: [surname]", "password: {length: 20, generated: 16}", "11:39", "20 is the least", ""),
    ("requires: [surname]", "password: {classes: 5}", "11:25", "at most 4", ""),
    ("requires: [surname]", "password: {first: aks}", "11:23", "ask, generate or none", "did you mean ask?"),
    ("  staff:\n", "  group:\n", "9:3", "meaning of its own", ""),
    ("holds: [staff]", "holds: [staf]", "15:32", "no kind 'staf'", "did you mean staff?"),
    ("holds: [staff]", "branch: yard", "15:32", "no branch 'yard'", ""),
    ("holds: [staff]", "groups: {team: [A]}", "15:33", "no kind of group 'team'", ""),
    ('"{department}"', '"{departmnt}"', "15:7", "no list 'departmnt'", "did you mean department?"),
    ("  Staff:\n", "  Staff: {}\n  staff:\n", "14:3", "/staff stands here for the second time", "siblings"),
    ("suffixes: [skelling.example]", "suffixes: [skelling.example]\ntime-zone: Europe/Olso", "4:12", "no time zone", "Europe/Oslo"),
    ("suffixes: [skelling.example]", "suffixes: [skelling.example]\nvandrel: 2", "4:10", "at most 1", ""),
    ("suffixes: [skelling.example]", "suffixes: [skelling.example]\nbase: dc=x", "4:1", "second time", "keep one"),
    ("hierarchy:", "hierarchy: [", "14", "this is not YAML", ""),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "where", "what", "remedy"), FAULTS)
def test_each_fault_says_where_and_what_to_do(old, new, where, what, remedy):
    assert old in SMALL
    found = faults(SMALL.replace(old, new, 1))
    hits = [item for item in found if what in item[1] and remedy in item[2] and item[0].startswith(where)]
    assert hits, found


def test_all_faults_come_in_one_go_in_the_order_of_the_file():
    text = SMALL
    for old, new in [
        ("base: dc=skelling,dc=example", "base: skelling"), ("[Slip, Sails]", "[Slip, 7]"), ("{surname}", "{surnam}"),
        ("requires: [surname]", "requires: surname"), ("holds: [staff]", "holds: [staf]"),
    ]:  # fmt: skip
        text = text.replace(old, new, 1)
    found = faults(text)
    assert [int(where.split(":")[0]) for where, _, _ in found] == [2, 5, 7, 11, 15]


def test_a_branch_below_itself_is_named():
    text = (
        SMALL.replace('"{department}": {holds: [staff]}', "Slip: {branch: a}")
        + "branches: {a: {units: {B: {branch: a}}}}\n"
    )
    assert any("hangs below itself" in what for _, what, _ in faults(text))


def test_an_alias_inside_of_itself_is_a_fault():
    assert any("alias" in what for _, what, _ in faults("hierarchy: &a {X: *a}"))


@given(st.text())
def test_no_text_brings_the_reader_down(text):
    try:
        from_text(text, Path("c.yaml"))
    except VandrelError as error:
        assert error.code == "charter"


def test_words_that_other_readers_take_for_something_else():
    assert read("x", "language: no\nends: 2026-09-30\non: yes", "charter").data == {
        "language": "no",
        "ends": "2026-09-30",
        "on": "yes",
    }


def test_a_branch_is_written_once_and_hung_in_many_places(charter):
    places = {"/".join(unit.place): unit for unit in charter.design}
    for port in ("Northquay", "Sandhaven", "Eastmole", "Kelness"):
        for department in ("Deck", "Engine", "Tickets"):
            assert places[f"Ferries/{port}/{department}/Officers"].holds == ("crew",)
    assert len(places) == 62  # counted in the file: 4 x 11 repeated, and 15 more
    assert places["Ferries/Kelness"].groups[0] == ("team", "Kelness Deck")


def test_place_of_a_kind(charter):
    values = {"site": "Kelness", "department": "Deck", "category": "Hands"}
    assert charter.place_of(charter.kind("crew").place, values) == ("Ferries", "Kelness", "Deck", "Hands")
    with pytest.raises(VandrelError) as caught:
        charter.place_of(charter.kind("crew").place, {"site": "Kelness"})
    assert caught.value.code == "required"


def test_an_unknown_kind_offers_near_ones(charter):
    with pytest.raises(VandrelError) as caught:
        charter.kind("crow")
    assert caught.value.exit_code == 11
    assert "crew" in caught.value.findings[0].remedy


def test_end_dates(charter):
    # Oslo is at UTC+2 in summer: midnight at the end of 30 September is 22:00 UTC.
    assert charter.end_instant(date(2026, 9, 30)) == datetime(2026, 9, 30, 22, tzinfo=UTC)
    assert charter.last_day(datetime(2026, 9, 30, 22, tzinfo=UTC)) == date(2026, 9, 30)
    # In the night of the change of clocks the day still ends at midnight, by then UTC+1.
    assert charter.end_instant(date(2026, 10, 25)) == datetime(2026, 10, 25, 23, tzinfo=UTC)
    seasonal, guest, crew = (charter.kind(name) for name in ("seasonal", "guest", "crew"))
    assert charter.default_end(seasonal, date(2026, 6, 1)) == date(2026, 9, 30)
    assert charter.default_end(seasonal, date(2026, 9, 30)) == date(2026, 9, 30)
    assert charter.default_end(seasonal, date(2026, 10, 1)) == date(2027, 9, 30)
    assert charter.default_end(guest, date(2026, 12, 15)) == date(2027, 1, 14)
    assert charter.default_end(crew, date(2026, 6, 1)) is None


def test_rules_come_from_the_charter_and_from_the_kind(charter):
    rules = charter.password_rules("administrator").rules
    assert (rules["length"].value, rules["length"].source) == (16, "kind administrator")
    assert (rules["history"].value, rules["history"].source) == (24, "charter")
    assert charter.password_rules("crew").rules["length"].value == 12


def test_the_json_schema_accepts_the_demo_and_refuses_a_fault():
    from jsonschema import Draft202012Validator

    validator = Draft202012Validator(json_schema())
    data = read("x", charter_text(), "charter").data
    assert not list(validator.iter_errors(data))
    assert list(validator.iter_errors({**data, "kind": {}}))
    assert list(validator.iter_errors({key: value for key, value in data.items() if key != "base"}))
    json.dumps(json_schema())


def test_a_charter_that_was_found_right_is_kept_and_one_that_changed_is_read_again(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    path = tmp_path / "charter.yaml"
    path.write_text(SMALL, "utf-8")
    first = load(path).document
    assert load(path).document == first
    for kept in (tmp_path / "vandrel").iterdir():
        kept.write_bytes(b"\x00 no longer what it was")
    assert load(path).document == first
    path.write_text(SMALL.replace("Skelling", "Other"), "utf-8")
    assert load(path).document.organization == "Other Boatyard"
    path.write_text(SMALL.replace("base: dc", "base: "), "utf-8")
    with pytest.raises(CharterFaults):
        load(path)


def test_the_document_cannot_be_changed(charter):
    with pytest.raises(AttributeError):
        charter.document.base = "dc=other"
    assert msgspec.msgpack.decode(msgspec.msgpack.encode(charter.document), type=Document) == charter.document
