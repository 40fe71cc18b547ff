"""The names of a whole directory, read in one pass: for requests that would ask for thousands of them one by one."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.fields import ACCOUNT, UNIT
from vandrel.jobs.house import House
from vandrel.text.prep import prepare

Key = tuple[str, ...]


class Ledger:
    """What is taken, and who is found by a key, as the directory was when it was read.

    Attributes:
        names: the keys of the names of all entries.
        found: the entries whose values of the key's fields are wanted ones.
        others: the (key, name) of entries that have such values, are of the kinds in question, and are not wanted.

    """

    def __init__(
        self, house: House, key: Sequence[str] = (), wanted: Collection[Key] = (), kinds: Collection[str] = (),
        sort: str = ACCOUNT,
    ) -> None:  # fmt: skip
        self._schema = house.directory.schema
        self._unique = tuple(house.dialect.unique_attributes())
        self._holders: dict[str, dict[str, DN]] = {attribute: {} for attribute in self._unique}
        self.names: set[str] = set()
        self.found: dict[Key, list[Entry]] = {}
        self.others: list[tuple[Key, DN]] = []
        for entry in house.directory.search(house.charter.base):
            self.names.add(entry.dn.key)
            for attribute in self._unique:
                for value in entry.texts(attribute):
                    self._holders[attribute][str(self._schema.key(attribute, value))] = entry.dn
            if key and house.dialect.sort_of(entry) == sort:
                self._by_key(house, key, wanted, kinds, entry)

    def _by_key(
        self, house: House, key: Sequence[str], wanted: Collection[Key], kinds: Collection[str], entry: Entry
    ) -> None:  # fmt: skip
        def read(field: str) -> Sequence[str]:
            if field == "place":
                return [house.place(entry.dn if house.dialect.sort_of(entry) == UNIT else entry.dn.parent)]
            return house.dialect.read(entry, field)

        own = key_of(key, read)
        if own in wanted:
            self.found.setdefault(own, []).append(entry)
        elif all(own) and (not kinds or house.one(entry, "kind") in kinds):
            self.others.append((own, entry.dn))

    def held(self, attribute: str) -> Mapping[str, DN]:
        """Who has which value of an attribute that must be unique, by the key of the value."""
        return self._holders.get(attribute, {})


def key_of(fields: Iterable[str], read: Callable[[str], Sequence[str]]) -> Key:
    """The values of these fields as they are compared; empty where one is missing."""
    return tuple([prepare(values[0]) if (values := read(field)) else "" for field in fields])
