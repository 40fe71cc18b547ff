"""One snapshot as it is written: what differs from the last one, packed and compressed."""

from __future__ import annotations

import hashlib
import sqlite3
from collections.abc import Callable, Collection, Iterable, Iterator
from itertools import accumulate

from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.directory.packing import Packed
from vandrel.directory.port import Changes

#: Of what stands in the last snapshot alone: so what ends makes room for what begins.
INDEX = "CREATE UNIQUE INDEX spell_open ON spell(base, object) WHERE last IS NULL;"
#: States in a block, which is what is read for one of them.
_BLOCK = 2000
#: The share of entries up to which those that have changed are read one by one, and so many in any case.
_FEW, _AT_LEAST = 0.1, 20
#: What stands in the last snapshot of a line.
_OPEN = "FROM spell WHERE base = ? AND last IS NULL"


class Source(Struct, frozen=True):
    """A directory that can tell what has changed, beside reading all of it.

    Attributes:
        changes: as `vandrel.directory.port.Directory.changes`, from a stamp and the identifiers of what was there.
        read: reads one entry, packed.

    """

    changes: Callable[[str, Collection[str]], Changes] = lambda since, known: Changes()
    read: Callable[[DN], Packed | None] = lambda dn: None


class Latest(Struct, frozen=True):
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


class _Objects(Collection[str]):
    """The identifiers of the objects in the last snapshot of a line, which are read when somebody asks."""

    def __init__(self, db: sqlite3.Connection, line: int, number: int) -> None:
        self._db, self._line, self._number = db, line, number

    def __len__(self) -> int:
        return self._number

    def __contains__(self, identifier: object) -> bool:
        found = self._db.execute(f"SELECT 1 {_OPEN} AND object = ?", (self._line, identifier))
        return found.fetchone() is not None

    def __iter__(self) -> Iterator[str]:
        for (identifier,) in self._db.execute(f"SELECT object {_OPEN}", (self._line,)):
            yield identifier


class SnapshotWriter:
    """One snapshot as it is written.

    Attributes:
        total: entries.
        changed: objects that are new, gone, or differ.
        digest: of all.

    """

    def __init__(self, db: sqlite3.Connection, line: int, number: int, latest: Latest) -> None:
        self._db, self._line, self._number, self._latest = db, line, number, latest
        self._ended: list[str] = []
        #: What is not yet in a block: the octets, and of each object its identifier, name and state.
        self._octets: list[bytes] = []
        self._open: list[tuple[str, str, bytes]] = []
        self.total, self.changed, self.digest = 0, 0, 0

    def take(self, entries: Iterable[Packed], source: Source) -> str:
        """Write what differs; the directory's stamp."""
        identifiers = _Objects(self._db, self._line, self._latest.entries)
        changes = source.changes(self._latest.stamp, identifiers)
        few = self._few(changes, identifiers, source) if self._latest.stamp else None
        if few is not None:
            self._write_few(few, changes.deleted)
        elif self._db.execute("SELECT 1 FROM spell").fetchone():
            self._write_all(entries, dict(self._db.execute(f"SELECT object, state {_OPEN}", (self._line,))))
        else:  # an index is made faster than it grows
            self._db.execute("DROP INDEX spell_open")
            self._write_all(entries, {})
            self._db.execute(INDEX)
        return changes.stamp

    def _few(self, changes: Changes, identifiers: Collection[str], source: Source) -> list[Packed] | None:
        """The entries that are new or may differ; None where all must be read."""
        if changes.names is None or len(changes.names) > max(_AT_LEAST, len(identifiers) * _FEW):
            return None
        entries = [entry for dn in changes.names if (entry := source.read(dn)) is not None]
        if changes.has_references:
            return entries
        is_renamed = any((earlier := self._open_spell(name)) and earlier[0] != dn for name, dn, _ in entries)
        return None if is_renamed or changes.deleted else entries

    def _open_spell(self, name: str) -> tuple[str, bytes] | None:
        """The name and the state that an object had last."""
        row: tuple[str, bytes] | None = self._db.execute(
            f"SELECT dn, state {_OPEN} AND object = ?", (self._line, name)
        ).fetchone()
        return row

    def _write_few(self, entries: Iterable[Packed], deleted: Iterable[str]) -> None:
        """Write these, and that others are gone; all the rest is as it was."""
        self.total, self.digest = self._latest.entries, self._latest.digest
        by_name = {entry[0]: entry for entry in entries}
        before = {name: earlier[1] for name in {*by_name, *deleted} if (earlier := self._open_spell(name)) is not None}
        for state in before.values():
            self.digest ^= number_of(state)
        self.total -= len(before)
        self._write_all(by_name.values(), before)

    def _write_all(self, entries: Iterable[Packed], before: dict[str, bytes]) -> None:
        """Write these entries; who was there before, each with a state, and is not among them is gone."""
        read = set[str]()
        for entry in entries:
            name, dn, data = entry
            if name in read:  # it was moved while the directory was read, and came once more
                continue
            read.add(name)
            self.total += 1
            state = state_of(entry)
            self.digest ^= number_of(state)
            earlier = before.pop(name, None)
            if earlier is not None:
                if earlier == state:
                    continue
                self._ended.append(name)
            self.changed += 1
            self._octets.append(data)
            self._open.append((name, dn, state))
            if len(self._open) == _BLOCK:
                self._write()
        self.changed += len(before)
        self._ended += before
        self._write()

    def _write(self) -> None:
        """Write a block, and the spells of its objects, after those that they follow are over."""
        for sql in (
            "DELETE FROM spell WHERE first > ? AND base = ? AND object = ? AND last IS NULL",  # all of it is forgotten
            "UPDATE spell SET last = ? WHERE base = ? AND object = ? AND last IS NULL",
        ):
            self._db.executemany(sql, [(self._latest.number, self._line, name) for name in self._ended])
        if self._open:
            import zstandard

            data = zstandard.ZstdCompressor(level=3).compress(b"".join(self._octets))
            block = self._db.execute("INSERT INTO block(data) VALUES(?)", (data,)).lastrowid
            lengths = list(map(len, self._octets))
            where = zip(self._open, accumulate(lengths, initial=0), lengths, strict=False)
            self._db.executemany(
                "INSERT INTO spell(base, first, block, object, dn, state, start, length) "
                f"VALUES({self._line}, {self._number}, {block}, ?, ?, ?, ?, ?)",
                [(*each, start, length) for each, start, length in where],
            )  # fmt: skip
        self._ended, self._octets, self._open = [], [], []


def state_of(entry: Packed) -> bytes:
    """The state of an object: the digest of how it is known, its name, and what it holds."""
    name, dn, data = entry
    return hashlib.blake2b(f"{name}\0{dn}\0".encode() + data, digest_size=16).digest()


def number_of(state: bytes) -> int:
    """What an object adds to the digest of a snapshot, in whatever order objects come."""
    return int.from_bytes(state, "big")
