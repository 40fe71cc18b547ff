"""What became of the rows of a file, from what the runner tells of its steps."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Sequence

from msgspec import Struct

from vandrel.jobs.bulk.roster import Line, Roster, State
from vandrel.steps.plan import RunResult
from vandrel.steps.step import Add, Set, Step

CREATED, CHANGED, UNCHANGED = "created", "changed", "unchanged"
REFUSED, PART, LATER = "refused", "in part", "left for later"

_DONE = {State.NEW: CREATED, State.CHANGED: CHANGED}


class Outcome(Struct, frozen=True):
    """What became of one row, in a word of this module, and why it did not go as it was meant to."""

    line: Line
    result: str
    why: str = ""


def outcomes(roster: Roster, wanted: Collection[Line], steps: Sequence[Step], report: RunResult) -> Iterator[Outcome]:
    """What became of each row, in the order of the file.

    Args:
        roster: all rows.
        wanted: those that were to be made or changed now.
        steps: what was to be done for them.
        report: how far that came.

    """
    rows = {line.item.row for line in wanted}
    refused: dict[str, list[str]] = {}
    for dn, error in report.refused:
        refused.setdefault(dn, []).append(error.findings[0].what)
    for name, groups in report.kept_out.items():
        refused.setdefault(name, []).extend(f"not in {dn.name}: {error.findings[0].what}" for dn, error in groups)
    untried = steps[report.tried :]
    unborn = {step.dn for step in untried if isinstance(step, Add)}
    open_ = Counter(name for step in untried for name in _concerned(step))
    for line in roster.lines:
        name, why = str(line.dn), refused.get(str(line.dn), [])
        if line.state is State.REFUSED:
            yield Outcome(line, REFUSED, next((f.what for f in line.item.findings if f.is_fatal), ""))
        elif line.state not in _DONE:
            yield Outcome(line, UNCHANGED)
        elif line.item.row not in rows:
            yield Outcome(line, LATER)
        elif line.dn in unborn or (line.edit is not None and open_[name] >= len(line.edit.steps)):
            yield Outcome(line, LATER, f"there were too many refusals: vandrel resume {report.job} goes on")
        elif line.dn in report.lost or (line.edit is not None and len(why) >= len(line.edit.steps)):
            yield Outcome(line, REFUSED, "; ".join(why))
        else:
            more = [f"not finished: vandrel resume {report.job} goes on"] if open_[name] else []
            why = [*why, *more]
            yield Outcome(line, PART if why else _DONE[line.state], "; ".join(why))


def _concerned(step: Step) -> Iterator[str]:
    """The names of the objects for whose sake a step is made: its own, and those that it puts into a group."""
    yield str(step.dn)
    if isinstance(step, Set):
        yield from (value for change in step.changes for value in change.added if isinstance(value, str))
