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
from vandrel.steps.step import Remove, Rename, Set, Step

#: Names looked for in one search.
_AT_ONCE = 40


def with_references(directory: Directory, dialect: Dialect, steps: Sequence[Step]) -> list[Step]:
    """The steps, each rename, move and removal followed by what keeps the names right that point at the object.

    Nothing is added where the directory does that itself. Where it does so unasked and unannounced, as some servers
    do, the added steps find everything done and change nothing.
    """
    if directory.traits.mends_references:
        return list(steps)
    gone = {step.dn.key for step in steps if isinstance(step, Remove)}
    found: list[Step] = []
    for step in steps:
        found.append(step)
        if isinstance(step, Rename):
            found += _after_rename(directory, step, gone)
        elif isinstance(step, Remove):
            found += _after_removal(directory, dialect, step, gone)
    return found


def _after_rename(directory: Directory, step: Rename, gone: set[str]) -> Iterator[Step]:
    below = {entry.dn.key: entry.dn for entry in directory.search(step.dn, only=["objectClass"])}
    below.setdefault(step.dn.key, step.dn)
    renamed = {key: dn.moved(step.dn, step.new) for key, dn in below.items()}
    for entry, pointing in _pointing(directory, list(below.values())):
        if entry.dn.key not in gone:
            changes = [
                Change(name, tuple(values), tuple(str(renamed[_key(value)]) for value in values))
                for name, values in pointing.items()
            ]
            yield Set(renamed.get(entry.dn.key, entry.dn), tuple(changes))


def _after_removal(directory: Directory, dialect: Dialect, step: Remove, gone: set[str]) -> Iterator[Step]:
    for entry, pointing in _pointing(directory, [step.dn]):
        if entry.dn.key in gone:
            continue
        changes: list[Change] = []
        for name, values in pointing.items():
            # A group must not be left without a member where the schema demands one: the dialect knows what to do.
            leaving = dialect.member_change(entry, [], [step.dn]) if name == "member" else []
            changes += leaving or [Change(name, tuple(values))]
        yield Set(entry.dn, tuple(changes))


def _pointing(directory: Directory, dns: Sequence[DN]) -> Iterator[tuple[Entry, dict[str, list[Value]]]]:
    """Every entry that has one of these names as a value, with the attributes and the values of these names."""
    schema = directory.schema
    attributes = [name for name in schema.references() if _is_ours(directory, name)]
    wanted = {dn.key for dn in dns}
    seen: set[str] = set()
    for start in range(0, len(dns), _AT_ONCE):
        chunk = dns[start : start + _AT_ONCE]
        where = Or(tuple(Compare(name, "=", str(dn)) for name in attributes for dn in chunk))
        for context in directory.contexts:
            for entry in directory.search(context, where=where):
                found = {name: [v for v in entry.values_of(name) if _key(v) in wanted] for name in attributes}
                if entry.dn.key not in seen:
                    seen.add(entry.dn.key)
                    yield entry, {name: values for name, values in found.items() if values}


def _is_ours(directory: Directory, name: str) -> bool:
    attribute = directory.schema.attribute(name)
    return attribute is not None and not attribute.operational and not attribute.read_only


def _key(value: Value) -> str:
    return names.parse(str(value)).key if value else ""
