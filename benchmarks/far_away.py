"""An import of 1,000 people over a long line, beside a bare pipelined loop of the same requests over the same line.

Both go to servers of the same kind behind a relay that answers late. The bare loop adds the entries that the import has
made, and puts them into their groups, sixteen requests on their way at a time. Its requests are prepared beforehand.
"""

from __future__ import annotations

import argparse
import subprocess
import sys
import tempfile
import time
from collections import deque
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

import ldap

from benchmarks.intake import HEADER, rows
from tests import servers
from vandrel.directory import dn as names
from vandrel.intake.annotate import write_rows

PROGRAM = Path(sys.executable).with_name("vandrel")
WINDOW = 16
#: Identity and stamps, which the server gives.
_OF_SERVER = ("entryuuid", "structuralobjectclass", "subschemasubentry", "hassubordinates", "entrydn", "memberof")
_SECRET = "the-tests-alone"


def run(folder: Path, *words: str) -> float:
    begun = time.perf_counter()
    done = subprocess.run([str(PROGRAM), *words], cwd=folder, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    return time.perf_counter() - begun


def demo_on_server(folder: Path, port: int) -> Path:
    """The demo on a server, to be administered from the folder that is returned, by the connection ``harbour``."""
    (folder / "connections.yaml").write_text(servers.CONNECTION.format(port=port, who=f"cn=root,{servers.SUFFIX}"))
    (folder / "hers").write_text(_SECRET)
    (folder / "hers").chmod(0o600)
    run(folder, "demo", "demo", "--no-tour", "--directory", "harbour")
    for name in ("connections.yaml", "hers"):
        (folder / name).rename(folder / "demo" / name)
    return folder / "demo"


def imported(folder: Path, count: int, late: float) -> tuple[float, int, list[tuple[str, dict[str, list[bytes]]]]]:
    """Seconds of the import, how often it waited, and what there is afterwards that was not there before."""
    with servers.running(servers.PLAIN) as server:
        line = servers.FarAway(server.port, 0.0)
        demo = demo_on_server(folder, line.port)
        write_rows(demo / "crew.csv", HEADER, rows(count))
        where = ("--directory", "harbour")
        run(demo, "import", "crew.csv", "--propose", "--kind", "crew", *where)
        before = {dn for dn, _ in _everything(server)}
        line.late, line.trips = late, 0
        seconds = run(demo, "import", "crew.csv", "--no-passwords", "-y", *where)
        trips = line.trips
        line.close()
        return seconds, trips, [(dn, entry) for dn, entry in _everything(server) if dn not in before]


def _everything(server: servers.Slapd) -> list[tuple[str, dict[str, list[bytes]]]]:
    connection = ldap.initialize(server.url)
    connection.sasl_interactive_bind_s("", ldap.sasl.external())
    found = connection.search_s(servers.SUFFIX, ldap.SCOPE_SUBTREE, "(objectClass=*)", ["*"])
    connection.unbind_s()
    return [(str(names.parse(dn)), entry) for dn, entry in found]


def bare(entries: list[tuple[str, dict[str, list[bytes]]]], late: float) -> float:
    """The same entries by the bare loop, into one unit; and each of them into the group of all."""
    with servers.running(servers.PLAIN) as server:
        unit, group = f"ou=People,{servers.SUFFIX}", f"cn=all,{servers.SUFFIX}"
        line = servers.FarAway(server.port, 0.0)
        connection = ldap.initialize(f"ldap://127.0.0.1:{line.port}")
        connection.simple_bind_s(f"cn=root,{servers.SUFFIX}", _SECRET)
        connection.add_s(unit, [("objectClass", [b"organizationalUnit"]), ("ou", [b"People"])])
        connection.add_s(group, [("objectClass", [b"groupOfNames"]), ("cn", [b"all"]), ("member", [b""])])
        todo = []
        for number, (_, entry) in enumerate(entries):
            dn = f"cn=Person {number},{unit}"
            kept = {name: values for name, values in entry.items() if name.lower() not in _OF_SERVER}
            todo.append((dn, [*(kept | {"cn": [f"Person {number}".encode()]}).items()]))
        line.late = late
        begun = time.perf_counter()
        sent: deque[int] = deque()

        def send(request: int) -> None:
            sent.append(request)
            if len(sent) == WINDOW:
                connection.result3(sent.popleft())

        for dn, attributes in todo:
            send(connection.add_ext(dn, attributes))
        while sent:
            connection.result3(sent.popleft())
        members = [dn.encode() for dn, _ in todo]
        for start in range(0, len(members), 1000):
            connection.modify_s(group, [(ldap.MOD_ADD, "member", members[start : start + 1000])])
        seconds = time.perf_counter() - begun
        connection.unbind_s()
        line.close()
    return seconds


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=1000)
    parser.add_argument("--late", type=float, default=0.2, help="seconds that each answer comes late")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        ours, trips, entries = imported(Path(folder), args.count, args.late)
    assert len(entries) == args.count, len(entries)
    theirs = bare(entries, args.late)
    print(f"import of {args.count:,} people, each answer {args.late:.1f} s late: {ours:.1f} s, {trips} waits; "
          f"bare pipelined loop {theirs:.1f} s; {ours / theirs:.2f} x (goal 2)")  # fmt: skip


if __name__ == "__main__":
    main()
