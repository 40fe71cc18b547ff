"""How many members groups have: those in their lists, and those whose primary group they are, who stand in none."""

from __future__ import annotations

from collections import defaultdict

from vandrel.directory import dn as names
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Not, Present
from vandrel.fields import GROUP
from vandrel.objects.context import Context


class MemberCounts:
    """Counts of direct members; who has which primary group is asked once for all groups."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._primary: dict[str, dict[str, set[str]]] = {}

    def of(self, group: Entry) -> int:
        """How many there are."""
        dialect = self._context.dialect
        members, primary = dialect.members(group), dialect.primary_members(group)
        others = self._by(primary.attribute).get(primary.value, set()) if primary is not None else set()
        if others and members:  # on Unix systems somebody can be both
            others = others - {names.parse(member).key for member in members if member}
        return len(members) + len(others)

    def _by(self, attribute: str) -> dict[str, set[str]]:
        """Those that have each primary group, by its number; and the keys of their names."""
        if attribute not in self._primary:
            where = And((Present(attribute), Not(self._context.dialect.filter_for(GROUP))))
            found = self._context.directory.search(self._context.charter.base, where=where, only=[attribute])
            by_number: defaultdict[str, set[str]] = defaultdict(set)
            for entry in found:
                by_number[entry.text(attribute)].add(entry.dn.key)
            self._primary[attribute] = by_number
        return self._primary[attribute]
