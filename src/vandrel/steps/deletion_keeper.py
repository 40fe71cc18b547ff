"""What is deleted goes through the attic, and what comes back leaves it: for every job, whatever asked for it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.port import Directory
from vandrel.record.attic import Attic, Deleted
from vandrel.record.journal import Job
from vandrel.steps.name_guard import NameGuard, Outcome
from vandrel.steps.references import own_references, references_of, references_taken
from vandrel.steps.step import Add, Remove, Step


class DeletionKeeper:
    """Makes the steps of one job."""

    def __init__(
        self, directory: Directory, guard: NameGuard, attic: Attic, job: Job, steps: Sequence[Step | None],
        *, reads_again: bool = False,
    ) -> None:  # fmt: skip
        """Prepare; with `reads_again`, the steps are those of records, which hold nothing that is secret."""
        self._directory = directory
        self._guard = guard
        self._attic = attic
        self._job = job
        self._who = f"{job.who} as {job.bound_as}" if job.bound_as else job.who
        self._reads_again = reads_again
        self._pointed_at: dict[str, list[tuple[DN, str]]] = {}
        removals = [step for step in steps if isinstance(step, Remove)]
        keys = {step.dn.key for step in removals}
        known_steps = [step for step in steps if step is not None] if keys else []
        for holder, attribute, target in references_taken(known_steps, keys, directory.schema):
            self._pointed_at.setdefault(target.key, []).append((holder, attribute))
        own = set(own_references(directory)) if removals else set()
        for step in removals:  # those that go together may come back one by one
            for attribute, target in references_of(step.attributes, directory.schema):
                if target.key in keys and attribute in own:
                    self._pointed_at.setdefault(target.key, []).append((step.dn, attribute))

    def execute(self, steps: Sequence[Step], *, atomic: bool, most_refused: int | None = None) -> list[Outcome]:
        """Make steps as `NameGuard.execute` does; objects that go are in the attic before.

        Raises:
            DirectoryError: what `Attic.put` raises; then nothing was made.

        """
        going = [step for step in steps if isinstance(step, Remove)]
        if going:
            self._attic.put(self._job.number, self._who, self._deleted(going))
        outcomes = self._guard.execute(steps, atomic=atomic, most_refused=most_refused)
        self.settle(steps, outcomes)
        return outcomes

    def settle(self, steps: Sequence[Step], outcomes: Sequence[Outcome]) -> None:
        """Tell the attic what has gone, what has stayed, and what has come back."""
        tried = list(zip(steps, outcomes, strict=False))
        deleted = [step.dn for step, outcome in tried if isinstance(step, Remove) and outcome is None]
        not_deleted = [step.dn for step, outcome in tried if isinstance(step, Remove) and outcome is not None]
        not_deleted += [step.dn for step in steps[len(outcomes) :] if isinstance(step, Remove)]
        if deleted or not_deleted:
            self._attic.settle(self._job.number, deleted, not_deleted)
        back = [step.restores for step, outcome in tried if isinstance(step, Add) and step.restores and outcome is None]
        if back:
            self._attic.take_out(back, self._job.number)

    def _deleted(self, going: Iterable[Remove]) -> Iterator[Deleted]:
        for step in going:
            entry = self._directory.get(step.dn) if self._reads_again else None
            yield Deleted(entry or Entry(step.dn, step.attributes), self._pointed_at.get(step.dn.key, ()))
