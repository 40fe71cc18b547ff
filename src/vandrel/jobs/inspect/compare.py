"""Two objects side by side: what is the same, different, only here, only there; groups too."""

from __future__ import annotations

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.entry import Entry
from vandrel.fields import FIELDS, Shape
from vandrel.objects.context import Context
from vandrel.text.string_prep import prepare

#: Every object has one of its own.
_OWN = frozenset({"password", "change", "locked"})


class Row(Struct, frozen=True):
    """One field: the values of the one and of the other; ``same`` is whether they are equal."""

    field: str
    left: tuple[str, ...]
    right: tuple[str, ...]

    @property
    def same(self) -> bool:
        return sorted(map(prepare, self.left)) == sorted(map(prepare, self.right))


def compare(context: Context, left: Entry, right: Entry) -> list[Row]:
    """The fields that one of the two has values in, in the order of the fields; the place first."""
    object_types = {context.dialect.object_type_of(entry) for entry in (left, right)}
    rows = [Row("place", (context.place(left.dn.parent),), (context.place(right.dn.parent),))]
    for name, field in FIELDS.items():
        if name not in _OWN and object_types & field.on:
            row = Row(name, _values(context, left, name), _values(context, right, name))
            if row.left or row.right:
                rows.append(row)
    return rows


def _values(context: Context, entry: Entry, name: str) -> tuple[str, ...]:
    if context.dialect.object_type_of(entry) not in FIELDS[name].on:
        return ()
    if FIELDS[name].shape is Shape.MEMBERSHIPS:
        found = context.directory.search(context.charter.base, where=context.dialect.groups_filter(entry))
        return tuple(sorted((group.dn.name for group in found), key=prepare))
    values = context.dialect.read(entry, name)
    if FIELDS[name].shape is Shape.REFERENCE:
        return tuple(sorted((names.parse(value).name for value in values), key=prepare))
    return tuple(values)
