"""100,000 accounts into the embedded directory through the runner, against a bare executemany of the same rows.

The bare side writes exactly the rows that the directory and the journal hold afterwards, in transactions of the
same size, into files with the same tables. Both sides run in this process, one after the other.
"""

from __future__ import annotations

import argparse
import gc
import resource
import sqlite3
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import vandrel
from vandrel.charter.load import load
from vandrel.dialects.standard import StandardDialect
from vandrel.directory.embedded import sqlite_file
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.record.database import TABLES_OF_FILE
from vandrel.record.journal import Journal
from vandrel.steps.plan import Plan
from vandrel.steps.runner import BATCH, Runner
from vandrel.steps.step import Add, Step

CHARTER = Path(vandrel.__file__).parent / "demo" / "charter.yaml"
UNITS = 40


def steps(dialect: StandardDialect, base: object, count: int) -> Iterator[Step]:
    """A base, forty units, and `count` accounts with sixteen fields each."""
    from vandrel.directory.dn import DN

    assert isinstance(base, DN)
    yield Add(base, {"objectClass": ["top", "organization", "dcObject"], "o": ["Marrowick"], "dc": ["marrowick"]})
    units = [base.child("ou", f"Unit {number}") for number in range(UNITS)]
    for unit in units:
        yield Add(unit, dialect.new_entry("unit", unit, {"protected": ["yes"]}))
    for number in range(count):
        dn = units[number % UNITS].child("cn", f"Person {number}")
        login = f"person{number}"
        fields = {
            "login": login, "principal": f"{login}@marrowick.example", "mail": f"{login}@marrowick.example",
            "full": f"Person {number}", "display": f"{number}, Person", "given": "Person", "surname": str(number),
            "number": str(number), "kind": "crew", "title": "Second mate", "company": "Marrowick Ferries",
            "department": "Deck", "site": "Northquay", "category": "Hands", "phone": f"+47 5555 {number}",
            "enabled": "no",
        }  # fmt: skip
        yield Add(dn, dialect.new_entry("account", dn, {name: [value] for name, value in fields.items()}))


def through_the_runner(folder: Path, count: int) -> float:
    charter = load(CHARTER)
    directory = EmbeddedDirectory.create(folder / "directory.db", [charter.base])
    dialect = StandardDialect(directory, charter)
    runner = Runner(directory, dialect, lambda: Journal(folder / "journal.db", create=True))
    todo = list(steps(dialect, charter.base, count))
    gc.collect()
    begun = time.perf_counter()
    report = runner.run(Plan("benchmark", todo), "bench")
    seconds = time.perf_counter() - begun
    assert report.made == len(todo), report.refused[:3]
    directory.close()
    return seconds


def bare(folder: Path) -> float:
    """The same rows, read beforehand, by executemany alone."""
    total = 0.0
    for name, application, tables in (
        ("directory.db", sqlite_file.APPLICATION, sqlite_file.TABLES),
        ("journal.db", 1, TABLES_OF_FILE),
    ):
        target = folder / f"bare-{name}"
        sqlite_file.create(target, application, tables, "file")
        old = sqlite3.connect(folder / name)
        new = sqlite3.connect(target, isolation_level=None)
        new.execute("PRAGMA synchronous = FULL")
        new.execute("PRAGMA cache_size = -65536")
        for (table,) in old.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall():
            order = (
                " ORDER BY id" if table == "entry" else " ORDER BY entry, attribute, value" if table == "value" else ""
            )
            rows = old.execute(f"SELECT * FROM {table}{order}").fetchall()
            if not rows:
                continue
            marks = ", ".join("?" * len(rows[0]))
            size = BATCH * max(
                1,
                len(rows)
                // max(1, old.execute("SELECT count(*) FROM " + ("entry" if name[0] == "d" else "step")).fetchone()[0]),
            )
            begun = time.perf_counter()
            for start in range(0, len(rows), size):
                new.execute("BEGIN IMMEDIATE")
                new.executemany(f"INSERT INTO {table} VALUES({marks})", rows[start : start + size])
                new.execute("COMMIT")
            total += time.perf_counter() - begun
        old.close()
        new.close()
    return total


def measure(count: int) -> tuple[float, float]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        return through_the_runner(folder, count), bare(folder)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=100_000)
    count = parser.parse_args().count
    measure(200)  # what is loaded and compiled once is no cost of an account
    small, _ = measure(count // 100)
    ours, theirs = measure(count)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"creating {count} accounts, embedded, with journal: {ours:.1f} s; bare executemany {theirs:.1f} s; "
          f"{ours / theirs:.1f} x (goal 4)")  # fmt: skip
    print(
        f"cost per account at {count} against {count // 100}: "
        f"{ours / count / (small / (count // 100)):.2f} x (goal 0.8 to 1.2)"
    )
    print(f"peak memory {peak:.0f} MB")


if __name__ == "__main__":
    main()
