"""Which employee numbers are taken: one account of each kind has one, unless the charter says otherwise."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import repeat

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare
from vandrel.errors import Code, Finding, Location
from vandrel.fields import ACCOUNT
from vandrel.objects.context import Context
from vandrel.text.string_prep import prepare_all

#: A number and the accounts among which it is unique: a kind, or an empty text for all.
NumberKey = tuple[str, str]

_AMONG = {"in-kind": "among accounts of one kind", "everywhere": "among all accounts"}


def number_key(context: Context, kind: str, number: str) -> NumberKey | None:
    """What nobody else may have who has this number; None where the charter lets numbers repeat."""
    return number_keys(context, [kind], [number])[0]


def number_keys(context: Context, kinds: Sequence[str], numbers: Sequence[str]) -> list[NumberKey | None]:
    """What `number_key` gives for each of many."""
    scope = context.charter.document.number_unique
    if scope == "no":
        return [None] * len(numbers)
    among = kinds if scope == "in-kind" else repeat("", len(numbers))
    return [key if key[1] else None for key in zip(among, prepare_all(numbers), strict=True)]


def taken_number(context: Context, number: str, holder: str) -> Finding:
    """The fault of a number that somebody else has."""
    what = f"{number} is taken by {holder}; it must be unique {_AMONG[context.charter.document.number_unique]}"
    remedy = "give another: number=..., or let numbers repeat by number-unique in the charter"
    return Finding(Code.TAKEN, what, Location(field="number"), remedy)


class NumberAllocator:
    """Answers for the numbers of one request; what `check` has let pass counts as taken."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._given: dict[NumberKey, DN] = {}

    def check(self, kind: str, number: str, dn: DN | None) -> list[Finding]:
        """Find fault with a number that somebody other than `dn` has, or gets in the same request."""
        key = number_key(self._context, kind, number)
        if key is None:
            return []
        earlier = self._given.get(key)
        holder = earlier or self._holder(key, number, dn)
        if holder is not None and holder != dn:
            whose = f"{holder.name} in {self._context.place(holder.parent)}"
            meanwhile = ", who gets it in the same request" if earlier is not None else ""
            return [taken_number(self._context, number, f"{whose}{meanwhile}")]
        if dn is not None:
            self._given[key] = dn
        return []

    def _holder(self, key: NumberKey, number: str, dn: DN | None) -> DN | None:
        dialect = self._context.dialect
        attribute = dialect.attribute("number", ACCOUNT)
        if not attribute:
            return None
        where = And((dialect.filter_for(ACCOUNT), Compare(attribute, "=", number)))
        others = self._context.directory.search(self._context.charter.base, where=where)
        return next((other.dn for other in others if other.dn != dn and self._key_of(other, number) == key), None)

    def _key_of(self, entry: Entry, number: str) -> NumberKey | None:
        return number_key(self._context, self._context.one(entry, "kind"), number)
