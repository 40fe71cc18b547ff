"""Snapshots: what a directory held at certain moments, each different state of an entry stored once.

What entries hold is compressed together, some thousand of them, as a block. A spell says from which snapshot to which
an object, known by the directory's own identifier, had a name and a state, which is the digest of what it held, and
where that is stored; so a snapshot costs no more room than what has changed since the one before. The file holds
password hashes where the directory shows them, and is for its owner alone (mode 0600).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.embedded import sqlite_file
from vandrel.directory.entry import Entry
from vandrel.directory.packing import Packed, unpack
from vandrel.errors import NOTE, Code, DirectoryError, Finding, Location, VandrelError
from vandrel.record.own_file import OwnFile
from vandrel.record.snapshot_writer import INDEX, Latest, SnapshotWriter, Source, number_of, state_of

#: "Vans" as PRAGMA application_id.
_APPLICATION = 0x56616E73

_TABLES = f"""
CREATE TABLE snapshot(
    number INTEGER PRIMARY KEY AUTOINCREMENT, identity TEXT NOT NULL, taken TEXT NOT NULL, who TEXT NOT NULL,
    base TEXT NOT NULL, entries INTEGER NOT NULL, digest BLOB NOT NULL
);
CREATE TABLE block(number INTEGER PRIMARY KEY, data BLOB NOT NULL);
CREATE TABLE spell(
    base INTEGER NOT NULL, object TEXT NOT NULL, first INTEGER NOT NULL, last INTEGER, dn TEXT NOT NULL,
    state BLOB NOT NULL, block INTEGER NOT NULL, start INTEGER NOT NULL, length INTEGER NOT NULL
);
CREATE TABLE line(
    number INTEGER PRIMARY KEY, identity TEXT NOT NULL, base TEXT NOT NULL,
    entries INTEGER NOT NULL DEFAULT 0, digest BLOB NOT NULL DEFAULT x'', stamp TEXT NOT NULL DEFAULT '',
    UNIQUE(identity, base)
);
{INDEX}
"""

#: The version of the tables.
_VERSION = 8
_COLUMNS = "object, dn, state, block, start, length"
#: A spell in these columns.
_Row = tuple[str, str, bytes, int, int, int]
#: Where what an object held is stored: a block, and from where in it how many octets.
_Stored = tuple[int, int, int]


class Snapshot(Struct, frozen=True):
    """One snapshot: when it was taken (UTC), by whom, of what, and how many entries it has."""

    number: int
    taken: datetime
    who: str
    base: DN
    entries: int


class Held(Struct, frozen=True):
    """An object in a snapshot.

    Attributes:
        object: its identifier, or the key of its name where it has none.
        dn: its name.
        state: the digest of these and of what it held.
        stored: where that is stored.

    """

    object: str
    dn: DN
    state: bytes
    stored: _Stored

    def is_like(self, other: Held | None) -> bool:
        """Whether it has the same state."""
        return other is not None and self.state == other.state


class Snapshots(OwnFile):
    """The snapshots of one directory, in a file beside the journal."""

    def __init__(self, path: Path, identity: str) -> None:
        super().__init__(path, _APPLICATION, _TABLES, "file of snapshots", _VERSION)
        self._identity = identity
        self._last_block = (0, b"")

    # --- writing

    def take(
        self, base: DN, who: str, entries: Iterable[Packed], source: Source | None = None
    ) -> tuple[Snapshot, int]:  # fmt: skip
        """Take a snapshot of what stands within a name; whole, or not at all where it is stopped.

        Args:
            base: the name.
            who: who takes it.
            entries: all that stands there, packed; read only where the source does not tell what has changed.
            source: tells what has changed since the last one, if anything can.

        Returns:
            The snapshot, and how many objects are new or differ from the one before.

        Raises:
            DirectoryError: ``disk-full``, ``not-permitted``, ``busy``; whatever reading the entries raises.

        """
        with sqlite_file.transaction(self.db, self.path):
            line = self._line(base)
            used = self.db.execute("SELECT seq FROM sqlite_sequence WHERE name = 'snapshot'").fetchone()
            number = (used[0] if used else 0) + 1
            writing = SnapshotWriter(self.db, line, number, self._latest(line))
            stamp = writing.take(entries, source or Source())
            moment, digest = datetime.now(UTC), writing.digest.to_bytes(16, "big")
            self.db.execute(
                "INSERT INTO snapshot VALUES(?, ?, ?, ?, ?, ?, ?)",
                (number, self._identity, moment.isoformat(timespec="milliseconds"), who, str(base), writing.total,
                 digest),
            )  # fmt: skip
            values = (writing.total, digest, stamp, line)
            self.db.execute("UPDATE line SET entries = ?, digest = ?, stamp = ? WHERE number = ?", values)
        return Snapshot(number, moment, who, base, writing.total), writing.changed

    def _line(self, base: DN) -> int:
        """The number of the line of snapshots of this directory and base."""
        where = (self._identity, str(base))
        self.db.execute("INSERT OR IGNORE INTO line(identity, base) VALUES(?, ?)", where)
        return int(self.db.execute("SELECT number FROM line WHERE identity = ? AND base = ?", where).fetchone()[0])

    def _latest(self, line: int) -> Latest:
        """How a line was left."""
        entries, digest, stamp, number = self.db.execute(
            "SELECT l.entries, l.digest, l.stamp, coalesce(max(s.number), 0) FROM line l LEFT JOIN snapshot s "
            "ON s.identity = l.identity AND s.base = l.base WHERE l.number = ?",
            (line,),
        ).fetchone()
        return Latest(number, entries, int.from_bytes(digest, "big"), stamp)

    def drop(self, numbers: Sequence[int]) -> None:
        """Drop snapshots; what no other needs goes with them."""
        with sqlite_file.transaction(self.db, self.path):
            db = self.db
            db.executemany("DELETE FROM snapshot WHERE number = ?", [(number,) for number in numbers])
            db.execute(
                "DELETE FROM spell WHERE last IS NOT NULL AND NOT EXISTS (SELECT 1 FROM snapshot s JOIN line l "
                "ON l.identity = s.identity AND l.base = s.base WHERE l.number = spell.base "
                "AND s.number BETWEEN spell.first AND spell.last)"
            )
            db.execute("DELETE FROM block WHERE number NOT IN (SELECT block FROM spell)")

    # --- reading

    def all(self) -> list[Snapshot]:
        """The snapshots of this directory, the last first."""
        if not self.exists:
            return []
        with sqlite_file.plain_errors(self.path):
            rows = self.db.execute(
                "SELECT number, taken, who, base, entries FROM snapshot WHERE identity = ? ORDER BY number DESC",
                (self._identity,),
            ).fetchall()
        return [Snapshot(n, datetime.fromisoformat(moment), who, names.parse(base), entries)
                for n, moment, who, base, entries in rows]  # fmt: skip

    def one(self, number: int) -> Snapshot:
        """A snapshot by its number.

        Raises:
            VandrelError: ``not-found``.

        """
        for snapshot in self.all():
            if snapshot.number == number:
                return snapshot
        remedy = "vandrel snapshot list shows those that are there"
        raise VandrelError(Code.NOT_FOUND, f"there is no snapshot {number} of this directory", remedy=remedy)

    def held(self, snapshot: Snapshot) -> Iterator[Held]:
        """The objects of a snapshot, in the order in which what they hold is stored."""
        yield from map(_held, self._rows(snapshot))

    def entries(self, snapshot: Snapshot) -> Iterator[Entry]:
        """The objects of a snapshot as they were, superiors before their subordinates.

        Raises:
            DirectoryError: ``damaged``.

        """
        yield from map(self.entry, sorted(self.held(snapshot), key=lambda held: len(held.dn)))

    def differing(self, before: Snapshot, after: Snapshot) -> Iterator[tuple[Held | None, Held | None]]:
        """The objects that are new, gone, or differ, as they were and as they are; of one line of snapshots."""
        spells = (
            f"SELECT {_COLUMNS} FROM spell WHERE base = ? AND first <= ? AND coalesce(last, ?) >= ? "
            "AND NOT (first <= ? AND coalesce(last, ?) >= ?)"
        )
        with sqlite_file.plain_errors(self.path):
            line, last = self._line(before.base), max(before.number, after.number)
            sides = []
            for one, other in ((before.number, after.number), (after.number, before.number)):
                rows = self.db.execute(spells, (line, one, last, one, other, last, other)).fetchall()
                sides.append({held.object: held for held in map(_held, rows)})
        for name in sides[0].keys() | sides[1].keys():
            before_it, after_it = sides[0].get(name), sides[1].get(name)
            if before_it is None or not before_it.is_like(after_it):  # it may have been gone for a while
                yield before_it, after_it

    def _rows(self, snapshot: Snapshot) -> list[_Row]:
        with sqlite_file.plain_errors(self.path):
            line = self._line(snapshot.base)
            rows: list[_Row] = self.db.execute(
                f"SELECT {_COLUMNS} FROM spell WHERE base = ? AND first <= ? AND (last IS NULL OR last >= ?) "
                "ORDER BY block, start",
                (line, snapshot.number, snapshot.number),
            ).fetchall()
        return rows

    def entry(self, held: Held) -> Entry:
        """An object as it was.

        Raises:
            DirectoryError: ``damaged`` where what is stored is not what was put there.

        """
        block, start, length = held.stored
        data = self._block(block)[start : start + length]
        if state_of((held.object, str(held.dn), data)) != held.state:
            what = f"what a snapshot holds of {held.dn} is damaged"
            raise DirectoryError(
                Code.DAMAGED, what, where=Location(file=str(self.path)), remedy="take it from another snapshot"
            )
        return Entry(held.dn, unpack(data))

    def _block(self, number: int) -> bytes:
        """What a block holds, of which the last one is remembered; nothing where it is damaged."""
        import zstandard

        if self._last_block[0] != number:
            with sqlite_file.plain_errors(self.path):
                row = self.db.execute("SELECT data FROM block WHERE number = ?", (number,)).fetchone()
            try:
                data = zstandard.ZstdDecompressor().decompress(row[0]) if row else b""
            except zstandard.ZstdError:
                data = b""
            self._last_block = (number, data)
        return self._last_block[1]

    def verify(self, snapshot: Snapshot) -> list[Finding]:
        """What is wrong with a snapshot, object by object; empty where it is whole."""
        findings = []
        for each in self.held(snapshot):
            try:
                self.entry(each)
            except DirectoryError as error:
                findings.append(error.findings[0])
        with sqlite_file.plain_errors(self.path):
            (digest,) = self.db.execute("SELECT digest FROM snapshot WHERE number = ?", (snapshot.number,)).fetchone()
        rows, digest_now = self._rows(snapshot), 0
        for row in rows:
            digest_now ^= number_of(row[2])
        entries = len(rows)
        if (entries, digest_now.to_bytes(16, "big")) != (snapshot.entries, digest):
            what = f"snapshot {snapshot.number} had {snapshot.entries} entries, and {entries} are found, or others"
            findings.append(Finding(Code.DAMAGED, what, Location(file=str(self.path)), "trust another one", NOTE))
        return findings


def _held(row: _Row) -> Held:
    return Held(row[0], DN.read(row[1]), row[2], row[3:])
