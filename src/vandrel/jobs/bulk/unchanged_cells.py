"""Cells that say what an object has already, in the very words of a list of it: they change nothing.

What would be a trap in a new value, as ``#REF!`` or a space that does not show, is none in one that is there.
"""

from __future__ import annotations

from collections.abc import Collection

from vandrel.directory.entry import Entry
from vandrel.fields import Shape
from vandrel.intake.description import BETWEEN, join_values, split_values
from vandrel.intake.item import Item
from vandrel.intake.traps import harmless, legible, unquoted
from vandrel.objects.context import Context

#: Whom these name is looked up, and not compared.
_LOOKED_UP = (Shape.REFERENCE, Shape.MEMBERSHIPS, Shape.ROLES, Shape.SECRET, Shape.OCTETS)


def drop_unchanged(context: Context, item: Item, entry: Entry, key: Collection[str]) -> None:
    """Take out of a row what it says as `vandrel find` puts it out, with all that was found fault with in it.

    The fields of the `key` stay: it is by them that the row is known.
    """
    names = {*item.raw, *(name for name, values in item.fields.items() if len(values) > 1)}
    stored = [value for values in entry.attributes.values() for value in values if isinstance(value, str)]
    for name in {*names, *item.fields} if any(map(_is_altered, stored)) else names:
        field = context.fields.get(name)
        if field is None or field.shape in _LOOKED_UP or name in key:
            continue
        together = join_values if field.many else BETWEEN.join
        listed = together(context.dialect.read(entry, name))
        cell = item.raw.get(name) or together(item.fields.get(name, ()))
        parts_of = _pieces if field.many else _whole
        if parts_of(cell) in {parts_of(form) for form in (listed, harmless(listed), unquoted(listed))}:
            item.fields.pop(name, None)
            header = item.columns.get(name, name)
            item.findings = tuple(finding for finding in item.findings if finding.where.header != header)


def _whole(cell: str) -> str:
    return legible(cell).strip()


def _pieces(cell: str) -> str:
    """A cell of a field with several values, without what is lost around them."""
    return join_values(split_values(legible(cell), BETWEEN))


def _is_altered(value: str) -> bool:
    """Whether reading a value alters it: a spreadsheet cannot keep it, or it has a quote before it that means none."""
    return (not value.isprintable() and legible(value) != value) or unquoted(value) != value
