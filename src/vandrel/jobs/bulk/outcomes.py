"""What became of the rows of a file, from what the runner tells of its steps."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct, structs

from vandrel.jobs.bulk.roster import Line, Roster, State, last_row
from vandrel.jobs.common.proposal import RowOutcome
from vandrel.steps.plan import RunResult
from vandrel.steps.step import Add, Set, Step

CREATED, CHANGED, UNCHANGED = "created", "changed", "unchanged"
REFUSED, PART, LATER = "refused", "in part", "left for later"
#: Before the run, of what is made by it: whoever reads this later knows that nobody has told the end.
BEGUN = "begun"

_DONE = {State.NEW: CREATED, State.CHANGED: CHANGED}


class Outcome(Struct, frozen=True):
    """What became of one row, in a word of this module, and why it did not go as it was meant to."""

    line: Line
    result: str
    why: str = ""


def outcomes(
    roster: Roster, rows_wanted: Sequence[Line], steps: Sequence[Step], report: RunResult | None
) -> Iterator[Outcome]:
    """What became of each row, in the order of the file.

    Args:
        roster: all rows.
        rows_wanted: those that were to be made or changed now: the first of all that are to be.
        steps: what was to be done for them.
        report: how far that came; None before the run.

    """
    last = last_row(rows_wanted)
    if report is None:
        yield from (_without_steps(line, last) or Outcome(line, BEGUN) for line in roster.lines)
        return
    refused = _refusals(report)
    untried = steps[report.tried :]
    unborn = {step.dn for step in untried if isinstance(step, Add)}
    open_ = Counter(name for step in untried for name in _concerned(step))
    for line in roster.lines:
        dn = line.dn
        name, why = str(dn), refused.get(str(dn), [])
        if (outcome := _without_steps(line, last)) is not None:
            yield outcome
        elif dn in unborn or (line.edit is not None and open_[name] >= len(line.edit.steps)):
            yield Outcome(line, LATER, f"there were too many refusals: vandrel resume {report.job} goes on")
        elif dn in report.not_created or (line.edit is not None and len(why) >= len(line.edit.steps)):
            yield Outcome(line, REFUSED, "; ".join(why))
        else:
            more = [f"not finished: vandrel resume {report.job} goes on"] if open_[name] else []
            why = [*why, *more]
            yield Outcome(line, PART if why else _DONE[line.state], "; ".join(why))


def finished(row_outcomes: Iterable[RowOutcome], steps: Sequence[Step], report: RunResult) -> Iterator[RowOutcome]:
    """What became of each row once the job of a file has been finished after it was broken off.

    Args:
        row_outcomes: what was told of all rows when it began, or when it stopped.
        steps: the steps of the job.
        report: how it was finished.

    """
    refused, of = _refusals(report), Counter(name for step in steps for name in _concerned(step))
    new = {str(step.dn) for step in steps if isinstance(step, Add)}
    not_created = {str(dn) for dn in report.not_created}
    for row in row_outcomes:
        if row.dn not in of:
            yield row
            continue
        why = refused.get(row.dn, [])
        result = CREATED if row.dn in new else CHANGED
        is_refused = row.dn in not_created or len(why) >= of[row.dn]
        yield structs.replace(row, result=REFUSED if is_refused else PART if why else result, why="; ".join(why))


def _without_steps(line: Line, last: int) -> Outcome | None:
    """What is said of a row for which nothing is to be made now; None for the others. `last` is the last of those."""
    if line.state is State.REFUSED:
        return Outcome(line, REFUSED, next((f.what for f in line.item.findings if f.is_fatal), ""))
    if line.state not in _DONE:
        return Outcome(line, UNCHANGED)
    return Outcome(line, LATER) if line.item.row > last else None


def _refusals(report: RunResult) -> dict[str, list[str]]:
    """Why steps were refused, by the name of the object for whose sake they were to be made."""
    refused: dict[str, list[str]] = {}
    for dn, error in report.refused:
        refused.setdefault(dn, []).append(error.findings[0].what)
    for name, groups in report.kept_out.items():
        refused.setdefault(name, []).extend(f"not in {dn.name}: {error.findings[0].what}" for dn, error in groups)
    return refused


def _concerned(step: Step) -> Iterator[str]:
    """The names of the objects for whose sake a step is made: its own, and those that it puts into a group."""
    yield str(step.dn)
    if isinstance(step, Set):
        yield from (value for change in step.changes for value in change.added if isinstance(value, str))
