"""Commands on one object do not read what grows with the directory: lists of members, above all."""

from __future__ import annotations

import json
import re
import sqlite3
from contextlib import closing

import pytest

from vandrel.cli.main import main
from vandrel.directory.embedded import store

#: The group that everybody of the demo is in.
EVERYBODY = "team-everybody"
MEMBERS = 1500


@pytest.fixture(scope="module")
def crowd(tmp_path_factory):
    """The demo with a group of so many that its list is long."""
    from .conftest import Folder

    folder = tmp_path_factory.mktemp("crowd")
    assert Folder(folder, {}).run("demo", "demo", "--no-tour").code == 0
    demo = Folder(folder / "demo", {})
    assert demo.run("invent", "crew", str(MEMBERS), "--to", "crew.csv").code == 0
    assert demo.run("import", "crew.csv", "--hand-out", "out.csv", "-y", timeout=120).code == 0
    logins = [line.split(",")[1] for line in (demo.path / "out.csv").read_text().splitlines()[1:]]
    return demo.path, logins


@pytest.fixture
def largest(monkeypatch):
    """The number of values of the largest entry that was read."""
    seen = [0]
    read = store.read

    def watched(*given):
        for entry in read(*given):
            seen[0] = max(seen[0], sum(map(len, entry.attributes.values())))
            yield entry

    monkeypatch.setattr(store, "read", watched)
    return seen


COMMANDS = (
    "show {0}", "edit {0} title=Bosun -y", "disable {0} -y", "edit {1} groups+=team-it -y",
    "edit {1} groups-={all} -y", "edit {1} groups+={all} -y", "edit {all} members-={1} -y",
    "edit {all} members+={1} -y", "rename {2} surname=Berg -y", "leave {3} -y", "leave {3} --back -y",
    "delete {4} -y", "restore {4} -y", "copy {5} Ola-Nordmann number=99001 password=none -y",
    "create staff Ole-Vik number=99002 department=IT given=Ole surname=Vik password=none -y",
    "move {6} --to /Shore/IT -y", "find title=Bosun", "protect {7} -y", "journal --last 3",
)  # fmt: skip


def test_no_command_on_one_object_reads_a_long_list(crowd, largest, monkeypatch, capsys):
    path, logins = crowd
    monkeypatch.chdir(path)
    read = {}
    for line in COMMANDS:
        largest[0] = 0
        words = line.format(*logins[10:], all=EVERYBODY).split()
        assert main(words) == 0, line + capsys.readouterr().err
        read[line] = largest[0]
    assert not {line: values for line, values in read.items() if values > 200}
    assert read["show {0}"] > 10  # what is watched is what is read


def test_who_comes_into_a_long_list_and_leaves_it_is_told_and_read_back(crowd, monkeypatch, capsys):
    path, logins = crowd
    monkeypatch.chdir(path)
    who = logins[40]
    assert main(["edit", EVERYBODY, f"members-={who}", "-y"]) == 0
    gone = capsys.readouterr().out
    assert gone.count("- ") == 2, gone  # once before the change, and once read back
    assert main(["edit", EVERYBODY, f"members-={who}", "-y"]) == 0
    assert "Nothing to change." in capsys.readouterr().out
    assert main(["edit", EVERYBODY, f"members+={who}", "-n", "--json"]) == 0
    (change,) = json.loads(capsys.readouterr().out)["changes"]
    assert [(len(field["before"]), len(field["after"]), field["partial"]) for field in change["fields"]] == [
        (0, 1, True)
    ]
    assert main(["edit", EVERYBODY, f"members+={who}", "-y"]) == 0
    assert capsys.readouterr().out.count("+ ") == 2
    assert main(["show", EVERYBODY]) == 0
    listed, more = re.search(r"members +(.*) and (\d+) more", capsys.readouterr().out).groups()
    with closing(sqlite3.connect(path / "directory.db")) as file:
        (number,) = file.execute("SELECT number FROM attribute WHERE name = 'member'").fetchone()
        (most,) = file.execute(
            "SELECT count(*) FROM reference WHERE attribute = ? GROUP BY entry ORDER BY count(*) DESC", (number,)
        ).fetchone()
    assert len(listed.split(", ")) + int(more) == most > MEMBERS
