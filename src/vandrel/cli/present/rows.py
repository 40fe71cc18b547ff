"""The file of results: what became of each row."""

from __future__ import annotations

import csv
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from io import TextIOWrapper
from pathlib import Path
from typing import TextIO

from vandrel import safe_file
from vandrel.errors import Code, Location, VandrelError
from vandrel.jobs.common.proposal import RowOutcome


@contextmanager
def results_file(name: str) -> Iterator[TextIO]:
    """The file of results, made before anything else is: it goes again where nothing was told in it.

    Raises:
        VandrelError: ``taken`` where it exists, ``not-permitted`` where it cannot be made.

    """
    path, where = Path(name), Location(file=name)
    try:
        file = TextIOWrapper(safe_file.create(path), "utf-8", newline="")
    except FileExistsError:
        what = "the file of results exists and is not overwritten: nothing was made"
        raise VandrelError(Code.TAKEN, what, where=where, remedy="name another, or move that one away") from None
    except OSError as error:
        what = f"the file of results cannot be made: {error.strerror}; nothing else was"
        raise VandrelError(Code.NOT_PERMITTED, what, where=where) from None
    try:
        with file:
            yield file
    finally:
        if not path.stat().st_size:
            path.unlink()


def write_results(file: TextIO, outcomes: Sequence[RowOutcome], job: int) -> None:
    """Write what became of each row, as CSV.

    Raises:
        VandrelError: ``not-permitted`` where the file cannot be written any more.

    """
    from vandrel.intake.traps import harmless

    try:
        writer = csv.writer(file)
        writer.writerow(("row", "result", "name", "place", "why"))
        for outcome in outcomes:
            told = (outcome.result, outcome.name, outcome.place, outcome.why)
            writer.writerow([outcome.row, *map(harmless, told)])
        file.flush()
    except OSError as error:
        what = f"the results cannot be written: {error.strerror}; what was made stays made"
        remedy = f"vandrel journal {job} tells of it"
        raise VandrelError(Code.NOT_PERMITTED, what, where=Location(file=str(file.name)), remedy=remedy) from None
