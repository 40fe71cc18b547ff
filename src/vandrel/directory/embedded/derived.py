"""Operational attributes that stand in no entry of the file, and are worked out where somebody asks for them."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection

from vandrel.directory.entry import Entry

#: RFC 5020; ITU-T X.501, 14.4.4.
ENTRY_DN, HAS_SUBORDINATES = "entryDN", "hasSubordinates"
DERIVED = frozenset((ENTRY_DN, HAS_SUBORDINATES))

_SUPERIORS = "id IN (SELECT parent FROM entry WHERE parent IS NOT NULL)"


def condition(name: str, key: object) -> tuple[str, tuple[object, ...]]:
    """What finds, in SQL on ``entry``, the entries whose attribute has the value with this key."""
    if name == ENTRY_DN:
        return "key = ?", (key,)
    return (_SUPERIORS if key == "TRUE" else f"NOT {_SUPERIORS}"), ()


def with_derived(db: sqlite3.Connection, entry: Entry, names: Collection[str]) -> Entry:
    """The entry with those of these attributes that somebody asks for."""
    attributes = dict(entry.attributes)
    if ENTRY_DN in names:
        attributes[ENTRY_DN] = [str(entry.dn)]
    if HAS_SUBORDINATES in names:
        below = "SELECT EXISTS(SELECT 1 FROM entry WHERE parent = (SELECT id FROM entry WHERE key = ?))"
        attributes[HAS_SUBORDINATES] = ["TRUE" if db.execute(below, (entry.dn.key,)).fetchone()[0] else "FALSE"]
    return Entry(entry.dn, attributes)
