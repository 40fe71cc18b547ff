"""Objects in an order in which they can be made again: each after the one that holds it, none kept in memory."""

from __future__ import annotations

from collections.abc import Iterator

from vandrel.directory.dn import DN, LEVEL
from vandrel.directory.entry import Entry
from vandrel.directory.filter import EVERYTHING, Filter
from vandrel.directory.port import Directory, Scope


def superiors_first(directory: Directory, base: DN, where: Filter = EVERYTHING) -> Iterator[Entry]:
    """The entries within `base` that the filter finds, superiors before their subordinates.

    Servers have an order of their own, mostly the one in which objects were made. The names alone are read first, to
    learn which objects hold others; then each entry goes out at once, unless what holds it is still to come. So no
    more is in memory than the names of those that hold others, and the few entries that stand before their superior.
    """
    names = (entry.dn.key for entry in directory.search(base, where=where, only=["objectClass"]))
    find_owners = {key.rpartition(LEVEL)[0] for key in names}
    come = _found_among(directory, base, where, find_owners)  # only what comes itself can be waited for
    there: set[str] = set()
    waiting: dict[str, list[Entry]] = {}
    for entry in directory.search(base, where=where):
        above = entry.dn.key.rpartition(LEVEL)[0]
        if above in come and above not in there:
            waiting.setdefault(above, []).append(entry)
            continue
        yield from _with_those_that_wait(entry, find_owners, there, waiting)


def _found_among(directory: Directory, base: DN, where: Filter, find_owners: set[str]) -> set[str]:
    """Which of the objects that hold others are found by the filter themselves."""
    if where == EVERYTHING:
        return {key for key in find_owners if key == base.key or key.startswith(base.key + LEVEL)}
    return {entry.dn.key for entry in directory.search(base, Scope.SUBTREE, where, ["objectClass"])} & find_owners


def _with_those_that_wait(
    entry: Entry, find_owners: set[str], there: set[str], waiting: dict[str, list[Entry]]
) -> Iterator[Entry]:
    todo = [entry]
    while todo:
        one = todo.pop(0)
        yield one
        if one.dn.key in find_owners:
            there.add(one.dn.key)
            todo += waiting.pop(one.dn.key, [])
