"""Names that point at what a plan renames, moves or removes: found, and mended by further steps of the same plan."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from itertools import takewhile

from msgspec import structs

from vandrel.dialects.dialect import Dialect
from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.member_lists import ALL, BY_LOGIN, BY_NAME
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory, Scope
from vandrel.directory.schema import Schema
from vandrel.errors import VandrelError
from vandrel.steps.login_lists import logins_of, with_login_lists
from vandrel.steps.step import Add, Remove, Rename, Set, Step

#: Others derive from it, and no entry has it itself (RFC 4519, 2.7).
_BASE_TYPE = "distinguishedName"
#: Who keeps a name of nobody, by which attribute, and the object that goes.
KeptReference = tuple[DN, str, DN]


def with_references(
    directory: Directory,
    dialect: Dialect,
    steps: Sequence[Step],
    references: Callable[[KeptReference], object] | None = None,
) -> list[Step]:
    """The steps, with what keeps the names right that point at objects which are renamed, moved or removed.

    Names that point at objects that go are taken away before, even where the directory does that by itself: what is in
    no step cannot be taken back, and some servers put another name in their place. After a rename nothing is added
    where the directory sees to it; where it does so unannounced, as some servers do, the added steps change nothing.
    `references` is told of names that cannot be taken away, because their holder must have one, as an alias must.
    """
    if any(isinstance(step, Rename | Remove) for step in steps):
        steps = list(_ReferenceRepair(directory, dialect, references or (lambda reference: None)).steps(steps))
    return list(with_login_lists(directory, dialect, steps))


def additions_apart(steps: Sequence[Step], dialect: Dialect, schema: Schema) -> Iterator[Step]:
    """The steps, in which no addition points at an object that is added after it: that follows once all are there.

    Some servers refuse a name of nobody, and objects that come back together may point at each other in a circle.
    """
    coming = {step.dn.key for step in steps if isinstance(step, Add)}
    later: list[Step] = []
    for step in steps:
        if isinstance(step, Add):
            bare, follows = addition_apart(step, coming.__contains__, dialect, schema)
            yield bare
            later += [follows] if follows is not None else []
            coming.discard(step.dn.key)
        else:
            yield step
    yield from later


def addition_apart(
    step: Add, is_coming: Callable[[str], bool], dialect: Dialect, schema: Schema
) -> tuple[Add, Step | None]:  # fmt: skip
    """An addition that does not point at what is coming, by the keys of names, and the step by which it does later."""
    ahead = [each for each in references_of(step.attributes, schema) if is_coming(each[1].key)]
    if not ahead:
        return step, None
    bare = without_references(Entry(step.dn, step.attributes), ahead, dialect)
    follows = Set(step.dn, tuple(pointing_again(bare, ahead, dialect)))
    return structs.replace(step, attributes=bare.attributes), follows


def without_references(entry: Entry, references: Iterable[tuple[str, DN]], dialect: Dialect) -> Entry:
    """An entry without these values; a group that has no member left gets what the dialect puts in its place."""
    bare = Entry(entry.dn, dict(entry.attributes))
    by_attribute: dict[str, list[DN]] = {}
    for attribute, target in references:
        by_attribute.setdefault(attribute, []).append(target)
    for attribute, targets in by_attribute.items():
        keys = {target.key for target in targets}
        stay = [value for value in entry.attributes[attribute] if _key(value) not in keys]
        if not stay and attribute in BY_NAME:
            stay = [value for change in dialect.member_change(entry, [], targets) for value in change.added]
        elif not stay and (stand_in := dialect.placeholder(attribute)) is not None:
            stay = [stand_in]
        bare.attributes[attribute] = stay
        if not stay:
            del bare.attributes[attribute]
    return bare


def pointing_again(entry: Entry, references: Iterable[tuple[str, DN]], dialect: Dialect) -> Iterator[Change]:
    """The changes by which an entry points at these objects: by which attribute, and the name of each."""
    targets: dict[str, list[DN]] = {}
    for attribute, target in references:
        targets.setdefault(attribute, []).append(target)
    if members := list(dict.fromkeys(dn for attribute in ALL for dn in targets.pop(attribute, ()))):
        yield from dialect.member_change(entry, members, [])
    for attribute, dns in targets.items():
        stand_in = dialect.placeholder(attribute)
        replaced = (stand_in,) if stand_in is not None and stand_in in entry.values_of(attribute) else ()
        yield Change(attribute, replaced, tuple(map(str, dns)))


def references_of(attributes: Mapping[str, list[Value]], schema: Schema) -> Iterator[tuple[str, DN]]:
    """The objects that attributes point at: by which attribute, and the name; what is no name is passed over."""
    for attribute in schema.references_in(attributes):
        for value in attributes[attribute]:
            with suppress(VandrelError):
                if value:
                    yield attribute, names.parse(str(value))


def references_taken(steps: Sequence[Step], keys: Collection[str], schema: Schema) -> Iterator[tuple[DN, str, DN]]:
    """What steps take away of names that point at objects: who had it, by which attribute, and the object.

    `keys` are the keys of the names of the objects.
    """
    logins = logins_of(steps)
    for step in steps:
        for change in step.changes if isinstance(step, Set) else ():
            if change.attribute == BY_LOGIN:
                listed = [logins[str(value)] for value in change.removed if str(value) in logins]
                yield from ((step.dn, BY_LOGIN, dn) for dn in listed if dn.key in keys)
            if schema.is_reference(change.attribute):
                for value in change.removed:
                    target = names.parse(str(value)) if value else None
                    if target is not None and target.key in keys:
                        yield step.dn, change.attribute, target


def give_back(steps: Sequence[Step], not_deleted: Collection[DN], schema: Schema) -> list[Step]:
    """The steps that give objects back what pointed at them, where they could not be removed after all."""
    keys, back = {dn.key for dn in not_deleted}, dict[DN, dict[str, list[Value]]]()
    logins = {dn: login for login, dn in logins_of(steps).items()}
    for holder, attribute, target in references_taken(steps, keys, schema):
        value = logins[target] if attribute == BY_LOGIN else str(target)
        back.setdefault(holder, {}).setdefault(attribute, []).append(value)
    return [
        Set(holder, tuple(Change(name, (), tuple(values)) for name, values in attributes.items()))
        for holder, attributes in back.items()
    ]


def own_references(directory: Directory) -> list[str]:
    """The attributes whose values are names, and which clients write."""
    return [name for name in directory.schema.references() if _is_ours(directory, name)]


def pointing_at(directory: Directory, dns: Sequence[DN], *, leaving: bool = False) -> Iterator[Entry]:
    """Every entry that has one of these names as a value, as `Directory.pointing` gives it."""
    return directory.pointing(dns, own_references(directory), leaving=leaving)


class _ReferenceRepair:
    """Works out the further steps; remembers what they will have made of each entry."""

    def __init__(
        self, directory: Directory, dialect: Dialect, tell_kept: Callable[[KeptReference], object]
    ) -> None:  # fmt: skip
        self._directory = directory
        self._dialect = dialect
        self._tell_kept = tell_kept
        self._attributes = own_references(directory)
        self._then: dict[str, Entry] = {}
        #: key of a name -> keys of the entries that have it as a value
        self._find_owners: dict[str, dict[str, None]] = {}
        self._deleted: set[str] = set()

    def steps(self, steps: Sequence[Step]) -> Iterator[Step]:
        """The steps, and those that are added."""
        self._deleted = {step.dn.key for step in steps if isinstance(step, Remove)}
        mends_renames = self._directory.capabilities.mends_references
        # What a directory does by itself after a rename is to be known all the same where something goes later on.
        renames = {number: step for number, step in enumerate(steps) if isinstance(step, Rename)}
        if mends_renames and not self._deleted:
            return iter(steps)
        return self._mended(steps, {number: self._below(step.dn) for number, step in renames.items()}, mends_renames)

    def _mended(self, steps: Sequence[Step], below: dict[int, dict[str, DN]], mends_renames: bool) -> Iterator[Step]:
        affected = {step.dn.key: step.dn for step in steps if isinstance(step, Remove)}
        for holders in below.values():
            affected |= holders
        for entry in pointing_at(self._directory, list(affected.values()), leaving=bool(self._deleted)):
            self._keep(entry)
        for number, step in enumerate(steps):
            if isinstance(step, Remove) and not (number and isinstance(steps[number - 1], Remove)):
                yield from self._before_removals(_run_of_removals(steps, number))
            yield step
            if number in below:
                assert isinstance(step, Rename)
                following = list(self._after_rename(step, below[number]))
                yield from () if mends_renames else following
            elif isinstance(step, Add):
                self._keep(Entry(step.dn, dict(step.attributes)))
            elif isinstance(step, Set) and self._changes_references(step):
                holder = self._then.get(step.dn.key) or self._looked_at(step)
                if holder is not None:
                    self._remember(holder, step.changes)

    def _looked_at(self, step: Set) -> Entry | None:
        """An entry whose references change, as far as it must be known what is there then."""
        entry = next(self._directory.search(step.dn, Scope.BASE, only=["objectClass"]), None)
        if entry is None:
            return None
        for change in step.changes:
            if self._directory.schema.is_reference(change.attribute):
                concerned = [str(value) for value in (*change.removed, *change.added)]
                values = self._directory.some_values(step.dn, change.attribute, [*concerned, ""], 1)
                entry.attributes.setdefault(change.attribute, []).extend(values)
        return entry

    def _changes_references(self, step: Set) -> bool:
        return any(self._directory.schema.is_reference(change.attribute) for change in step.changes)

    def _below(self, dn: DN) -> dict[str, DN]:
        """The names that a rename changes: the object's and those of everything below it."""
        below = {entry.dn.key: entry.dn for entry in self._directory.search(dn, only=["objectClass"])}
        return {dn.key: dn} | below

    def _after_rename(self, step: Rename, below: dict[str, DN]) -> Iterator[Step]:
        renamed = {key: dn.moved(step.dn, step.new) for key, dn in below.items()}
        for entry, pointing in self._pointing(below):
            changes = [
                Change(name, tuple(values), tuple(str(renamed[_key(value)]) for value in values))
                for name, values in pointing.items()
            ]
            self._remember(entry, changes)
            yield Set(renamed.get(entry.dn.key, entry.dn), tuple(changes))
        for key in renamed.keys() & self._then.keys():
            entry = self._then.pop(key)
            self._then[renamed[key].key] = Entry(renamed[key], entry.attributes)
            for holders in self._find_owners.values():
                if key in holders:
                    holders[renamed[key].key] = holders.pop(key)

    def _before_removals(self, keys: Sequence[DN]) -> Iterator[Step]:
        by_key = {dn.key: dn for dn in keys}
        for entry, pointing in self._pointing(by_key):
            changes: list[Change] = []
            for name, values in pointing.items():
                changes += self._without(entry, name, values, [by_key[_key(value)] for value in values])
            if changes:
                self._remember(entry, changes)
                yield Set(entry.dn, tuple(changes))

    def _without(self, entry: Entry, name: str, values: Sequence[Value], going: Sequence[DN]) -> Sequence[Change]:
        """The changes by which an entry that stays loses these names, where it may be without them."""
        if name in BY_NAME:  # a group must not be left without one where the schema demands one
            return self._dialect.member_change(entry, [], going) or [Change(name, tuple(values))]
        must = self._directory.schema.shape(tuple(entry.texts("objectClass")))[0]
        if name not in must or len(values) < len(entry.values_of(name)):
            return [Change(name, tuple(values))]
        if (placeholder := self._dialect.placeholder(name)) is not None:
            return [Change(name, tuple(values), (placeholder,))]
        for target in going:
            self._tell_kept((entry.dn, name, target))
        return []

    # --- who points where

    def _pointing(self, targets: Collection[str]) -> Iterator[tuple[Entry, dict[str, list[Value]]]]:
        """The entries that point at these names and stay, as they will be by then."""
        keys = dict.fromkeys(holder for target in targets for holder in self._find_owners.get(target, ()))
        for entry in [self._then[key] for key in keys if key not in self._deleted]:
            pointing = {
                name: [value for value in entry.values_of(name) if _key(value) in targets]
                for name in self._attributes
                if name in entry.attributes
            }
            if any(pointing.values()):
                yield entry, {name: values for name, values in pointing.items() if values}

    def _keep(self, entry: Entry) -> None:
        self._then[entry.dn.key] = entry
        for name in self._attributes:
            for value in entry.attributes.get(name, ()):
                self._find_owners.setdefault(_key(value), {})[entry.dn.key] = None

    def _remember(self, entry: Entry, changes: Sequence[Change]) -> None:
        attributes = dict(entry.attributes)
        for change in changes:
            removed = set(change.removed)
            remaining = [value for value in attributes.get(change.attribute, []) if value not in removed]
            attributes[change.attribute] = [*remaining, *change.added]
            for value in change.added if change.attribute in self._attributes else ():
                self._find_owners.setdefault(_key(value), {})[entry.dn.key] = None
        self._then[entry.dn.key] = Entry(entry.dn, attributes)


def _run_of_removals(steps: Sequence[Step], start: int) -> list[DN]:
    """The names of the objects that go one after the other, from this step on."""
    return [step.dn for step in takewhile(lambda step: isinstance(step, Remove), steps[start:])]


def _is_ours(directory: Directory, name: str) -> bool:
    attribute = directory.schema.attribute(name)
    is_written = attribute is not None and not attribute.operational and not attribute.read_only
    return is_written and name != _BASE_TYPE


def _key(value: Value) -> str:
    return DN.read(str(value)).key if value else ""
