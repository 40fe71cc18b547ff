"""What an operation makes of an entry; whether it has been made: asked after a kill, and after a lost answer."""

from __future__ import annotations

from collections.abc import Sequence

from vandrel.directory.entry import Entry
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry, Operation, RenameEntry, SetPassword
from vandrel.directory.port import Directory


def is_applied(directory: Directory, operation: Operation) -> bool:
    """Look the outcome of an operation up in the directory."""
    return shows(directory, operation, directory.get(operation.dn))


def shows(directory: Directory, operation: Operation, entry: Entry | None) -> bool:
    """Whether an object, None where it is not there, is as an operation leaves it."""
    match operation:
        case AddEntry(_, attributes):
            # Somebody else's object of the same name does not count.
            return entry is not None and all(
                _keys(directory, name, values) <= _keys(directory, name, entry.values_of(name))
                for name, values in attributes.items()
            )
        case ModifyEntry(_, changes):
            if entry is None:
                return False
            for change in changes:
                have = _keys(directory, change.attribute, entry.values_of(change.attribute))
                come = _keys(directory, change.attribute, change.added)
                removed = _keys(directory, change.attribute, change.removed)
                if not come <= have or (removed - come) & have:
                    return False
            return True
        case RenameEntry(_, new):
            return entry is None and directory.get(new) is not None
        case DeleteEntry():
            return entry is None
        case SetPassword(dn, secret, _):
            if secret is None:
                return entry is not None and not entry.values_of("userPassword")
            return directory.verify_password(dn, secret)


def _keys(directory: Directory, attribute: str, values: object) -> set[object]:
    assert isinstance(values, list | tuple)
    name = directory.schema.attribute_name(attribute) or attribute
    return {directory.schema.key(name, value) for value in values}


def applied(entry: Entry, changes: Sequence[Change]) -> Entry:
    """The entry as it is after these changes."""
    attributes = dict(entry.attributes)
    for change in changes:
        remaining = [value for value in attributes.get(change.attribute, []) if value not in change.removed]
        attributes[change.attribute] = [*remaining, *(value for value in change.added if value not in remaining)]
        if not attributes[change.attribute]:
            del attributes[change.attribute]
    return Entry(entry.dn, attributes)
