"""A first synchronization into the stand-in, beside a bare loop of the same client; a second one with 1 % changes.

Ours reads both sides, checks, keeps the journal and the links. The bare loop creates the same records, prepared
beforehand. Both go to stand-ins of the same kind in processes of their own, one after the other, within this run: ours
before the bare loop and again after it, for the speed of a machine that others use as well changes within minutes.
"""

from __future__ import annotations

import argparse
import resource
import select
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from multiprocessing import get_context
from pathlib import Path

from benchmarks.keeping import House, timed
from vandrel.dialects.standard import StandardDialect
from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.operations import Change, ModifyEntry
from vandrel.directory.service import mapping
from vandrel.directory.service.link import ServiceSettings
from vandrel.directory.service.store import ServiceDirectory
from vandrel.jobs.common.proposal import Passwords
from vandrel.jobs.services.profile import Copying, Profile
from vandrel.jobs.services.synchronization.comparison import SynchronizeRequest
from vandrel.jobs.services.synchronization.synchronize import synchronize
from vandrel.objects.context import Context
from vandrel.record.journal import Journal
from vandrel.record.links import Links
from vandrel.secret import Secret
from vandrel.steps.plan import Plan
from vandrel.steps.runner import Runner
from vandrel.steps.step import Add

BASE = names.parse("o=service")
_SECONDS = 30.0
#: People with one manager, who is one of them.
_TEAM = 10


@contextmanager
def service(folder: Path) -> Iterator[ServiceDirectory]:
    """A stand-in with nothing in it."""
    words = [sys.executable, "-m", "vandrel", "stand-in", str(folder)]
    process = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, bufsize=1)
    try:
        assert process.stdout is not None
        assert select.select([process.stdout], [], [], _SECONDS)[0], "the stand-in does not begin"
        url = process.stdout.readline().split()[-1]
        token = Secret((folder / "token").read_text("utf-8").strip())
        directory = ServiceDirectory(ServiceSettings(url, "service", token, str(folder / "authority.pem")), BASE)
        while next(iter(directory.search(BASE)), None) is None:
            pass
        yield directory
        directory.close()
    finally:
        process.terminate()
        process.wait()


class Target:
    """A service as the other side, with a journal and links."""

    def __init__(self, house: House, directory: ServiceDirectory, folder: Path, *, recent: bool = False) -> None:
        charter = house.context.charter.at(str(BASE), named_by="login")
        self.house, self.directory = house, directory
        self.context = Context(charter, directory, StandardDialect(directory, charter))
        self.journal = Journal(folder / "there.db", create=True)
        self.runner = Runner(directory, self.context.dialect, lambda: self.journal)
        self.links = Links(folder / "links.db", house.directory.identity, directory.identity)
        self.request = SynchronizeRequest(Profile(copying=Copying(identifier="externalId")), "bench", recent=recent)

    def run(self) -> int:
        """One synchronization; how many objects it changed."""
        proposal = synchronize(self.house.context, self.context, self.links, self.request)
        work = proposal.work(Passwords())
        plan = Plan(proposal.title, work.steps, is_atomic=False, read=work.read, barriers=work.barriers)
        result = self.runner.run(plan, "bench") if work.steps else None
        assert result is None or not result.is_in_part, result
        assert proposal.keep is not None
        proposal.keep(result)
        return len(proposal.changes)


def _memory() -> int:
    """What this process has in memory now, in MB, as Linux tells."""
    return int(Path("/proc/self/statm").read_text("ascii").split()[1]) * resource.getpagesize() // 2**20


def _house(folder: Path, count: int) -> tuple[House, list[DN]]:
    """A directory with so many people, all enabled, nine of ten with a manager; and their names."""
    house = House(folder, count)
    people = [step.dn for step in house.creation if isinstance(step, Add) and len(step.dn) == len(house.base) + 2]
    enabling = Change("pwdAccountLockedTime", (mapping.DISABLED,))
    changes: dict[DN, tuple[Change, ...]] = dict.fromkeys(people, (enabling,))
    for at, dn in enumerate(people):
        if at % _TEAM:
            changes[dn] += (Change("manager", (), (str(people[at - at % _TEAM]),)),)
    house.directory.execute([ModifyEntry(dn, some) for dn, some in changes.items()], atomic=True)
    house.creation = []
    return house, people


def _growth(count: int) -> int:
    """What a first synchronization of so many leaves in memory, in MB; for a process of its own."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        house, _ = _house(folder, count)
        with service(folder / "service") as directory:
            target = Target(house, directory, folder)
            before = _memory()
            target.run()
            return _memory() - before


def main(count: int) -> None:
    """Measure."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        few = count // 4
        with get_context("spawn").Pool(1) as pool:
            little = pool.apply(_growth, (few,))
        house, people = _house(folder, count)
        with service(folder / "one") as directory:
            target = Target(house, directory, folder)
            before = _memory()
            first = timed(target.run)
            more = _memory() - before
            sent = directory.link.requests
            copied = [entry for entry in directory.search(BASE) if entry.dn.naming_attribute == "uid"]
            whole = timed(Target(house, ServiceDirectory(directory.settings, BASE), folder).run)
            changed = people[::100]
            entries = {dn: house.directory.get(dn) for dn in changed}
            house.directory.execute(
                [ModifyEntry(dn, (Change("title", tuple(entry.values_of("title")), ("Cook",)),))
                 for dn, entry in entries.items() if entry is not None], atomic=True,
            )  # fmt: skip
            # As the next program would, a while later: what was just sent is not recent any more.
            target.links.keep([], [], datetime.now(UTC) + timedelta(minutes=5))
            later = ServiceDirectory(directory.settings, BASE)
            again = Target(house, later, folder, recent=True)
            differing: list[int] = []
            second = timed(lambda: differing.append(again.run()))
            requests = later.link.requests
        with service(folder / "two") as directory:
            bodies = [mapping.to_resource(entry, lambda dn: "") for entry in copied]
            bare = timed(lambda: [directory.link.create("/Users", body) for body in bodies])
        with service(folder / "three") as directory:
            third = timed(Target(house, directory, folder / "three").run)
    ratio = (first + third) / 2 / bare
    both = f"{first:.1f} and {third:.1f} s, beside {bare:.1f} s"
    print(f"first synchronization of {count:,}: {ratio:.2f} x the bare loop ({both}), {sent:,} requests")
    print(f"a second that reads everything: {whole / first:.3f} of the first")
    print(f"a recent one with {differing[0]:,} changes: {second / first:.3f} of the first, {requests:,} requests")
    print(f"memory of a first of {few:,}: {little} MB more; of {count:,}: {more} MB more")


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("count", type=int, nargs="?", default=20_000)
    main(parser.parse_args().count)
