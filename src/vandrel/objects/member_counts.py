"""How many members groups have: those in their lists, and those whose primary group they are, who stand in none."""

from __future__ import annotations

from collections import Counter

from vandrel.directory.entry import Entry
from vandrel.directory.filter import Compare, Present
from vandrel.objects.context import Context


class MemberCounts:
    """Counts of direct members; who has which primary group is asked once for all groups."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._primary: dict[str, Counter[str]] = {}

    def of(self, group: Entry) -> int:
        """How many there are."""
        dialect, counted = self._context.dialect, 0
        primary = dialect.primary_members(group)
        if isinstance(primary, Compare):
            counted = self._by(primary.attribute)[primary.value]
        return len(dialect.members(group)) + counted

    def _by(self, attribute: str) -> Counter[str]:
        if attribute not in self._primary:
            found = self._context.directory.search(
                self._context.charter.base, where=Present(attribute), only=[attribute]
            )  # fmt: skip
            self._primary[attribute] = Counter(entry.text(attribute) for entry in found)
        return self._primary[attribute]
