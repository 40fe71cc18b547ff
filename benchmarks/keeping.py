"""Snapshots beside reading, the attic beside deleting, restoring beside creating, and questions to a long journal.

Everything runs in this process on an embedded directory; each figure is a ratio within one run.
"""

from __future__ import annotations

import argparse
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from benchmarks.accounts import CHARTER, UNITS, steps
from vandrel.charter.load import load
from vandrel.dialects.standard import StandardDialect
from vandrel.directory.dn import DN
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.operations import Change, ModifyEntry
from vandrel.directory.port import Directory
from vandrel.jobs.lifecycle.attic import AtticSelection
from vandrel.jobs.lifecycle.delete import work_out_deletion
from vandrel.jobs.lifecycle.restore import RestoreRequest, restore
from vandrel.jobs.snapshots.keep import TakeRequest
from vandrel.jobs.snapshots.keep import take as take_snapshot
from vandrel.objects.context import Context
from vandrel.record.journal import JobQuery, Journal, NewJob
from vandrel.record.snapshots import Snapshots
from vandrel.steps.plan import Plan
from vandrel.steps.runner import Runner
from vandrel.steps.step import Add, Set, Step


def timed(what: Callable[[], object]) -> float:
    begun = time.perf_counter()
    what()
    return time.perf_counter() - begun


class House:
    """A directory with so many accounts, its journal and its attic, in a folder: a file, or a server with its top."""

    def __init__(self, folder: Path, count: int, server: Directory | None = None) -> None:
        charter = load(CHARTER)
        self.directory = server or EmbeddedDirectory.create(folder / "directory.db", [charter.base])
        self.dialect = StandardDialect(self.directory, charter)
        self.context = Context(charter, self.directory, self.dialect)
        self.journal = Journal(folder / "journal.db", create=True)
        self.runner = Runner(self.directory, self.dialect, lambda: self.journal)
        self.base = charter.base
        self.count = count
        self.creation = list(steps(self.dialect, charter.base, count))[server is not None :]
        self.run(self.creation)
        self.people = [
            step.dn for step in self.creation if isinstance(step, Add) and len(step.dn) == len(self.base) + 2
        ]

    def create(self) -> None:
        """Work out the people, and create them."""
        self.run([step for step in steps(self.dialect, self.base, self.count) if len(step.dn) == len(self.base) + 2])

    def run(self, todo: list[Step], **more: bool) -> None:
        self.runner.run(Plan("bench", todo, is_atomic=False, **more), "bench", checked=True)  # type: ignore[arg-type]


def snapshots(folder: Path, count: int) -> None:
    house = House(folder, count)
    kept = Snapshots(folder / "snapshots.db", house.directory.identity)
    reading = min(timed(lambda: sum(1 for _ in house.directory.search(house.base))) for _ in range(2))

    def take() -> None:
        take_snapshot(house.context, kept, TakeRequest())

    first = timed(take)
    size = kept.path.stat().st_size
    accounts = [step.dn for step in house.creation if isinstance(step, Add)][-100:]
    house.directory.execute(
        [ModifyEntry(dn, (Change("title", ("Second mate",), ("Cook",)),)) for dn in accounts], atomic=True
    )
    second = timed(take)
    kept.close()
    grown = (folder / "snapshots.db").stat().st_size - size
    kept = Snapshots(folder / "snapshots.db", house.directory.identity)
    one, other = kept.one(1), kept.one(2)
    found: list[object] = []
    differing = timed(lambda: found.extend(kept.differing(one, other)))
    print(
        f"snapshot of {count:,}: {first / reading:.2f} x reading them ({first:.1f} s), {size / count:.0f} octets each"
    )
    print(f"a second with 100 changes: {second / first:.2f} of the first, {100 * grown / size:.2f} % of its size")
    print(f"difference of two ({len(found)} objects): {differing / reading:.3f} of reading one")


#: Rounds of which the fastest counts: what else the machine does falls on one or the other.
_ROUNDS = 3


def attic(folder: Path, count: int, server: Directory | None = None) -> None:
    house = House(folder, count, server)
    groups: list[Step] = []
    for number in range(20):
        dn = house.base.child("cn", f"Team {number}")
        groups.append(Add(dn, house.dialect.new_entry("group", dn, {})))
    house.run(groups)
    rounds = [_round(house, [step.dn for step in groups], is_first=number == 0) for number in range(_ROUNDS)]
    creating, into_attic, restoring, for_good = map(min, zip(*rounds, strict=True))
    print(
        f"deleting {count:,} into the attic: {into_attic / for_good:.2f} x deleting them for good ({into_attic:.1f} s)"
    )
    print(f"restoring {count:,} with memberships: {restoring / creating:.2f} x creating them ({restoring:.1f} s)")


def _round(house: House, groups: list[DN], *, is_first: bool) -> tuple[float, float, float, float]:
    """Create people with memberships, delete them into the attic, restore them, delete them for good: seconds."""
    if is_first:
        house.run(_deletion(house), for_good=True)

    def create() -> None:
        house.create()
        joining: list[Step] = []
        for number, dn in enumerate(groups):
            entry = house.directory.get(dn)
            assert entry is not None
            change = house.dialect.member_change(entry, house.people[number :: len(groups)], [])
            joining.append(Set(dn, tuple(change)))
        house.run(joining)

    def bring_back() -> None:
        selection = AtticSelection(job=house.runner.job)
        request = RestoreRequest(selection)
        house.run(list(restore(house.context, house.runner.attic, request, lambda dn, job: dn).steps))

    creating, todo = timed(create), _deletion(house)
    into_attic = timed(lambda: house.run(todo))
    restoring, todo = timed(bring_back), _deletion(house)
    return creating, into_attic, restoring, timed(lambda: house.run(todo, for_good=True))


def _deletion(house: House) -> list[Step]:
    entries = [entry for dn in house.people if (entry := house.directory.get(dn)) is not None]
    return work_out_deletion(house.context, entries).steps


def attic_on_a_server(folder: Path, count: int) -> None:
    from tests import servers

    print("the same on slapd:")
    with servers.running(servers.PLAIN) as server:
        attic(folder, count, servers.open_directory(server.settings()))


def long_journal(folder: Path, count: int) -> None:
    journal = Journal(folder / "journal.db", create=True)
    base = DN.read("dc=marrowick,dc=example")
    each = 5000
    for job in range(count // each):
        number = journal.begin(NewJob("bench", "bench", "d", "d", each, each))
        records = [
            {"step": "set", "dn": str(base.child("cn", f"Person {(job * each + n) % 50_000}")), "changes": []}
            for n in range(each)
        ]
        journal.write(number, 1, records)
        journal.end(number, "done")
    about = str(base.child("cn", "Person 77"))
    seconds = min(timed(lambda: list(journal.jobs(20, JobQuery(journal.names_of(about))))) for _ in range(3))
    print(f"jobs about one object of {count:,} steps: {1000 * seconds:.1f} ms")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=100_000)
    count = parser.parse_args().count
    assert count > UNITS
    for what, number in (
        (snapshots, count), (attic, count // 5), (attic, count // 20), (attic_on_a_server, count // 20),
        (long_journal, 10 * count),
    ):  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            what(Path(folder), number)


if __name__ == "__main__":
    main()
