"""The groups of many objects, for lists: names alone of a few, and of more all memberships in one pass."""

from __future__ import annotations

from functools import cached_property

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.errors import VandrelError
from vandrel.fields import GROUP
from vandrel.objects.context import Context

#: Objects whose groups are asked for one by one.
_FEW = 20


class WholeGroups:
    """Groups with all their attributes, each read once: for a request that changes many objects."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._entries: dict[str, Entry] = {}

    def get(self, dn: DN) -> Entry | None:
        """The entry of this name."""
        if dn.key not in self._entries and (entry := self._context.directory.get(dn)) is not None:
            self._entries[dn.key] = entry
        return self._entries.get(dn.key)


class GroupsOfMany:
    """Answers for one object after the other; the entries of groups have their names and no members."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._questions = 0

    def of(self, entry: Entry) -> list[Entry]:
        """The groups that an object is a direct member of, the primary group included."""
        self._questions += 1
        if self._questions > _FEW:
            return self._all_of(entry)
        where = self._context.dialect.groups_filter(entry)
        return list(self._context.directory.search(self._context.charter.base, where=where, only=["cn"]))

    def _all_of(self, entry: Entry) -> list[Entry]:
        groups = {group.dn.key: group for group in self._by_member.get(entry.dn.key, ())}
        primary = self._context.dialect.read(entry, "primary") if self._context.dialect.primary_joins else ()
        for value in primary:
            dn = names.parse(value)
            groups[dn.key] = Entry(dn, {})
        return list(groups.values())

    @cached_property
    def _by_member(self) -> dict[str, list[Entry]]:
        context = self._context
        by_member: dict[str, list[Entry]] = {}
        for group in context.directory.search(context.charter.base, where=context.dialect.filter_for(GROUP)):
            bare = Entry(group.dn, {})
            for member in context.dialect.members(group):
                try:
                    by_member.setdefault(names.parse(str(member)).key, []).append(bare)
                except VandrelError:  # no name: nobody's
                    continue
        return by_member
