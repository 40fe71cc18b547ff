"""The check of a roster of 12 columns with 5 % collisions, against `csv.DictReader` over the same file; and .xlsx."""

from __future__ import annotations

import argparse
import csv
import random
import resource
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from vandrel.charter.load import load
from vandrel.demo.world import charter_text
from vandrel.dialects.standard import StandardDialect
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.intake.annotate import write_rows
from vandrel.intake.convert import Converter
from vandrel.intake.description import Description
from vandrel.intake.invent import people
from vandrel.intake.propose import propose
from vandrel.intake.table import open_table
from vandrel.jobs.bulk.planner import Planner
from vandrel.jobs.bulk.roster import State
from vandrel.jobs.hierarchy.build import compare
from vandrel.objects.context import Context
from vandrel.record.journal import Journal
from vandrel.steps.plan import Plan
from vandrel.steps.runner import Runner

HEADER = ["number", "given", "surname", "language", "site", "department", "category", "title", "phone", "office",
          "postcode", "notes"]  # fmt: skip
_SYLLABLES = "ba de ki lo mu na pe ri so tu va ze gar lin mor sten vik dal".split()


def rows(count: int) -> list[list[str]]:
    chance = random.Random(3)
    pool = list(people(2000, 1))
    found = []
    for number in range(count):
        language, given, surname = chance.choice(pool)
        if chance.random() >= 0.05:  # the others share both names with somebody
            language, surname = "nb", "".join(chance.choice(_SYLLABLES) for _ in range(4)).capitalize()
        found.append([
            f"{number:06d}", given, surname, language, chance.choice(["Northquay", "Sandhaven", "Eastmole", "Kelness"]),
            chance.choice(["Deck", "Engine", "Tickets"]), chance.choice(["Officers", "Hands"]), "Deckhand",
            f"+47 5555 {number:06d}", "Pier", "5003", "",
        ])  # fmt: skip
    return found


def read(path: Path) -> float:
    begun = time.perf_counter()
    with path.open(encoding="utf-8-sig", newline="") as file:
        assert sum(1 for _ in csv.DictReader(file)) > 0
    return time.perf_counter() - begun


def check(context: Context, path: Path, described: Description) -> float:
    """Seconds for the whole check; what the columns mean is known by then, as it is to `vandrel import`."""
    begun = time.perf_counter()
    table = open_table(path)
    converter = Converter(described, table.header(), context.charter.words)
    roster = Planner(context, described, context.charter.today()).plan(converter.items(table.rows()))
    seconds = time.perf_counter() - begun
    assert roster.counts()[State.NEW] == len(roster.lines), next(roster.findings())
    return seconds


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=20_000)
    count = parser.parse_args().rows
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        (folder / "charter.yaml").write_text(charter_text(), "utf-8")
        charter = load(folder / "charter.yaml")
        directory = EmbeddedDirectory.create(folder / "directory.db", [charter.base])
        context = Context(charter, directory, StandardDialect(directory, charter))
        comparison = compare(context)
        Runner(directory, context.dialect, lambda: Journal(folder / "journal.db", create=True)).run(
            Plan("build", comparison.steps, comparison.findings), "bench"
        )
        for size in (1000, count):
            path = folder / f"{size}.csv"
            write_rows(path, HEADER, rows(size))
            described, _, _ = propose(open_table(path), charter, "account", "crew")
            # The machine may be faster now and slower then: each check beside a bare reading before and behind it.
            bares, checks = [read(path)], []
            for number in range(7):
                checks.append(check(context, path, described))
                if number == 0:  # what later ones leave behind is no part of a command, which makes one
                    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
                bares.append(read(path))
            times = [2 * ours / sum(bares[n : n + 2]) for n, ours in enumerate(checks)]
            ours, bare = min(checks), min(bares)
            print(f"check of {size:,} rows: {ours:.2f} s, {ours / size * 1e6:.0f} µs a row; DictReader {bare:.3f} s: "
                  f"{median(times):.1f} x, {min(times):.1f} to {max(times):.1f} (goal 12)")  # fmt: skip
        sheet = folder / "roster.xlsx"
        write_rows(sheet, HEADER, rows(count))
        times = []
        for number in range(3):
            begun = time.perf_counter()
            assert sum(1 for _ in open_table(sheet).rows()) == count
            bare, plain = time.perf_counter() - begun, check(context, path, described)
            sheet = sheet.rename(folder / f"{number}.xlsx")  # one that has not been unpacked before
            over = check(context, sheet, described)
            times.append(over / (bare + plain))
            sheet = sheet.rename(folder / f"again-{number}.xlsx")
        print(f"{sheet.suffix} of {count:,} rows: {over:.2f} s; bare reading {bare:.2f} s and the check of the text "
              f"{plain:.2f} s: {median(times):.2f} x, {min(times):.2f} to {max(times):.2f} (goal 1.3)")  # fmt: skip
        print(f"memory of the check: {memory} MB (goal 600)")
    return 0


if __name__ == "__main__":
    sys.exit(main())
