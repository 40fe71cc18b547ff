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
        for job, old, new in self._changes:
            dn = dn.moved(old, new) if job >= since and dn.is_within(old) else dn
        return dn

    @cached_property
    def _changes(self) -> list[tuple[int, DN, DN]]:
        """Old and new names, each with its job, in the order in which they were given."""
        journal = self._journal()
        found = [
            ((job, number), names.parse(old), names.parse(new))
            for job, number, old, new in journal.renames(self._identity)
        ]
        gone = self._attic.brought_back()
        for job in {job for job, _ in gone.values()}:
            for record in journal.steps(job):
                step = from_record(record.record)
                if isinstance(step, Add) and step.restores in gone:
                    found.append(((job, record.number), gone[step.restores][1], step.dn))
        return [(job, old, new) for (job, _), old, new in sorted(found, key=lambda each: each[0])]
