"""The embedded directory's file: rights, damage, foreign files, several processes, a kill at any moment."""

from __future__ import annotations

import multiprocessing
import os
import signal
import sqlite3
import stat
import subprocess
import sys
import textwrap
import time

import pytest

from vandrel.directory import dn as names
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.operations import AddEntry, DeleteEntry, SetPassword
from vandrel.errors import DirectoryError
from vandrel.record.journal import Journal, NewJob
from vandrel.secret import Secret

BASE = names.parse("dc=example")
TOP = AddEntry(BASE, {"objectClass": ["top", "organization", "dcObject"], "o": ["x"], "dc": ["example"]})


def person(number: int | str) -> AddEntry:
    classes = ["top", "person", "organizationalPerson", "inetOrgPerson", "vandrelAccount"]
    return AddEntry(BASE.child("cn", f"P{number}"), {"objectClass": classes, "sn": ["x"], "uid": [f"u{number}"]})


@pytest.fixture
def path(tmp_path):
    path = tmp_path / "d.db"
    directory = EmbeddedDirectory.create(path, [BASE])
    assert not any(directory.execute([TOP], atomic=True))
    directory.close()
    return path


def opened(path) -> str:
    """The code with which opening is refused."""
    with pytest.raises(DirectoryError) as caught:
        EmbeddedDirectory(path)
    assert str(path) in caught.value.findings[0].where.file
    return caught.value.code


def test_only_the_owner_may_read_it(path):
    directory = EmbeddedDirectory(path)
    directory.execute([person(1)], atomic=True)
    for file in path.parent.iterdir():
        assert stat.S_IMODE(file.stat().st_mode) == 0o600, file
    directory.close()
    assert [file.name for file in path.parent.iterdir()] == ["d.db"]


def test_a_file_is_never_replaced(path):
    with pytest.raises(DirectoryError) as caught:
        EmbeddedDirectory.create(path, [BASE])
    assert caught.value.code == "taken"
    assert [file.name for file in path.parent.iterdir()] == ["d.db"]


def test_files_that_are_not_ours(tmp_path):
    assert opened(tmp_path / "none.db") == "out-of-reach"
    (tmp_path / "empty.db").write_bytes(b"")
    assert opened(tmp_path / "empty.db") == "foreign"
    (tmp_path / "text.db").write_text("dn: cn=x\n" * 50)
    assert opened(tmp_path / "text.db") == "foreign"
    sqlite3.connect(tmp_path / "other.db").executescript("CREATE TABLE x(y);")
    assert opened(tmp_path / "other.db") == "foreign"


def test_a_newer_format_is_not_touched(path):
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA user_version = 99")
    connection.close()
    assert opened(path) == "foreign"


@pytest.mark.parametrize("where", [110, 5000, 20000])
def test_damage_is_said_to_be_damage(path, where):
    directory = EmbeddedDirectory(path)
    directory.execute([person(n) for n in range(200)], atomic=True)
    directory.close()
    with path.open("r+b") as file:
        file.seek(where)
        file.write(os.urandom(path.stat().st_size - where))
    with pytest.raises(DirectoryError) as caught:
        found = EmbeddedDirectory(path)
        list(found.search(BASE))
        found.execute([person("new")], atomic=True)
    assert caught.value.code in ("damaged", "foreign")


def test_a_file_that_cannot_be_written_can_be_read(path, tmp_path):
    # Without this capability root obeys the rights on files like everybody.
    code = f"""
        from pathlib import Path
        from vandrel.directory.embedded.store import EmbeddedDirectory
        from vandrel.errors import DirectoryError
        import sys; sys.path.insert(0, {str(__file__).rsplit("/", 1)[0]!r})
        from test_embedded import BASE, person
        directory = EmbeddedDirectory(Path({str(path)!r}))
        print(len(list(directory.search(BASE))))
        try:
            directory.execute([person(1)], atomic=True)
        except DirectoryError as error:
            print(error.code)
    """
    path.chmod(0o400)
    path.parent.chmod(0o500)
    drop = ["setpriv", "--bounding-set", "-dac_override", "--inh-caps", "-dac_override"] if os.getuid() == 0 else []
    done = subprocess.run(
        [*drop, sys.executable, "-c", textwrap.dedent(code)], capture_output=True, text=True, check=False
    )
    path.parent.chmod(0o700)
    assert done.stdout.split() == ["1", "not-permitted"], done.stderr


def test_what_it_enforces_beyond_what_servers_do(path):
    """Lengths, addresses across two attributes, earlier passwords: elsewhere the checks of the steps see to it."""
    directory = EmbeddedDirectory(path)
    one = AddEntry(BASE.child("cn", "One"), person(1).attributes | {"mail": ["a@x.example"]})
    other = AddEntry(BASE.child("cn", "Two"), person(2).attributes | {"vandrelMailAlias": ["A@X.example"]})
    long = AddEntry(BASE.child("cn", "X" * 65), person(3).attributes)
    assert [o.code if o else "" for o in directory.execute([one, other, long], atomic=False)] == ["", "taken", "schema"]
    first, second = Secret("Kv9-fjord-lamp", generated=True), Secret("Qx7-reef-anchor", generated=True)
    directory.execute([SetPassword(one.dn, first, False), SetPassword(one.dn, second, False)], atomic=True)
    assert [directory.password_used(one.dn, s, 2) for s in (first, second, Secret("other", generated=True))] == [
        True,
        True,
        False,
    ]
    assert directory.execute([DeleteEntry(one.dn)], atomic=True) == [None]


def _add_many(path, first: int) -> None:
    directory = EmbeddedDirectory(path)
    for number in range(first, first + 40):
        assert directory.execute([person(number)], atomic=True) == [None]
    directory.close()


def test_several_processes_lose_nothing(path):
    context = multiprocessing.get_context("spawn")
    workers = [context.Process(target=_add_many, args=(path, first)) for first in (0, 100, 200, 300)]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join()
        assert worker.exitcode == 0
    directory = EmbeddedDirectory(path)
    assert len(list(directory.search(BASE))) == 1 + 160
    directory.close()


def test_of_two_that_want_one_name_one_gets_it(path):
    one, other = EmbeddedDirectory(path), EmbeddedDirectory(path)
    first = AddEntry(BASE.child("cn", "A"), person(1).attributes)
    second = AddEntry(BASE.child("cn", "B"), person(1).attributes)
    assert one.execute([first], atomic=True) == [None]
    assert other.execute([second], atomic=True)[0].code == "taken"


def test_who_waits_too_long_for_another_writer_is_told(path, monkeypatch):
    monkeypatch.setattr("vandrel.directory.embedded.sqlite_file._BUSY_SECONDS", 0.2)
    holder = sqlite3.connect(path, isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    directory = EmbeddedDirectory(path)
    with pytest.raises(DirectoryError) as caught:
        directory.execute([person(1)], atomic=True)
    assert caught.value.code == "busy"
    holder.execute("ROLLBACK")
    assert directory.execute([person(1)], atomic=True) == [None]


def _add_in_pairs(path) -> None:
    directory = EmbeddedDirectory(path)
    for number in range(100_000):
        directory.execute([person(f"{number}a"), person(f"{number}b")], atomic=True)


@pytest.mark.parametrize("moment", [0.02, 0.05, 0.11, 0.17, 0.23, 0.31])
def test_a_kill_leaves_whole_changes_only(path, moment):
    worker = multiprocessing.get_context("spawn").Process(target=_add_in_pairs, args=(path,))
    worker.start()
    reader = EmbeddedDirectory(path)
    deadline = time.monotonic() + 20
    while len(list(reader.search(BASE))) < 3 and time.monotonic() < deadline:
        time.sleep(0.01)
    time.sleep(moment)
    os.kill(worker.pid, signal.SIGKILL)
    worker.join()
    found = [entry.dn.name for entry in reader.search(BASE) if entry.dn != BASE]
    assert found
    assert len(found) % 2 == 0
    assert {name[:-1] + "b" for name in found} <= set(found)
    assert reader.execute([person("after")], atomic=True) == [None]
    reader.close()
    check = sqlite3.connect(path)
    assert check.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    orphans = check.execute("SELECT count(*) FROM value WHERE entry NOT IN (SELECT id FROM entry)").fetchone()
    assert orphans == (0,)


def test_a_second_look_at_the_file_does_not_let_go_of_it(tmp_path):
    """Who closes a file lets go of all that the process holds of it: then another process would tidy up under our feet."""
    journal = Journal(tmp_path / "journal.db", create=True)
    Journal(tmp_path / "journal.db").close()
    number = journal.begin(NewJob("edit", "a job", "here", "here", 1, 1))
    words = "import sqlite3, sys; db = sqlite3.connect(sys.argv[1]); print(*db.execute('SELECT title FROM job')); db.close()"
    seen = subprocess.run([sys.executable, "-c", words, journal.path], capture_output=True, text=True, check=True)
    assert "a job" in seen.stdout
    assert (tmp_path / "journal.db-wal").exists()  # it was not the last one to close
    journal.end(number, "done")
    assert Journal(tmp_path / "journal.db").job(number).state == "done"
