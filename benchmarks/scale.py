"""Each command on one object in a small directory and in a large one, in which everybody is in one group.

Both are the demo with further people; each command is timed in both in turns, and the least of three is taken. The
figure is the ratio: it says whether a command grows with the directory. With ``--server`` both stand on standard
servers of their own, and no more than 50,000 are in the group.
"""

from __future__ import annotations

import argparse
import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack
from itertools import islice
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from benchmarks.far_away import demo_on_server
from tests import servers
from vandrel.charter.load import load
from vandrel.dialects.standard import StandardDialect
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.filter import Compare
from vandrel.directory.operations import AddEntry, Change, ModifyEntry
from vandrel.record.journal import Journal
from vandrel.steps.plan import Plan
from vandrel.steps.runner import Runner
from vandrel.steps.step import Add

PROGRAM = str(Path(sys.executable).with_name("vandrel"))
EVERYBODY = "team-everybody"
RUNS = 3
#: Members of the group on a server, at most, and objects that are sent to it in one go.
_MEMBERS, _AT_ONCE = 50_000, 5_000
#: What docs/servers.md says that a large server has an index of, beside what the tests' servers have.
_INDEX = (
    "employeeNumber,displayName,title,member,uniqueMember,manager,secretary,owner,seeAlso,roleOccupant,"
    "aliasedObjectName,associatedName,dITRedirect,documentAuthor,vandrelSponsor"
)
#: A server with room for all of them.
_LARGE = servers.PLAIN._replace(
    size=16 << 30, database=f"index {_INDEX} eq\nsortvals member", modules=("ppolicy",),
    overlays=f'overlay ppolicy\nppolicy_default "cn=rules,{servers.SUFFIX}"\n',
)  # fmt: skip
#: By which the server keeps out who is disabled.
_RULES = {"objectClass": ["device", "pwdPolicy"], "pwdAttribute": ["userPassword"], "pwdLockout": ["TRUE"]}
#: Of a password that nobody knows: people have one, and an administrator sees that.
_HASH = b"{SSHA}" + b"A" * 38 + b"=="
#: In order: with a person of each run, another one to be renamed, and the last job.
COMMANDS = (
    "show person{one}", "find title=Nobody", "edit person{one} title=Bosun -y", "edit person{one} groups+=team-it -y",
    "edit person{one} groups-=team-everybody -y", "edit person{one} groups+=team-everybody -y",
    "edit team-everybody members-=person{one} -y", "edit team-everybody members+=person{one} -y",
    "disable person{one} -y", "rename person{other} surname=Berg{other} -y", "leave person{one} -y",
    "leave person{one} --back -y", "delete person{one} -y", "restore person{one} -y", "undo {job} -y",
    "create staff New-{one} number=90000{one} department=IT given=New surname={one} password=none -y",
)  # fmt: skip


def accounts(dialect: StandardDialect, count: int) -> Iterator[Add]:
    """So many accounts below the demo's units of deck hands."""
    base = dialect.charter.base
    units = [base.child("ou", "Ferries").child("ou", harbour).child("ou", "Deck").child("ou", "Hands")
             for harbour in ("Northquay", "Sandhaven", "Eastmole")]  # fmt: skip
    for number in range(count):
        dn = units[number % len(units)].child("cn", f"Person {number}")
        login = f"person{number}"
        fields = {
            "login": login, "principal": f"{login}@marrowick.example", "mail": f"{login}@marrowick.example",
            "full": f"Person {number}", "display": f"{number}, Person", "given": "Person", "surname": str(number),
            "number": str(10_000_000 + number), "kind": "crew", "title": "Second mate", "department": "Deck",
        }  # fmt: skip
        yield Add(dn, dialect.new_entry("account", dn, {name: [value] for name, value in fields.items()}))


def grown(folder: Path, count: int) -> None:
    """The demo, with so many people more, all of them in the group of everybody."""
    subprocess.run([PROGRAM, "demo", str(folder), "--no-tour", "--quiet"], check=True)
    charter = load(folder / "charter.yaml")
    directory = EmbeddedDirectory(folder / "directory.db")
    dialect = StandardDialect(directory, charter)
    runner = Runner(directory, dialect, lambda: Journal(folder / "journal.db"))
    made = list(accounts(dialect, count))
    runner.run(Plan("benchmark", made, is_atomic=False), "bench", checked=True)
    group = next(directory.search(charter.base, where=Compare("cn", "=", EVERYBODY)))
    joining = Change("member", added=tuple(str(step.dn) for step in made))
    assert directory.execute([ModifyEntry(group.dn, (joining,))], atomic=True) == [None]
    directory.close()


def grown_on_server(server: servers.Slapd, folder: Path, count: int) -> Path:
    """The same on a server, which is administered from the folder that is returned."""
    folder.mkdir()
    demo = demo_on_server(folder, server.port)
    directory = servers.open_directory(server.settings())
    rules = AddEntry(
        directory.contexts[0].child("cn", "rules"), {name: list(values) for name, values in _RULES.items()}
    )
    assert directory.execute([rules], atomic=False) == [None]
    made = accounts(StandardDialect(directory, load(demo / "charter.yaml")), count)
    group = next(directory.search(directory.contexts[0], where=Compare("cn", "=", EVERYBODY), only=["cn"]))
    number = 0
    while some := list(islice(made, _AT_ONCE)):  # never all of them: what this process takes, its children inherit
        added = [AddEntry(step.dn, step.attributes | {"userPassword": [_HASH]}) for step in some]
        assert not any(directory.execute(added, atomic=False))
        if number < _MEMBERS:
            joining = Change("member", added=tuple(str(step.dn) for step in some))
            assert directory.execute([ModifyEntry(group.dn, (joining,))], atomic=False) == [None]
        number += len(some)
    directory.close()
    return demo


def seconds(folder: Path, line: str, number: int) -> float:
    job = last_job(folder) if "{job}" in line else 0
    words = line.format(one=number, other=number + 100, job=job).split()
    begun = time.perf_counter()
    done = subprocess.run([PROGRAM, *words, *_where(folder)], check=False, cwd=folder, capture_output=True, text=True)
    assert done.returncode == 0, f"{words}: {done.stderr}{done.stdout}"
    return time.perf_counter() - begun


def _where(folder: Path) -> list[str]:
    return ["--directory", "harbour"] if (folder / "connections.yaml").exists() else []


def last_job(folder: Path) -> int:
    words = [PROGRAM, "journal", "--last", "1", "--json", *_where(folder)]
    told = subprocess.run(words, cwd=folder, capture_output=True, check=True).stdout
    return int(json.loads(told)["rows"][0]["number"])


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--small", type=int, default=1000)
    parser.add_argument("--large", type=int, default=1_000_000)
    parser.add_argument("--server", action="store_true", help="on standard servers")
    args = parser.parse_args()
    os.environ.pop("VANDREL_DIRECTORY", None)
    with tempfile.TemporaryDirectory() as top, ExitStack() as running:
        folders = {count: Path(top) / str(count) for count in (args.small, args.large)}
        for count, folder in [*folders.items()]:
            begun = time.perf_counter()
            if args.server:
                folders[count] = grown_on_server(running.enter_context(servers.running(_LARGE)), folder, count)
            else:
                grown(folder, count)
            print(f"{count:,} people in {time.perf_counter() - begun:.0f} s", flush=True)
        for line in COMMANDS:
            least = dict.fromkeys(folders, float("inf"))
            for run in range(RUNS):
                for count, folder in folders.items():
                    least[count] = min(least[count], seconds(folder, line, 100 + run))
            small, large = least.values()
            print(f"{line:78} {small:6.2f} s  {large:6.2f} s  {large / small:5.2f} x", flush=True)
        most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024  # before the servers end, which count too
    print(f"largest memory of any of these commands: {most} MB")


if __name__ == "__main__":
    main()
