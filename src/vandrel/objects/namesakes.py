"""Other objects by name, for people: of those who share theirs with somebody, what tells them apart."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable
from functools import cache

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.filter import Compare, Or
from vandrel.fields import ACCOUNT
from vandrel.objects.context import Context
from vandrel.text.string_prep import prepare

#: Names that are asked for in one request; lists that are longer are told apart among themselves.
_TOGETHER = 50
#: Objects in one list from which on those that share a name are told apart by their places.
_MANY = 1000


class Namesakes:
    """What other objects are called in one view or proposal: what was asked of the directory once is kept."""

    def __init__(self, context: Context) -> None:
        self._context = context
        #: By prepared name: the label and place of all objects that are called so, by the keys of their names.
        self._by_key: dict[str, dict[str, str]] = {}

    def shown(self, values: Collection[str], differing: Collection[str] | None = None) -> list[str]:
        """The names of objects, in the order of the values.

        Whoever shares a name with another object is called by logon name and full name, or with the place.

        Args:
            values: distinguished names.
            differing: those of them that must be told from everybody in the directory; None: all of a short list.

        Raises:
            VandrelError: a value is no distinguished name.

        """
        dns = [names.parse(value) for value in values]
        prepared = [prepare(dn.name) for dn in dns]
        shared = Counter(prepared)
        if differing is None:
            differing = values if len(dns) <= _TOGETHER else ()
        doubtful = {names.parse(value).key for value in differing}
        if len(dns) > _MANY:  # too many share theirs to ask for all of them
            self.learn(dn for dn in dns if dn.key in doubtful)
            place = cache(self._context.place)
            return [f"{dn.name} in {place(dn.parent)}" if shared[name] > 1 else self._for_people(dn, name)
                    for dn, name in zip(dns, prepared, strict=True)]  # fmt: skip
        self.learn(dn for dn, name in zip(dns, prepared, strict=True) if dn.key in doubtful or shared[name] > 1)
        return [self._for_people(dn, name) for dn, name in zip(dns, prepared, strict=True)]

    def around(
        self, before: Collection[str], after: Collection[str], *, of_many: bool = False
    ) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """The names of the objects that stand in a list before and after a change, each list by name.

        Who comes or goes is told from everybody in the directory; with `of_many`, from the others in the lists.
        """
        values = list(dict.fromkeys([*before, *after]))
        called = dict(zip(values, self.shown(values, () if of_many else set(before) ^ set(after)), strict=True))
        old, new = (tuple(sorted((called[value] for value in each), key=prepare)) for each in (before, after))
        return old, new

    def learn(self, dns: Iterable[DN]) -> None:
        """Ask who else is called as these are, as many in one request as it may take."""
        new = {prepare(dn.name): dn for dn in dns if dn and prepare(dn.name) not in self._by_key}
        self._by_key |= {name: {} for name in new}
        entries = list(new.values())
        context = self._context
        attributes = (context.dialect.attribute(name, ACCOUNT) for name in ("login", "full"))
        only = ["objectClass", *filter(None, attributes)]
        for start in range(0, len(entries), _TOGETHER):
            named = Or(tuple(Compare(dn.naming_attribute, "=", dn.name) for dn in entries[start : start + _TOGETHER]))
            for entry in context.directory.search(context.charter.base, where=named, only=only):
                if (own := self._by_key.get(prepare(entry.dn.name))) is not None:
                    label, place = context.label(entry), context.place(entry.dn.parent)
                    own[entry.dn.key] = label if label != entry.dn.name else f"{label} in {place}"

    def _for_people(self, dn: DN, prepared: str) -> str:
        alike = self._by_key.get(prepared, {})
        return alike.get(dn.key, dn.name) if len(alike) > 1 else dn.name
