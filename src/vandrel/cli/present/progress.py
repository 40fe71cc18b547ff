"""A bar with rate and time left, where somebody is looking; nothing elsewhere."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from vandrel.cli.session import Session
    from vandrel.steps.runner import Progress

#: Steps from which on a bar is worth the time that it takes.
_WORTH_A_BAR = 100


@contextmanager
def progress(session: Session, steps: int) -> Iterator[Progress]:
    """Give the callback that a runner tells of its progress: steps made, and steps in all."""
    out = session.terminal
    if steps < _WORTH_A_BAR or not sys.stderr.isatty() or out.quiet or out.as_json or session.args.dry_run:
        yield lambda made, planned: None
        return
    from rich.console import Console
    from rich.progress import (
        BarColumn,
        Progress,
        TaskProgressColumn,
        TextColumn,
        TimeElapsedColumn,
        TimeRemainingColumn,
    )
    from rich.theme import Theme

    plain = Theme(dict.fromkeys(("progress.percentage", "progress.elapsed", "progress.remaining"), "default"))
    bar = Progress(
        TextColumn("{task.description}"), BarColumn(complete_style="cyan", finished_style="cyan"),
        TaskProgressColumn(), TextColumn("{task.fields[rate]}"), TimeElapsedColumn(), TextColumn("gone,"),
        TimeRemainingColumn(), TextColumn("left"), console=Console(stderr=True, theme=plain), transient=True,
    )  # fmt: skip
    task = bar.add_task("Making", total=steps, rate="")
    starts: list[float] = []

    def update(number: int, planned: int) -> None:
        if not starts:
            starts.append(time.monotonic())
            bar.start()
        seconds = time.monotonic() - starts[0]
        bar.update(task, completed=number, total=planned, rate=f"{number / seconds:,.0f} steps/s" if seconds else "")

    try:
        yield update
    finally:
        bar.stop()
