"""What became of the rows of a file: told on the terminal, written into a file of results, or as JSON."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli.session import Session, count

if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import TextIO

    from vandrel.cli.passwords import HandOut
    from vandrel.jobs.bulk.outcomes import Outcome
    from vandrel.jobs.bulk.roster import Roster
    from vandrel.steps.runner import Report


def tell(session: Session, found: Sequence[Outcome], report: Report, hand_out: HandOut) -> None:
    """What became of it: the hand-out without those who were not made, time and rate."""
    from collections import Counter

    from vandrel.jobs.bulk.outcomes import CHANGED, CREATED, LATER, PART, REFUSED

    if session.out.as_json:
        return
    hand_out.deliver()
    figures = Counter(outcome.result for outcome in found)
    words = [CREATED, CHANGED, *(word for word in (PART, REFUSED, LATER) if figures[word])]
    told = ", ".join(f"{figures[word]} {word}" for word in words)
    rate = f", {report.tried / report.seconds:,.0f} steps a second" if report.seconds > 0.5 else ""
    session.out.note(f"{told}; {report.seconds:.1f} s{rate}.")
    if figures[PART]:
        where = session.args.results or f"vandrel journal {report.job}"
        session.out.note(f"In part: a group or a password is missing; {where} tells which.")
    if report.stopped:
        refusals = count(len(report.refused), "refusal")
        ways = f"vandrel resume {report.job} goes on, vandrel undo {report.job} takes it back"
        session.out.note(f"Stopped after {refusals}: {ways}.")


@contextmanager
def results_file(name: str | None) -> Iterator[TextIO | None]:
    """The file of results, made before anything else is: it goes again where nothing was told in it.

    Raises:
        VandrelError: ``taken`` where it exists, ``not-permitted`` where it cannot be made.

    """
    from vandrel.errors import Code, Location, VandrelError

    if name is None:
        yield None
        return
    path = Path(name)
    try:
        file = path.open("x", encoding="utf-8", newline="")
    except FileExistsError:
        what = "the file of results exists and is not overwritten: nothing was made"
        remedy = "name another, or move that one away"
        raise VandrelError(Code.TAKEN, what, where=Location(file=name), remedy=remedy) from None
    except OSError as error:
        what = f"the file of results cannot be made: {error.strerror}; nothing else was"
        raise VandrelError(Code.NOT_PERMITTED, what, where=Location(file=name)) from None
    try:
        with file:
            yield file
    finally:
        if not path.stat().st_size:
            path.unlink()


def write_results(file: TextIO, session: Session, found: Sequence[Outcome], report: Report) -> None:
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.intake.hand_out import harmless

    try:
        writer = csv.writer(file)
        writer.writerow(("row", "result", "name", "place", "why"))
        for outcome in found:
            line = outcome.line
            place = session.context.place(line.dn.parent) if line.dn else ""
            told = (outcome.result, line.name, place, outcome.why)
            writer.writerow([line.item.row, *map(harmless, told)])
        file.flush()
    except OSError as error:
        what = f"the results cannot be written: {error.strerror}; what was made stays made"
        remedy = f"vandrel journal {report.job} tells of it"
        raise VandrelError(Code.NOT_PERMITTED, what, where=Location(file=file.name), remedy=remedy) from None
    session.out.note(f"Results: {file.name}")


def as_json(
    session: Session, roster: Roster, report: Report | None, found: Sequence[Outcome] = ()
) -> dict[str, object]:  # fmt: skip
    """The roster for --json: figures, findings, what each row is, and what became of it."""
    became: dict[int, dict[str, object]] = {
        outcome.line.item.row: {"result": outcome.result, "why": outcome.why} for outcome in found
    }
    return {
        "command": session.args.command,
        "counts": {state.value: number for state, number in roster.counts().items()},
        "findings": [finding.as_json() for finding in roster.findings()],
        "rows": [
            {"row": line.item.row, "state": line.state.value, "dn": str(line.dn) if line.dn else None}
            | became.get(line.item.row, {})
            for line in roster.lines
        ],
        "missing": [{"key": list(item.key), "dn": str(item.dn)} for item in roster.missing],
        "job": report.job if report else None,
        "refused": [{"dn": dn, "why": str(error)} for dn, error in report.refused] if report else [],
    }
