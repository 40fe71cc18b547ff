"""The installed program, run on files as a user runs it: every command, its output, its exit codes."""

from __future__ import annotations

import csv
import io
import json
import os
import pty
import re
import select
import shlex
import shutil
import signal
import sqlite3
import stat
import subprocess
import sys
import time
from pathlib import Path

import pytest

from vandrel.cli.parser import COMMANDS
from vandrel.errors import Code

from .conftest import PROGRAM, Folder, not_installed

CREW = ["create", "crew", "Tor Vik", "number=2999", "site=Kelness", "department=Deck", "category=Hands"]


def test_version_and_help(demo):
    assert re.fullmatch(r"vandrel \d+\.\d+\.\d+\n", demo.run("--version").out)
    text = demo.run("--help").out
    for command in (
        "show",
        "find",
        "tree",
        "create",
        "edit",
        "hierarchy",
        "charter",
        "journal",
        "resume",
        "export",
        "load",
        "demo",
    ):
        assert re.search(rf"^    {command} ", text, re.MULTILINE)
        page = demo.run(command, "--help")
        assert page.code == 0
        assert "examples:" in page.out


@pytest.mark.parametrize(
    ("words", "told"),
    [
        ((), "more is needed: COMMAND"),
        (("shwo",), "there is no command 'shwo'\n      did you mean show? vandrel --help tells what there is"),
        (("show", "--efective"), "there is no option --efective\n      did you mean --effective?"),
        (("show", "--json\x1b[2J=1"), "there is no option --json[2J"),
        (
            ("--directory", "harbour", "show"),
            "--directory stands before the command\n      write it behind: vandrel COMMAND",
        ),
        (("edit", "alund", "--title=Cook"), "there is no option --title\n      a field has no hyphens: title=...;"),
        (("show", "--raw=yes"), "--raw: it takes no value"),
        (("find", "--type", "cats"), "--type: 'cats' is none of accounts, groups, units, computers or all"),
        (("journal", "x"), "JOB: 'x' is no number of 0 or more"),
        (("journal", "1", "2"), "a word too many"),
        (("logon", "alund", "Kv9-lamp", "x"), "2 words too many"),
        (
            ("reset", "alund", "--password", "Kv9-lamp"),
            "--password: this is none of generate, ask or -\n      a password never",
        ),
        (("journal", "--last"), "--last: a value must follow it"),
        (
            ("charter", "chek"),
            "'chek' is none of check, new, draft, schema, kinds, names or infer\n      did you mean check?",
        ),
        (("completion",), "more is needed: bash, zsh or fish\n      vandrel completion --help"),
    ],
)
def test_a_command_line_that_means_nothing_is_told_as_all_else_is(demo, words, told):
    done = demo.run(*words)
    assert (done.code, done.out) == (2, "")
    assert f"stop  {told}" in done.err
    assert "Kv9" not in done.err
    answer = json.loads(demo.run(*words, "--json").err)
    assert (answer["outcome"], answer["exit"], answer["findings"][0]["code"]) == ("failed", 2, "usage")
    assert demo.run("help", "show").out == demo.run("show", "--help").out


def test_a_day_the_other_way_round_is_read_to_say_how_it_is_written(demo):
    for typed, remedy in (("31.12.2026", "write ends=2026-12-31"), ("31.02.2027", "a day is written so: ends=")):
        done = demo.run("edit", "alund", f"ends={typed}", "-n")
        assert (done.code, f"ends is a day, and '{typed}' is none\n      {remedy}" in done.err) == (16, True)


# --- looking


def test_show(demo):
    out = demo.run("show", "alund").out
    assert out.splitlines()[0] == "Anna Lund"
    assert "Anna Lund can log on as alund or alund@marrowick.example." in out
    for words in ("manager       Halvard Brekke", "phone         +47 5555 0203", "team-everybody, team-northquay-deck"):
        assert words in out
    assert not re.search(r"[ \t]$", out, re.MULTILINE)
    assert "userPassword" not in out


def test_show_in_other_ways(demo):
    dn = "cn=Anna Lund,ou=Officers,ou=Deck,ou=Northquay,ou=Ferries,dc=marrowick,dc=example"
    assert demo.run("show", "alund", "--bare", "dn").out == dn + "\n"
    assert (
        demo.run("show", "alund", "hbrekke", "--bare", "mail").out
        == "anna.lund@marrowick.example\nhalvard.brekke@marrowick.example\n"
    )
    assert demo.run("show", "alund", "--bare", "manager").out.startswith("cn=Halvard Brekke,")
    assert demo.run("show", "alund", "--bare", "@employeeNumber").out == "2003\n"
    raw = demo.run("show", "alund", "--raw").out
    assert "vandrelPrincipalName  alund@marrowick.example" in raw
    assert re.search(r"userPassword +\(kept, never shown\)", raw)
    only = demo.run("show", "alund", "--only", "phone").out
    assert re.search(r"home-phone +\(empty\)", only)
    assert re.search(r"phone +\+47 5555 0203", only)
    everything = demo.run("show", "alund", "--all").out
    assert "entryUUID" in everything
    assert "carLicense" in everything
    shown = demo.run("show", "alund", "--json").json["objects"][0]
    assert (shown["dn"], shown["type"], shown["fields"]["login"]) == (dn, "account", ["alund"])
    assert demo.run("show", "/Ferries/Northquay").out.splitlines()[0] == "Northquay  protected"
    assert "Designed for: crew." in demo.run("show", "/Ferries/Kelness/Deck/Hands").out


def test_a_name_with_everything_in_it_is_escaped_for_pasting(demo):
    hard = 'Ann "X" <Y>; #1, plus+'
    done = demo.run("edit", "alund", f"name={hard}", "--yes")
    assert done.code == 0, done.err
    bare = demo.run("show", "alund", "--bare", "dn").out.strip()
    assert bare.startswith(r"cn=Ann \"X\" \<Y\>\; #1\, plus\+,ou=Officers")
    assert demo.run("show", bare, "--bare", "login").out == "alund\n"


def test_find(demo):
    lines = demo.run(
        "find", "site=Northquay", "title=*mate*", "--columns", "login,title,manager", "--by", "surname", "--reverse"
    ).out.splitlines()
    assert [line.split()[0] for line in lines[:3]] == ["login", "jmeer", "alund"]
    assert lines[-1] == "2 accounts"
    everybody = demo.run("find", "--json").json["rows"]
    assert len(everybody) == 64
    assert [row["login"] for row in everybody if "disabled" in row["state"]] == ["g-thorne"]
    assert "team-it" in demo.run("find", "--type", "groups", "it").out
    assert demo.run("find", "groups=team-it", "--json").json["rows"][0]["place"] == "/Shore/IT"
    assert len(demo.run("find", "--under", "/Boatyard", "--json").json["rows"]) == 4
    assert len(demo.run("find", "phone=", "site=Kelness", "--json").json["rows"]) == 7
    assert "1 account" in demo.run("find", "enabled=no").out
    demo.run("edit", "alund", "ends=2027-03-31", "--yes")
    assert [row["login"] for row in demo.run("find", "ends=2027-03-31", "--json").json["rows"]] == ["alund"]
    assert (
        len(demo.run("find", "ends=*", "--json").json["rows"]) == 6
    )  # three of the season, a contractor, a guest, and this
    assert demo.run("find", "ends=soon").code == Code.BAD_VALUE.exit_code
    assert (
        next(row["login"] for row in demo.run("find", "manager=jmueller", "--by", "login", "--json").json["rows"])
        == "cisiksoy"
    )
    raw = demo.run("find", "--where", "(&(objectClass=person)(!(manager=*)))", "--columns", "login", "--json").json[
        "rows"
    ]
    assert {"login": "iaasheim"} in raw
    everything = demo.run("find", "--where", "(objectClass=*)").out
    assert re.search(r"^Deck +unit +/Ferries", everything, re.MULTILINE) and re.search(
        r"^\d+ objects$", everything, re.MULTILINE
    )
    unknown = demo.run("find", "--where", "(titel=x)")
    assert "did you mean title?" in unknown.err


def test_lists_are_kept_and_exported(demo):
    assert demo.run("find", "department=IT", "--columns", "full,phone", "--by", "full", "--keep", "it").code == 0
    rows = list(csv.reader(io.StringIO(demo.run("find", "--list", "it", "--as", "csv").out)))
    assert rows[0] == ["full", "phone"]
    assert len(rows) == 6
    assert ["Jörg Müller", "'+47 5555 0111"] in rows  # no spreadsheet takes it for a formula
    assert demo.run("find", "--list", "it", "--to", "it.csv").out == "5 rows in it.csv\n"
    assert demo.run("find", "--list", "it", "--to", "it.csv").code == Code.TAKEN.exit_code
    assert demo.run("find", "--list", "ti").code == Code.NOT_FOUND.exit_code


def test_tree_and_hierarchy(demo):
    tree = demo.run("tree", "/Shore", "--objects").out
    assert tree.splitlines()[0] == "Shore  team-help-desk: reset-passwords, unlock (by the charter)"
    assert "jmueller (Jörg Müller)" in tree
    assert "Officers" not in demo.run("tree", "--depth", "2").out
    assert "62 units: 62 built." in demo.run("hierarchy").out
    demo.run("create", "unit", "/Ferries/Kelness/Stores", "--yes")
    out = demo.run("hierarchy").out
    assert "Stores  not in the charter" in out
    assert "63 units: 62 built, 1 not in the charter." in out


# --- changing


def test_create_shows_every_value_with_its_rule(demo):
    done = demo.run(*CREW, "password=generate", "--hand-out", "h.csv", "--yes")
    assert done.code == 0, done.err
    assert re.search(r"login +tvik +\{given 1\}\{surname bare\}  \(names.login, rung 1 of 6\)", done.out)
    assert done.out.splitlines()[-1].startswith("Tor Vik can log on as tvik or tvik@marrowick.example.")
    ((_, login, _, _, password),) = list(csv.reader((demo.path / "h.csv").open()))[1:]
    assert login == "tvik"
    assert stat.S_IMODE((demo.path / "h.csv").stat().st_mode) == 0o600
    assert password not in done.out + done.err
    for file in ("directory.db", "journal.db"):
        assert password.encode() not in (demo.path / file).read_bytes()
    assert demo.run("show", "tvik", "--bare", "groups").out.splitlines() == ["team-everybody", "team-kelness-deck"]


def test_without_a_password_an_account_is_disabled_and_says_so(demo):
    done = demo.run(*CREW, "password=none", "--yes")
    assert done.out.splitlines()[-1] == "Tor Vik cannot log on: the account is disabled and it has no password."


def test_a_password_from_standard_input_is_checked(demo):
    refused = demo.run(*CREW, "password=-", "--yes", stdin="vik\n")
    assert refused.code == Code.PASSWORD.exit_code
    for words in ("3 characters, and 12 is the least (charter)", "1 of the four classes", "own names: Vik"):
        assert words in refused.err
    assert demo.run("show", "tvik").code == Code.NOT_FOUND.exit_code
    assert demo.run(*CREW, "password=-", "--yes", stdin="Kv9-fjord-lamp\n").code == 0
    again = demo.run("edit", "tvik", "password=-", "--yes", stdin="Kv9-fjord-lamp\n")
    assert "one of the last 24" in again.err


def test_dry_run_and_json_change_nothing(demo):
    before = demo.state()
    done = demo.run(*CREW, "password=none", "--dry-run", "--json")
    assert [step["step"] for step in done.json["steps"]] == ["add", "set", "set"]
    assert done.json["job"] is None
    for words in (["edit", "alund", "title=x", "-n"], ["create", "group", "x", "-n"], ["hierarchy", "build", "-n"]):
        assert demo.run(*words).code == 0
    assert demo.state() == before


def test_edit_reads_back_and_is_in_the_journal(demo):
    done = demo.run("edit", "alund", "title=First mate", "phone+=+47 5555 0999", "groups+=team-it", "--yes")
    assert re.search(r"title +Second mate +-> +First mate", done.out)
    now = done.out.split("alund (Anna Lund) now")[1]
    assert re.search(r"phone +\+47 5555 0203, \+47 5555 0999", now)
    assert "Anna Lund can log on" in now
    assert demo.run("edit", "alund", "title=First mate", "--yes").out.count("as it is already") == 1
    jobs = demo.run("journal", "--json").json["rows"]
    assert jobs[0]["title"] == "edit alund (Anna Lund)"
    assert jobs[0]["command"].startswith("vandrel edit alund 'title=First mate'")
    text = demo.run("journal", str(jobs[0]["number"])).out
    assert "title - Second mate" in text
    assert "title + First mate" in text
    assert len(demo.run("journal", "--about", "alund", "--json").json["rows"]) == 3  # hired, given a manager, and this


def test_several_in_one_go(demo):
    done = demo.run("edit", "alund", "hbrekke", "jmeer", "office=Bridge", "--yes")
    assert "Done: 3 steps" in done.out
    assert demo.run("find", "office=Bridge", "--json").json["rows"][2]["login"] == "jmeer"


def test_nobody_to_ask(demo):
    before = demo.state()
    done = demo.run("edit", "alund", "title=x")
    assert done.code == Code.USAGE.exit_code
    assert "--yes" in done.err
    assert demo.run(*CREW, "--yes").code == Code.USAGE.exit_code  # generated, and nowhere to go
    assert demo.run(*CREW, "password=ask", "--yes").code == Code.USAGE.exit_code
    assert demo.state() == before


def test_where_charter_and_directory_come_from(demo, tmp_path):
    elsewhere = Folder(tmp_path)
    charter, directory = str(demo.path / "charter.yaml"), str(demo.path / "directory.db")
    assert elsewhere.run("show", "alund").code == Code.NOT_FOUND.exit_code
    by_option = elsewhere.run("show", "alund", "--bare", "login", "--charter", charter)
    by_variable = elsewhere.run(
        "show", "alund", "--bare", "login", VANDREL_CHARTER=charter, VANDREL_DIRECTORY=directory
    )
    assert by_option.out == by_variable.out == "alund\n"
    own = tmp_path / ".config" / "vandrel"
    own.mkdir(parents=True)
    shutil.copy(charter, own)
    assert elsewhere.run("show", "alund", "--bare", "login", VANDREL_DIRECTORY=directory).out == "alund\n"
    (demo.path / "below" / "deep").mkdir(parents=True)
    assert Folder(demo.path / "below" / "deep").run("show", "alund", "--bare", "login").out == "alund\n"


def test_a_charter_for_another_directory_is_noticed(demo):
    text = (demo.path / "charter.yaml").read_text("utf-8")
    (demo.path / "charter.yaml").write_text(text.replace("dc=marrowick,dc=example", "dc=other,dc=example"), "utf-8")
    done = demo.run("show", "alund")
    assert done.code == Code.FOREIGN.exit_code
    assert "dc=marrowick,dc=example, and the charter is for dc=other,dc=example" in done.err


def test_words_for_programs_and_for_the_eye(demo):
    error = demo.run("show", "lund", "--json")
    assert (error.out, json.loads(error.err)["findings"][0]["code"]) == ("", "ambiguous")
    differences = demo.run("hierarchy", "--differences").out
    assert "Northquay" not in differences
    demo.run("edit", "/Shore/IT", "protected=no", "--yes")
    assert "IT  5 accounts  not protected" in demo.run("hierarchy", "--differences").out
    assert "IT  5 accounts  not protected" in demo.run("tree").out
    states = {unit["place"]: unit["state"] for unit in demo.run("hierarchy", "--json").json["rows"]}
    assert states["/Shore/IT"] == "not protected"
    assert "protected  no  ->  yes" in demo.run("hierarchy", "build", "--yes").out
    assert demo.run("hierarchy", "--json").json["rows"][0]["state"] == "built"
    tree = {unit["place"]: unit for unit in demo.run("tree", "--json").json["rows"]}
    assert (tree["/Shore/IT"]["accounts"], tree["/Groups/Teams"]["groups"]) == (5, 20)
    assert demo.run("charter", "infer", "login", "--json").json["rows"][0]["accounts"] == 64
    quiet = demo.run("edit", "alund", "office=Bridge", "--yes", "--quiet")
    assert (quiet.out, quiet.err) == ("", "")
    assert demo.run(
        "find", "--type", "units", "--under", "/Shore", "--columns", "name,dn", "--by", "name"
    ).out.splitlines()[1:4] == [
        "IT      ou=IT,ou=Shore,dc=marrowick,dc=example",
        "Office  ou=Office,ou=Shore,dc=marrowick,dc=example",
        "Shore   ou=Shore,dc=marrowick,dc=example",
    ]


def test_a_branch_of_protected_units_is_refused_in_one_finding_released_deleted_and_built_again(demo):
    refused = demo.run("delete", "/Ferries/Kelness", "--contents", "-n")
    assert (refused.code, refused.err.count("stop  ")) == (27, 1)
    assert "stop  11 objects: protected from deletion, renaming and moves\n" in refused.err
    command = refused.err.splitlines()[-1].partition("on purpose: vandrel ")[2]
    assert len(shlex.split(command)) == 12
    told = json.loads(demo.run("delete", "/Ferries/Kelness", "--contents", "-n", "--json").out)["findings"]
    assert sum(finding["code"] == "protected" for finding in told) == 11
    released = demo.run(*shlex.split(command), "-y")
    assert "and 1 more object, 11 in all: protected of 11" in released.out
    assert demo.run("delete", "/Ferries/Kelness", "--contents", "-y").code == 0
    built = demo.run("hierarchy", "build", "-y").out.splitlines()
    assert (built[0], [line.split() for line in built[1:4]]) == ("New: 11 units", [
        ["name", "place", "protected", "notes"], ["Kelness", "/Ferries", "yes"], ["Deck", "/Ferries/Kelness", "yes"],
    ])  # fmt: skip
    assert built[built.index("There now") + 2].split() == ["Deck", "unit", "/Ferries/Kelness", "protected"]


def test_of_what_undo_deletes_it_is_not_said_that_nothing_points_at_it(demo):
    done = demo.run("create", "group", "Loft", "kind=team", "-y")
    assert done.code == 0
    job = re.findall(r"job (\d+) in the journal", done.out)[0]
    told = demo.run("undo", job, "-n")
    assert "To be deleted: team-loft in /Groups/Teams" in told.out
    assert "nothing points at it" not in told.out
    assert demo.run("undo", job, "-n", "--json").json["changes"][0]["pointed_at"] is None
    assert "nothing points at it" in demo.run("delete", "team-loft", "-n").out


def test_passwords_are_taken_away_given_and_handed_out_for_several(demo):
    gone = demo.run("edit", "alund", "password=none", "--yes")
    assert re.search(r"password +set +-> +\(none\)", gone.out)
    assert "Anna Lund cannot log on: it has no password." in gone.out
    done = demo.run("edit", "alund", "hbrekke", "password=generate", "change=no", "--hand-out", "new.csv", "--yes")
    assert done.code == 0, done.err
    rows = list(csv.DictReader((demo.path / "new.csv").open()))
    assert [row["login"] for row in rows] == ["alund", "hbrekke"]
    assert rows[0]["password"] != rows[1]["password"]
    assert "must be changed" not in demo.run("show", "alund").out
    again = demo.run("edit", "alund", "password=generate", "--hand-out", "new.csv", "--yes")
    assert again.code == Code.TAKEN.exit_code
    both = demo.run("edit", "alund", "hbrekke", "password=-", "--yes", stdin="Kv9-fjord-lamp\n")
    assert both.code == Code.USAGE.exit_code
    assert demo.run("edit", "g-thorne", "enabled=yes", "--yes").err.count("has no password") == 1


def test_a_kept_file_of_lists_that_somebody_broke(demo):
    (demo.path / "lists.yaml").write_text("- not\n- a mapping\n")
    assert demo.run("find", "--list", "x").code == Code.BAD_VALUE.exit_code
    (demo.path / "lists.yaml").write_text("{")
    assert demo.run("find", "--list", "x").code == Code.BAD_VALUE.exit_code


def test_from_nothing_to_a_first_account(tmp_path):
    folder = Folder(tmp_path)
    assert folder.run("show", "x").code == Code.NOT_FOUND.exit_code
    assert folder.run("charter", "new", "--organization", 'The "Old" Yard', "--domain", "yard.example").code == 0
    assert "no faults" in folder.run("charter", "check").out
    assert folder.run("charter", "new").code == Code.TAKEN.exit_code
    assert folder.run("show", "x").code == Code.OUT_OF_REACH.exit_code
    assert not (tmp_path / "directory.db").exists()
    assert folder.run("hierarchy", "build", "--dry-run").code == 0
    assert not (tmp_path / "directory.db").exists()
    assert folder.run("hierarchy", "build", "--yes").code == 0
    assert folder.run("create", "staff", "Anna Lund", "department=Office", "password=none", "--yes").code == 0
    assert folder.run("show", "alund", "--bare", "mail").out == "anna.lund@yard.example\n"


def test_charter_names_schema_and_inference(demo):
    names = demo.run("charter", "names", "crew", "Jörg Müller", "language=de", "--json").json["rows"]
    assert next(row["name"] for row in names if row["field"] == "login") == "jmueller"
    assert re.search(r"guest +surname, sponsor +/Guests", demo.run("charter", "kinds").out)
    assert "properties" in str(demo.run("charter", "schema").json["$defs"])
    assert "{given 1}{surname bare}" in demo.run("charter", "infer", "login").out
    (demo.path / "charter.yaml").write_text("organisation: x\nbase: y\n")
    done = demo.run("charter", "check")
    assert done.code == Code.CHARTER.exit_code
    assert "charter.yaml:1:1: unknown key 'organisation'\n      did you mean organization?" in done.err
    assert "charter.yaml:2:7" in done.err


def test_the_tour_runs_as_it_says(tmp_path):
    done = Folder(tmp_path).run("demo", "tour", timeout=120)
    assert done.code == 0, done.err
    assert done.out.count("\n$ vandrel ") == 14
    assert Folder(tmp_path).run("demo", "tour").code == Code.TAKEN.exit_code
    assert stat.S_IMODE((tmp_path / "tour" / "hand-out.csv").stat().st_mode) == 0o600


# --- bad input: each with its own exit code, nothing on standard output but what was worked out, nothing written

BAD = [
    (["show", "nobody at all"], "not-found"), (["show", "lund"], "ambiguous"), (["show", "cn=a\\"], "bad-name"), (["show", "/Ferries//x"], "bad-name"),
    (["show", "cn=x,dc=marrowick,dc=example"], "not-found"), (["show", "alund", "--bare", "nosuch"], "unknown-field"),
    (["find", "--where", "(cn=a"], "bad-filter"), (["find", "--columns", "titel"], "unknown-field"), (["find", "titel=x"], "unknown-field"),
    (["create", "crow", "x"], "unknown-kind"), (["create", "crew", "x", "titel=y"], "unknown-field"), ([*CREW[:3], "number=1", "-y"], "required"),
    ([*CREW, "title=" + "x" * 65, "-y"], "schema"), ([*CREW, "login=alund", "-y"], "taken"), ([*CREW[:2], "😀 ★", *CREW[3:], "-y"], "empty-name"),
    ([*CREW, "place=/Ferries/Nowhere", "-y"], "no-parent"), ([*CREW, "manager=nobody at all", "-y"], "not-found"), ([*CREW, "login=a/b", "-y"], "bad-value"),
    ([*CREW, "password=Hemmelig1!", "-y"], "usage"), (["create", "group", "IT", "-y"], "taken"), (["create", "group", "x", "kind=gang", "-y"], "unknown-kind"),
    (["create", "unit", "/Ferries", "-y"], "taken"), (["create", "unit", "/No/Such", "-y"], "no-parent"), (["create", "unit", "Ferries", "-y"], "bad-name"),
    (["edit", "alund", "titel=x", "-y"], "unknown-field"), (["edit", "alund", "login=hbrekke", "-y"], "taken"), (["edit", "alund"], "usage"),
    (["edit", "/Ferries", "name=Boats", "-y"], "protected"), (["edit", "alund", "manager=lund", "-y"], "ambiguous"), (["journal", "999"], "not-found"),
    (["edit", "alund", "mail=tove.oedegaard@marrowick.example", "-y"], "taken"), (["edit", "alund", "mail=no address", "-y"], "bad-value"),
    (["edit", "alund", "login=", "-y"], "required"), (["show", "a" * 100_000], "not-found"), (["create", "unit", "/Ferries/a\nb", "-y"], "bad-value"),
    (["edit", "alund", "title=a\nb", "-y"], "bad-value"), (["journal", "9" * 30], "usage"), (["show", "x", "--directory", "."], "not-permitted"),
    (["edit", "alund", "password=Hemmelig1!", "-y"], "usage"), (["resume", "-y"], "not-found"), (["find", "--under", "/Nowhere"], "not-found"),
    (["charter", "names", "crew", "x", "--charter", "nosuch.yaml"], "not-found"), (["show", "x", "--directory", "nosuch.db"], "out-of-reach"),
]  # fmt: skip


@pytest.mark.parametrize(("words", "code"), BAD, ids=[f"{code}-{number}" for number, (_, code) in enumerate(BAD)])
def test_bad_input(demo, words, code):
    before = demo.state()
    done = demo.run(*words)
    assert done.code == Code(code).exit_code, done.err
    assert done.err.strip()
    assert demo.state() == before
    assert "Hemmelig" not in done.err.replace("password=Hemmelig1!", "")


def test_the_families_of_exit_codes_are_told_apart_and_documented():
    text = (Path(__file__).parent.parent / "docs" / "exit-codes.md").read_text("utf-8")
    numbers = [code.exit_code for code in Code if not code.is_of_rows]
    assert len(set(numbers)) == len(numbers)
    for code in Code:
        assert code.is_of_rows or f"| {code.exit_code} | `{code}` | {code.meaning} |" in text


# --- files that fail


def test_a_directory_that_cannot_be_written(demo):
    for file in ("directory.db", "journal.db"):
        (demo.path / file).chmod(0o400)
    demo.path.chmod(0o500)
    drop = ["setpriv", "--bounding-set", "-dac_override", "--inh-caps", "-dac_override"] if os.getuid() == 0 else []
    words = [*drop, str(PROGRAM), "edit", "alund", "title=x", "--yes"]
    done = subprocess.run(words, cwd=demo.path, capture_output=True, text=True, env=demo.environment(), check=False)
    looked = subprocess.run(
        [*words[:-4], "show", "alund"],
        cwd=demo.path,
        capture_output=True,
        text=True,
        env=demo.environment(),
        check=False,
    )
    demo.path.chmod(0o700)
    assert (done.returncode, looked.returncode) == (Code.NOT_PERMITTED.exit_code, 0), done.stderr + looked.stderr
    assert "cannot be written" in done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize("name", ["directory.db", "journal.db"])
def test_damaged_and_foreign_files(demo, name):
    words = ["show", "alund"] if name == "directory.db" else ["journal"]
    path = demo.path / name
    good = path.read_bytes()
    path.write_bytes(good[:4096] + os.urandom(len(good) - 4096))
    done = demo.run(*words)
    assert done.code in (Code.DAMAGED.exit_code, Code.FOREIGN.exit_code), done.err
    path.write_bytes(b"not a database at all, but long enough to be looked at as one" * 10)
    assert demo.run(*words).code == Code.FOREIGN.exit_code
    path.unlink()
    sqlite3.connect(path).executescript("CREATE TABLE x(y)")
    assert demo.run(*words).code == Code.FOREIGN.exit_code


@pytest.fixture
def small_disk(tmp_path):
    """A disk of one megabyte, in a mount namespace of its own where that is allowed."""
    probe = subprocess.run(["unshare", "--mount", "true"], capture_output=True, check=False)
    if probe.returncode:
        not_installed("the right to mount a small disk (unshare --mount)")
    return tmp_path


def test_a_full_disk(small_disk, demo_template):
    script = """
        mkdir disk && mount -t tmpfs -o size=1200k tmpfs disk && cp -r "$1"/. disk && cd disk
        head -c 10000000 /dev/zero > filler 2>/dev/null
        "$2" edit alund title=Mate notes+="$(head -c 1000 /dev/zero | tr '\\0' x)" --yes; echo "code $?"
        "$2" delete hbrekke --yes > /dev/null; echo "deleted $?"
        "$2" snapshot take > /dev/null; echo "taken $?"
        rm filler
        "$2" attic; "$2" show hbrekke --bare login; "$2" snapshot list
        "$2" show alund --bare title; "$2" journal --last 1
        "$2" edit alund title=Mate --yes > /dev/null; echo "after $?"
    """
    done = subprocess.run(
        ["unshare", "--mount", "sh", "-c", script, "sh", str(demo_template), str(PROGRAM)],
        cwd=small_disk, capture_output=True, text=True, env=Folder(small_disk).environment(), check=False,
    )  # fmt: skip
    assert "Traceback" not in done.stderr
    assert "no room left on the disk" in done.stderr
    assert f"code {Code.DISK_FULL.exit_code}" in done.stdout
    assert "\nSecond mate\n" in done.stdout  # nothing was half-written
    full = Code.DISK_FULL.exit_code
    assert (
        f"deleted {full}\n" in done.stdout and "Nothing in the attic." in done.stdout and "\nhbrekke\n" in done.stdout
    )
    assert f"taken {full}\n" in done.stdout and "No snapshot yet." in done.stdout
    assert "after 0" in done.stdout


def test_two_writers_at_once(demo):
    words = [["edit", "alund", f"@carLicense+=A {n}", "--yes", "-q"] for n in range(6)]
    running = [demo.start(*w) for w in words]
    for process in running:
        _, errors = process.communicate(timeout=60)
        assert process.returncode == 0, errors
    assert sorted(demo.run("show", "alund", "--bare", "@carLicense").out.split("\n")[:-1]) == [
        f"A {n}" for n in range(6)
    ]
    holder = sqlite3.connect(demo.path / "directory.db", isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    done = demo.run("edit", "alund", "title=x", "--yes")
    holder.execute("ROLLBACK")
    assert done.code == Code.BUSY.exit_code
    assert "another process has been writing" in done.err


def test_two_that_create_one_name_at_once(demo):
    running = [
        demo.start(*CREW[:2], "Tor Vik", f"number={n}", *CREW[4:], "password=none", "--yes", "-q") for n in range(4)
    ]
    codes = sorted(process.wait(timeout=60) for process in running)
    logins = {row["login"] for row in demo.run("find", "vik", "--json").json["rows"] if "Vik" in row["full"]}
    assert codes.count(0) == len(logins) >= 1
    assert set(codes) <= {0, Code.TAKEN.exit_code}


def test_a_kill_in_the_middle_is_told_of_and_finished(demo):
    process = demo.start(
        "edit", *[row["login"] for row in demo.run("find", "--json").json["rows"]], "office=Quay", "--yes"
    )
    deadline = time.monotonic() + 30
    before = len(demo.run("journal", "--json").json["rows"])
    while time.monotonic() < deadline and process.poll() is None:
        jobs = sqlite3.connect(demo.path / "journal.db").execute("SELECT count(*) FROM job").fetchone()[0]
        if jobs > before:
            process.send_signal(signal.SIGKILL)
            break
    process.wait()
    job = demo.run("journal", "--json").json["rows"][0]
    if job["state"] == "broken off":
        note = demo.run("edit", "alund", "title=x", "--yes")
        assert f"job {job['number']}" in note.err
        done = demo.run("resume", "--yes")
        assert done.code in (0, Code.REFUSED.exit_code), done.err
        if done.code == 0:
            assert len(demo.run("find", "office=Quay", "--json").json["rows"]) == 64
    else:
        assert job["state"] == "done"


# --- at a terminal


def at_terminal(demo: Folder, words: list[str], answers: list[tuple[str, str]]) -> tuple[int, str]:
    """Run the program in a pseudo-terminal; each answer is typed when its question appears."""
    pid, terminal = pty.fork()
    if pid == 0:
        signal.signal(signal.SIGINT, signal.SIG_DFL)  # a shell's background jobs begin with it ignored
        os.chdir(demo.path)
        os.execve(PROGRAM, [str(PROGRAM), *words], demo.environment() | {"TERM": "xterm", "LINES": "40"})
    seen, mark, deadline = "", 0, time.monotonic() + 40
    pending = list(answers)
    while time.monotonic() < deadline:
        ready, _, _ = select.select([terminal], [], [], 0.2)
        if ready:
            try:
                seen += os.read(terminal, 65536).decode("utf-8", "replace")
            except OSError:
                break
        if pending and (found := seen.find(pending[0][0], mark)) >= 0:
            mark = found + len(pending[0][0])
            time.sleep(0.15)  # nobody types before the prompt stands
            os.write(terminal, pending.pop(0)[1].encode())
    if time.monotonic() >= deadline:
        os.kill(pid, signal.SIGKILL)
    assert not pending, seen
    return os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]), seen


def test_what_is_missing_is_asked_for_alone_and_the_password_unseen(demo):
    code, seen = at_terminal(
        demo,
        ["create", "staff", "Tor Vik", "password=ask"],
        [
            ("number", "3999\r"), ("department (Deck", "IT\r"), ("Password (not shown)", "vik\r"), ("The same again", "vik\r"),
            ("Password (not shown)", "Kv9-fjord-lamp\r"), ("The same again", "Kv9-fjord-lamq\r"),
            ("The two differ", ""), ("Password (not shown)", "Kv9-fjord-lamp\r"), ("The same again", "Kv9-fjord-lamp\r"), ("[yes/no]", "yes\r"),
        ],
    )  # fmt: skip
    assert code == 0, seen
    assert "12 characters or more" in seen  # the rules are shown before the question
    assert "3 characters, and 12 is the least" in seen
    assert "Kv9-fjord" not in seen
    assert "Tor Vik can log on as tvik" in seen


def test_a_generated_password_is_shown_on_the_other_screen_only(demo):
    code, seen = at_terminal(demo, CREW, [("[yes/no]", "y\r"), ("Enter when you have it", "\r")])
    assert code == 0
    shown, rest = seen.split("\x1b[?1049h")[1].split("\x1b[?1049l")
    password = re.search(r"tvik +(\S+)", shown).group(1)
    assert len(password) == 16
    assert password not in rest + seen.split("\x1b[?1049h")[0]
    assert "\x1b[2J" in shown


def test_no_is_no(demo):
    before = demo.state()
    code, _ = at_terminal(demo, ["edit", "alund", "title=x"], [("[yes/no]", "no\r")])
    assert code == Code.DECLINED.exit_code
    code, seen = at_terminal(demo, ["edit", "alund", "title=x"], [("[yes/no]", "\x03")])
    assert code == Code.INTERRUPTED.exit_code
    assert "Traceback" not in seen
    assert demo.state() == before


def test_control_characters_in_a_value_do_not_reach_the_terminal(demo):
    value = "Mate\x1b]0;owned\x07\x1b[31m"
    assert demo.run("edit", "alund", f"title={value}", "--yes").code == Code.BAD_VALUE.exit_code
    assert demo.run("edit", "alund", f"@title={value}", "--yes").code == 0
    for words in (["show", "alund"], ["show", "alund", "--raw"], ["find", "alund"], ["journal", "--last", "1"]):
        assert "\x1b" not in demo.run(*words).out


def test_output_that_cannot_be_written(demo):
    for redirection, code in (("> /dev/full", Code.DISK_FULL.exit_code), (">&-", 0)):
        words = f"'{PROGRAM}' show alund {redirection}"
        done = subprocess.run(
            ["sh", "-c", words], cwd=demo.path, capture_output=True, text=True, env=demo.environment(), check=False
        )
        assert "Traceback" not in done.stderr
        assert done.returncode == code, done.stderr
    assert demo.run("show", "epapadakis", PYTHONIOENCODING="latin-1:strict").code == 0


def test_what_somebody_said_yes_to_is_made_though_nobody_reads_the_preview(demo):
    reading, writing = os.pipe()
    os.close(reading)
    words = [str(PROGRAM), "edit", "--where", "(title=*)", "notes=Seen", "-y"]
    done = subprocess.run(words, cwd=demo.path, stdout=writing, stderr=subprocess.PIPE, text=True, check=False)
    os.close(writing)
    assert (done.returncode, done.stderr) == (0, "")
    assert set(demo.run("find", "--where", "(title=*)", "--columns", "notes").out.split("\n")[1:-3]) == {"Seen"}


def test_a_reader_that_goes_away_is_no_error(demo):
    done = subprocess.run(
        ["sh", "-c", f"'{PROGRAM}' find --type all | head -1"],
        cwd=demo.path,
        capture_output=True,
        text=True,
        env=demo.environment(),
        check=False,
    )
    assert (done.returncode, done.stderr) == (0, "")


# --- completion and the manual


def complete(demo: Folder, line: str) -> list[str]:
    env = demo.environment() | {
        "_ARGCOMPLETE": "1",
        "COMP_LINE": line,
        "COMP_POINT": str(len(line)),
        "_ARGCOMPLETE_IFS": "\n",
    }
    read, write = os.pipe()
    code = "import os, sys; os.dup2(int(sys.argv[1]), 8); os.execv(sys.argv[2], [sys.argv[2]])"
    subprocess.run(
        [sys.executable, "-c", code, str(write), str(PROGRAM)],
        cwd=demo.path,
        env=env,
        pass_fds=[write],
        check=False,
        timeout=30,
    )
    os.close(write)
    with os.fdopen(read) as pipe:
        return [word.strip() for word in pipe.read().split("\n") if word.strip()]


@pytest.mark.parametrize(
    ("line", "expected"),
    [
        ("vandrel sh", "show"), ("vandrel show alu", "alund"), ("vandrel show /Ferries/No", "/Ferries/Northquay"), ("vandrel create cr", "crew"),
        ("vandrel create crew dep", "department="), ("vandrel create crew department=D", "department=Deck"), ("vandrel edit alund gro", "groups="),
        ("vandrel edit alund groups+=team-i", "groups+=team-it"), ("vandrel edit hbr", "hbrekke"), ("vandrel find --columns login,fu", "login,full"),
        ("vandrel find --under /Sho", "/Shore"), ("vandrel tree /Boat", "/Boatyard"), ("vandrel edit alund manager=hb", "manager=hbrekke"),
        ("vandrel create crew password=g", "password=generate"), ("vandrel edit alund enabled=", "enabled=yes"),
    ],
)  # fmt: skip
def test_completion_of_names_fields_kinds_and_places(demo, line, expected):
    # A shell breaks words at '=', so what follows it may come alone.
    assert {expected, expected.partition("=")[2], expected.partition("=")[0]} & set(complete(demo, line))


def test_completion_of_connections_and_their_identities(demo):
    (demo.path / "connections.yaml").write_text(
        "connections:\n  harbour:\n    hosts: [ldaps://x.example]\n    identities: {admin: {bind: cn=a}, me: {bind: cn=b}}\n"
    )
    assert "harbour" in complete(demo, "vandrel show --directory har")
    assert complete(demo, "vandrel show --directory harbour --who a") == ["admin"]
    # Nobody is asked for a password while a word is completed.
    assert complete(demo, "vandrel show --directory harbour alu") == []


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completion_is_put_out_for_each_shell(demo, shell):
    text = demo.run("completion", shell).out
    assert "vandrel" in text
    if not shutil.which(shell):
        not_installed(f"{shell}, to read the completion that it would be given")
    assert subprocess.run([shell, "-n"], input=text, text=True, capture_output=True, check=False).returncode == 0


def test_completion_never_complains(tmp_path):
    assert complete(Folder(tmp_path), "vandrel show a") == []


def test_the_manual_page(demo):
    page = demo.run("manual").out
    for command in ("show", "create", "hierarchy"):
        assert f"vandrel {command}" in page.replace("\\fB", "").replace("\\fR", "").replace("\\fI\\,", "").replace(
            "\\/", ""
        )
    for code in [member.exit_code for member in Code]:
        assert f"\n.B {code}\n" in page
    if shutil.which("man"):
        (demo.path / "vandrel.1").write_text(page)
        done = subprocess.run(["man", "-l", "vandrel.1"], cwd=demo.path, capture_output=True, text=True, check=False)
        assert "EXIT CODES" in re.sub(r".\x08", "", done.stdout)


def test_a_name_taken_while_the_question_stands_is_worked_out_and_asked_again(demo):
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(demo.path)
        os.execve(PROGRAM, [str(PROGRAM), *CREW, "--hand-out", "h.csv"], demo.environment() | {"TERM": "xterm"})

    def read_until(word: str) -> str:
        seen = ""
        while word not in seen:
            try:
                seen += os.read(terminal, 65536).decode()
            except OSError:  # the program is over
                break
        return seen

    assert "tvik" in read_until("[yes/no]")
    assert (demo.path / "h.csv").exists()
    assert (
        demo.run("create", "crew", "Tor Vikas", "login=tvik", *CREW[4:], "number=2777", "password=none", "--yes").code
        == 0
    )
    os.write(terminal, b"yes\r")
    again = read_until("[yes/no]")
    assert "A name was taken meanwhile, and nothing was written" in again and "torvik" in again
    assert "tvik," not in (demo.path / "h.csv").read_text().replace("torvik,", "")
    os.write(terminal, b"no\r")
    read_until("never said")
    assert os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) == Code.DECLINED.exit_code
    assert not (demo.path / "h.csv").exists()  # no password of nobody stays behind


@pytest.mark.parametrize(
    "words", [("load", "bad.ldif"), ("load", "no.ldif"), ("hierarchy", "build", "--charter", "bad.yaml")]
)
def test_a_first_command_that_fails_leaves_no_directory_behind(demo, tmp_path, words):
    folder = Folder(tmp_path / "fresh")
    folder.path.mkdir()
    text = (demo.path / "charter.yaml").read_text("utf-8")
    (folder.path / "charter.yaml").write_text(text, "utf-8")
    (folder.path / "bad.yaml").write_text(
        text.replace("base: dc=marrowick,dc=example", "base: ou=x,dc=marrowick,dc=example"), "utf-8"
    )
    (folder.path / "bad.ldif").write_text("dn: ou=x,dc=marrowick,dc=example\nobjectClass: nothing\n", "utf-8")
    before = {path.name for path in folder.path.iterdir()}
    done = folder.run(*words, "-y")
    made = {path.name for path in folder.path.iterdir()} - before - {".cache"}
    assert (made == set()) is (done.code != 0), (done.out, done.err, made)


@pytest.mark.parametrize(
    ("words", "expected"),
    [
        (["ends<2026-12-31"], {"early"}), (["ends<=2027-01-01"], {"early", "late"}), (["ends>2026-12-31"], {"late"}),
        (["ends=2026-1*"], {"early"}), (["ends>=+0d", "number<3002"], {"early"}), (["number>=3002"], {"late"}),
        (["created>-1d", "ends=*"], {"early", "late"}), (["created<-1d"], set()), (["locked=no", "ends=*"], {"early", "late"}),
    ],
)  # fmt: skip
def test_days_and_numbers_are_compared(demo, words, expected):
    for login, number, day in (("early", "3001", "2026-12-24"), ("late", "3002", "2027-01-01")):
        assert (
            demo.run("edit", {"early": "alund", "late": "hbrekke"}[login], f"ends={day}", f"number={number}", "-y").code
            == 0
        )
    named = {"alund": "early", "hbrekke": "late"}
    found = demo.run("find", *words, "--columns", "login", "--as", "csv").out.split()[1:]
    assert {named[login] for login in found if login in named} == expected


@pytest.mark.parametrize(
    ("word", "code"), [("manager<3", Code.USAGE), ("ends<soon", Code.BAD_VALUE), ("ends<-999999d", Code.BAD_VALUE),
                       ("ends=9999-12-31", Code.BAD_VALUE), ("number>many", Code.USAGE)],
)  # fmt: skip
def test_what_cannot_be_compared_is_told(demo, word, code):
    assert demo.run("find", word).code == code.exit_code


@pytest.mark.parametrize(("kind", "is_told"), [("dumb", True), ("xterm", False)])
def test_a_terminal_without_a_second_screen_is_told_of(demo, kind, is_told):
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(demo.path)
        os.execve(PROGRAM, [str(PROGRAM), *CREW], demo.environment() | {"TERM": kind})
    seen = ""
    while "[yes/no]" not in seen:
        seen += os.read(terminal, 65536).decode()
    os.write(terminal, b"no\r")
    assert ("has no second screen" in seen) == is_told
    assert os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) == Code.DECLINED.exit_code


def test_power_is_told_before_it_is_given_to_a_new_account(demo):
    made = [*CREW[:3], "number=2998", *CREW[4:], "groups+=team-harbour-masters", "password=none", "-n"]
    told = demo.run(*made)
    assert "team-harbour-masters carries power: every account of the ferry line; the new account gets it" in told.err
    copied = demo.run(
        "copy", "alund", "Berit Dahl", "number=2077", "groups+=team-harbour-masters", "password=none", "-n"
    )
    assert "the new account gets it" in copied.err
    assert "carries power" not in demo.run("copy", "alund", "Berit Dahl", "number=2077", "password=none", "-n").err


def test_completion_and_the_manual_are_put_where_they_are_looked_for(demo):
    where = {"XDG_DATA_HOME": str(demo.path / "data"), "XDG_CONFIG_HOME": str(demo.path / "config")}
    for shell, name in (
        ("bash", "data/bash-completion/completions/vandrel"), ("zsh", "data/zsh/site-functions/_vandrel"),
        ("fish", "config/fish/completions/vandrel.fish"),
    ):  # fmt: skip
        told = demo.run("completion", shell, "--install", **where)
        assert told.code == 0 and str(demo.path / name) in told.out
        assert (demo.path / name).read_text() == demo.run("completion", shell).out
        assert demo.run("completion", shell, "--install", **where).code == 0  # again, for a newer version
    assert demo.run("manual", "--to", "man").code == 0
    pages = {path.name for path in (demo.path / "man").iterdir()}
    assert pages == {"vandrel.1", *(f"vandrel-{name}.1" for name in COMMANDS)}
    rename = (demo.path / "man" / "vandrel-rename.1").read_text()
    assert "\\-\\-no\\-alias" in rename and "\\-\\-carry\\-out" not in rename
    assert demo.run("manual", "man", "renam").code == Code.USAGE.exit_code


def test_two_people_of_one_name_are_told_apart_wherever_they_are_named(demo):
    """The demo has two of them, in one unit: Anna Lund who is alund, and Anna Lund who is annlund."""
    both = ("alund (Anna Lund)", "annlund (Anna Lund)")
    joined = demo.run("edit", "team-season", "members+=alund,annlund", "-y")
    assert all(f"+ {who}" in joined.out for who in both), joined.out
    left = demo.run("edit", "team-season", "members-=alund", "-n")
    assert f"- {both[0]}" in left.out and "annlund" not in left.out, left.out
    assert f"-> {both[1]}" in " ".join(demo.run("edit", "hbrekke", "manager=annlund", "-y").out.split())
    assert demo.run("show", "hbrekke", "--json").json["objects"][0]["fields"]["manager"] == [both[1]]
    assert both[1] in demo.run("find", "login=hbrekke", "--columns", "manager").out
    assert both[1] in demo.run("compare", "toedegaard", "hbrekke").out
    assert "is the manager of  Halvard Brekke" in demo.run("delete", "annlund", "-n").out
    assert demo.run("edit", "alund", "annlund", "manager=hbrekke", "-y").code == 0
    assert ", ".join(both) in demo.run("delete", "hbrekke", "-n").out
