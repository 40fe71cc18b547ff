"""Everything of ours in one file, made while others write, and put into another folder."""

from __future__ import annotations

import shlex
import shutil
import stat
import threading

import pytest

from vandrel.errors import Code

from .conftest import IS_SOAK, Folder
from .test_attic import done, fields


def test_another_folder_goes_on_where_the_first_one_was(demo, tmp_path):
    done(demo, "snapshot", "take")
    done(demo, "edit", "alund", "title=Mate")
    done(demo, "delete", "hbrekke")
    told = done_plain(demo, "backup", "all.backup")
    assert "charter.yaml" in told and "attic.db" in told and "snapshots.db" in told
    assert stat.S_IMODE((demo.path / "all.backup").stat().st_mode) == 0o600
    done_plain(demo, "unpack", "all.backup", "--to", str(tmp_path / "new"))
    moved = Folder(tmp_path / "new", {})
    assert moved.state() == demo.state()
    assert {stat.S_IMODE(path.stat().st_mode) for path in moved.path.iterdir()} == {0o600}
    # The same directory: its jobs, its attic and its snapshots count.
    done(moved, "restore", "hbrekke")
    done(moved, "undo", str(job_of(moved, "edit alund (Anna Lund)")))
    assert fields(moved, "alund")["title"] == ["Second mate"]
    assert not moved.run("snapshot", "differences", "1", "--json").json["rows"]
    again = demo.run("unpack", "all.backup", "--to", str(moved.path))
    assert (again.code, "exists and is not overwritten" in again.err) == (Code.TAKEN.exit_code, True)


def done_plain(folder: Folder, *words: str) -> str:
    result = folder.run(*words)
    assert result.code == 0, result.out + result.err
    return result.out


def job_of(folder: Folder, title: str) -> int:
    rows = folder.run("journal", "--last", "0", "--json").json["rows"]
    return next(row["number"] for row in rows if row["title"] == title)


def test_a_backup_while_others_write_is_of_one_moment(demo, tmp_path):
    """Each deletion is in the directory, or in the attic and the journal, never in neither."""
    people = demo.run("find", "--under", "/Ferries", "--columns", "login", "--as", "csv").out.split()[1:9]
    writer = threading.Thread(target=lambda: [demo.run("delete", login, "-y") for login in people])
    writer.start()
    for number in range(4):
        done_plain(demo, "backup", f"{number}.backup")
    writer.join()
    for number in range(4):
        done_plain(demo, "unpack", f"{number}.backup", "--to", str(tmp_path / f"{number}"))
        copy = Folder(tmp_path / f"{number}", {})
        there = set(copy.run("find", "--under", "/Ferries", "--columns", "login", "--as", "csv").out.split())
        kept = {row["label"].split()[0] for row in copy.run("attic", "--json").json["rows"]}
        assert set(people) <= there | kept, number
        for job in (row for row in copy.run("journal", "--json").json["rows"] if row["state"] == "broken off"):
            resumed = copy.run("resume", str(job["number"]), "-y")
            steps = copy.run("journal", str(job["number"]), "--json").json["rows"]
            if len(steps) < job["planned"]:  # a copy of the moment before the first step: the command is given again
                assert resumed.code == Code.REFUSED.exit_code and job["command"] in resumed.err, resumed.err
                done(copy, *shlex.split(job["command"])[1:])
            else:
                assert resumed.code == 0, resumed.out + resumed.err


def test_a_backup_that_is_stopped_is_whole_or_is_not_there(demo, tmp_path):
    done(demo, "delete", "alund")
    target, tried = demo.path / "all.backup", 0
    for at in range(1, 10_000, 1 if IS_SOAK else 17):
        stopped = demo.stopped("backup", target.name, at=at)
        if target.exists():
            shutil.rmtree(tmp_path / "other", ignore_errors=True)
            done_plain(demo, "unpack", target.name, "--to", str(tmp_path / "other"))
            target.unlink()
        if stopped is None:
            break
        tried += 1
    assert tried > 5
    done_plain(demo, "backup", target.name)


@pytest.mark.parametrize("cut", [0, 10, -20])
def test_a_damaged_backup_is_told_and_nothing_is_unpacked(demo, tmp_path, cut):
    done_plain(demo, "backup", "all.backup")
    path = demo.path / "all.backup"
    content = path.read_bytes()
    path.write_bytes(content[:cut] if cut else content[:4000] + b"\0" * 8 + content[4008:])
    told = demo.run("unpack", "all.backup", "--to", str(tmp_path / "new"))
    assert (told.code, "damaged" in told.err) == (Code.DAMAGED.exit_code, True), told.err
    assert not (tmp_path / "new").exists()
    assert demo.run("unpack", "nowhere.backup", "--to", "x").code == Code.NOT_FOUND.exit_code
    assert demo.run("backup", "all.backup").code == Code.TAKEN.exit_code
