"""Two objects side by side: what is the same, different, only here, only there; groups too."""

from __future__ import annotations

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.entry import Entry
from vandrel.fields import FIELDS, Shape
from vandrel.jobs.house import House
from vandrel.text.prep import prepare

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


def compare(house: House, left: Entry, right: Entry) -> list[Row]:
    """The fields that one of the two has values in, in the order of the fields; the place first."""
    sorts = {house.dialect.sort_of(entry) for entry in (left, right)}
    rows = [Row("place", (house.place(left.dn.parent),), (house.place(right.dn.parent),))]
    for name, field in FIELDS.items():
        if name not in _OWN and sorts & field.on:
            row = Row(name, _values(house, left, name), _values(house, right, name))
            if row.left or row.right:
                rows.append(row)
    return rows


def _values(house: House, entry: Entry, name: str) -> tuple[str, ...]:
    if house.dialect.sort_of(entry) not in FIELDS[name].on:
        return ()
    if FIELDS[name].shape is Shape.MEMBERSHIPS:
        found = house.directory.search(house.charter.base, where=house.dialect.groups_filter(entry))
        return tuple(sorted((group.dn.name for group in found), key=prepare))
    values = house.dialect.read(entry, name)
    if FIELDS[name].shape is Shape.REFERENCE:
        return tuple(sorted((names.parse(value).name for value in values), key=prepare))
    return tuple(values)
