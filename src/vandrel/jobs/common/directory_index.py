"""The names of a whole directory, read in one pass: for requests that would ask for thousands of them one by one."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.fields import ACCOUNT, UNIT
from vandrel.jobs.common.number_allocator import NumberKey, number_key
from vandrel.objects.context import Context
from vandrel.text.string_prep import prepare

Key = tuple[str, ...]


class DirectoryIndex:
    """What is taken, and who is found by a key, as the directory was when it was read.

    Attributes:
        names: the keys of the names of all entries.
        found: the entries whose values of the key's fields are wanted ones.
        numbers: who has which employee number, by `vandrel.jobs.common.number_allocator.number_key`.
        others: the (key, name) of entries that have such values, are of the kinds in question, and are not wanted.

    """

    def __init__(
        self, context: Context, key: Sequence[str] = (), fields: Collection[Key] = (), kinds: Collection[str] = (),
        object_type: str = ACCOUNT,
    ) -> None:  # fmt: skip
        self._schema = context.directory.schema
        self._unique = tuple(context.dialect.unique_attributes())
        self._find_owners: dict[str, dict[str, DN]] = {attribute: {} for attribute in self._unique}
        self.names: set[str] = set()
        self.found: dict[Key, list[Entry]] = {}
        self.others: list[tuple[Key, DN]] = []
        self.numbers: dict[NumberKey, DN] = {}
        numbered = context.dialect.attribute("number", ACCOUNT)
        for entry in context.directory.search(context.charter.base):
            self.names.add(entry.dn.key)
            for attribute in self._unique:
                for value in entry.texts(attribute):
                    self._find_owners[attribute][str(self._schema.key(attribute, value))] = entry.dn
            if numbered and (number := entry.text(numbered)):
                number_held = number_key(context, context.one(entry, "kind"), number)
                self.numbers |= {number_held: entry.dn} if number_held is not None else {}
            if key and context.dialect.object_type_of(entry) == object_type:
                self._by_key(context, key, fields, kinds, entry)

    def _by_key(
        self, context: Context, key: Sequence[str], fields: Collection[Key], kinds: Collection[str], entry: Entry
    ) -> None:  # fmt: skip
        def read(field: str) -> Sequence[str]:
            if field == "place":
                return [context.place(entry.dn if context.dialect.object_type_of(entry) == UNIT else entry.dn.parent)]
            return context.dialect.read(entry, field)

        own = key_of(key, read)
        if own in fields:
            self.found.setdefault(own, []).append(entry)
        elif all(own) and (not kinds or context.one(entry, "kind") in kinds):
            self.others.append((own, entry.dn))

    def held(self, attribute: str) -> Mapping[str, DN]:
        """Who has which value of an attribute that must be unique, by the key of the value."""
        return self._find_owners.get(attribute, {})


def key_of(fields: Iterable[str], value_of: Callable[[str], Sequence[str]]) -> Key:
    """The values of these fields as they are compared; empty where one is missing."""
    return tuple([prepare(values[0]) if (values := value_of(field)) else "" for field in fields])
