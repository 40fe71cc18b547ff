"""Very many things that wait: in a temporary file that nobody else sees, so that memory does not grow with them.

Few stay in memory. For more SQLite begins a file, which has no name and goes with the process, once its cache is full.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Iterable, Iterator, MutableMapping, MutableSet, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, Generic, TypeVar, cast, overload

import msgspec

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.embedded import sqlite_file
from vandrel.directory.entry import Entry

_T = TypeVar("_T")

#: What is held in memory of one file, and the things up to which none is begun.
_CACHE_KB, _FEW = 8192, 500
#: Between the text of a name and its key: it stands in neither.
_KEY = "\x00"
#: Values, and keys, that are read together by whoever goes through all of them.
_VALUES_TOGETHER, _KEYS_TOGETHER = 50, 500


class Spill:
    """One temporary file, with as many maps, sets and lists in it as are wanted; none while each of them has few."""

    def __init__(self, few: int = _FEW) -> None:
        """Begin with nothing; the file goes with the last thing that is kept in it, and begins behind so `few`."""
        self.few, self._tables = few, 0

    @cached_property
    def _db(self) -> sqlite3.Connection:
        connection = sqlite3.connect("", isolation_level=None, check_same_thread=False)
        for pragma in ("journal_mode = OFF", "synchronous = OFF", f"cache_size = -{_CACHE_KB}", "temp_store = FILE"):
            connection.execute(f"PRAGMA {pragma}")
        connection.execute("BEGIN")  # it never ends: nobody reads this but us
        return connection

    def map(self, kind: Any) -> SpilledMap[Any]:
        """An empty map from text to values of this type: what msgspec can write, names, and entries."""
        return SpilledMap(self, kind)

    def set(self, keys: Iterable[str] = ()) -> SpilledSet:
        """A set of text."""
        found = SpilledSet(self)
        for key in keys:
            found.add(key)
        return found

    def list(self, kind: type[_T], values: Iterable[_T] = ()) -> SpilledList[_T]:
        """A list of values of this type: what msgspec can write, and names."""
        found = SpilledList[_T](self, kind)
        for value in values:
            found.append(value)
        return found

    def run(self, command: str, values: Sequence[object] = ()) -> sqlite3.Cursor:
        """Give a command to the file.

        Raises:
            DirectoryError: ``disk-full``, ``out-of-reach``, and the folder of temporary files.

        """
        try:
            return self._db.execute(command, values)
        except sqlite3.Error:
            with sqlite_file.plain_errors(_folder()):
                raise

    def table(self, columns: str, more: str, insert: str, rows: Iterable[Sequence[object]]) -> str:
        """Begin a table with these rows; its name."""
        self._tables += 1
        name = f"t{self._tables}"
        self.run(f"CREATE TABLE {name}({columns}){more}")
        for row in rows:
            self.run(f"INSERT INTO {name}{insert}", row)
        return name


class SpilledMap(MutableMapping[str, _T]):
    """A map that keeps the order in which its keys came, and may be changed by whoever goes through it.

    Each look makes a value anew: what is changed on one is not kept.
    """

    def __init__(self, spill: Spill, kind: Any) -> None:
        self._spill, self._run = spill, spill.run
        self._decode = cast("Callable[[bytes], _T]", _decoder(kind))
        #: The values, packed, while they are few; then the name of the table.
        self._few: dict[str, bytes] = {}
        self._table = ""

    def __getitem__(self, key: str) -> _T:
        if not self._table:
            return self._decode(self._few[key])
        row = self._run(f"SELECT value FROM {self._table} WHERE key = ?", (key,)).fetchone()
        if row is None:
            raise KeyError(key)
        return self._decode(row[0])

    def __contains__(self, key: object) -> bool:
        if not self._table:
            return key in self._few
        return self._run(f"SELECT 1 FROM {self._table} WHERE key = ?", (key,)).fetchone() is not None

    def __setitem__(self, key: str, value: _T) -> None:
        if not self._table:
            self._few[key] = _encode(value)
            if len(self._few) > self._spill.few:
                columns = "number INTEGER PRIMARY KEY, key TEXT UNIQUE, value BLOB"
                self._table = self._spill.table(columns, "", "(key, value) VALUES(?, ?)", self._few.items())
                self._few = {}
            return
        self._run(
            f"INSERT INTO {self._table}(key, value) VALUES(?, ?) ON CONFLICT(key) DO UPDATE SET value = excluded.value",
            (key, _encode(value)),
        )

    def __delitem__(self, key: str) -> None:
        if not self._table:
            del self._few[key]
        elif not self._run(f"DELETE FROM {self._table} WHERE key = ?", (key,)).rowcount:
            raise KeyError(key)

    def clear(self) -> None:
        """Take everything out."""
        self._few.clear()
        if self._table:
            self._run(f"DELETE FROM {self._table}")

    def __iter__(self) -> Iterator[str]:
        if not self._table:
            yield from list(self._few)
            return
        last = 0
        while rows := self._run(
            f"SELECT number, key FROM {self._table} WHERE number > ? ORDER BY number LIMIT {_KEYS_TOGETHER}", (last,)
        ).fetchall():
            last = rows[-1][0]
            yield from (key for _, key in rows)

    def __len__(self) -> int:
        if not self._table:
            return len(self._few)
        return int(self._run(f"SELECT count(*) FROM {self._table}").fetchone()[0])


class SpilledSet(MutableSet[str]):
    """A set of text, in no order; it must not be changed by whoever goes through it."""

    def __init__(self, spill: Spill) -> None:
        self._spill, self._run = spill, spill.run
        self._few: set[str] = set()
        self._table = ""

    def __contains__(self, key: object) -> bool:
        if not self._table:
            return key in self._few
        return self._run(f"SELECT 1 FROM {self._table} WHERE key = ?", (key,)).fetchone() is not None

    def add(self, value: str) -> None:
        """Add a key."""
        if not self._table:
            self._few.add(value)
            if len(self._few) > self._spill.few:
                rows = ((key,) for key in self._few)
                self._table = self._spill.table("key TEXT PRIMARY KEY", " WITHOUT ROWID", " VALUES(?)", rows)
                self._few = set()
            return
        self._run(f"INSERT OR IGNORE INTO {self._table} VALUES(?)", (value,))

    def discard(self, value: str) -> None:
        """Take a key out, if it is there."""
        self._few.discard(value)
        if self._table:
            self._run(f"DELETE FROM {self._table} WHERE key = ?", (value,))

    def __iter__(self) -> Iterator[str]:
        if not self._table:
            yield from self._few
            return
        for row in self._run(f"SELECT key FROM {self._table}"):
            yield row[0]

    def __len__(self) -> int:
        if not self._table:
            return len(self._few)
        return int(self._run(f"SELECT count(*) FROM {self._table}").fetchone()[0])


class SpilledList(Sequence[_T], Generic[_T]):
    """A list that only grows. Each look makes a value anew: what is changed on one is not kept."""

    def __init__(self, spill: Spill, kind: Any) -> None:
        self._spill, self._run = spill, spill.run
        self._decode = cast("Callable[[bytes], _T]", _decoder(kind))
        self._few: list[bytes] = []
        self._table, self._length = "", 0

    def append(self, value: _T) -> None:
        """Add one at the end."""
        if self._table:
            self._run(f"INSERT INTO {self._table} VALUES(?, ?)", (self._length, _encode(value)))
        else:
            self._few.append(_encode(value))
            if len(self._few) > self._spill.few:
                columns = "number INTEGER PRIMARY KEY, value BLOB"
                self._table = self._spill.table(columns, "", " VALUES(?, ?)", enumerate(self._few))
                self._few = []
        self._length += 1

    def __len__(self) -> int:
        return self._length

    def __iter__(self) -> Iterator[_T]:
        for start in range(0, self._length, _VALUES_TOGETHER):
            yield from self[start : start + _VALUES_TOGETHER]

    @overload
    def __getitem__(self, index: int) -> _T: ...

    @overload
    def __getitem__(self, index: slice) -> list[_T]: ...

    def __getitem__(self, index: int | slice) -> _T | list[_T]:
        places = range(self._length)[index]
        if isinstance(places, int):
            return next(self._read(places, places + 1))
        if places.step != 1:
            return [self[place] for place in places]
        return list(self._read(places.start, places.stop))

    def _read(self, start: int, stop: int) -> Iterator[_T]:
        if not self._table:
            return map(self._decode, self._few[start:stop])
        rows = self._run(f"SELECT value FROM {self._table} WHERE number >= ? AND number < ?", (start, stop)).fetchall()
        return (self._decode(value) for (value,) in rows)


def _to_text(value: object) -> str:
    if isinstance(value, DN):  # with its key, which would take longer to work out again
        return f"{value}{_KEY}{value.key}"
    raise TypeError(type(value))


def _from_text(kind: type, value: object) -> DN:
    text, _, key = str(value).partition(_KEY)
    return DN.stored(text, key) if text else names.ROOT


_encode = msgspec.msgpack.Encoder(enc_hook=_to_text).encode
_decode_entry = msgspec.msgpack.Decoder().decode


def _to_entry(data: bytes) -> Entry:
    fields = _decode_entry(data)
    return Entry(_from_text(DN, fields["dn"]), fields["attributes"])


def _decoder(kind: Any) -> Callable[[bytes], Any]:
    if kind is Entry:  # msgspec tells text from octets where it is told nothing, and takes no type that is either
        return _to_entry
    return msgspec.msgpack.Decoder(kind, dec_hook=_from_text).decode


def _folder() -> Path:
    """Where SQLite makes its temporary files, as a file in it."""
    return Path(os.environ.get("SQLITE_TMPDIR") or os.environ.get("TMPDIR") or "/var/tmp") / "temporary file"
