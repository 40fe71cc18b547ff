"""Values that are names, in the file: one row for each, so that who points at an object is found at once."""

from __future__ import annotations

import sqlite3

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.embedded.row_codec import Data, Index, decode
from vandrel.directory.operations import Change
from vandrel.directory.schema import shorten
from vandrel.errors import Code, DirectoryError, Location

#: Left to itself, SQLite goes through all references of an attribute for those of one entry.
_OF_ENTRY = "FROM reference INDEXED BY reference_entry"
#: Lists in which the empty name stands for nobody.
_LISTS_OF_MEMBERS = ("member", "uniqueMember")


#: Names that one statement takes (sqlite.org/limits.html, 9, allows a little more).
_MOST_KEYS = 30_000


class ReferenceTable:
    """The table ``reference`` of an open file, within the transaction of whoever uses it."""

    def __init__(self, db: sqlite3.Connection, index: Index, number_of_change: int) -> None:
        self._db, self._schema, self._index = db, index.schema, index
        self._number_of_change = number_of_change

    def change(self, entry: int, change: Change, dn: DN) -> None:
        """Make one change of a modification of the entry with this number and name."""
        number = self._index.references[change.attribute]
        if change.is_exclusive:
            keys = [names.parse(str(value)).key for value in (*change.removed, *change.added)]
            others = f"AND key NOT IN ({', '.join('?' * len(keys))})"
            query = f"SELECT 1 FROM reference WHERE attribute = ? AND entry = ? {others}"
            if self._db.execute(query, (number, entry, *keys)).fetchone():
                raise changed_meanwhile(f"{change.attribute} has got another value", dn)
        if change.removed and change.added and self._is_made(entry, number, change):
            return  # somebody has made it so already
        for value in change.removed:
            key = names.parse(str(value)).key
            stored = self._db.execute(
                "DELETE FROM reference WHERE attribute = ? AND key = ? AND entry = ?", (number, key, entry)
            ).rowcount
            if not stored and change.added:
                raise changed_meanwhile(f"{change.attribute} no longer has the value {shorten(value)}", dn)
        for value in change.added:
            finding = self._schema.check_value(change.attribute, value, Location(dn=str(dn)))
            if finding:
                raise DirectoryError(finding.code, finding.what, where=finding.where)
            target = names.parse(str(value))
            self._db.execute(
                "INSERT OR IGNORE INTO reference(attribute, key, entry, dn) VALUES(?, ?, ?, ?)",
                (number, target.key, entry, str(target)),
            )

    def _is_made(self, entry: int, number: int, change: Change) -> bool:
        """Whether the names that are to come are there, in the same spelling, and none that is to go besides."""
        added, removed = (
            {names.parse(str(value)).key: str(value) for value in each} for each in (change.added, change.removed)
        )
        keys = (*added, *removed)
        if len(keys) > _MOST_KEYS:
            return False
        rows = self._db.execute(
            f"SELECT key, dn {_OF_ENTRY} WHERE entry = ? AND attribute = ? AND key IN ({', '.join('?' * len(keys))})",
            (entry, number, *keys),
        ).fetchall()
        have = dict(rows)
        is_there = all(key in have and (key not in removed or have[key] == spelled) for key, spelled in added.items())
        return is_there and not (removed.keys() - added.keys()) & have.keys()

    def some(self, entry: int) -> Data:
        """At most two values of each reference that the entry has: enough to check it, however long the list."""
        references: Data = {}
        for name, number in self._index.references.items():
            rows = self._db.execute(
                f"SELECT dn {_OF_ENTRY} WHERE entry = ? AND attribute = ? LIMIT 2", (entry, number)
            ).fetchall()
            if rows:
                references[name] = [row[0] for row in rows]
        return references

    def follow(self, old: DN, new: DN) -> None:
        """Let every value that pointed at the object or below it point there again."""
        low, high = names.below(old.key)
        for number in self._index.references.values():
            # Two searches: for one with OR, SQLite goes through all values of the attribute.
            which = "SELECT entry, key FROM reference WHERE attribute = ? AND key"
            rows = self._db.execute(
                f"{which} = ? UNION ALL {which} >= ? AND key < ?", (number, old.key, number, low, high)
            ).fetchall()
            for entry, key in rows:
                moved = new.key + key[len(old.key) :]
                target = self._db.execute("SELECT dn FROM entry WHERE key = ?", (moved,)).fetchone()
                if target:
                    self._db.execute(
                        "UPDATE reference SET key = ?, dn = ? WHERE attribute = ? AND key = ? AND entry = ?",
                        (moved, target[0], number, key, entry),
                    )
                    self._touch(entry)

    def drop(self, dn: DN) -> None:
        """Take the name of an object from all that point at it; what must have one keeps it, or that of nobody."""
        for name, number in self._index.references.items():
            which = (number, dn.key)
            find_holders = "SELECT entry FROM reference WHERE attribute = ? AND key = ?"
            for (holder,) in self._db.execute(find_holders, which).fetchall():
                one = "attribute = ? AND key = ? AND entry = ?"
                if not self._must_keep(holder, name, number):
                    self._db.execute(f"DELETE FROM reference WHERE {one}", (*which, holder))
                elif name in _LISTS_OF_MEMBERS:  # RFC 4519, section 3.5: the last one to go leaves the empty name
                    self._db.execute(f"UPDATE reference SET key = '', dn = '' WHERE {one}", (*which, holder))
                self._touch(holder)

    def _touch(self, entry: int) -> None:
        self._db.execute("UPDATE entry SET change = ? WHERE id = ?", (self._number_of_change, entry))

    def _must_keep(self, holder: int, name: str, number: int) -> bool:
        """Whether an entry has but one name in a list that it must not be without."""
        (count,) = self._db.execute(
            f"SELECT count(*) FROM (SELECT 1 {_OF_ENTRY} WHERE entry = ? AND attribute = ? LIMIT 2)", (holder, number)
        ).fetchone()
        if count > 1:
            return False
        data = decode(*self._db.execute("SELECT data, dn FROM entry WHERE id = ?", (holder,)).fetchone())
        return name in self._schema.shape(tuple(map(str, data["objectClass"])))[0]


def changed_meanwhile(what: str, dn: DN) -> DirectoryError:
    """Make the answer for a value that is not as the change saw it."""
    return DirectoryError(Code.CHANGED, what, where=Location(dn=str(dn)), remedy="look at it again, then decide")
