"""Whether the tests bite: changes the code in small ways, one at a time, and names the changes that no test notices.

Each module is changed by cosmic-ray in a copy of the project, and the tests that are about it are run. Of a module that
allows more changes than are wanted a sample is drawn, the same each time.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from collections import Counter
from contextlib import closing
from pathlib import Path

ROOT = Path(__file__).parents[1]
#: The modules, and the tests that are about each.
SUBJECTS = {
    "directory/dn.py": "tests/test_dn.py",
    "directory/filter.py": "tests/test_filter.py",
    "directory/packing.py": "tests/test_snapshots.py",
    "charter/naming.py": "tests/test_naming.py tests/test_group_batch.py",
    "dialects/codec.py": "tests/test_dialect.py",
    "steps/state_check.py": "tests/test_standing.py",
    "steps/rename_tracking.py": "tests/test_standing.py",
    "steps/references.py": "tests/test_references.py",
}
#: Changes without a meaning of their own: of what is there for the checker of types alone.
_LEFT_OUT = ("ReplaceBinaryOperator_BitOr_", "AddNot")
_CONFIG = """
[cosmic-ray]
module-path = "src/vandrel/{module}"
timeout = {seconds}
excluded-modules = []
test-command = "{python} -m pytest -x -q -n 0 -p no:cacheprovider {tests}"
[cosmic-ray.distributor]
name = "local"
"""


def main() -> int:
    """Run; how many changes were not noticed is printed for each module, and each of them."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("modules", nargs="*", help="modules, as directory/dn.py (default: all that are listed here)")
    parser.add_argument("--sample", type=int, default=60, help="changes to each, at most (default: 60)")
    parser.add_argument("--seconds", type=float, default=60.0, help="how long the tests of one may take")
    args = parser.parse_args()
    for module in args.modules or SUBJECTS:
        with tempfile.TemporaryDirectory() as folder:
            copy = Path(folder) / "project"
            shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(".git", ".venv", ".*_cache", "__pycache__"))
            outcomes, survivors = _run(copy, module, args.sample, args.seconds)
        print(f"{module}: {outcomes['KILLED']} of {outcomes.total()} changes noticed", flush=True)
        for survivor in survivors:
            print(f"  {survivor}", flush=True)
    return 0


def _run(copy: Path, module: str, sample: int, seconds: float) -> tuple[Counter[str], list[str]]:
    tests = SUBJECTS[module]
    (copy / "mutants.toml").write_text(
        _CONFIG.format(module=module, tests=tests, seconds=seconds, python=sys.executable), "utf-8"
    )
    environment = os.environ | {"PYTHONPATH": str(copy / "src")}
    tool = str(Path(sys.executable).with_name("cosmic-ray"))

    def run(*words: str) -> None:
        subprocess.run([tool, *words], cwd=copy, env=environment, check=True, stdout=subprocess.DEVNULL)

    run("baseline", "mutants.toml")  # the tests pass as long as nothing is changed, or nothing is told
    run("init", "mutants.toml", "mutants.db")
    with closing(sqlite3.connect(copy / "mutants.db")) as session:
        rows = session.execute(
            "SELECT job_id, operator_name FROM mutation_specs ORDER BY start_pos_row, start_pos_col, operator_name, "
            "occurrence"
        ).fetchall()
        jobs = [job for job, operator in rows if not any(part in operator for part in _LEFT_OUT)]
        wanted = set(random.Random(1).sample(jobs, min(sample, len(jobs))))
        for table in ("mutation_specs", "work_items"):
            dropped = [(job,) for job, _ in rows if job not in wanted]
            session.executemany(f"DELETE FROM {table} WHERE job_id = ?", dropped)
        session.commit()
        run("exec", "mutants.toml", "mutants.db")
        results = session.execute(
            "SELECT start_pos_row, test_outcome, diff FROM work_results JOIN mutation_specs USING(job_id) "
            "ORDER BY start_pos_row"
        ).fetchall()
    outcomes = Counter(str(outcome).rpartition(".")[2].upper() for _, outcome, _ in results)
    survivors = [f"line {row}: {_change(diff)}" for row, outcome, diff in results if "surv" in str(outcome).lower()]
    return outcomes, survivors


def _change(diff: str | None) -> str:
    """The line before and after, of a unified diff."""
    lines = [line for line in (diff or "").splitlines() if line[:1] in "+-" and line[:3] not in ("+++", "---")]
    return "  =>  ".join(line[1:].strip() for line in lines)


if __name__ == "__main__":
    sys.exit(main())
