"""Names that point at what a plan renames, moves or removes: found, and mended by further steps of the same plan."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence

from vandrel.dialects.dialect import Dialect
from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import Compare, Filter, Or, Present
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory
from vandrel.steps.step import Add, Remove, Rename, Set, Step

#: Names looked for in one search, and how many are looked for by name at all.
_AT_ONCE = 40
_FEW = 200


def with_references(directory: Directory, dialect: Dialect, steps: Sequence[Step]) -> list[Step]:
    """The steps, each rename, move and removal followed by what keeps the names right that point at the object.

    Nothing is added where the directory does that itself. Where it does so unasked and unannounced, as some servers
    do, the added steps find everything done and change nothing.
    """
    if directory.capabilities.mends_references or not any(isinstance(step, Rename | Remove) for step in steps):
        return list(steps)
    return list(_ReferenceRepair(directory, dialect).steps(steps))


def own_references(directory: Directory) -> list[str]:
    """The attributes whose values are names, and which clients write."""
    return [name for name in directory.schema.references() if _is_ours(directory, name)]


def pointing_at(directory: Directory, dns: Sequence[DN]) -> Iterator[Entry]:
    """Every entry that has one of these names as a value, once; of very many names, all that could have.

    The entries have no attributes but those of `own_references`.
    """
    attributes = own_references(directory)
    if len(dns) > _FEW:  # one look at everything that points anywhere costs less than thousands of questions
        wheres: list[Filter] = [Or(tuple(Present(name) for name in attributes))]
    else:
        chunks = (dns[start : start + _AT_ONCE] for start in range(0, len(dns), _AT_ONCE))
        wheres = [Or(tuple(Compare(name, "=", str(dn)) for name in attributes for dn in c)) for c in chunks]
    seen: set[str] = set()
    for where in wheres:
        for context in directory.contexts:
            for entry in directory.search(context, where=where, only=attributes):
                if entry.dn.key not in seen:
                    seen.add(entry.dn.key)
                    yield entry


class _ReferenceRepair:
    """Works out the further steps; remembers what they will have made of each entry."""

    def __init__(self, directory: Directory, dialect: Dialect) -> None:
        self._directory = directory
        self._dialect = dialect
        self._attributes = own_references(directory)
        self._then: dict[str, Entry] = {}
        self._find_owners: dict[
            str, dict[str, None]
        ] = {}  # key of a name -> keys of the entries that have it as a value
        self._gone: set[str] = set()

    def steps(self, steps: Sequence[Step]) -> Iterator[Step]:
        """The steps, and those that are added."""
        self._gone = {step.dn.key for step in steps if isinstance(step, Remove)}
        below = {number: self._below(step.dn) for number, step in enumerate(steps) if isinstance(step, Rename)}
        affected = {step.dn.key: step.dn for step in steps if isinstance(step, Remove)}
        for holders in below.values():
            affected |= holders
        for entry in pointing_at(self._directory, list(affected.values())):
            self._keep(entry)
        for number, step in enumerate(steps):
            yield step
            if isinstance(step, Rename):
                yield from self._after_rename(step, below[number])
            elif isinstance(step, Remove):
                yield from self._after_removal(step)
            elif isinstance(step, Add):
                self._keep(Entry(step.dn, dict(step.attributes)))
            elif isinstance(step, Set) and self._changes_references(step):
                holder = self._then.get(step.dn.key) or self._directory.get(step.dn)
                if holder is not None:
                    self._remember(holder, step.changes)

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

    def _after_removal(self, step: Remove) -> Iterator[Step]:
        for entry, pointing in self._pointing([step.dn.key]):
            changes: list[Change] = []
            for name, values in pointing.items():
                # A group must not be left without a member where the schema demands one: the dialect knows what to do.
                leaving = self._dialect.member_change(entry, [], [step.dn]) if name == "member" else []
                changes += leaving or [Change(name, tuple(values))]
            self._remember(entry, changes)
            yield Set(entry.dn, tuple(changes))

    # --- who points where

    def _pointing(self, targets: Collection[str]) -> Iterator[tuple[Entry, dict[str, list[Value]]]]:
        """The entries that point at these names and stay, as they will be by then."""
        keys = dict.fromkeys(holder for target in targets for holder in self._find_owners.get(target, ()))
        for entry in [self._then[key] for key in keys if key not in self._gone]:
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
            gone = set(change.removed)
            kept = [value for value in attributes.get(change.attribute, []) if value not in gone]
            attributes[change.attribute] = [*kept, *change.added]
            for value in change.added:
                self._find_owners.setdefault(_key(value), {})[entry.dn.key] = None
        self._then[entry.dn.key] = Entry(entry.dn, attributes)


def _is_ours(directory: Directory, name: str) -> bool:
    attribute = directory.schema.attribute(name)
    return attribute is not None and not attribute.operational and not attribute.read_only


def _key(value: Value) -> str:
    return names.parse(str(value)).key if value else ""
