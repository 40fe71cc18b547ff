"""What a scheduler calls, as the page about it says: at its time, late, twice, and with the clock set back."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from datetime import timedelta
from pathlib import Path

import pytest

from .conftest import PROGRAM, Folder, not_installed
from .test_attic import done, fields
from .test_leaving import today
from .test_reconcile import demo, everybody, roster_template, write

__all__ = ["demo", "roster_template"]  # the fixtures

PAGE = (Path(__file__).parents[1] / "docs" / "scheduler.md").read_text(encoding="utf-8")
#: The lines for cron, without their times, and with what cron makes of a percent sign.
LINES = [line.replace(r"\%", "%") for line in re.findall(r"^    [\d*]+(?: [\d*]+){4} +(.+)$", PAGE, re.MULTILINE)]
DAY = 24 * 60 * 60


@pytest.fixture(scope="module")
def shifting(tmp_path_factory) -> str:
    """What is loaded before the program, so that its clock shows another time."""
    compiler = shutil.which("gcc") or not_installed("gcc, for another time of day")
    library = tmp_path_factory.mktemp("shifting") / "shifting.so"
    source = str(Path(__file__).with_name("shifting.c"))
    subprocess.run([compiler, "-shared", "-fPIC", "-O1", "-o", str(library), source, "-ldl"], check=True)
    return str(library)


def on_day(folder: Folder, shifting: str, day: int) -> dict[str, int]:
    """Give all the lines of the page so many days from now; their exit codes."""
    environment = folder.environment() | {
        "LD_PRELOAD": shifting, "SHIFTED_BY": str(day * DAY),
        "PATH": f"{folder.path}:{PROGRAM.parent}:{os.environ['PATH']}",
    }  # fmt: skip
    codes = {}
    for line in LINES:
        words = line.replace("/srv/directory", str(folder.path))
        run = subprocess.run(["sh", "-c", words], env=environment, capture_output=True, text=True, check=False)
        assert "Traceback" not in run.stderr, run.stderr
        codes[line] = run.returncode
        assert run.returncode in (0, 5) or "reconcile" in line, (line, run.stdout, run.stderr)
    return codes


def test_the_lines_of_the_page_do_their_work_when_its_day_has_come(demo, shifting):
    (demo.path / "connections.yaml").write_text("mail: {sender: accounts@marrowick.example, command: ./keep}\n")
    write(demo, everybody(demo))
    for name, script in (("keep", "cat >> sent"), ("personnel-list", "cat roster.csv")):
        (demo.path / name).write_text(f"#!/bin/sh\n{script}\n")
        (demo.path / name).chmod(0o700)
    done(demo, "leave", "hbrekke", "--on", (today() + timedelta(days=10)).isoformat())
    done(demo, "delete", "alund")
    assert len(LINES) == 5 and on_day(demo, shifting, 0)
    assert fields(demo, "hbrekke")["groups"] and "alund" in demo.run("attic").out

    on_day(demo, shifting, 11)
    assert demo.run("show", "hbrekke", "--json").json["objects"][0]["place"] == "/Leavers"
    state, taken = demo.state(), demo.run("snapshot", "list", "--json").json["rows"]
    assert [row["number"] for row in taken] == [2, 1]
    on_day(demo, shifting, 11)  # twice
    on_day(demo, shifting, -3)  # and by a clock that was set back
    assert demo.state() == state
    assert "alund" in demo.run("attic").out and "accounts@marrowick.example" in (demo.path / "sent").read_text()

    on_day(demo, shifting, 45)
    assert "alund" not in demo.run("attic").out
    on_day(demo, shifting, 300)  # ninety days from the last one are long over: late is not too late
    assert demo.run("show", "hbrekke").code and "hbrekke" in demo.run("attic").out
    on_day(demo, shifting, 340)
    assert "hbrekke" not in demo.run("attic").out


def test_the_timer_gives_the_same_command():
    (given,) = re.findall(r"^    ExecStart=/usr/local/bin/(.+)$", PAGE, re.MULTILINE)
    assert any(line.endswith(f"&& {given}") for line in LINES)
