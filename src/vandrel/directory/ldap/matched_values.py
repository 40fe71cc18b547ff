"""Some values of lists that may be long, without the lists: by the matched values control (RFC 3876).

It lets through which of the values that are named are there. Whether there are others, no server tells; so some names
are tried that stand near those that are known, since who is kept together is mostly listed together. Only where too few
of them are in a list, all of it is read.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence

from ldap.controls import MatchedValuesControl

from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import EVERYTHING, Compare, Or, Present
from vandrel.directory.ldap.searches import Question, Searches, SearchesAhead
from vandrel.directory.port import Scope
from vandrel.directory.schema import Schema

#: The control, as a server lists it.
MATCHED_VALUES = MatchedValuesControl.controlType
#: Containers whose objects are tried, from the innermost out; and how many names that are known are asked for at once.
_CONTAINERS, _AT_ONCE = 3, 50


class MatchedValues:
    """Asks one server; see `vandrel.directory.port.Directory` for what its methods promise."""

    def __init__(
        self, searches: Searches | SearchesAhead, schema: Schema, contexts: Sequence[DN],
        entry_of: Callable[[str, dict[str, list[bytes]]], Entry], held: dict[DN, list[DN]],
    ) -> None:  # fmt: skip
        """Take note in `held` of some names below each container that was looked at: they are no more than a guess."""
        self._searches, self._schema, self._contexts, self._entry_of = searches, schema, contexts, entry_of
        self._held = held

    def pointing(self, dns: Sequence[DN], attributes: Sequence[str], *, leaving: bool) -> Iterator[Entry]:
        """Every entry once that has one of these names as a value, as `Directory.pointing` says."""
        found: dict[str, Entry] = {}
        if leaving:
            self._ask_near(dns)
        for start in range(0, len(dns), _AT_ONCE):
            some = [str(dn) for dn in dns[start : start + _AT_ONCE]]
            wanted = [Compare(name, "=", value) for name in attributes for value in some]
            control = _only(Present("objectClass"), *wanted, *(Compare(name, "=", "") for name in attributes))
            for context in self._contexts:
                question = (context, Scope.SUBTREE, Or(tuple(wanted)))
                for result in self._searches.one(question, [*attributes, "objectClass"], [control]):
                    entry = self._entry_of(*result)
                    known = found.setdefault(entry.dn.key, entry)
                    if known is not entry:
                        for name in attributes:
                            _take(known, name, entry.values_of(name))
        if leaving:
            lists = [(entry, name) for entry in found.values() for name in attributes
                     if name in entry.attributes and name in self._must(entry)]  # fmt: skip
            for (entry, name), others in zip(lists, self._others(lists, dns, 1), strict=True):
                _take(entry, name, others)
        yield from found.values()

    def some_values(self, dn: DN, attribute: str, values: Collection[str], others: int) -> list[Value]:
        """Which of these values an entry has, and so many others, one at the least; fewer where those are all."""
        known = list(filter(None, map(names.name_in, values)))
        self._ask_near(known)
        question, control = (dn, Scope.BASE, EVERYTHING), _only(*(Compare(attribute, "=", value) for value in values))
        answers = [self._entry_of(*result) for result in self._searches.one(question, [attribute], [control])]
        if not answers:
            return []
        return [*answers[0].values_of(attribute), *next(self._others([(answers[0], attribute)], known, others))]

    def _must(self, entry: Entry) -> Collection[str]:
        return self._schema.shape(tuple(entry.texts("objectClass")))[0]

    # --- whoever else is in a list

    def _others(self, lists: Iterable[tuple[Entry, str]], known: Sequence[DN], most: int) -> Iterator[list[Value]]:
        """For each list, so many values of it that are not known; fewer where those are all."""
        keys = {dn.key for dn in known}
        near = [dn for container in self._containers(known) for dn in self._held_by(container)]
        tried = list(dict.fromkeys(str(dn) for dn in near if dn.key not in keys))
        asked: list[tuple[Entry, str, tuple[Question, list[str], list[MatchedValuesControl]]]] = []
        for entry, name in lists:
            control = _only(*(Compare(name, "=", value) for value in tried))
            asked.append((entry, name, ((entry.dn, Scope.BASE, EVERYTHING), [name], [control])))
        if tried:
            for _, _, question in asked:
                self._searches.ask_ahead(*question)
        for entry, name, question in asked:
            found = [value for result in (self._searches.one(*question) if tried else ())
                     for value in self._entry_of(*result).values_of(name)]  # fmt: skip
            if len(found) < most:
                found = [value for value in self._whole(entry.dn, name)
                         if value and self._schema.value_key(name, value) not in keys]  # fmt: skip
            yield found[:most]

    def _whole(self, dn: DN, name: str) -> list[Value]:
        """All of a list."""
        results = self._searches.one((dn, Scope.BASE, EVERYTHING), [name], [])
        return [value for result in results for value in self._entry_of(*result).values_of(name)]

    def _held_by(self, container: DN) -> list[DN]:
        """Some of the names below a container."""
        if container not in self._held:
            found = self._searches.few((container, Scope.SUBTREE, EVERYTHING), ["1.1"])
            if not found:
                return []
            self._held[container] = [DN.read(dn) for dn, _ in found]
        return self._held[container]

    def _ask_near(self, known: Sequence[DN]) -> None:
        for container in self._containers(known):
            if container not in self._held:
                self._searches.ask_ahead((container, Scope.SUBTREE, EVERYTHING), ["1.1"], [])

    def _containers(self, known: Sequence[DN]) -> list[DN]:
        containers: dict[DN, None] = {}
        for dn in known:
            above = dn.parent
            while self._is_held(above) and len(containers) < _CONTAINERS:
                containers[above] = None
                above = above.parent
        return list(containers)

    def _is_held(self, dn: DN) -> bool:
        return any(dn.is_within(context) for context in self._contexts)


def _only(*wanted: Compare | Present) -> MatchedValuesControl:
    return MatchedValuesControl(True, f"({''.join(map(filters.to_text, wanted))})")


def _take(entry: Entry, name: str, values: Iterable[Value]) -> None:
    held = entry.attributes.setdefault(name, [])
    held += [value for value in values if value not in held]
