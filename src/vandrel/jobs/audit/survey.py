"""The directory read once, for all rules of an audit."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import date
from functools import cached_property
from itertools import compress
from typing import TypeVar

from vandrel.charter.pattern import parse
from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.member_lists import BY_NAME
from vandrel.directory.shared_values import SharedValues
from vandrel.errors import VandrelError
from vandrel.fields import ACCOUNT, COMPUTER, GROUP, UNIT
from vandrel.gc_control import gc_paused
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import computed_values
from vandrel.text.string_prep import prepare, prepare_all

_T = TypeVar("_T")

#: Accounts of a kind that must have a field so that others are expected to.
_ENOUGH = 10


class Survey:
    """Every object of the directory, and what follows from all of them together.

    Values of accounts are read field by field, for all of them: a rule that asks each account costs many times more.

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
        self._columns: dict[str, list[str]] = {}
        self._prepared: dict[str, list[str]] = {}
        self._computed: dict[tuple[str, str], dict[str, str]] = {}
        self._fields_of: dict[str, list[str]] = {}
        self._names_above: dict[tuple[int, ...], frozenset[str]] = {}
        self._texts: dict[tuple[str, ...], str] = {}
        self._of_type: dict[str, list[Entry]] = {ACCOUNT: [], GROUP: [], UNIT: [], COMPUTER: []}
        #: All groups, the server's own as well, which others may be in.
        self.all_groups: list[Entry] = []
        with gc_paused():
            shared = SharedValues()
            for entry in context.directory.search(context.charter.base) if entries is None else entries:
                shared.share(entry.attributes)
                self._sort_in(entry)
            self._share_names()

    def _sort_in(self, entry: Entry) -> None:
        self.entries[entry.dn.key] = entry
        object_type = self.context.object_type(entry)
        if object_type == GROUP:
            self.all_groups.append(entry)
        if object_type in self._of_type and not self.context.dialect.is_servers_own(entry):
            self._of_type[object_type].append(entry)

    def _share_names(self) -> None:
        """Let the lists of groups have the names of objects that the objects have, and not further ones."""
        for group in self.all_groups:
            for name in BY_NAME:
                if name in group.attributes:
                    known = ((self._by_text.get(str(value)), value) for value in group.attributes[name])
                    group.attributes[name] = [str(dn) if dn is not None else value for dn, value in known]

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

    # --- values

    def column(self, field: str) -> Sequence[str]:
        """The first value of a field of each account, in their order; empty texts for none."""
        if field not in self._columns:
            self._columns[field] = [values[0] if values else "" for values in self.all_values(field)]
        return self._columns[field]

    def all_values(self, field: str) -> Iterator[Sequence[str]]:
        """All values of a field of each account, in their order."""
        return self.context.dialect.read_many(self.accounts, field, ACCOUNT)

    def prepared(self, field: str) -> Sequence[str]:
        """The same as they are compared."""
        if field not in self._prepared:
            self._prepared[field] = prepare_all(self.column(field))
        return self._prepared[field]

    def rows(self, *fields: str) -> Iterator[tuple[Entry, tuple[str, ...]]]:
        """Each account with the first values of these fields."""
        yield from zip(self.accounts, zip(*map(self.column, fields), strict=True), strict=True)

    def enabled_rows(self, *fields: str) -> Iterator[tuple[Entry, tuple[str, ...]]]:
        """The same of the accounts that are enabled, and whose last day does not lie behind."""
        yield from compress(self.rows(*fields), self.enabled)

    def with_value(self, field: str) -> Iterator[tuple[Entry, str]]:
        """The accounts that have a field, with its first value."""
        yield from ((entry, value) for entry, value in zip(self.accounts, self.column(field), strict=True) if value)

    @cached_property
    def _numbers(self) -> dict[int, int]:
        """Which of the accounts each is, by its identity."""
        return {id(entry): number for number, entry in enumerate(self.accounts)}

    def one(self, entry: Entry, field: str) -> str:
        """The first value of a field of any object, or an empty string."""
        number = self._numbers.get(id(entry))
        return self.column(field)[number] if number is not None else self.context.one(entry, field)

    def values_of(self, entries: Sequence[Entry], field: str) -> list[str]:
        """The first values of a field of some of the accounts."""
        return list(map(self.column(field).__getitem__, self.numbers_of(entries)))

    def numbers_of(self, entries: Iterable[Entry]) -> Iterator[int]:
        """Which of the accounts each of these is."""
        return map(self._numbers.__getitem__, map(id, entries))

    def some_values(self, entry: Entry, fields: Collection[str]) -> dict[str, str]:
        """What patterns see of some fields of an account, and those of the computed words that are asked for."""
        catalog = self.context.fields
        values = {name: self.one(entry, name) for name in fields if name in catalog}
        if len(values) == len(fields):
            return values
        computed = self.computed(self.one(entry, "kind"), self.one(entry, "principal"))
        return values | {name: value for name, value in computed.items() if name in fields}

    def computed(self, kind: str, principal: str) -> dict[str, str]:
        """What `vandrel.objects.pattern_values.computed_values` gives; worked out once for each kind and suffix."""
        suffix = principal.rpartition("@")[2]
        if (kind, suffix) not in self._computed:
            self._computed[kind, suffix] = computed_values(self.context.charter, kind, principal)
        return self._computed[kind, suffix]

    def first_choice(self, entry: Entry, target: str) -> str:
        """The first name that the rule of its kind gives to an account; empty where none comes of it."""
        rule = self.context.charter.naming(target, self.kind(entry))
        first = next(iter(rule.candidates(self.some_values(entry, rule.fields() | {"language"}))), None)
        return first.value if first is not None else ""

    def by_patterns(
        self, patterns: Mapping[str, Sequence[str]], work_out: Callable[[Entry, str], _T]
    ) -> Iterator[Sequence[_T]]:  # fmt: skip
        """What comes of the patterns of its kind for each account, without those for which a field is empty.

        `patterns` are those of each kind; it is worked out once for all of a kind in whose fields the same stands.
        """
        needed = {field for texts in patterns.values() for text in texts for field in parse(text).fields()}
        own = needed & set(self.context.fields)
        columns: list[Sequence[str]] = [self.kinds, *map(self.column, sorted(own))]
        if needed - own:  # words of the charter, which depend on the suffix
            columns.append([principal.rpartition("@")[2] for principal in self.column("principal")])
        found: dict[tuple[str, ...], Sequence[_T]] = {}
        for entry, said in zip(self.accounts, zip(*columns, strict=True), strict=True):
            if (known := found.get(said)) is None:
                known = found[said] = list(self._worked_out(entry, patterns.get(said[0], ()), work_out))
            yield known

    @staticmethod
    def _worked_out(entry: Entry, patterns: Iterable[str], work_out: Callable[[Entry, str], _T]) -> Iterator[_T]:
        for pattern in patterns:
            with suppress(VandrelError):  # a field that it needs is empty, which is told by another rule
                yield work_out(entry, pattern)

    def filled(self, entry: Entry, pattern: str) -> str:
        """A pattern of the charter with the fields of an account in it; worked out once for those with the same ones.

        Raises:
            VandrelError: ``required`` where a field that it needs is empty.

        """
        if pattern not in self._fields_of:
            self._fields_of[pattern] = sorted(parse(pattern).fields())
        fields = self._fields_of[pattern]
        values = self.some_values(entry, fields)
        key = (pattern, *(values[name] for name in fields))
        if key not in self._texts:
            self._texts[key] = self.context.charter.fill(pattern, values)
        return self._texts[key]

    def home(self, entry: Entry, pattern: str) -> DN:
        """The unit that a pattern of a place names for an account. Raises as `filled` does."""
        charter = self.context.charter
        return places.to_dn(charter.place_of(pattern, self.some_values(entry, parse(pattern).fields())), charter.base)

    @cached_property
    def enabled(self) -> Sequence[bool]:
        """Whether each account is enabled, and its last day does not lie behind."""
        today = self.today.isoformat()
        return [
            enabled != "no" and not (ended and ended < today)
            for enabled, ended in zip(self.column("enabled"), self.column("ends"), strict=True)
        ]

    @cached_property
    def kinds(self) -> Sequence[str]:
        """The kind of each account; empty where the charter does not know it."""
        kinds = self.context.charter.document.kinds
        return [kind if kind in kinds else "" for kind in self.column("kind")]

    def is_enabled(self, entry: Entry) -> bool:
        """Whether an object is enabled, and its last day does not lie behind."""
        number = self._numbers.get(id(entry))
        if number is not None:
            return self.enabled[number]
        ended = self.one(entry, "ends")
        return self.one(entry, "enabled") != "no" and not (ended and ended < self.today.isoformat())

    def kind(self, entry: Entry) -> str:
        """The kind of an account; empty where the charter does not know it."""
        number = self._numbers.get(id(entry))
        return self.kinds[number] if number is not None else ""

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
        for kind, (entry, (value,)) in zip(compress(self.kinds, self.enabled), self.enabled_rows(field), strict=True):
            if kind:
                counted[kind, bool(value)] += 1
                lacking += [] if value else [(kind, entry)]
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
    def _by_text(self) -> dict[str, DN]:
        return {str(entry.dn): entry.dn for entry in self.entries.values()}

    def has(self, value: Value) -> bool:
        """Whether a value is the name of an object, written just as that has it."""
        return value in self._by_text

    def target(self, value: str) -> DN:
        """The name that a value is: as a rule written just as the object has it, so that nothing is to be read.

        Raises:
            VandrelError: ``bad-dn`` for what is no name.

        """
        return self._by_text.get(value) or names.parse(value)

    @cached_property
    def members(self) -> dict[str, list[DN]]:
        """The direct members of each group, by the key of its name."""
        return {
            group.dn.key: [self.target(str(member)) for member in self.context.dialect.members(group) if member]
            for group in self.all_groups
        }

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

    def powers_of(self, entry: Entry) -> Sequence[str]:
        """The names of the groups with power that an account is in, directly or not."""
        return self._powers.get(entry.dn.key, ())

    @cached_property
    def _powers(self) -> dict[str, list[str]]:
        """For whoever is in a group with power, the names of those, in order: worked out from the groups downwards."""
        powers: dict[str, list[str]] = {}
        for group in sorted(self.all_groups, key=lambda group: group.dn.name):
            if prepare(group.dn.name) in self.power:
                for key in self._all_in(group):
                    powers.setdefault(key, []).append(group.dn.name)
        return powers

    def _all_in(self, group: Entry) -> set[str]:
        """The keys of the names of whatever is in a group, directly or through others."""
        inside, waiting = set[str](), [group.dn.key]
        while waiting:
            more = {member.key for member in self.members.get(waiting.pop(), ())} - inside
            inside |= more
            waiting += [key for key in more if key in self.members]
        return inside

    def group_names_of(self, entry: Entry) -> frozenset[str]:
        """What the groups are called that an object is in, directly or not, as it is compared."""
        direct = tuple(map(id, self.groups_of.get(entry.dn.key, ())))  # the same ones for many
        if direct not in self._names_above:
            above = self.all_groups_of(entry.dn.key).values()
            self._names_above[direct] = frozenset(prepare(group.dn.name) for group in above)
        return self._names_above[direct]

    def has_role(self, entry: Entry) -> bool:
        """Whether an account is in all groups of a role of the charter."""
        have = self.group_names_of(entry)
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
        """The values of a field that more than one account has, as they are compared, and whose they are."""
        holders: dict[str, list[Entry]] = {}
        for entry, values in zip(self.accounts, self.all_values(field), strict=True):
            for value in values:
                holders.setdefault(prepare(value), []).append(entry)
        yield from ((value, entries) for value, entries in holders.items() if len(entries) > 1)

    @cached_property
    def children(self) -> Counter[str]:
        """How many objects stand right below each name."""
        return Counter(entry.dn.parent_key for entry in self.entries.values())
