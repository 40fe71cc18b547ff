"""Accounts of one person: those that share the employee number, as an administrative one beside the everyday one."""

from __future__ import annotations

from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare
from vandrel.fields import ACCOUNT
from vandrel.objects.context import Context


def accounts_of(context: Context, entry: Entry) -> list[Entry]:
    """The other accounts of the person who has this one, by name; none where it has no number."""
    number, attribute = context.one(entry, "number"), context.dialect.attribute("number", ACCOUNT)
    if not number or not attribute:
        return []
    where = And((context.dialect.filter_for(ACCOUNT), Compare(attribute, "=", number)))
    found = context.directory.search(context.charter.base, where=where)
    return sorted((other for other in found if other.dn != entry.dn), key=lambda other: other.dn.key)
