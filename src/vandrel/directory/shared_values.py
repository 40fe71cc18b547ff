"""Values that very many entries have, kept once for all of those that are in memory together."""

from __future__ import annotations

from vandrel.directory.entry import Value

#: After so many different values of an attribute it is looked whether they come again at all.
_ENOUGH = 1000


class SharedValues:
    """Finds out by itself of which attributes many entries have the same values."""

    def __init__(self) -> None:
        self._known: dict[str, dict[Value | tuple[Value, ...], list[Value]]] = {}
        self._entries = 0
        #: The attributes of which most entries have values of their own.
        self._apart: set[str] = set()

    def share(self, attributes: dict[str, list[Value]]) -> None:
        """Give an entry the lists of earlier ones where they are the same: nobody may change one of them in place."""
        self._entries += 1
        apart = self._apart
        for name, values in attributes.items():
            if name in apart or not values:
                continue
            known = self._known.get(name)
            if known is None:
                known = self._known[name] = {}
            key = values[0] if len(values) == 1 else tuple(values)
            if (earlier := known.get(key)) is not None:
                attributes[name] = earlier
                continue
            known[key] = values
            if len(known) % _ENOUGH == 0 and 2 * len(known) > self._entries:
                apart.add(name)
                del self._known[name]
