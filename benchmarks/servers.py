"""20,000 accounts into a standard LDAP server through the runner, against a bare pipelined loop of the same library.

Ours: checks and journal included. The bare loop sends the same entries, prepared beforehand, with sixteen requests on
their way at a time. Both go to fresh servers of the same kind, one after the other, within this run. Then 100,000
entries are read: through the port, against the bare loop of pages; and exported, for the memory that it takes.
"""

from __future__ import annotations

import argparse
import gc
import resource
import sys
import tempfile
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from statistics import median

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

import ldap
import ldap.controls

from benchmarks.accounts import CHARTER, steps
from tests import servers
from vandrel.charter.load import load
from vandrel.dialects.standard import StandardDialect
from vandrel.directory import ldif
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Editor
from vandrel.jobs.common.edit_order import in_order
from vandrel.jobs.inspect.export import superiors_first
from vandrel.objects.context import Context
from vandrel.record.journal import Journal
from vandrel.steps.plan import Plan
from vandrel.steps.runner import Runner
from vandrel.steps.step import Add

WINDOW = 16


def through_the_runner(server: servers.Slapd, count: int) -> float:
    charter = load(CHARTER)
    directory = servers.open_directory(server.settings())
    dialect = StandardDialect(directory, charter)
    todo = list(steps(dialect, charter.base, count))[1:]
    with tempfile.TemporaryDirectory() as folder:
        runner = Runner(directory, dialect, lambda: Journal(Path(folder) / "journal.db", create=True))
        gc.collect()
        begun = time.perf_counter()
        report = runner.run(Plan("benchmark", todo, is_atomic=False), "bench")
        seconds = time.perf_counter() - begun
    assert report.made == len(todo), report.refused[:3]
    directory.close()
    return seconds


def bare(server: servers.Slapd, count: int) -> float:
    charter = load(CHARTER)
    directory = servers.open_directory(server.settings())
    dialect = StandardDialect(directory, charter)
    entries = [
        (str(step.dn), [(name, [str(value).encode() for value in values]) for name, values in step.attributes.items()])
        for step in list(steps(dialect, charter.base, count))[1:]
        if isinstance(step, Add)
    ]
    directory.close()
    connection = ldap.initialize(server.url)
    connection.sasl_interactive_bind_s("", ldap.sasl.external())
    gc.collect()
    begun = time.perf_counter()
    sent: deque[int] = deque()
    for dn, attributes in entries[:40]:
        connection.add_s(dn, attributes)
    for dn, attributes in entries[40:]:
        if len(sent) == WINDOW:
            connection.result3(sent.popleft())
        sent.append(connection.add_ext(dn, attributes))
    while sent:
        connection.result3(sent.popleft())
    seconds = time.perf_counter() - begun
    connection.unbind_s()
    return seconds


def creating(setup: servers.Setup, count: int, turns: int) -> str:
    """Ours beside the bare loop before and behind it, for the machine may be faster now and slower then."""

    def on_a_fresh_one(made: Callable[[servers.Slapd, int], float]) -> float:
        with servers.running(setup) as server:
            return made(server, count)

    bares, ours = [on_a_fresh_one(bare)], []
    for _ in range(turns):
        ours.append(on_a_fresh_one(through_the_runner))
        bares.append(on_a_fresh_one(bare))
    ratios = [2 * seconds / sum(bares[n : n + 2]) for n, seconds in enumerate(ours)]
    return (f"{median(ours):.1f} s; bare pipelined loop {median(bares):.1f} s; "
            f"{median(ratios):.2f} x, {min(ratios):.2f} to {max(ratios):.2f}")  # fmt: skip


def editing(count: int) -> tuple[float, float]:
    """One field of `count` accounts: worked out, checked, made and recorded; against the bare modifications."""
    with servers.running(servers.PLAIN) as server:
        bare(server, count)
        charter = load(CHARTER)
        directory = servers.open_directory(server.settings())
        context = Context(charter, directory, StandardDialect(directory, charter))
        where = context.dialect.filter_for("account")
        entries = list(directory.search(charter.base, where=where))
        connection = ldap.initialize(server.url)
        connection.sasl_interactive_bind_s("", ldap.sasl.external())
        gc.collect()
        begun = time.perf_counter()
        sent: deque[int] = deque()
        for entry in entries:
            if len(sent) == WINDOW:
                connection.result3(sent.popleft())
            parts = [(ldap.MOD_DELETE, "title", [b"Second mate"]), (ldap.MOD_ADD, "title", [b"First mate"])]
            sent.append(connection.modify_ext(str(entry.dn), parts))
        while sent:
            connection.result3(sent.popleft())
        theirs = time.perf_counter() - begun
        entries = list(directory.search(charter.base, where=where))
        gc.collect()
        begun = time.perf_counter()
        with tempfile.TemporaryDirectory() as folder:
            runner = Runner(directory, context.dialect, lambda: Journal(Path(folder) / "journal.db", create=True))
            editor = Editor(context)
            edits = [editor.edit(entry, [Assignment("title", "=", ("Second mate",))]) for entry in entries]
            read = {edit.entry.dn.key for edit in edits}
            report = runner.run(Plan("benchmark", in_order(context, edits), is_atomic=False, read=read), "bench")
        ours = time.perf_counter() - begun
        assert report.made == count, report.refused[:3]
        directory.close()
    return ours, theirs


def reading(count: int) -> tuple[float, float, int]:
    """Seconds through the port and by a bare loop, and by how many MB an export of it all made this process grow."""
    with servers.running(servers.PLAIN) as server:
        bare(server, count)
        connection = ldap.initialize(server.url)
        connection.sasl_interactive_bind_s("", ldap.sasl.external())
        gc.collect()
        begun = time.perf_counter()
        page, found = ldap.controls.SimplePagedResultsControl(True, size=1000, cookie=""), 0
        while True:
            request = connection.search_ext(servers.SUFFIX, 2, "(objectClass=person)", ["*", "+"], serverctrls=[page])
            _, entries, _, controls = connection.result3(request)
            found += len(entries)
            page.cookie = controls[0].cookie
            if not page.cookie:
                break
        theirs = time.perf_counter() - begun
        assert found == count
        directory = servers.open_directory(server.settings())
        charter = load(CHARTER)
        dialect = StandardDialect(directory, charter)
        gc.collect()
        begun = time.perf_counter()
        # As a list does it: the name and two fields of each.
        where = dialect.filter_for("account")
        seen = sum(
            bool(str(entry.dn) and dialect.read(entry, "login") and dialect.read(entry, "title"))
            for entry in directory.search(charter.base, where=where)
        )
        ours = time.perf_counter() - begun
        assert seen == count
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        octets = sum(len(ldif.content(entry)) for entry in superiors_first(directory, charter.base))
        grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
        assert octets > count * 500
        directory.close()
    return ours, theirs, grown // 1024


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=20_000)
    parser.add_argument("--read", type=int, default=100_000)
    args = parser.parse_args()
    creating(servers.PLAIN, 200, 1)  # what is loaded and compiled once is no cost of an account
    told = creating(servers.PLAIN, args.count, 7)
    print(f"creating {args.count} accounts on slapd in memory, with checks and journal: {told} (goal 2)")
    told = creating(servers.PLAIN._replace(durable=True, where=tempfile.gettempdir()), args.count, 3)
    print(f"the same on disk, synced: {told} (goal 1.3)")
    ours, theirs = editing(args.count // 2)
    print(f"editing one field of {args.count // 2} accounts: {ours:.1f} s; bare pipelined loop {theirs:.1f} s; "
          f"{ours / theirs:.2f} x (goal 2)")  # fmt: skip
    few, _ = editing(1000)
    flat = ours / (args.count // 2) / (few / 1000)
    print(f"its cost per account against that of 1000 accounts: {flat:.2f} (goal 0.8 to 1.2)")
    ours, theirs, grown = reading(args.read)
    print(f"reading {args.read} entries: {ours:.1f} s; bare loop {theirs:.1f} s; {ours / theirs:.2f} x (goal 1.5)")
    print(f"exporting them took {grown} MB more than reading had")


if __name__ == "__main__":
    main()
