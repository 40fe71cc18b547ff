"""How many members groups have: those in their lists, and those whose primary group they are, who stand in none."""

from __future__ import annotations

from collections import Counter

from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Not, Present
from vandrel.fields import GROUP
from vandrel.objects.context import Context


class MemberCounts:
    """Counts of direct members; who has which primary group is asked once for all groups."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._primary: dict[str, Counter[str]] = {}

    def of(self, group: Entry) -> int:
        """How many there are."""
        dialect = self._context.dialect
        primary = dialect.primary_members(group) if dialect.primary_joins else None
        others = self._by(primary.attribute)[primary.value] if primary is not None else 0
        return len(dialect.members(group)) + others

    def _by(self, attribute: str) -> Counter[str]:
        """How many have each primary group, by its number."""
        if attribute not in self._primary:
            where = And((Present(attribute), Not(self._context.dialect.filter_for(GROUP))))
            entries = self._context.directory.search(self._context.charter.base, where=where, only=[attribute])
            self._primary[attribute] = Counter(entry.text(attribute) for entry in entries)
        return self._primary[attribute]
