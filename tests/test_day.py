"""The pages of docs/ that tell of a day's work, every command exactly as printed."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import pytest

from . import services
from .conftest import Folder
from .test_three import place

__all__ = ["place"]  # the fixture

PAGES = Path(__file__).parent.parent / "docs"
#: What a page says that somebody does past the tool.
_DELETED = re.compile(r"<!-- deleted in the service: (\S+) -->")


def steps(page: str) -> list[tuple[list[str], int]]:
    """The commands of a page in their order, each with the exit code that the text before it tells of."""
    found, code = [], 0
    for line in (PAGES / page).read_text("utf-8").splitlines():
        if line.startswith("    vandrel "):
            found.append((shlex.split(line)[1:], code))
        elif told := _DELETED.match(line):
            found.append((["DELETED", told[1]], 0))
        elif line.strip():
            said = re.search(r"exit code (\d+)", line)
            code = int(said[1]) if said else 0
    return found


def run(folder: Folder, words: list[str], code: int) -> str:
    done = folder.run(*words, timeout=300)
    assert done.code == code, f"vandrel {shlex.join(words)}\n{done.out}{done.err}"
    return done.out


def test_a_day_as_it_is_told(place):
    _, folder = place
    told = steps("a-day.md")
    assert len(told) > 20
    for words, code in told:
        run(folder, words, code)
    assert "team-dog-watch" in folder.run("show", "tmoe").out  # what was taken back is back
    assert "Pier Eastmole" in folder.run("find", "office=Pier*", "--columns", "office").out
    everything = folder.run("journal", "--json", "--last", "0").out
    secret = (folder.path / "siri.csv").read_text().splitlines()[1].rpartition(",")[2]
    assert secret not in everything


def test_into_a_service_and_a_second_directory_as_it_is_told(demo, tmp_path):
    told = steps("synchronization.md")
    assert len(told) > 15
    outputs: list[str] = []
    with services.running(tmp_path / "service.db") as service:
        (demo.path / "connections.yaml").write_text(service.connection())
        for words, code in told:
            if words[0] == "DELETED":
                before = service.people()[words[1]]["id"]
                service.link().delete("/Users", before, "")
            elif words[0] != "stand-in":  # one runs already
                outputs.append(run(demo, words, code))
        people = service.people()
        assert people["mary.ashworth@marrowick.example"]["id"] == before
        assert people["anna.lund2@marrowick.example"]["title"] == "Bosun"
        assert not people["halvard.brekke@marrowick.example"]["active"]
        entitled = {name for name, each in people.items() if each.get("entitlements")}
        assert entitled == {f"{who}@marrowick.example" for who in ("anna.lund2", "arne.lundqvist", "mary.ashworth")}
        assert people["bell@harbour.example"]["userType"] == "guest"
        assert "arne.lundqvist@marrowick.example" in people and "arne.lund@marrowick.example" not in people
    assert "Nothing to change: it is there as it should be." in outputs[5]
    school = Folder(demo.path / "school")
    assert school.run("find").out.strip() == "0 accounts"


@pytest.mark.parametrize("page", [path.name for path in sorted(PAGES.glob("*.md"))])
def test_every_command_that_a_page_names_is_one(page):
    from vandrel.cli.parser import COMMANDS

    for words, _ in steps(page):
        assert words[0] in (*COMMANDS, "DELETED"), words
