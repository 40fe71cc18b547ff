"""Names that point at what a plan renames, moves or removes: found, and mended by further steps of the same plan."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from vandrel.dialects.dialect import Dialect
from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import Compare, Or
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory
from vandrel.steps.step import Add, Remove, Rename, Set, Step

#: Names looked for in one search.
_AT_ONCE = 40


def with_references(directory: Directory, dialect: Dialect, steps: Sequence[Step]) -> list[Step]:
    """The steps, each rename, move and removal followed by what keeps the names right that point at the object.

    Nothing is added where the directory does that itself. Where it does so unasked and unannounced, as some servers
    do, the added steps find everything done and change nothing.
    """
    if directory.traits.mends_references or not any(isinstance(step, Rename | Remove) for step in steps):
        return list(steps)
    return list(_Mending(directory, dialect).steps(steps))


class _Mending:
    """Works out the further steps; remembers what they will have made of each entry."""

    def __init__(self, directory: Directory, dialect: Dialect) -> None:
        self._directory = directory
        self._dialect = dialect
        self._then: dict[str, Entry] = {}
        self._gone: set[str] = set()

    def steps(self, steps: Sequence[Step]) -> Iterator[Step]:
        self._gone = {step.dn.key for step in steps if isinstance(step, Remove)}
        for step in steps:
            yield step
            if isinstance(step, Rename):
                yield from self._after_rename(step)
            elif isinstance(step, Remove):
                yield from self._after_removal(step)
            elif isinstance(step, Add):
                self._then[step.dn.key] = Entry(step.dn, dict(step.attributes))
            elif isinstance(step, Set) and self._changes_references(step):
                entry = self._then.get(step.dn.key) or self._directory.get(step.dn)
                if entry is not None:
                    self._remember(entry, step.changes)

    def _changes_references(self, step: Set) -> bool:
        return any(self._directory.schema.is_reference(change.attribute) for change in step.changes)

    def _after_rename(self, step: Rename) -> Iterator[Step]:
        below = {entry.dn.key: entry.dn for entry in self._directory.search(step.dn, only=["objectClass"])}
        below.setdefault(step.dn.key, step.dn)
        renamed = {key: dn.moved(step.dn, step.new) for key, dn in below.items()}
        for entry, pointing in self._pointing(list(below.values())):
            changes = [
                Change(name, tuple(values), tuple(str(renamed[_key(value)]) for value in values))
                for name, values in pointing.items()
            ]
            self._remember(entry, changes)
            yield Set(renamed.get(entry.dn.key, entry.dn), tuple(changes))

    def _after_removal(self, step: Remove) -> Iterator[Step]:
        for entry, pointing in self._pointing([step.dn]):
            changes: list[Change] = []
            for name, values in pointing.items():
                # A group must not be left without a member where the schema demands one: the dialect knows what to do.
                leaving = self._dialect.member_change(entry, [], [step.dn]) if name == "member" else []
                changes += leaving or [Change(name, tuple(values))]
            self._remember(entry, changes)
            yield Set(entry.dn, tuple(changes))

    def _pointing(self, dns: Sequence[DN]) -> Iterator[tuple[Entry, dict[str, list[Value]]]]:
        """The entries that point at these names and stay, as they will be by then."""
        wanted = {dn.key for dn in dns}
        found = {entry.dn.key: entry for entry in _found(self._directory, dns)} | self._then
        for entry in found.values():
            if entry.dn.key in self._gone:
                continue
            pointing = {
                name: [value for value in entry.values_of(name) if _key(value) in wanted]
                for name in self._directory.schema.references_in(entry.attributes)
                if _is_ours(self._directory, name)
            }
            if any(pointing.values()):
                yield entry, {name: values for name, values in sorted(pointing.items()) if values}

    def _remember(self, entry: Entry, changes: Sequence[Change]) -> None:
        attributes = dict(entry.attributes)
        for change in changes:
            kept = [value for value in attributes.get(change.attribute, []) if value not in change.removed]
            attributes[change.attribute] = [*kept, *change.added]
        self._then[entry.dn.key] = Entry(entry.dn, attributes)


def _found(directory: Directory, dns: Sequence[DN]) -> Iterator[Entry]:
    """Every entry that has one of these names as a value, once."""
    attributes = [name for name in directory.schema.references() if _is_ours(directory, name)]
    seen: set[str] = set()
    for start in range(0, len(dns), _AT_ONCE):
        chunk = dns[start : start + _AT_ONCE]
        where = Or(tuple(Compare(name, "=", str(dn)) for name in attributes for dn in chunk))
        for context in directory.contexts:
            for entry in directory.search(context, where=where):
                if entry.dn.key not in seen:
                    seen.add(entry.dn.key)
                    yield entry


def _is_ours(directory: Directory, name: str) -> bool:
    attribute = directory.schema.attribute(name)
    return attribute is not None and not attribute.operational and not attribute.read_only


def _key(value: Value) -> str:
    return names.parse(str(value)).key if value else ""
