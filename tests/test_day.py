"""docs/a-day.md, every command exactly as printed, on each of the three directories."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

from .test_three import place

__all__ = ["place"]  # the fixture

PAGE = Path(__file__).parent.parent / "docs" / "a-day.md"


def commands() -> list[tuple[list[str], int]]:
    """The commands in their order, each with the exit code that the text before it tells of."""
    found, code = [], 0
    for line in PAGE.read_text("utf-8").splitlines():
        if line.startswith("    vandrel "):
            found.append((shlex.split(line)[1:], code))
        elif line.strip():
            told = re.search(r"exit code (\d+)", line)
            code = int(told[1]) if told else 0
    return found


def test_a_day_as_it_is_told(place):
    _, folder = place
    told = commands()
    assert len(told) > 20
    for words, code in told:
        done = folder.run(*words, timeout=300)
        assert done.code == code, f"vandrel {shlex.join(words)}\n{done.out}{done.err}"
    assert "gg-dog-watch" in folder.run("show", "tmoe").out  # what was taken back is back
    assert "Pier Eastmole" in folder.run("find", "office=Pier*", "--columns", "office").out
    everything = folder.run("journal", "--json", "--last", "0").out
    secret = (folder.path / "siri.csv").read_text().splitlines()[1].rpartition(",")[2]
    assert secret not in everything
