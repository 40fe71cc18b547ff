"""Names that must be unique, from the last look to the write: where a server does not see to it, runs take turns."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from itertools import islice

from vandrel.dialects.ahead import ask_ahead
from vandrel.dialects.dialect import Dialect
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.port import Directory
from vandrel.directory.spilled import Spill
from vandrel.errors import NOTE, Code, DirectoryError, Finding, Location, VandrelError, not_made_with_the_rest
from vandrel.steps.checks import Checks
from vandrel.steps.step import Add, Rename, Step

Outcome = VandrelError | None

#: Steps of a run that makes or changes one object, and groups beside it.
_FEW = 20


class NameGuard:
    """Makes the steps of one run.

    Attributes:
        twice: notes of values that somebody else was given at the same moment, where no turns could be taken.

    """

    def __init__(self, directory: Directory, dialect: Dialect, spill: Spill | None = None) -> None:
        self._directory = directory
        self._dialect = dialect
        self._checks = Checks(directory, dialect, spill=spill)
        self.twice: list[Finding] = []

    def execute(self, steps: Sequence[Step], *, atomic: bool, most_refused: int | None = None) -> list[Outcome]:
        """Make steps as `Directory.execute` does; a step whose name was taken meanwhile is refused as ``taken``."""
        turn = self._directory.naming_turn() if self._checks.are_named(steps) else None
        if turn is None:
            operations = [step.operation() for step in steps]
            return list(self._directory.execute(operations, atomic=atomic, most_refused=most_refused))
        try:
            outcomes = self._in_turn(steps, atomic=atomic, most_refused=most_refused)
        except BaseException:
            turn.let_go()
            raise
        if len(steps) <= _FEW:  # what is read back need not wait for the turn to be given back
            ask_ahead(self._dialect, partial(self._ask_for, steps))
        if not turn.give_back():
            executed = [step for step, outcome in zip(steps, outcomes, strict=False) if outcome is None]
            self._look_afterwards(executed)
        return outcomes

    def _ask_for(self, steps: Sequence[Step], dialect: Dialect) -> None:
        """Ask for what is named, under its last name, and for what tells whether it can log on."""
        named = {step.dn for step in steps if self._checks.are_named([step])}
        for step in steps:
            if isinstance(step, Rename):
                named = {dn.moved(step.dn, step.new) if dn.is_within(step.dn) else dn for dn in named}
        for dn in named:
            dialect.directory.get(dn)
            dialect.has_password(Entry(dn, {}))
            dialect.password_layers(Entry(dn, {}))

    def _look_afterwards(self, executed: Sequence[Step]) -> None:
        try:
            self.twice += self._checks.held_twice(executed)
        except DirectoryError as error:
            what = f"whether somebody else was given the same names cannot be seen: {error.findings[0].what}"
            self.twice.append(Finding(error.code, what, error.findings[0].where, severity=NOTE))

    def _in_turn(self, steps: Sequence[Step], *, atomic: bool, most_refused: int | None) -> list[Outcome]:
        refusals = [_error(finding) for finding in self._checks.taken(steps)]
        if atomic and any(refusals):
            return [refusal or not_made_with_the_rest() for refusal in refusals]
        never_created: set[DN] = set()
        for place, (step, refusal) in enumerate(zip(steps, refusals, strict=True)):
            if refusal is None and step.dn in never_created:
                refusals[place] = not_created(str(step.dn))
            elif refusal is not None and isinstance(step, Add):
                never_created.add(step.dn)
        if most_refused is not None:  # behind the refusal that is one too many nothing is tried
            stop = next(islice((n for n, refusal in enumerate(refusals) if refusal), most_refused, None), len(steps))
            steps, refusals = steps[: stop + 1], refusals[: stop + 1]
        operations = [step.operation() for step, refusal in zip(steps, refusals, strict=True) if refusal is None]
        most = None if most_refused is None else max(most_refused - sum(map(bool, refusals)), 0)
        answers = iter(self._directory.execute(operations, atomic=atomic, most_refused=most))
        outcomes: list[Outcome] = []
        for refusal in refusals:
            try:
                outcomes.append(refusal if refusal is not None else next(answers))
            except StopIteration:  # there were too many refusals
                break
        return outcomes


def not_created(dn: str) -> VandrelError:
    """Make the answer for a step that would have followed an addition that was refused."""
    what = "not made, because the object itself was refused"
    return DirectoryError(Code.DONE_IN_PART, what, where=Location(dn=dn))


def _error(finding: Finding | None) -> VandrelError | None:
    if finding is None:
        return None
    return DirectoryError(finding.code, finding.what, where=finding.where, remedy=finding.remedy)
