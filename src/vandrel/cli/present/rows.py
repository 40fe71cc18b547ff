"""The file of results: what is to become of each row of a file, and what became of it."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from pathlib import Path

from vandrel import safe_file
from vandrel.errors import Code, Location, VandrelError
from vandrel.jobs.common.proposal import RowOutcome

_HEADER = ("row", "result", "name", "place", "why", "object")


class ResultsFile:
    """One such file. It is there before anything else is made, so that a job that is broken off can finish it."""

    def __init__(self, name: str) -> None:
        self.path = Path(name).absolute()

    def begin(self, outcomes: Iterable[RowOutcome]) -> None:
        """Write what is to become of each row.

        Raises:
            VandrelError: ``taken`` where it exists, ``not-permitted`` or ``disk-full`` where it cannot be made.

        """
        try:
            safe_file.write(self.path, _as_text(outcomes), "file of results")
        except VandrelError as error:
            (finding,) = error.findings
            what = f"{finding.what}: nothing was made"
            raise VandrelError(error.code, what, where=finding.where, remedy=finding.remedy) from None

    def end(self, outcomes: Iterable[RowOutcome], job: int) -> None:
        """Write what became of each row.

        Raises:
            VandrelError: ``not-permitted`` or ``disk-full`` where the file cannot be written any more.

        """
        try:
            safe_file.write(self.path, _as_text(outcomes), "file of results", replace=True)
        except VandrelError as error:
            (finding,) = error.findings
            what, remedy = f"{finding.what}; what was made stays made", f"vandrel journal {job} tells of it"
            raise VandrelError(error.code, what, where=finding.where, remedy=remedy) from None

    def withdraw(self) -> None:
        """Take the file away again, for nothing was begun."""
        self.path.unlink(missing_ok=True)

    def read(self) -> Iterator[RowOutcome]:
        """What it tells of each row.

        Raises:
            VandrelError: ``not-found`` where it is not there any more, ``intake`` where it is no such file.

        """
        from vandrel.intake.traps import legible, unquoted

        where = Location(file=str(self.path))
        try:
            with self.path.open(encoding="utf-8", newline="") as file:
                rows = list(csv.reader(file))
        except (OSError, ValueError) as error:
            raise VandrelError(Code.NOT_FOUND, f"the file of results cannot be read: {error}", where=where) from None
        if not rows or tuple(rows[0]) != _HEADER or not all(len(row) == len(_HEADER) for row in rows):
            raise VandrelError(Code.INTAKE, "this is no file of results", where=where)
        for row, *cells in rows[1:]:
            result, name, place, why, dn = (unquoted(legible(cell)) for cell in cells)
            yield RowOutcome(int(row) if row.isdecimal() else 0, result, name, place, dn, why)


def _as_text(outcomes: Iterable[RowOutcome]) -> bytes:
    from vandrel.intake.traps import harmless

    text = io.StringIO(newline="")
    writer = csv.writer(text)
    writer.writerow(_HEADER)
    for outcome in outcomes:
        cells = (outcome.result, outcome.name, outcome.place, outcome.why, outcome.dn)
        writer.writerow([outcome.row, *map(harmless, cells)])
    return text.getvalue().encode()
