"""What became of the names of objects since something was deleted: renamed, moved, or brought back by another name."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.record.attic import Attic
from vandrel.record.journal import Journal
from vandrel.steps.step import Add, from_record


class LaterNames:
    """Follows names through the jobs of the journal; what other programs did, it does not know."""

    def __init__(self, journal: Callable[[], Journal], attic: Attic, identity: str) -> None:
        """Prepare for the directory of this identity; the journal is opened when a name is asked for."""
        self._identity = identity
        self._journal = journal
        self._attic = attic

    def __call__(self, dn: DN, since: int) -> DN:
        """The name that an object has by now which was called so when a job began."""
        when = (since, -1)
        while following := [
            change for above in (dn, *dn.ancestors()) for change in self._changes.get(above.key, ()) if change[0] > when
        ]:
            when, old, new = min(following, key=lambda change: change[0])
            dn = dn.moved(old, new)
        return dn

    @cached_property
    def _changes(self) -> dict[str, list[tuple[tuple[int, int], DN, DN]]]:
        """By the key of the old name: the job and the step in which it was given up, itself, and the new one."""
        journal = self._journal()
        renames = [
            ((job, number), names.parse(old), names.parse(new))
            for job, number, old, new in journal.renames(self._identity)
        ]
        restored = self._attic.brought_back()
        for job in {job for job, _ in restored.values()}:
            for record in journal.steps(job):
                step = from_record(record.record)
                if isinstance(step, Add) and step.restores in restored:
                    renames.append(((job, record.number), restored[step.restores][1], step.dn))
        changes: dict[str, list[tuple[tuple[int, int], DN, DN]]] = {}
        for when, old, new in renames:
            changes.setdefault(old.key, []).append((when, old, new))
        return changes
