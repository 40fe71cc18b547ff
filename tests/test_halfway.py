"""Every command that writes, stopped in the middle: by Ctrl-C, and by rights that end between two of its steps."""

from __future__ import annotations

import os
import re
import shlex
import signal
import sqlite3
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import pytest

from vandrel.directory import dn as names
from vandrel.directory.ldap import naming_turn
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry
from vandrel.errors import Code
from vandrel.record.journal import RUNNING

from . import servers
from .conftest import Folder
from .test_teams import BAD

DOMAIN = """\
connections:
  harbour:
    hosts: ["{url}"]
    ca-file: {ca_file}
    identities:
      desk: {{bind: Administrator@marrowick.example, password-file: hers}}
"""
PASSWORD = "Kv9-fjord-lamp"
WHO, TEAM = f"cn=desk,{servers.SUFFIX}", f"cn=desks,{servers.SUFFIX}"
RIGHTS = f'access to * by group.exact="{TEAM}" manage by dn.exact="cn=administrator,{servers.SUFFIX}" manage by anonymous auth by users read'

#: Each makes several steps in the demo's directory, and can be made by itself. First what must be so before.
COMMANDS = {
    "edit": ([], ["edit", "alund", "hbrekke", "toedegaard", "title=Keeper", "groups+=may-sailing-plan"]),
    "reset": ([], ["reset", "alund", "hbrekke", "toedegaard", "--hand-out", "new.csv"]),
    "disable": ([], ["disable", "alund", "hbrekke", "toedegaard"]),
    "enable": (["disable", "alund", "hbrekke", "toedegaard"], ["enable", "alund", "hbrekke", "toedegaard"]),
    "protect": ([], ["protect", "alund", "hbrekke", "toedegaard"]),
    "release": (["protect", "alund", "hbrekke", "toedegaard"], ["release", "alund", "hbrekke", "toedegaard"]),
    "rename": ([], ["rename", "hbrekke", "surname=Aas"]),
    "handover": ([], ["handover", "hbrekke", "Tuva Solberg", "number=2991", "--hand-out", "new.csv"]),
    "move": ([], ["move", "hbrekke", "--to", "/Ferries/Sandhaven/Engine/Officers"]),
    "a unit": (["release", "/Ferries/Northquay/Deck/Officers"], ["move", "/Ferries/Northquay/Deck/Officers", "--to", "/Shore"]),
    "create": ([], ["create", "crew", "Siri Moe", "number=2991", "site=Kelness", "department=Deck", "category=Hands", "--hand-out", "new.csv"]),
    "copy": ([], ["copy", "alund", "Siri Moe", "number=2991", "--hand-out", "new.csv"]),
    "series": ([], ["series", "seasonal", "kiosk", "site=Kelness", "surname=Kiosk #", "--count", "3", "--hand-out", "new.csv"]),
    "undo": (["edit", "alund", "hbrekke", "toedegaard", "title=Keeper"], ["undo", "{job}"]),
    "due": (["edit", "alund", "hbrekke", "toedegaard", "starts=2026-01-05", "enabled=no"], ["due", "--carry-out"]),
    "delete": ([], ["delete", "alund", "hbrekke"]),
    "roles": ([], ["edit", "alund", "hbrekke", "toedegaard", "roles+=helpdesk"]),
}  # fmt: skip


#: What servers count and stamp, and passwords.
VOLATILE = re.compile(
    "CSN$|^entryUUID|^object(GUID|Sid)$|Time[sS]tamp$|ChangedTime$|sName$|assword$|^pwd(Reset|LastSet|History)|^uSN|^rID|^when|^dSCore|MetaData$|PropagationData$"
)


class Harbour:
    """The demo on a server behind a relay, to which something can happen between two requests that write."""

    def __init__(self, settings: Any, folder: Folder, relay: servers.Watching) -> None:
        self.folder, self.relay = folder, relay
        self._root = servers.open_directory(settings)

    def rights(self, *, given: bool) -> None:
        change = Change("member", (), (WHO,)) if given else Change("member", (WHO,), ())
        assert self._root.execute([ModifyEntry(names.parse(TEAM), (change,))], atomic=True) == [None]

    def run(self, *words: str) -> int:
        """Run a command that must succeed; the number of its job."""
        done = self.folder.run(*words, "--yes")
        assert done.code == 0, done.out + done.err
        return int(self.last()["number"])

    def stopped(self, words: list[str], then: Callable[[int], None], at: int = 2) -> tuple[int, str]:
        """Run a command; before so many a write is handed on, `then` is called with the number of its process."""
        (self.folder.path / "new.csv").unlink(missing_ok=True)
        process = self.folder.start(*words, "--yes")
        self.relay.before(at, lambda: then(process.pid), self._running)
        out, err = process.communicate(timeout=60)
        assert "Traceback" not in err
        assert self.relay.happened, f"{words}: fewer than two writes\n{out}{err}"
        return process.returncode, out + err

    def _running(self) -> bool:
        with closing(sqlite3.connect(self.folder.path / "journal.db")) as journal:
            return bool(journal.execute("SELECT 1 FROM job WHERE state = ?", (RUNNING,)).fetchone())

    def last(self) -> dict[str, Any]:
        job: dict[str, Any] = self.folder.run("journal", "--last", "1", "--json").json["rows"][0]
        return job

    def standing(self, job: int) -> set[bool | None]:
        return {step["stands"] for step in self.folder.run("journal", str(job), "--verify", "--json").json["rows"]}

    def state(self) -> list[str]:
        """What the directory holds, without what differs each time, and a turn that could not be given back."""
        return sorted(
            f"{entry.dn} {name} {sorted(map(str, values))}"
            for entry in self._root.search(names.parse(servers.SUFFIX))
            if entry.dn.name != naming_turn.NAME
            for name, values in entry.attributes.items()
            if not VOLATILE.search(name)
        )


@contextmanager
def with_desk() -> Iterator[Any]:
    """A server on which a desk may do what `RIGHTS` says."""
    setup = servers.Setup(modules=("ppolicy",), overlays="overlay ppolicy\n", access=RIGHTS)
    with servers.running(setup) as server:
        root = servers.open_directory(server.settings())
        desk = {"objectClass": ["organizationalRole", "simpleSecurityObject"], "userPassword": [PASSWORD]}
        team = {"objectClass": ["groupOfNames"], "member": [WHO, "cn=nobody"]}
        own = [AddEntry(names.parse(WHO), desk), AddEntry(names.parse(TEAM), team)]
        assert root.execute(own, atomic=True) == [None, None]
        root.close()
        yield server


@pytest.fixture(scope="module")
def harbour(tmp_path_factory) -> Iterator[Harbour]:
    with with_desk() as server:
        path = tmp_path_factory.mktemp("halfway")
        relay = servers.Watching(server.port)
        (path / "connections.yaml").write_text(servers.CONNECTION.format(port=relay.port, who=WHO))
        yield _demo(server.settings(), path, relay, PASSWORD)
        relay.close()


@pytest.fixture(scope="module")
def domain(tmp_path_factory) -> Iterator[Harbour]:
    with servers.domain() as server:
        path = tmp_path_factory.mktemp("halfway")
        relay = servers.Watching(636, server.address)
        url = f"ldaps://{server.address}:{relay.port}"
        (path / "connections.yaml").write_text(DOMAIN.format(url=url, ca_file=server.ca_file))
        yield _demo(server.settings(), path, relay, server.PASSWORD)
        relay.close()


def _demo(settings: Any, path: Path, relay: servers.Watching, password: str) -> Harbour:
    (path / "hers").write_text(password)
    (path / "hers").chmod(0o600)
    made = Folder(path).run("demo", "demo", "--no-tour", "--directory", "harbour")
    assert made.code == 0, made.err
    return Harbour(settings, Folder(path / "demo", {"VANDREL_DIRECTORY": "harbour"}), relay)


@pytest.mark.parametrize("name", COMMANDS)
def test_ctrl_c_in_the_middle(harbour, name):
    _ctrl_c(harbour, name)


@pytest.mark.parametrize("name", ["edit", "rename", "handover", "move", "undo", "create"])
def test_ctrl_c_in_the_middle_of_a_domain(domain, name):
    _ctrl_c(domain, name)


def _ctrl_c(harbour: Harbour, name: str) -> None:
    """What was made stays and is told; the rest is made on demand; all of it can be taken back."""
    before, words = COMMANDS[name]
    begin = harbour.state()
    prepared = harbour.run(*before) if before else 0
    ready = harbour.state()
    words = [word.format(job=prepared) if word == "{job}" else word for word in words]
    code, told = harbour.stopped(words, lambda process: os.kill(process, signal.SIGINT))
    job = harbour.last()
    assert (code, job["state"]) == (Code.INTERRUPTED.exit_code, "broken off"), told
    assert f"vandrel resume {job['number']}" in told
    assert harbour.run("resume", str(job["number"])) == job["number"]
    assert harbour.last()["state"] == "done"
    assert harbour.standing(job["number"]) <= {True, None}
    assert (harbour.state() != ready) == (name != "reset")
    if name != "reset":  # a password is in no record
        told = harbour.folder.run("undo", str(job["number"]), "-n").err
        assert ("a password cannot be taken back" in told) == (name == "handover")  # it goes with a new account
        assert "was broken off" not in told
        harbour.run("undo", str(job["number"]))
    assert harbour.state() == ready
    if prepared:
        harbour.run("undo", str(prepared))
    assert harbour.state() == begin


def test_ctrl_c_in_the_middle_of_an_import_into_a_file(demo):
    assert demo.run("invent", "crew", "3000", "--to", "crew.csv").code == 0
    process = demo.start("import", "crew.csv", "--hand-out", "h.csv", "--yes")
    deadline, made = time.monotonic() + 60, 0
    while time.monotonic() < deadline and process.poll() is None and not made:
        with closing(sqlite3.connect(demo.path / "journal.db")) as journal:
            made, title = journal.execute("SELECT made, title FROM job ORDER BY number DESC LIMIT 1").fetchone()
        made = made if title == "import crew.csv" else 0
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    job = demo.run("journal", "--last", "1", "--json").json["rows"][0]
    assert (process.returncode, job["state"]) == (Code.INTERRUPTED.exit_code, "broken off"), err
    assert 0 < job["made"] < job["planned"]
    assert f"vandrel resume {job['number']}" in err
    assert demo.run("resume", "-y", timeout=120).code == 0
    assert len(demo.run("find", "--json").json["rows"]) == 3064
    assert len((demo.path / "h.csv").read_text().splitlines()) == 3001
    assert "there already" in demo.run("import", "crew.csv", "--dry-run").out


def test_a_job_of_which_nothing_was_made_is_let_go(harbour):
    def cut(process: int) -> None:
        os.kill(process, signal.SIGKILL)
        harbour.relay.drop()

    ready = harbour.state()
    harbour.stopped(COMMANDS["disable"][1], cut, at=1)
    job = harbour.last()
    assert (job["state"], harbour.state()) == ("broken off", ready)
    done = harbour.folder.run("undo", str(job["number"]))
    assert (done.code, "Nothing of job" in done.out) == (0, True)
    assert harbour.last()["state"] == "in part"
    assert "was broken off" not in harbour.folder.run("protect", "alund", "-n").err


def test_who_could_not_be_deleted_has_what_it_had(harbour):
    """The last request is the one that is refused: by then, nothing points at either any more."""
    ready = harbour.state()
    changes = len(harbour.folder.run("delete", "alund", "hbrekke", "-n", "--json").json["steps"]) - 2

    def stay(process: int) -> None:
        time.sleep(0.5)  # until those that are on their way are made
        harbour.rights(given=False)

    code, told = harbour.stopped(["delete", "alund", "hbrekke"], stay, at=changes + 2)
    harbour.rights(given=True)
    jobs = harbour.folder.run("journal", "--last", "2", "--json").json["rows"]
    assert (code, jobs[0]["title"]) == (
        Code.DONE_IN_PART.exit_code,
        "give back memberships: 1 object could not be deleted",
    ), told
    assert jobs[0]["made"] == 0 and WHO in told  # it may not even do that; so, by hand
    harbour.run("undo", str(jobs[1]["number"]))
    assert harbour.state() == ready


@pytest.mark.parametrize("name", [name for name in COMMANDS if name != "delete"])  # that one gives back
def test_rights_that_end_in_the_middle(harbour, name):
    """The refusal is told with its object and who was refused; with the rights back, it can be finished or undone."""
    before, words = COMMANDS[name]
    begin = harbour.state()
    prepared = harbour.run(*before) if before else 0
    ready = harbour.state()
    words = [word.format(job=prepared) if word == "{job}" else word for word in words]
    code, told = harbour.stopped(words, lambda _: harbour.rights(given=False))
    harbour.rights(given=True)
    job = harbour.last()
    assert WHO in told, told[-800:]
    if job["state"] == "broken off":  # it was to be whole, and what was made could not be taken back
        assert code == Code.NOT_PERMITTED.exit_code
        assert f"vandrel undo {job['number']}" in told
    else:
        refused = Code.HALF_SET if name == "reset" else Code.NOT_PERMITTED
        assert (code, job["state"]) == (Code.DONE_IN_PART.exit_code if job["made"] else refused.exit_code, "in part"), (
            told
        )
        sheet = harbour.folder.path / "new.csv"  # no password that was not set is handed out
        handed = sheet.read_text().splitlines()[1:] if sheet.exists() else []
        assert ["alund" in line for line in handed] == ([True] if name == "reset" else [])
    if job["state"] == "broken off" or job["made"]:
        assert harbour.state() != ready
        harbour.run("undo", str(job["number"]))
    assert harbour.state() == ready
    if prepared:
        harbour.run("undo", str(prepared))
    assert harbour.state() == begin


def test_a_name_that_somebody_takes_meanwhile_is_answered_with_the_next(harbour):
    _, words = COMMANDS["create"]
    ready = harbour.state()
    first = harbour.folder.run(*words, "-n", "--json").json["changes"][0]["fields"]
    login = next(field["after"][0] for field in first if field["field"] == "login")
    twin = names.parse(f"cn=Quicker,{servers.SUFFIX}")
    classes = ["inetOrgPerson", "organizationalPerson", "person", "top"]
    quicker = AddEntry(twin, {"objectClass": classes, "sn": ["Quicker"], "uid": [login]})

    def take(process: int) -> None:
        assert harbour._root.execute([quicker], atomic=True) == [None]

    code, told = harbour.stopped(words, take, at=1)
    assert code == 0, told
    assert told.count("A name was taken meanwhile") == 1
    given = harbour.folder.run("find", "number=2991", "--columns", "login", "--as", "csv").out.split()[-1]
    assert given.endswith("moe") and given != login
    sheet = (harbour.folder.path / "new.csv").read_text()
    assert sheet.count("\n") == 2 and given in sheet  # a header and the one line
    harbour.run("undo", str(harbour.last()["number"]))
    assert harbour._root.execute([DeleteEntry(twin)], atomic=True) == [None]
    assert harbour.state() == ready


def test_a_password_that_was_set_without_its_mark_is_told_and_handed_out(harbour):
    """The server takes the mark of a disabled account away with its password; the right to put it back ends just then."""
    disabling = harbour.run("disable", "hbrekke")
    code, told = harbour.stopped(
        ["reset", "hbrekke", "--hand-out", "new.csv"], lambda _: harbour.rights(given=False), at=3
    )
    harbour.rights(given=True)
    assert code == Code.HALF_SET.exit_code, told
    assert "the password is set, and the account, disabled before, is enabled now" in told
    assert "hbrekke" in (harbour.folder.path / "new.csv").read_text()
    assert harbour.folder.run("show", "hbrekke", "--bare", "enabled").out == "yes\n"
    # Without the right from the beginning, the password is not touched.
    harbour.run("disable", "hbrekke")
    (harbour.folder.path / "new.csv").unlink()
    code, told = harbour.stopped(
        ["reset", "hbrekke", "--hand-out", "new.csv"], lambda _: harbour.rights(given=False), at=1
    )
    harbour.rights(given=True)
    assert (code, (harbour.folder.path / "new.csv").exists()) == (Code.NOT_PERMITTED.exit_code, False)
    assert harbour.folder.run("show", "hbrekke", "--bare", "enabled").out == "no\n"
    harbour.run("undo", str(disabling))


#: What a domain keeps, and the others cannot.
OF_A_DOMAIN = {"edit alund password-fixed=yes -y", "edit /Shore delegation+=team-it:unlock -y"}


@pytest.mark.parametrize("kind", ["harbour", "domain"])
def test_bad_input_is_told_apart_on_servers_as_well(request, kind):
    place = request.getfixturevalue(kind)
    before, wrong = place.state(), []
    for words, code in BAD:
        if kind == "domain" and words in OF_A_DOMAIN:
            continue
        done = place.folder.run(*shlex.split(words))
        if done.code != code:
            wrong.append((words, done.code, done.err[:200]))
    assert wrong == []
    assert place.state() == before
