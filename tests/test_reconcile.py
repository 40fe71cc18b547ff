"""A roster of everybody against the directory: who joins, moves, leaves and comes back, and who is asked about."""

from __future__ import annotations

import csv
import shutil
from datetime import timedelta
from pathlib import Path

import pytest

from vandrel.charter.load import load
from vandrel.errors import Code

from .conftest import Folder, Result
from .test_attic import fields
from .test_backup import job_of

COLUMNS = ["number", "kind", "given", "middle", "surname", "generation", "language", "site", "department", "category",
           "title", "manager"]  # fmt: skip
Row = dict[str, str]


@pytest.fixture(scope="module")
def roster_template(demo_template: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo with a description of its roster, as the tool proposes it."""
    path = tmp_path_factory.mktemp("roster") / "demo"
    shutil.copytree(demo_template, path)
    folder = Folder(path)
    write(folder, everybody(folder))
    assert folder.run("import", "roster.csv", "--propose", "-q").code == 0
    return path


@pytest.fixture
def demo(roster_template: Path, tmp_path: Path) -> Folder:
    shutil.copytree(roster_template, tmp_path / "demo")
    return Folder(tmp_path / "demo")


def everybody(folder: Folder) -> list[Row]:
    """The roster that says what is there: everybody with a number but the administrative accounts."""
    out = folder.run("find", "--type", "accounts", "--columns", ",".join(COLUMNS), "--as", "csv").out
    return [row for row in csv.DictReader(out.splitlines()) if row["kind"] in ("crew", "staff", "yard")]


def write(folder: Folder, rows: list[Row]) -> None:
    with (folder.path / "roster.csv").open("w", newline="") as file:
        writer = csv.DictWriter(file, COLUMNS, restval="")
        writer.writeheader()
        writer.writerows(rows)


def of(rows: list[Row], number: str) -> Row:
    return next(row for row in rows if row["number"] == number)


def reconcile(folder: Folder, *words: str) -> Result:
    return folder.run("reconcile", "roster.csv", "--hand-out", f"h{len(list(folder.path.iterdir()))}.csv", "-y", *words)


def sorts(result: Result) -> dict[str, int]:
    (table,) = (rows for name, rows in result.json["tables"].items() if name == "people")
    return {row["what"]: int(row["people"]) for row in table}


def test_nothing_is_to_be_done_where_the_roster_says_what_is_there(demo):
    told = reconcile(demo)
    assert (told.code, "The directory is as the roster says." in told.out) == (0, True), told.out + told.err


def test_everything_at_once_as_one_job_that_is_taken_back_as_one(demo):
    before, exported, rows = demo.state(), demo.run("export").out.splitlines(), everybody(demo)
    anna, halvard = of(rows, "2004"), of(rows, "2001")
    anna["surname"], halvard["site"] = "Lund-Moe", "Kelness"
    rows.remove(of(rows, "2210"))
    rows.append({"number": "3001", "kind": "crew", "given": "Ada", "surname": "Nygård", "site": "Kelness",
                 "department": "Deck", "category": "Hands", "language": "nb"})  # fmt: skip
    write(demo, rows)
    seen = demo.run("reconcile", "roster.csv", "-n", "--json", "--hand-out", "n.csv")
    assert sorts(seen) == {"joins": 1, "is renamed": 1, "moves": 1, "leaves": 1}
    assert demo.state() == before
    assert reconcile(demo).code == 0
    assert fields(demo, "anygaard")["groups"] == ["team-everybody", "team-kelness-deck"]
    renamed = fields(demo, "alundmoe")
    assert (renamed["mail"], renamed["number"]) == (["anna.lund-moe@marrowick.example"], ["2004"])
    moved = demo.run("show", "hbrekke", "--json").json["objects"][0]
    assert moved["place"] == "/Ferries/Kelness/Deck/Officers"
    assert "team-kelness-deck" in moved["fields"]["groups"] and "team-northquay-deck" not in moved["fields"]["groups"]
    left = demo.run("show", "sambright", "--json").json["objects"][0]
    assert (left["place"], left["fields"]["enabled"]) == ("/Leavers", ["no"])
    rules = ("misplaced", "name-not-by-rule", "group-of-kind-missing", "field-missing", "out-but-in-groups")
    faults = demo.run("audit", *rules, "--json").json["rows"]
    assert not [each for each in faults if each["place"].startswith("/Ferries")]
    assert "as the roster says" in reconcile(demo).out  # a second time: nothing
    undone = demo.run("undo", str(job_of(demo, "reconcile with roster.csv")), "-y")
    assert undone.code == 0, undone.err
    assert sorted(demo.run("export").out.splitlines()) == sorted(exported)


def test_a_leaver_who_is_on_the_roster_again_comes_back_with_what_was_there(demo):
    rows = everybody(demo)
    had = fields(demo, "sambright")
    back = of(rows, "2210")
    write(demo, [row for row in rows if row is not back])
    assert reconcile(demo).code == 0
    back["title"] = "Purser"
    write(demo, rows)
    seen = demo.run("reconcile", "roster.csv", "-n", "--json")
    assert sorts(seen) == {"comes back": 1}
    assert reconcile(demo).code == 0
    assert fields(demo, "sambright") == had | {"title": ["Purser"]}


def test_a_number_that_nobody_has_with_a_name_that_somebody_has_is_asked_about(demo):
    rows = everybody(demo)
    of(rows, "2004")["number"] = "3002"
    write(demo, rows)
    told = reconcile(demo)
    assert told.code == Code.INTAKE.exit_code
    assert "--same 3002=" in told.out and "--new 3002" in told.out
    # Nobody who may be meant leaves, though the row is left out.
    assert "sound" in told.err and "as the roster says" in reconcile(demo, "--sound-only").out
    assert sorts(demo.run("reconcile", "roster.csv", "-n", "--json", "--new", "3002", "--hand-out", "n.csv")) == {
        "joins": 1, "leaves": 1,
    }  # fmt: skip
    assert reconcile(demo, "--same", "3002=annlund").code == 0
    assert fields(demo, "annlund")["number"] == ["3002"]
    assert reconcile(demo, "--same", "nobody").code == Code.USAGE.exit_code


def test_people_who_join_report_to_people_who_move_and_the_reverse(demo):
    rows = everybody(demo)
    of(rows, "2001")["site"] = "Kelness"
    rows.append({"number": "3001", "kind": "crew", "given": "Ada", "surname": "Nygård", "site": "Kelness",
                 "department": "Deck", "category": "Hands", "language": "nb", "manager": "2001"})  # fmt: skip
    of(rows, "2101")["manager"] = "3001"
    write(demo, rows)
    told = reconcile(demo)
    assert told.code == 0, told.out + told.err
    assert fields(demo, "anygaard")["manager"] == ["Halvard Brekke"]
    assert fields(demo, "esaether")["manager"] == ["Ada Nygård"]
    assert demo.run("audit", "dangling", "--json").json["rows"] == []
    assert "as the roster says" in reconcile(demo).out


def test_of_another_kind_is_of_another_place_with_the_groups_of_that(demo):
    rows = everybody(demo)
    row = of(rows, "2004")
    row |= {"kind": "staff", "department": "IT"}
    write(demo, rows)
    assert reconcile(demo).code == 0
    now = demo.run("show", "annlund", "--json").json["objects"][0]
    assert now["place"] == "/Shore/IT"
    assert (now["fields"]["groups"], now["fields"]["office"]) == (["team-everybody", "team-it"], ["Shore Office"])


@pytest.mark.parametrize(("words", "code"), [((), Code.INTAKE), (("--most-leavers", "30"), None)])
def test_half_a_roster_makes_nobody_leave_unless_somebody_says_so(demo, words, code):
    before, rows = demo.state(), everybody(demo)
    write(demo, rows[::2])
    absent = len(rows) - len(rows[::2])
    told = reconcile(demo, *words)
    if code is None:
        assert told.code == 0
        assert len(demo.run("find", "--under", "/Leavers", "--json").json["rows"]) == absent + 1  # one administers too
    else:
        assert (told.code, demo.state()) == (code.exit_code, before)
        assert f"{absent} people of the directory are in no row" in told.out
        assert f"--most-leavers {absent}" in told.out


def test_a_last_day_to_come_is_kept_and_due_does_the_rest(demo):
    rows = everybody(demo)
    write(demo, [row for row in rows if row["number"] != "2210"])
    day = load(demo.path / "charter.yaml").today() + timedelta(days=30)
    assert reconcile(demo, "--last-day", day.isoformat()).code == 0
    now = demo.run("show", "sambright", "--json").json["objects"][0]
    assert (now["fields"]["ends"], now["fields"]["enabled"]) == ([day.isoformat()], ["yes"])
    assert "sambright" in demo.run("due").out


def test_a_roster_from_standard_input_and_from_ldif(demo):
    text = (demo.path / "roster.csv").read_text()
    told = demo.run("reconcile", "-", "--intake", "roster.intake.yaml", "-n", stdin=text)
    assert "as the roster says" in told.out, told.err
    empty = demo.run("reconcile", "-", "--intake", "roster.intake.yaml", "-n", stdin="")
    assert "standard input is empty" in empty.err
    demo.run("export", "--where", "(|(employeeType=crew)(employeeType=staff)(employeeType=yard))", "--to", "all.ldif")
    (demo.path / "all.intake.yaml").write_text(
        "vandrel-intake: 1\ntype: account\nkey: [number]\nmode: both\n"
        "columns: {employeeNumber: number, employeeType: kind, givenName: given, sn: surname, title: title}\n"
    )
    assert "as the roster says" in demo.run("reconcile", "all.ldif", "-n").out
    (demo.path / "all.ldif").write_text("dn: broken\nnot ldif")
    assert demo.run("reconcile", "all.ldif", "-n").code == Code.BAD_VALUE.exit_code
