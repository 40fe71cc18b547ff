"""Every command that writes, stopped before each write, sync, rename and request, and again in the recovery.

The stops are made by `stopping.c`. `make test` takes a few of them, others for each command; `make soak` takes all on the
file, and a part on servers, where each takes seconds.
"""

from __future__ import annotations

import csv
import shutil
from collections import Counter
from collections.abc import Callable, Iterator, Set
from pathlib import Path
from typing import Any, Protocol

import pytest

from vandrel.directory import dn as names
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.ldap import naming_turn
from vandrel.directory.port import Directory
from vandrel.intake.hand_out import read
from vandrel.secret import Secret

from . import servers
from .conftest import IS_SOAK, Folder, Result
from .test_halfway import COMMANDS, DOMAIN, PASSWORD, VOLATILE, WHO, with_desk

CHANGES = """\
dn: cn=Anna Lund,ou=Officers,ou=Deck,ou=Northquay,ou=Ferries,dc=marrowick,dc=example
changetype: modify
add: description
description: afloat
-

dn: cn=Grab Hire,ou=Contractors,dc=marrowick,dc=example
changetype: add
objectClass: inetOrgPerson
sn: Hire
uid: ghire
"""
SET_ANEW = {"adminCount", "badPasswordTime", "badPwdCount", "lastKnownParent", "lastLogoff", "lastLogon", "logonCount",
            "operatorCount"}  # fmt: skip
JOINERS = """\
given,surname,number,site,department,category
Siri,Moe,2991,Kelness,Deck,Hands
Tuva,Solberg,2992,Kelness,Deck,Hands
"""
#: More of them than `test_halfway` has. First what must be so before.
MORE: dict[str, tuple[list[list[str]], list[str]]] = {
    "leave": ([], ["leave", "hbrekke"]),
    "come back": ([["leave", "hbrekke"]], ["leave", "hbrekke", "--back"]),
    "restore": ([["delete", "alund", "hbrekke"]], ["restore", "alund", "hbrekke"]),
    "purge": ([["delete", "alund", "hbrekke"]], ["purge", "alund", "hbrekke", "--confirm", "2"]),
    "import": ([], ["import", "joiners.csv", "--hand-out", "new.csv", "--results", "made.csv"]),
    "load": ([], ["load", "changes.ldif"]),
    "build": ([["release", "/Machines/Desks"], ["delete", "/Machines/Desks", "--contents"]], ["hierarchy", "build"]),
    "a group": ([], ["create", "group", "team-lamp-room", "members=alund,hbrekke"]),
    "a new unit": ([], ["create", "unit", "/Shore/Lamps"]),
    "snapshot": ([], ["snapshot", "take"]),
}
ON_FILE = {name: ([before] if before else [], words) for name, (before, words) in COMMANDS.items()} | MORE
#: What these write beside the directory.
WRITTEN = ("new.csv", "made.csv")
#: What no `undo` brings back: passwords, and what is not in the directory.
NOT_TAKEN_BACK = {"reset", "purge", "snapshot", "undo"}
ON_SERVERS = {name: each for name, each in ON_FILE.items() if name not in {"purge", "snapshot"}}


class Place(Protocol):
    """Where commands are stopped: a folder with a directory."""

    folder: Folder
    loses: Set[str]  # the commands of which `undo` does not bring back all

    def opened(self) -> Directory: ...


class File:
    """A copy of a folder whose directory is a file."""

    loses: Set[str] = frozenset()

    def __init__(self, template: Path, path: Path) -> None:
        shutil.rmtree(path, ignore_errors=True)
        shutil.copytree(template, path)
        self.folder = Folder(path)

    def opened(self) -> Directory:
        return EmbeddedDirectory(self.folder.path / "directory.db")


class Server:
    """The demo on a server: what a command did is taken back before the next one."""

    def __init__(
        self, settings: Any, path: Path, connection: str, password: str, loses: Set[str] = frozenset()
    ) -> None:  # fmt: skip
        self.loses = loses
        (path / "connections.yaml").write_text(connection)
        (path / "hers").write_text(password)
        (path / "hers").chmod(0o600)
        made = Folder(path).run("demo", "demo", "--no-tour", "--directory", "harbour")
        assert made.code == 0, made.err
        self.folder = Folder(path / "demo", {"VANDREL_DIRECTORY": "harbour"})
        self._settings = settings
        with_files(self.folder)

    def opened(self) -> Directory:
        return servers.open_directory(self._settings)

    def begun(self) -> Server:
        for name in WRITTEN:
            (self.folder.path / name).unlink(missing_ok=True)
        return self


def with_files(folder: Folder) -> None:
    """Beside the charter, what is loaded and imported."""
    (folder.path / "changes.ldif").write_text(CHANGES)
    (folder.path / "joiners.csv").write_text(JOINERS)
    done = folder.run("import", "joiners.csv", "--propose", "--kind", "crew")
    assert done.code == 0, done.err


def state(place: Place) -> list[str]:
    """What the directory holds, without what differs each time."""
    directory = place.opened()
    try:
        return sorted(
            f"{entry.dn} {name} {sorted(map(str, values))}"
            for entry in directory.search(names.parse(servers.SUFFIX))
            if entry.dn.name != naming_turn.NAME  # whose turn it was is of no account once nobody is at work
            for name, values in entry.attributes.items()
            if not VOLATILE.search(name)
            # Given by a server at random where nobody gives one; and what it sets anew on whoever comes back.
            and not (name == "sAMAccountName" and str(values[0]).startswith("$"))
            and name not in SET_ANEW
        )
    finally:
        directory.close()


def passwords_are_handed_out(place: Place) -> int:
    """Each line of the hand-out has the password of an account that is there; how many lines there are."""
    slips = read(place.folder.path / "new.csv")
    directory = place.opened()
    try:
        for slip in slips:
            where = place.folder.run("show", slip.login, "--bare", "dn").out.strip()
            assert directory.verify_password(names.parse(where), Secret(slip.secret.reveal())), slip.login
    finally:
        directory.close()
    return len(slips)


def last_job(place: Place) -> dict[str, Any]:
    rows = place.folder.run("journal", "--last", "1", "--json").json["rows"]
    return rows[0] if rows else {"number": 0, "state": "done", "made": 0}


def kept(place: Place) -> int:
    return len(place.folder.run("attic", "--json").json["rows"])


def carried_out(place: Place, *words: str) -> Result:
    done = place.folder.run(*words, "--yes")
    assert done.code == 0, (words, done.out, done.err)
    return done


def finish(place: Place, words: list[str], prepared: int, stops: list[int]) -> None:
    """Do what the program tells somebody whose command was stopped; stopped again so many writes into it."""
    job = last_job(place)
    is_begun = job["number"] > prepared and not (job["state"] == "in part" and not job["made"])
    if (is_begun and job["state"] == "done") or (words[0] == "purge" and not kept(place)):
        return
    if is_begun:
        again = ["resume", str(job["number"])]
    else:
        for name in WRITTEN:
            (place.folder.path / name).unlink(missing_ok=True)
        again = words
    if stops:
        place.folder.stopped(*again, "--yes", at=stops[0])
        finish(place, words, prepared, stops[1:])
        return
    done = place.folder.run(*again, "--yes")
    if done.code and is_begun:
        assert "before its first step" in done.err, (again, done.out, done.err)
        finish(place, words, prepared, [])
    else:
        assert done.code == 0, (again, done.out, done.err)


class Case:
    """One command: how the directory is before it and after it, and what it is stopped at."""

    def __init__(self, name: str, before: list[list[str]], words: list[str], fresh: Callable[[], Place]) -> None:
        self.name, self._before, self._words, self._fresh = name, before, words, fresh
        self.tried: Counter[int] = Counter()
        place = self._begin()
        self.ready = state(place)
        carried_out(place, *self._command())
        self.done, self.slips = state(place), passwords_are_handed_out(place)
        self._end(place)

    def _begin(self) -> Place:
        place, self._jobs = self._fresh(), []
        for words in self._before:
            carried_out(place, *words)
            self._jobs.append(last_job(place)["number"])
        self.prepared = last_job(place)["number"]
        return place

    def _command(self) -> list[str]:
        return [word.format(job=self.prepared) if word == "{job}" else word for word in self._words]

    def _end(self, place: Place) -> None:
        """Take back what was done, where it can be, and what was prepared."""
        if self.name not in NOT_TAKEN_BACK:
            carried_out(place, "undo", str(last_job(place)["number"]))
            assert self.name in place.loses or state(place) == self.ready, self.name
        if self.name not in {"undo", "purge"}:
            for number in reversed(self._jobs):
                carried_out(place, "undo", str(number))

    def stopped(self, *stops: int) -> bool:
        """Stop the command, its recovery, and the recovery of that; whether it came to the first of the stops."""
        place = self._begin()
        words = self._command()
        if place.folder.stopped(*words, "--yes", at=stops[0]) is None:
            self._end(place)
            return False
        finish(place, words, self.prepared, list(stops[1:]))
        where = (self.name, stops)
        assert state(place) == self.done, where
        assert passwords_are_handed_out(place) == self.slips, where
        assert place.folder.run("verify").code == 0, where
        if self.name == "import":
            results = [row["result"] for row in csv.DictReader((place.folder.path / "made.csv").open())]
            assert results == ["created", "created"], where
        self._end(place)
        self.tried[len(stops)] += 1
        return True

    def at_all(self, stride: int, again: int) -> None:
        """Stop at each `stride`-th write; at each `again`-th of these also in the recovery, and in that of that."""
        for number, at in enumerate(range(1 + len(self.name) % stride, 10000, stride)):
            stops = (at,) if number % again else (at, 1 + number * 7 % 60, 1 + number * 11 % 60)
            if not self.stopped(*stops):
                break
        print(f"{self.name}: {sum(self.tried.values())} stops")
        assert self.tried


@pytest.fixture(scope="module")
def prepared(demo_template, tmp_path_factory) -> Path:
    path = tmp_path_factory.mktemp("stops") / "demo"
    shutil.copytree(demo_template, path)
    with_files(Folder(path))
    return path


@pytest.fixture(scope="module")
def slapd(tmp_path_factory) -> Iterator[Server]:
    with with_desk() as server:
        connection = servers.CONNECTION.format(port=server.port, who=WHO)
        yield Server(server.settings(), tmp_path_factory.mktemp("stops"), connection, PASSWORD)


@pytest.fixture(scope="module")
def domain(tmp_path_factory) -> Iterator[Server]:
    with servers.domain() as server:
        connection = DOMAIN.format(url=server.url, ca_file=server.ca_file)
        # No hash can be read there: who was deleted comes back without a password, and so disabled.
        path = tmp_path_factory.mktemp("stops")
        yield Server(server.settings(), path, connection, server.PASSWORD, loses={"delete"})


@pytest.mark.parametrize("name", ON_FILE)
def test_on_the_file(prepared, tmp_path, name):
    case = Case(name, *ON_FILE[name], lambda: File(prepared, tmp_path / "demo"))
    case.at_all(1 if IS_SOAK else 29, 2)


@pytest.mark.parametrize("name", ON_SERVERS)
def test_on_slapd(slapd, name):
    case = Case(name, *ON_SERVERS[name], slapd.begun)
    case.at_all(5 if IS_SOAK else 53, 2)


@pytest.mark.parametrize("name", ON_SERVERS)
def test_on_a_domain(domain, name):
    if not IS_SOAK and name not in {"create", "rename", "restore"}:
        pytest.skip("make soak takes all of them")
    case = Case(name, *ON_SERVERS[name], domain.begun)
    case.at_all(23 if IS_SOAK else 89, 2)
