"""Snapshots: what a directory held at certain moments, each different state of an entry stored once.

A state of an entry is stored under its digest; some hundred of them are compressed together, as a block. A spell says
from which snapshot to which an object, known by the directory's own identifier, had a state and a name; so a snapshot
costs no more room than what has changed since the one before. The file holds password hashes where the directory shows
them, and is for its owner alone (mode 0600).
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from itertools import accumulate
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.embedded import sqlite_file
from vandrel.directory.entry import Entry, Value
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
    state BLOB NOT NULL, mark TEXT NOT NULL,
    PRIMARY KEY(base, object, first)
) WITHOUT ROWID;
CREATE TABLE line(number INTEGER PRIMARY KEY, identity TEXT NOT NULL, base TEXT NOT NULL, UNIQUE(identity, base));
"""

_encode = msgspec.msgpack.Encoder(order="deterministic").encode
_decode = msgspec.msgpack.Decoder().decode
#: States in a block, which is what is read for one of them.
_BLOCK = 500
#: The share of entries up to which those that have changed are read one by one.
_FEW = 0.1


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


class Marks(Struct, frozen=True):
    """What a directory says of changes, read before any entry is.

    Attributes:
        words: for each entry, by its name as it stands, a word that is another after each change to it.
        read: reads one entry.
        of_references: whether an entry has another word as well where what it points at gets another name.

    """

    words: Mapping[str, str] = {}
    read: Callable[[DN], Entry | None] = lambda dn: None
    of_references: bool = False

    def differing(self, same: Collection[str], before: Mapping[str, tuple[str, bytes]]) -> list[Entry] | None:
        """The entries without those that are as they were; None where all must be read.

        Args:
            same: the names of those.
            before: the name and the state of each object in the snapshot before.

        """
        words = self.words
        if not words or len(words) - len(same) > len(words) * _FEW:
            return None
        found = [entry for dn in words if dn not in same and (entry := self.read(DN.read(dn))) is not None]
        if self.of_references:
            return found
        is_renamed = any(dn not in words for dn, _ in before.values()) or any(
            before.get(object_of(entry), (str(entry.dn),))[0] != str(entry.dn) for entry in found
        )
        return None if is_renamed else found


class Snapshots(OwnFile):
    """The snapshots of one directory, in a file beside the journal."""

    def __init__(self, path: Path, identity: str) -> None:
        super().__init__(path, _APPLICATION, _TABLES, "file of snapshots")
        self._identity = identity
        self._last_block = (0, b"")

    # --- writing

    def take(
        self, base: DN, who: str, entries: Iterable[Entry], marks: Marks | None = None
    ) -> tuple[Snapshot, int]:  # fmt: skip
        """Take a snapshot of what stands within a name; whole, or not at all where it is stopped.

        Args:
            base: the name.
            who: who takes it.
            entries: all that stands there; read only where `marks` do not say what is as it was.
            marks: what the directory says of changes, if it does.

        Returns:
            The snapshot, and how many objects are new or differ from the one before.

        Raises:
            DirectoryError: ``disk-full``, ``not-permitted``, ``busy``; whatever reading the entries raises.

        """
        with sqlite_file.transaction(self.db, self.path):
            line = self._line(base)
            used = self.db.execute("SELECT seq FROM sqlite_sequence WHERE name = 'snapshot'").fetchone()
            number = (used[0] if used else 0) + 1
            total, changed, digest = self._take(line, number, entries, marks or Marks())
            taken = datetime.now(UTC)
            self.db.execute(
                "INSERT INTO snapshot VALUES(?, ?, ?, ?, ?, ?, ?)",
                (number, self._identity, taken.isoformat(timespec="milliseconds"), who, str(base), total,
                 digest.to_bytes(16, "big")),
            )  # fmt: skip
        return Snapshot(number, taken, who, base, total), changed

    def _take(
        self, line: int, number: int, entries: Iterable[Entry], marks: Marks
    ) -> tuple[int, int, int]:  # fmt: skip
        """Write what differs from the last snapshot; how many objects there are and differ, and their digest."""
        open_spells = "SELECT object, dn, state, mark FROM spell WHERE base = ? AND last IS NULL"
        rows = self.db.execute(open_spells, (line,)).fetchall()
        before = {name: (dn, state) for name, dn, state, _ in rows}
        latest = self._latest(line)
        states: list[tuple[bytes, bytes]] = []
        spells: list[tuple[Any, ...]] = []
        ended: list[tuple[Any, ...]] = []
        touched: list[tuple[str, int, str]] = []
        total, changed, digest = 0, 0, 0
        same = {dn: (name, state) for name, dn, state, mark in rows if mark and marks.words.get(dn) == mark}
        if (few := marks.differing(same, before)) is not None:
            entries = few
            for dn, (name, state) in same.items():
                before.pop(name)
                digest ^= _sum_of(name, dn, state)
            total = len(same)
        for entry in entries:
            total += 1
            name, dn = object_of(entry), str(entry.dn)
            state, data = state_of(entry)
            digest ^= _sum_of(name, dn, state)
            had, mark = before.pop(name, None), marks.words.get(dn, "")
            if had == (dn, state):
                touched += [(mark, line, name)] if mark else []
                continue
            changed += 1
            if had is not None:
                ended.append((latest, line, name))
            states.append((state, data))
            spells.append((line, name, number, dn, state, mark))
            if len(states) >= _BLOCK:
                self._write(ended, states, spells)
        ended += [(latest, line, name) for name in before]
        self._write(ended, states, spells)
        self.db.executemany("UPDATE spell SET mark = ? WHERE base = ? AND object = ? AND last IS NULL", touched)
        # What began in snapshots that are forgotten, and is over, was in none.
        self.db.execute("DELETE FROM spell WHERE base = ? AND last < first", (line,))
        return total, changed + len(before), digest

    def _write(self, ended: list[Any], states: list[Any], spells: list[Any]) -> None:
        db = self.db
        db.executemany("UPDATE spell SET last = ? WHERE base = ? AND object = ? AND last IS NULL", ended)
        if states:
            import zstandard

            data = zstandard.ZstdCompressor(level=3).compress(b"".join(data for _, data in states))
            block = db.execute("INSERT INTO block(data) VALUES(?)", (data,)).lastrowid
            starts = accumulate((len(data) for _, data in states), initial=0)
            rows = [(state, block, start, len(data)) for (state, data), start in zip(states, starts, strict=False)]
            db.executemany("INSERT OR IGNORE INTO state VALUES(?, ?, ?, ?)", rows)
        db.executemany("INSERT INTO spell(base, object, first, dn, state, mark) VALUES(?, ?, ?, ?, ?, ?)", spells)
        for written in (ended, states, spells):
            written.clear()

    def _line(self, base: DN) -> int:
        """The number of the line of snapshots of this directory and base."""
        where = (self._identity, str(base))
        self.db.execute("INSERT OR IGNORE INTO line(identity, base) VALUES(?, ?)", where)
        return int(self.db.execute("SELECT number FROM line WHERE identity = ? AND base = ?", where).fetchone()[0])

    def _latest(self, line: int) -> int:
        row = self.db.execute(
            "SELECT max(s.number) FROM snapshot s JOIN line l ON l.identity = s.identity AND l.base = s.base "
            "WHERE l.number = ?",
            (line,),
        ).fetchone()
        return int(row[0] or 0)

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
