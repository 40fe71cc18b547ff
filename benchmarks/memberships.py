"""Effective membership of one person among 10,000 groups nested 20 deep, against reading all groups once."""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from benchmarks.accounts import CHARTER
from tests import servers
from vandrel.charter.load import load
from vandrel.dialects.standard import StandardDialect
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.operations import AddEntry
from vandrel.directory.port import Directory
from vandrel.jobs.hierarchy.build import top_entry
from vandrel.objects.context import Context
from vandrel.objects.membership import effective

CHAINS, DEPTH = 500, 20
RUNS = 5


def fill(directory: Directory, context: Context) -> None:
    """500 chains of 20 groups, each in the next; and one person, in the first group of three chains."""
    base, dialect = context.charter.base, context.dialect
    unit, person = base.child("ou", "Groups"), base.child("cn", "Anna Lund")
    todo = [] if directory.existing([base]) else [AddEntry(base, top_entry(base, "Marrowick"))]
    todo.append(AddEntry(unit, dialect.new_entry("unit", unit, {})))
    todo.append(AddEntry(person, dialect.new_entry("account", person, {"surname": ["Lund"], "login": ["alund"]})))
    for chain in range(CHAINS):
        below = str(person) if chain < 3 else ""
        for depth in range(DEPTH):
            dn = unit.child("cn", f"team-{chain}-{depth}")
            todo.append(AddEntry(dn, dialect.new_entry("group", dn, {"members": [below]})))
            below = str(dn)
    outcomes = directory.execute(todo, atomic=False)
    assert not any(outcomes), next(filter(None, outcomes))


def measure(name: str, directory: Directory) -> None:
    charter = load(CHARTER)
    context = Context(charter, directory, StandardDialect(directory, charter))
    fill(directory, context)
    person = directory.get(charter.base.child("cn", "Anna Lund"))
    assert person is not None
    begun = time.perf_counter()
    for _ in range(RUNS):
        found = sum(1 for _ in effective(context, person))
    ours = (time.perf_counter() - begun) / RUNS
    assert found == 3 * DEPTH
    begun = time.perf_counter()
    groups = sum(1 for _ in directory.search(charter.base, where=context.dialect.filter_for("group")))
    theirs = time.perf_counter() - begun
    assert groups == CHAINS * DEPTH
    print(f"{name:10} {found} memberships {ours * 1000:7.1f} ms; {groups} groups read {theirs * 1000:7.1f} ms: "
          f"{ours / theirs:.3f} of it (goal 0.1)")  # fmt: skip


def main() -> int:
    charter = load(CHARTER)
    with tempfile.TemporaryDirectory() as folder:
        measure("embedded", EmbeddedDirectory.create(Path(folder) / "directory.db", [charter.base]))
    with servers.running(servers.PLAIN._replace(database="index member eq")) as server:
        directory = servers.open_directory(server.settings())
        measure("slapd", directory)
        directory.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
