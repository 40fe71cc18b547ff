"""The directory read once, for all rules of an audit."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator
from datetime import date
from functools import cached_property
from typing import TypeVar

from vandrel.charter.pattern import parse
from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.fields import ACCOUNT, COMPUTER, GROUP, UNIT
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import computed_values, entry_values
from vandrel.text.string_prep import prepare

_T = TypeVar("_T")

#: Accounts of a kind that must have a field so that others are expected to.
_ENOUGH = 10


class Survey:
    """Every object of the directory, and what follows from all of them together.

    Attributes:
        context: the charter and the directory.
        today: the day of the audit, in the charter's zone.
        entries: all objects by the keys of their names.

    """

    def __init__(self, context: Context, entries: Iterable[Entry] | None = None) -> None:
        """Read the directory, or judge entries that were read before, by another charter perhaps."""
        self.context = context
        self.today: date = context.charter.today()
        self.entries: dict[str, Entry] = {}
        #: Of each field, the first values by the identity of the entry, which is held here so that it is no other's.
        self._cache: defaultdict[str, dict[int, str]] = defaultdict(dict)
        self._holders: dict[int, Entry] = {}
        self._fields_of: dict[str, list[str]] = {}
        self._texts: dict[tuple[str, ...], str] = {}
        self._homes: dict[tuple[str, ...], DN] = {}
        self._of_type: dict[str, list[Entry]] = {ACCOUNT: [], GROUP: [], UNIT: [], COMPUTER: []}
        #: All groups, the server's own as well, which others may be in.
        self.all_groups: list[Entry] = []
        for entry in context.directory.search(context.charter.base) if entries is None else entries:
            self.entries[entry.dn.key] = entry
            object_type = context.object_type(entry)
            if object_type == GROUP:
                self.all_groups.append(entry)
            if object_type in self._of_type and not context.dialect.is_servers_own(entry):
                self._of_type[object_type].append(entry)

    @property
    def accounts(self) -> list[Entry]:
        """The accounts, without those that the server made for itself."""
        return self._of_type[ACCOUNT]

    @property
    def groups(self) -> list[Entry]:
        """The groups, without those that the server made for itself."""
        return self._of_type[GROUP]

    @property
    def units(self) -> list[Entry]:
        """The units, without those that the server made for itself."""
        return self._of_type[UNIT]

    @property
    def computers(self) -> list[Entry]:
        """The computers, without those that the server made for itself."""
        return self._of_type[COMPUTER]

    def one(self, entry: Entry, field: str) -> str:
        """The first value of a field, or an empty string; remembered, since many rules ask for the same."""
        cached = self._cache[field]
        which = id(entry)
        if which in cached:  # written out, because a run of many thousands asks some hundred times for each
            return cached[which]
        self._holders[which] = entry
        value = cached[which] = self.context.one(entry, field)
        return value

    def some_values(self, entry: Entry, fields: Collection[str]) -> dict[str, str]:
        """What patterns see of some fields of an account, and those of the computed words that are asked for."""
        catalog = self.context.fields
        values = {name: self.one(entry, name) for name in fields if name in catalog}
        if len(values) == len(fields):
            return values
        computed = computed_values(self.context.charter, self.one(entry, "kind"), self.one(entry, "principal"))
        return values | {name: value for name, value in computed.items() if name in fields}

    def values(self, entry: Entry) -> dict[str, str]:
        """What patterns of the charter see of an object."""
        return entry_values(self.context, entry)

    def filled(self, entry: Entry, pattern: str) -> str:
        """A pattern of the charter with the fields of an account in it; worked out once for those with the same ones.

        Raises:
            VandrelError: ``required`` where a field that it needs is empty.

        """
        return self._once(self._texts, entry, pattern, self.context.charter.fill)

    def home(self, entry: Entry, pattern: str) -> DN:
        """The unit that a pattern of a place names for an account. Raises as `filled` does."""
        charter = self.context.charter
        return self._once(
            self._homes, entry, pattern, lambda text, said: places.to_dn(charter.place_of(text, said), charter.base)
        )  # fmt: skip

    def _once(
        self, cache: dict[tuple[str, ...], _T], entry: Entry, pattern: str,
        work_out: Callable[[str, dict[str, str]], _T],
    ) -> _T:  # fmt: skip
        if pattern not in self._fields_of:
            self._fields_of[pattern] = sorted(parse(pattern).fields())
        fields = self._fields_of[pattern]
        values = self.some_values(entry, fields)
        key = (pattern, *(values[name] for name in fields))
        if key not in cache:
            cache[key] = work_out(pattern, values)
        return cache[key]

    def is_enabled(self, entry: Entry) -> bool:
        """Whether an account is enabled, and its last day does not lie behind."""
        ended = self.one(entry, "ends")
        return self.one(entry, "enabled") != "no" and not (ended and ended < self.today.isoformat())

    def kind(self, entry: Entry) -> str:
        """The kind of an account; empty where the charter does not know it."""
        kind = self.one(entry, "kind")
        return kind if kind in self.context.charter.document.kinds else ""

    @cached_property
    def administrative_kinds(self) -> frozenset[str]:
        """The kinds of account that by their name or description are those of administrators."""
        kinds = self.context.charter.document.kinds.items()
        return frozenset(name for name, kind in kinds if "admin" in prepare(f"{name} {kind.about}"))

    @cached_property
    def impersonal_kinds(self) -> frozenset[str]:
        """The kinds of account that have no given name by any rule: those of programs and desks."""
        charter = self.context.charter
        return frozenset(k for k in charter.document.kinds if "given" not in charter.naming("full", k).fields())

    def without_what_most_have(self, field: str) -> Iterator[Entry]:
        """The enabled accounts without a field that more than half of the others of their kind have, ten or more."""
        counted: Counter[tuple[str, bool]] = Counter()
        lacking = []
        for entry in self.accounts:
            if (kind := self.kind(entry)) and self.is_enabled(entry):
                has = bool(self.one(entry, field))
                counted[kind, has] += 1
                lacking += [] if has else [(kind, entry)]
        enough = {kind for (kind, has), times in counted.items()
                  if has and times >= _ENOUGH and times > counted[kind, False]}  # fmt: skip
        yield from (entry for kind, entry in lacking if kind in enough)

    def is_known_by_name(self, entry: Entry) -> bool:
        """Whether the name of an object is that of no other, so that commands take it."""
        return self._names[prepare(entry.dn.name)] == 1

    @cached_property
    def _names(self) -> Counter[str]:
        return Counter(prepare(entry.dn.name) for entry in self.entries.values())

    # --- memberships

    @cached_property
    def members(self) -> dict[str, list[DN]]:
        """The direct members of each group, by the key of its name."""
        by_text = {str(entry.dn): entry.dn for entry in self.entries.values()}  # as a rule it is written just so
        return {
            group.dn.key: [
                by_text.get(str(member)) or names.parse(str(member))
                for member in self.context.dialect.members(group) if member
            ]
            for group in self.all_groups
        }  # fmt: skip

    @cached_property
    def groups_of(self) -> dict[str, list[Entry]]:
        """The groups that an object is a direct member of, by the key of its name."""
        groups: dict[str, list[Entry]] = {}
        for group in self.all_groups:
            for member in self.members[group.dn.key]:
                groups.setdefault(member.key, []).append(group)
        return groups

    def all_groups_of(self, key: str) -> dict[str, Entry]:
        """All groups that an object is in, directly or through others, by the keys of their names."""
        groups: dict[str, Entry] = {}
        waiting = [key]
        while waiting:
            for group in self.groups_of.get(waiting.pop(), ()):
                if group.dn.key not in groups:
                    groups[group.dn.key] = group
                    waiting.append(group.dn.key)
        return groups

    @cached_property
    def power(self) -> dict[str, str]:
        """The groups that carry power, by the keys of what they are called, each with its reach."""
        return {prepare(name): reach for name, reach in self.context.charter.power.items()}

    def powers_of(self, entry: Entry) -> list[str]:
        """The names of the groups with power that an account is in, directly or not."""
        groups = self.all_groups_of(entry.dn.key).values()
        return sorted(group.dn.name for group in groups if prepare(group.dn.name) in self.power)

    def has_role(self, entry: Entry) -> bool:
        """Whether an account is in all groups of a role of the charter."""
        have = {prepare(group.dn.name) for group in self.all_groups_of(entry.dn.key).values()}
        return any(have.issuperset(map(prepare, role.groups)) for role in self.context.charter.document.roles.values())

    def distance_to_power(self, group: Entry) -> int:
        """How many groups lie between a group and the nearest with power that it is in, that one counted; 0: none."""
        visited, level, depth = {group.dn.key}, [group], 0
        while level:
            depth += 1
            level = [above for each in level for above in self.groups_of.get(each.dn.key, ())
                     if above.dn.key not in visited]  # fmt: skip
            visited |= {above.dn.key for above in level}
            if any(prepare(above.dn.name) in self.power for above in level):
                return depth
        return 0

    # --- values that several have

    def shared(self, field: str) -> Iterator[tuple[str, list[Entry]]]:
        """The values of a field that more than one account has, and whose they are."""
        holders: dict[str, list[Entry]] = {}
        for entry in self.accounts:
            for value in self.context.dialect.read(entry, field):
                holders.setdefault(prepare(value), []).append(entry)
        yield from ((value, entries) for value, entries in holders.items() if len(entries) > 1)

    @cached_property
    def children(self) -> Counter[str]:
        """How many objects stand right below each name."""
        return Counter(entry.dn.parent_key for entry in self.entries.values())
