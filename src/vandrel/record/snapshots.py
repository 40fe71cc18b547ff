"""Snapshots: what a directory held at certain moments, each different state of an entry stored once.

A state of an entry is stored under its digest; some hundred of them are compressed together, as a block. A spell says
from which snapshot to which an object, known by the directory's own identifier, had a state and a name; so a snapshot
costs no more room than what has changed since the one before. The file holds password hashes where the directory shows
them, and is for its owner alone (mode 0600).
"""

from __future__ import annotations

import hashlib
import sqlite3
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from datetime import UTC, datetime
from itertools import accumulate
from pathlib import Path

import msgspec
from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.embedded import sqlite_file
from vandrel.directory.entry import Entry, Value
from vandrel.directory.port import Changes
from vandrel.errors import NOTE, Code, DirectoryError, Finding, Location, VandrelError
from vandrel.record.own_file import OwnFile

#: "Vans" as PRAGMA application_id.
_APPLICATION = 0x56616E73

_TABLES = """
CREATE TABLE snapshot(
    number INTEGER PRIMARY KEY AUTOINCREMENT, identity TEXT NOT NULL, taken TEXT NOT NULL, who TEXT NOT NULL,
    base TEXT NOT NULL, entries INTEGER NOT NULL, digest BLOB NOT NULL
);
CREATE TABLE block(number INTEGER PRIMARY KEY, data BLOB NOT NULL);
CREATE TABLE state(
    digest BLOB PRIMARY KEY, block INTEGER NOT NULL, start INTEGER NOT NULL, length INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE spell(
    base INTEGER NOT NULL, object TEXT NOT NULL, first INTEGER NOT NULL, last INTEGER, dn TEXT NOT NULL,
    state BLOB NOT NULL,
    PRIMARY KEY(base, object, first)
) WITHOUT ROWID;
CREATE TABLE line(
    number INTEGER PRIMARY KEY, identity TEXT NOT NULL, base TEXT NOT NULL,
    entries INTEGER NOT NULL DEFAULT 0, digest BLOB NOT NULL DEFAULT x'', stamp TEXT NOT NULL DEFAULT '',
    UNIQUE(identity, base)
);
"""

_encode = msgspec.msgpack.Encoder(order="deterministic").encode
_decode = msgspec.msgpack.Decoder().decode
#: States in a block, which is what is read for one of them.
_BLOCK = 2000
#: The share of entries up to which those that have changed are read one by one, and so many in any case.
_FEW, _AT_LEAST = 0.1, 20
#: What stands in the last snapshot of a line.
_OPEN = "FROM spell WHERE base = ? AND last IS NULL"
#: Of an object that is new or differs: its identifier, its name, the digest of its state, and that itself.
_New = tuple[str, str, bytes, bytes]


class Snapshot(Struct, frozen=True):
    """One snapshot: when it was taken (UTC), by whom, of what, and how many entries it has."""

    number: int
    taken: datetime
    who: str
    base: DN
    entries: int


class Held(Struct, frozen=True):
    """An object in a snapshot: its identifier, or the key of its name where it has none; its name; its state."""

    object: str
    dn: DN
    state: bytes


class Source(Struct, frozen=True):
    """A directory that can tell what has changed, beside reading all of it.

    Attributes:
        changes: as `vandrel.directory.port.Directory.changes`, from a stamp and the identifiers of what was there.
        read: reads one entry.

    """

    changes: Callable[[str, Collection[str]], Changes] = lambda since, known: Changes()
    read: Callable[[DN], Entry | None] = lambda dn: None


class Snapshots(OwnFile):
    """The snapshots of one directory, in a file beside the journal."""

    def __init__(self, path: Path, identity: str) -> None:
        super().__init__(path, _APPLICATION, _TABLES, "file of snapshots")
        self._identity = identity
        self._last_block = (0, b"")

    # --- writing

    def take(
        self, base: DN, who: str, entries: Iterable[Entry], source: Source | None = None
    ) -> tuple[Snapshot, int]:  # fmt: skip
        """Take a snapshot of what stands within a name; whole, or not at all where it is stopped.

        Args:
            base: the name.
            who: who takes it.
            entries: all that stands there; read only where the source does not tell what has changed.
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
            writing = _Writing(self.db, line, number, self._latest(line))
            stamp = writing.take(entries, source or Source())
            taken, digest = datetime.now(UTC), writing.digest.to_bytes(16, "big")
            self.db.execute(
                "INSERT INTO snapshot VALUES(?, ?, ?, ?, ?, ?, ?)",
                (number, self._identity, taken.isoformat(timespec="milliseconds"), who, str(base), writing.total,
                 digest),
            )  # fmt: skip
            said = (writing.total, digest, stamp, line)
            self.db.execute("UPDATE line SET entries = ?, digest = ?, stamp = ? WHERE number = ?", said)
        return Snapshot(number, taken, who, base, writing.total), writing.changed

    def _line(self, base: DN) -> int:
        """The number of the line of snapshots of this directory and base."""
        where = (self._identity, str(base))
        self.db.execute("INSERT OR IGNORE INTO line(identity, base) VALUES(?, ?)", where)
        return int(self.db.execute("SELECT number FROM line WHERE identity = ? AND base = ?", where).fetchone()[0])

    def _latest(self, line: int) -> _Latest:
        """How a line was left."""
        entries, digest, stamp, number = self.db.execute(
            "SELECT l.entries, l.digest, l.stamp, coalesce(max(s.number), 0) FROM line l LEFT JOIN snapshot s "
            "ON s.identity = l.identity AND s.base = l.base WHERE l.number = ?",
            (line,),
        ).fetchone()
        return _Latest(number, entries, int.from_bytes(digest, "big"), stamp)

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
            db.execute("DELETE FROM state WHERE digest NOT IN (SELECT state FROM spell)")
            db.execute("DELETE FROM block WHERE number NOT IN (SELECT block FROM state)")

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
        return [Snapshot(n, datetime.fromisoformat(taken), who, names.parse(base), entries)
                for n, taken, who, base, entries in rows]  # fmt: skip

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
        yield from (Held(name, DN.read(dn), state) for name, dn, state in self._rows(snapshot))

    def entries(self, snapshot: Snapshot) -> Iterator[Entry]:
        """The objects of a snapshot as they were, superiors before their subordinates.

        Raises:
            DirectoryError: ``damaged``.

        """
        yield from map(self.entry, sorted(self.held(snapshot), key=lambda held: len(held.dn)))

    def differing(self, before: Snapshot, after: Snapshot) -> Iterator[tuple[Held | None, Held | None]]:
        """The objects that are new, gone, or differ, as they were and as they are; of one line of snapshots."""
        spells = (
            "SELECT object, dn, state FROM spell WHERE base = ? AND first <= ? AND coalesce(last, ?) >= ? "
            "AND NOT (first <= ? AND coalesce(last, ?) >= ?)"
        )
        with sqlite_file.plain_errors(self.path):
            line, last = self._line(before.base), max(before.number, after.number)
            sides = []
            for one, other in ((before.number, after.number), (after.number, before.number)):
                rows = self.db.execute(spells, (line, one, last, one, other, last, other)).fetchall()
                sides.append({name: Held(name, DN.read(dn), state) for name, dn, state in rows})
        for name in sides[0].keys() | sides[1].keys():
            pair = sides[0].get(name), sides[1].get(name)
            if pair[0] != pair[1]:  # it may have been gone for a while, and be as it was
                yield pair

    def _rows(self, snapshot: Snapshot) -> list[tuple[str, str, bytes]]:
        with sqlite_file.plain_errors(self.path):
            line = self._line(snapshot.base)
            rows: list[tuple[str, str, bytes]] = self.db.execute(
                "SELECT object, dn, state FROM spell LEFT JOIN state ON digest = state "
                "WHERE base = ? AND first <= ? AND (last IS NULL OR last >= ?) ORDER BY block, start",
                (line, snapshot.number, snapshot.number),
            ).fetchall()
        return rows

    def entry(self, held: Held) -> Entry:
        """An object as it was.

        Raises:
            DirectoryError: ``damaged`` where what is stored is not what was put there.

        """
        with sqlite_file.plain_errors(self.path):
            where = "SELECT block, start, length FROM state WHERE digest = ?"
            block, start, length = self.db.execute(where, (held.state,)).fetchone() or (0, 0, 0)
        data = self._block(block)[start : start + length]
        if hashlib.blake2b(data, digest_size=16).digest() != held.state:
            what = f"what a snapshot holds of {held.dn} is damaged"
            raise DirectoryError(
                Code.DAMAGED, what, where=Location(file=str(self.path)), remedy="take it from another snapshot"
            )
        return Entry(held.dn, _decode(data))

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
        for held in self.held(snapshot):
            try:
                self.entry(held)
            except DirectoryError as error:
                findings.append(error.findings[0])
        with sqlite_file.plain_errors(self.path):
            (digest,) = self.db.execute("SELECT digest FROM snapshot WHERE number = ?", (snapshot.number,)).fetchone()
        rows, found = self._rows(snapshot), 0
        for row in rows:
            found ^= _sum_of(*row)
        entries = len(rows)
        if (entries, found.to_bytes(16, "big")) != (snapshot.entries, digest):
            what = f"snapshot {snapshot.number} had {snapshot.entries} entries, and {entries} are found, or others"
            findings.append(Finding(Code.DAMAGED, what, Location(file=str(self.path)), "trust another one", NOTE))
        return findings


class _Latest(Struct, frozen=True):
    """How a line of snapshots was left.

    Attributes:
        number: of the last one that is kept, 0 for none.
        entries: of the last one that was taken.
        digest: of these.
        stamp: the directory's, of then.

    """

    number: int
    entries: int
    digest: int
    stamp: str


class _Writing:
    """One snapshot as it is written. What differs from the last one is put down by another thread meanwhile.

    Attributes:
        total: entries.
        changed: objects that are new, gone, or differ.
        digest: of all.

    """

    def __init__(self, db: sqlite3.Connection, line: int, number: int, latest: _Latest) -> None:
        self._db, self._line, self._number, self._latest = db, line, number, latest
        self._ended: list[str] = []
        self._new: list[_New] = []
        self.total, self.changed, self.digest = 0, 0, 0

    def take(self, entries: Iterable[Entry], source: Source) -> str:
        """Write what differs; the directory's stamp."""
        opened = self._db.execute(f"SELECT object {_OPEN}", (self._line,))
        known = {name for (name,) in opened}
        changes = source.changes(self._latest.stamp, known)
        few = self._few(changes, known, source) if self._latest.stamp else None
        if few is None:
            rows = self._db.execute(f"SELECT object, dn, state {_OPEN}", (self._line,))
            self._write_all(entries, {name: (dn, state) for name, dn, state in rows})
        else:
            self._write_few(few, changes.gone)
        # What began in snapshots that are forgotten, and is over, was in none.
        self._db.execute("DELETE FROM spell WHERE base = ? AND last < first", (self._line,))
        return changes.stamp

    def _few(self, changes: Changes, known: Collection[str], source: Source) -> list[Entry] | None:
        """The entries that are new or may differ; None where all must be read."""
        if changes.names is None or len(changes.names) > max(_AT_LEAST, len(known) * _FEW):
            return None
        found = [entry for dn in changes.names if (entry := source.read(dn)) is not None]
        if changes.has_references:
            return found
        had = (self._had(object_of(entry)) for entry in found)
        is_renamed = any(before and before[0] != str(entry.dn) for before, entry in zip(had, found, strict=True))
        return None if is_renamed or changes.gone else found

    def _had(self, name: str) -> tuple[str, bytes] | None:
        row: tuple[str, bytes] | None = self._db.execute(
            f"SELECT dn, state {_OPEN} AND object = ?", (self._line, name)
        ).fetchone()
        return row

    def _write_few(self, entries: Iterable[Entry], gone: Iterable[str]) -> None:
        """Write these, and that others are gone; all the rest is as it was."""
        self.total, self.digest = self._latest.entries, self._latest.digest
        names = {object_of(entry): entry for entry in entries}
        before = {name: had for name in {*names, *gone} if (had := self._had(name)) is not None}
        for name, had in before.items():
            self.digest ^= _sum_of(name, *had)
        self.total -= len(before)
        self._write_all(names.values(), before)

    def _write_all(self, entries: Iterable[Entry], before: dict[str, tuple[str, bytes]]) -> None:
        """Write these entries; what was there before and is not among them is gone."""
        from concurrent.futures import Future, ThreadPoolExecutor

        with ThreadPoolExecutor(1) as writer:
            written: Future[None] | None = None
            for entry in entries:
                self.total += 1
                name, dn = object_of(entry), str(entry.dn)
                state, data = state_of(entry)
                self.digest ^= _sum_of(name, dn, state)
                had = before.pop(name, None)
                if had == (dn, state):
                    continue
                self.changed += 1
                if had is not None:
                    self._ended.append(name)
                self._new.append((name, dn, state, data))
                if len(self._new) == _BLOCK:
                    if written is not None:
                        written.result()
                    written = writer.submit(self._write, self._ended, self._new)
                    self._ended, self._new = [], []
            if written is not None:
                written.result()
        self.changed += len(before)
        self._write([*self._ended, *before], self._new)

    def _write(self, ended: list[str], new: list[_New]) -> None:
        db, line = self._db, self._line
        db.executemany(
            "UPDATE spell SET last = ? WHERE base = ? AND object = ? AND last IS NULL",
            [(self._latest.number, line, name) for name in ended],
        )
        if not new:
            return
        import zstandard

        data = zstandard.ZstdCompressor(level=3).compress(b"".join(data for *_, data in new))
        block = db.execute("INSERT INTO block(data) VALUES(?)", (data,)).lastrowid
        starts = accumulate((len(data) for *_, data in new), initial=0)
        # One statement for all: only between statements does one thread wait for the other.
        states = [
            x for (_, _, state, data), start in zip(new, starts, strict=False) for x in (state, block, start, len(data))
        ]
        db.execute(f"INSERT OR IGNORE INTO state VALUES {', '.join(['(?, ?, ?, ?)'] * len(new))}", states)
        spells = [x for name, dn, state, _ in new for x in (line, name, self._number, dn, state)]
        rows = ", ".join(["(?, ?, ?, ?, ?)"] * len(new))
        db.execute(f"INSERT INTO spell(base, object, first, dn, state) VALUES {rows}", spells)


def _sum_of(name: str, dn: str, state: bytes) -> int:
    """What one object adds to the digest of a snapshot, in whatever order objects come."""
    return int.from_bytes(hashlib.blake2b(f"{name}\0{dn}\0".encode() + state, digest_size=16).digest(), "big")


def object_of(entry: Entry) -> str:
    """By what an object is known again: the directory's own identifier, or the key of its name where it shows none."""
    return entry.identifier or entry.dn.key


def state_of(entry: Entry) -> tuple[bytes, bytes]:
    """The digest of what an object holds, in whatever order its values come, and that itself."""
    # Written out, because a run over a large directory spends most of its own time here.
    attributes = dict(entry.attributes)
    for name in [name for name, values in attributes.items() if len(values) > 1]:
        try:
            attributes[name] = sorted(attributes[name])
        except TypeError:  # text and octets
            attributes[name] = sorted(attributes[name], key=_octets)
    data = _encode(attributes)
    return hashlib.blake2b(data, digest_size=16).digest(), data


def _octets(value: Value) -> bytes:
    return value if isinstance(value, bytes) else value.encode()
