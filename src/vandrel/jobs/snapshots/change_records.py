"""Differences as operations in an order in which each can be made: for LDIF that turns the one state into the other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from vandrel.directory import ldif
from vandrel.directory.dn import DN
from vandrel.directory.entry import Value
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry, RenameEntry
from vandrel.directory.schema import Schema
from vandrel.directory.secret_attributes import is_secret
from vandrel.fields import UNIT
from vandrel.jobs.snapshots.differences import Difference
from vandrel.objects.context import Context

Operation = AddEntry | ModifyEntry | RenameEntry | DeleteEntry


def as_operations(context: Context, differing: Sequence[Difference]) -> list[Operation]:
    """The operations that make of what was before what there is after; secrets are left out.

    What is to be deleted goes last, for something in it may be moved away first; unless its name is wanted by another.
    What was deleted and made again by the same name is changed, so that what points at it still does.
    """
    protected = context.dialect.attribute("protected", UNIT)
    return list(_Sequence(differing, context.directory.schema, protected).operations())


def as_ldif(operations: Iterable[Operation]) -> Iterator[bytes]:
    """Write operations as change records of RFC 2849."""
    yield b"version: 1\n\n"
    for operation in operations:
        yield ldif.change(operation).encode()


class _Sequence:
    """The objects that differ, by their place in the list, with the name that each has by now."""

    def __init__(self, differing: Sequence[Difference], schema: Schema, protected: str) -> None:
        self._differing = differing
        self._schema = schema
        self._protected = protected
        self._now = {n: each.before.dn for n, each in enumerate(differing) if each.before is not None}
        self._new_names = {
            each.before.dn.key: str(each.after.dn)
            for each in differing
            if each.before is not None and each.after is not None
        }
        self._deleted: set[int] = set()
        self._released: set[int] = set()
        #: The keys of the names that are or were in use, and of those that hold one of them.
        self._used = {dn.key for dn in self._now.values()}
        self._holding = {above.key for dn in self._now.values() for above in dn.ancestors()}
        deleted = {each.before.dn.key: n for n, each in enumerate(differing) if each.before and not each.after}
        #: What is made by the name of something that goes, with that.
        self._again = {
            n: other for n, each in enumerate(differing) if each.after and not each.before
            and (other := deleted.get(each.after.dn.key)) is not None and self._is_alike(other, n)
        }  # fmt: skip

    def operations(self) -> Iterator[Operation]:
        """What is made and moved, superiors first; then what changes; then what goes, superiors last."""
        differing = self._differing
        yield from self._release()
        coming = [(n, each.after) for n, each in enumerate(differing) if each.after is not None]
        for number, after in sorted(coming, key=lambda pair: (len(pair[1].dn), pair[1].dn.key)):
            if number in self._again:
                self._deleted.add(self._again[number])
            elif differing[number].before is None:
                yield from self._make_room(number, after.dn)
                attributes = {name: values for name, values in after.attributes.items() if self._tells(name)}
                yield AddEntry(after.dn, attributes)
            elif self._now[number] != after.dn or self._now[number].rdn_text != after.dn.rdn_text:
                yield from self._make_room(number, after.dn)
                yield self._renamed(number, after.dn)
        for number, after in coming:
            changes = tuple(
                Change(name, self._followed(name, before), after_values)
                for name, before, after_values in self._changes(number) if self._tells(name)
            )  # fmt: skip
            if changes:
                yield ModifyEntry(after.dn, changes)
        yield from self._delete([number for number, each in enumerate(differing) if each.after is None])

    def _release(self) -> Iterator[Operation]:
        """Let what is protected move and go."""
        for number, each in enumerate(self._differing):
            if each.before is None or not each.before.values_of(self._protected):
                continue
            if each.after is None or each.after.dn.key != each.before.dn.key:
                self._released.add(number)
                yield ModifyEntry(
                    each.before.dn, (Change(self._protected, tuple(each.before.values_of(self._protected))),)
                )

    def _is_alike(self, deleted: int, created: int) -> bool:
        before, after = self._differing[deleted].before, self._differing[created].after
        return bool(before and after and set(before.texts("objectClass")) == set(after.texts("objectClass")))

    def _changes(self, number: int) -> Iterator[tuple[str, tuple[Value, ...], tuple[Value, ...]]]:
        """Attributes that differ, with the values that go and come."""
        after = self._differing[number].after
        before = self._differing[self._again[number]].before if number in self._again else None
        if before is None or after is None:
            changes = self._differing[number].changes
            if number in self._released and after is not None:
                changes = tuple(change for change in changes if change[0] != self._protected)
                if is_protected := after.values_of(self._protected):
                    changes = (*changes, (self._protected, (), tuple(is_protected)))
            yield from changes
            return
        for name in sorted({*before.attributes, *after.attributes}):
            old, new = before.values_of(name), after.values_of(name)
            if set(old) != set(new):
                yield name, tuple(v for v in old if v not in new), tuple(v for v in new if v not in old)

    def _followed(self, name: str, values: tuple[Value, ...]) -> tuple[Value, ...]:
        """Values as they stand once everything is renamed: what points at an object follows it."""
        if not self._schema.is_reference(name):
            return values
        return tuple(self._new_names.get(DN.read(str(value)).key, value) if value else value for value in values)

    def _tells(self, name: str) -> bool:
        definition = self._schema.attribute(name)
        return not is_secret(name) and (definition is None or not definition.read_only)

    def _renamed(self, number: int, new: DN) -> RenameEntry:
        """A new name, for the object and all in it."""
        old = self._now[number]
        inside = [n for n, dn in self._now.items() if dn.is_within(old)] if old.key in self._holding else [number]
        for n in inside:
            self._now[n] = dn = self._now[n].moved(old, new)
            self._used.add(dn.key)
            self._holding.update(above.key for above in dn.ancestors())
        return RenameEntry(old, new)

    def _make_room(self, number: int, keys: DN) -> Iterator[Operation]:
        """Let whatever has this name by now go, if nothing of it stays, or have another name for a while."""
        for other, dn in list(self._now.items()) if keys.key in self._used else ():
            if other == number or other in self._deleted or dn != keys:
                continue
            inside = [n for n, each in self._now.items() if each.is_within(dn) and n not in self._deleted]
            if all(self._differing[n].after is None for n in inside):
                yield from self._delete(inside)
            else:
                yield self._renamed(other, dn.parent.child(dn.naming_attribute, f"{dn.name} (to be renamed {other})"))

    def _delete(self, numbers: Sequence[int]) -> Iterator[Operation]:
        remaining = [number for number in numbers if number not in self._deleted]
        self._deleted.update(remaining)
        for dn in sorted((self._now[number] for number in remaining), key=lambda dn: (-len(dn), dn.key)):
            yield DeleteEntry(dn)
