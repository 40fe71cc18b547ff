"""How long the program takes to answer, against starting Python with argparse and sqlite3 alone.

Each figure is the least of many runs, taken in turns, so that a busy moment of the machine hits all alike.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

RUNS = 15
PROGRAM = str(Path(sys.executable).with_name("vandrel"))
GOALS = {"vandrel --version": 1.2, "vandrel show on the demo": 4}


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        # Byte code is kept, as it is for every installed program.
        env = {**os.environ, "XDG_CACHE_HOME": folder}
        env.pop("PYTHONDONTWRITEBYTECODE", None)
        subprocess.run([PROGRAM, "demo", f"{folder}/demo", "--no-tour", "--quiet"], check=True, env=env)
        commands = {
            "python": [sys.executable, "-c", "import argparse, sqlite3"],
            "vandrel --version": [PROGRAM, "--version"],
            "vandrel show on the demo": [PROGRAM, "show", "alund"],
        }
        least = dict.fromkeys(commands, float("inf"))
        for _ in range(RUNS):
            for name, words in commands.items():
                begun = time.perf_counter()
                subprocess.run(words, check=True, env=env, cwd=f"{folder}/demo", stdout=subprocess.DEVNULL)
                least[name] = min(least[name], time.perf_counter() - begun)
    for name, goal in GOALS.items():
        print(
            f"{name}: {1000 * least[name]:.0f} ms; python with argparse and sqlite3 {1000 * least['python']:.0f} ms; "
            f"{least[name] / least['python']:.1f} x (goal {goal})"
        )


if __name__ == "__main__":
    main()
