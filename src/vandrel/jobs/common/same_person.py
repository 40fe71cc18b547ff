"""Accounts of one person: those that share the employee number, as an administrative one beside the everyday one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import ACCOUNT
from vandrel.objects.context import Context

#: Accounts up to which others of the same people are looked for.
_FEW = 20


def accounts_of(context: Context, entry: Entry) -> list[Entry]:
    """The other accounts of the person who has this one, by name; none where it has no number."""
    number, attribute = context.one(entry, "number"), context.dialect.attribute("number", ACCOUNT)
    if not number or not attribute:
        return []
    where = And((context.dialect.filter_for(ACCOUNT), Compare(attribute, "=", number)))
    entries = context.directory.search(context.charter.base, where=where)
    return sorted((other for other in entries if other.dn != entry.dn), key=lambda other: other.dn.key)


def told_of_others(context: Context, entries: Sequence[Entry], verb: str) -> Iterator[Finding]:
    """A note of each account that is of the same person as one of these, and stays as it is; of very many, none."""
    chosen = {entry.dn for entry in entries}
    for entry in entries if len(entries) <= _FEW else ():
        for other in accounts_of(context, entry) if context.object_type(entry) == ACCOUNT else ():
            if other.dn not in chosen:
                what = f"{context.label(other)} is of the same person, by its number, and stays as it is"
                remedy = f"vandrel {verb} {context.one(other, 'login')}"
                yield Finding(Code.REFUSED, what, Location(dn=str(entry.dn)), remedy, NOTE)
