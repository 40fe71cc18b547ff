"""Audit, report, draft and reconciliation of a directory of many invented people, against reading it once."""

from __future__ import annotations

import argparse
import csv
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from vandrel.charter.load import load
from vandrel.dialects.standard import StandardDialect
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.jobs.audit.audit import AuditRequest, audit
from vandrel.jobs.drafting.draft import DraftRequest, draft_charter
from vandrel.objects.context import Context

PROGRAM = Path(sys.executable).with_name("vandrel")
#: Of so many people in the roster one has another title.
_CHANGED = 100


def timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def run(folder: Path, *words: str) -> None:
    own = {"XDG_CACHE_HOME": str(folder / "cache"), "XDG_CONFIG_HOME": str(folder / "config")}
    done = subprocess.run(
        [str(PROGRAM), *words], cwd=folder, env=os.environ | own, capture_output=True, text=True, check=False
    )
    assert done.returncode in (0, 5), done.stderr


def filled(folder: Path, count: int) -> Path:
    """The demo, with so many more people of the crew."""
    run(folder, "demo", "demo", "--no-tour")
    demo = folder / "demo"
    run(demo, "invent", "crew", str(count), "--to", "crew.csv")
    run(demo, "import", "crew.csv", "--no-passwords", "-y")
    return demo


def in_one_process(demo: Path) -> None:
    charter = load(demo / "charter.yaml")
    directory = EmbeddedDirectory(demo / "directory.db")
    context = Context(charter, directory, StandardDialect(directory, charter))
    reading = min(timed(lambda: sum(1 for _ in directory.search(charter.base))) for _ in range(2))
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    auditing = timed(lambda: audit(context, AuditRequest(), None))
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    print(f"audit, all rules: {auditing / reading:.2f} x reading them ({auditing:.1f} s), {more:.0f} MB more")
    drafting = timed(lambda: draft_charter(directory, charter.base, DraftRequest("Marrowick Ferries")))
    print(f"drafting their charter: {drafting / reading:.2f} x reading them ({drafting:.1f} s)")


def by_the_program(demo: Path) -> None:
    run(demo, "audit", "--page", "page.html")
    print(f"the report: {(demo / 'page.html').stat().st_size / 1e6:.1f} MB")
    columns = "number,given,surname,kind,site,department,category,title"
    run(demo, "find", "kind=crew", "--columns", columns, "--to", "roster.csv")
    rows = list(csv.reader((demo / "roster.csv").read_text("utf-8-sig").splitlines()))
    for row in rows[1::_CHANGED]:
        row[-1] = "Boatswain"
    with (demo / "roster.csv").open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows(rows)
    run(demo, "import", "roster.csv", "--propose", "--mode", "update")
    checking = timed(lambda: run(demo, "import", "roster.csv", "-n"))
    reconciling = timed(lambda: run(demo, "reconcile", "roster.csv", "-n", "--most-leavers", "1000000"))
    changes = len(rows) // _CHANGED
    print(f"reconciling, {changes} changes: {reconciling / checking:.2f} x checking the file ({reconciling:.1f} s)")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=20_000)
    count = parser.parse_args().count
    with tempfile.TemporaryDirectory() as folder:
        print(f"{count:,} people")
        demo = filled(Path(folder), count)
        in_one_process(demo)
        by_the_program(demo)


if __name__ == "__main__":
    main()
