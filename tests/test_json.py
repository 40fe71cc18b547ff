"""The JSON of every command: one shape, as the schema that the program puts out describes it."""

from __future__ import annotations

import json
import shutil

import pytest
from jsonschema import Draft202012Validator

from vandrel.cli.parser import COMMANDS
from vandrel.cli.present.json_output import json_schema
from vandrel.errors import Code

from .conftest import Folder

#: Every command, with words that let it succeed on the demo.
RUNS = [
    "verify", "show alund", "show alund --raw", "show /Shore --all", "show alund --bare dn", "show alund --only phone",
    "show alund --effective --password-rules", "find --by login", "find --type groups", "tree", "compare alund hbrekke",
    'create crew Tor|Vik number=2999 site=Kelness department=Deck category=Hands password=none -y',
    "create group Night|watch -y", "copy alund Berit|Dahl number=2077 password=none -y",
    "import summer-mended.xlsx -n", "reconcile summer-mended.xlsx -n --most-leavers 9 --no-passwords", "series seasonal kiosk site=Kelness --count 2 --no-passwords -y",
    "invent crew 3 --to more.csv", "edit alund office=Bridge phone+=+4755550999 -y", "reset alund --hand-out a.csv -y",
    "unlock alund -y", "disable alund -y", "enable alund -y", "due", "due --carry-out -y",
    "rename alund surname=Brekke -y", "handover hbrekke Tuva|Solberg number=2098 --hand-out t.csv -y",
    "move abrekke --to /Shore/Office -y", "protect abrekke -y", "release abrekke -y", "delete abrekke -n", "roles",
    "snapshot take", "snapshot list", "leave asblund -y", "leave asblund --back -y", "delete jmeer -y", "attic",
    "restore jmeer -y", "purge --expired -y", "snapshot differences 1", "snapshot verify", "snapshot thin -y",
    "undo 1 -n", "hierarchy", "hierarchy build -y", "hierarchy delegate", "charter check", "charter kinds",
    "charter names crew Anna|Lund", "charter infer login", "charter draft", "probe", "journal", "journal 1", "journal 1 --verify",
    "export --to all.ldif", "load all.ldif -n", "completion bash", "manual",
    "backup all.backup", "unpack all.backup --to new-house", "audit", "audit --rules", "chart", "chart fields", "suffixes", "ready learning", "seats", "guests --into directory.db",
    "synchronize school.profile.yaml --into beside/directory.db -n",
]  # fmt: skip
#: Commands that need somebody at a terminal, or make a folder of their own.
NOT_HERE = {"logon", "resume", "demo", "stand-in"}


def words(line: str) -> list[str]:
    return [word.replace("|", " ") for word in line.split()]


def test_every_command_puts_out_the_one_shape(demo):
    validator = Draft202012Validator(json_schema())
    validator.check_schema(json_schema())
    shutil.copytree(demo.path / "school", demo.path / "beside")
    assert Folder(demo.path / "beside").run("hierarchy", "build", "-y").code == 0
    for line in RUNS:
        done = demo.run(*words(line), "--json")
        text = done.out or done.err
        faults = [error.message for error in validator.iter_errors(json.loads(text))]
        assert not faults, (line, faults[:3])
        data = json.loads(text)
        assert (data["command"].split()[0], data["exit"]) == (line.split()[0], done.code), line
    assert {line.split()[0] for line in RUNS} | NOT_HERE == set(COMMANDS)


def test_the_schema_is_what_the_program_puts_out(demo):
    assert json.loads(demo.run("manual", "json").out) == json_schema()


@pytest.mark.parametrize(
    ("line", "code", "stream"),
    [("show nobody-at-all", Code.NOT_FOUND, "err"), ("edit alund login=hbrekke -y", Code.TAKEN, "out"),
     ("import nowhere.csv", Code.NOT_FOUND, "err"), ("import summer.xlsx -n", Code.INTAKE, "out")],
)  # fmt: skip
def test_what_is_refused_has_the_shape_too(demo, line, code, stream):
    """A result, refused or not, goes to standard output; an error that has none to standard error."""
    done = demo.run(*words(line), "--json")
    data = json.loads(getattr(done, stream))
    assert not list(Draft202012Validator(json_schema()).iter_errors(data))
    assert (done.code, data["exit"]) == (code.exit_code, code.exit_code), data
    assert any(finding["severity"] == "stop" for finding in data["findings"])
