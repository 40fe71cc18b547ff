"""The attic: every object that was deleted, whole, until it is restored or its days are over.

An object is put here before the directory is asked to delete it, so that at no moment it is in neither. Unlike the
journal, the attic holds password hashes where the directory shows them: its file is for its owner alone (mode 0600).
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.embedded import sqlite_file
from vandrel.directory.entry import Entry
from vandrel.errors import NOTE, Code, DirectoryError, Finding, Location
from vandrel.record.own_file import OwnFile

#: "Vana" as PRAGMA application_id.
_APPLICATION = 0x56616E61

_TABLES = """
CREATE TABLE item(
    number INTEGER PRIMARY KEY, identity TEXT NOT NULL, job INTEGER NOT NULL, deleted TEXT NOT NULL,
    who TEXT NOT NULL, is_gone INTEGER NOT NULL DEFAULT 0, restored INTEGER NOT NULL DEFAULT 0,
    dn TEXT NOT NULL, key TEXT NOT NULL, data BLOB NOT NULL, digest BLOB NOT NULL,
    UNIQUE(identity, job, key)
);
CREATE INDEX item_key ON item(identity, key);
CREATE TABLE leaver(
    identity TEXT NOT NULL, identifier TEXT NOT NULL, job INTEGER NOT NULL, data BLOB NOT NULL, digest BLOB NOT NULL,
    PRIMARY KEY(identity, identifier)
) WITHOUT ROWID;
"""

_encode = msgspec.msgpack.Encoder().encode


_decode = msgspec.msgpack.Decoder().decode


class Deleted(Struct, frozen=True):
    """An object that is about to be deleted: as it is now, and who points at it, by which attribute."""

    entry: Entry
    pointed_at: Sequence[tuple[DN, str]] = ()


class Item(Struct, frozen=True):
    """One object in the attic.

    Attributes:
        number: its number, by which it can be named.
        job: the job that deleted it.
        deleted: when (UTC).
        who: who deleted it: the user, and the identity on the server.
        is_gone: whether the directory is known to have deleted it; else the job was broken off just then.
        entry: what it was.
        pointed_at: who pointed at it, by which attribute.
        size: octets that are kept of it.

    """

    number: int
    job: int
    deleted: datetime
    who: str
    is_gone: bool
    entry: Entry
    pointed_at: tuple[tuple[DN, str], ...]
    size: int


class Attic(OwnFile):
    """The attic of one directory, in a file beside the journal.

    Attributes:
        damaged: what could not be read so far; the rest is told all the same.

    """

    def __init__(self, path: Path, identity: str) -> None:
        super().__init__(path, _APPLICATION, _TABLES, "attic")
        self.damaged: list[Finding] = []
        self._identity = identity

    # --- writing

    def put(self, job: int, who: str, objects: Iterable[Deleted]) -> None:
        """Keep objects that a job is about to delete; what it has put here before stays as it is.

        Raises:
            DirectoryError: ``disk-full``, ``not-permitted``, ``damaged``, ``busy``; then nothing may be deleted.

        """
        self.must_be_writable("nothing is deleted")
        now = datetime.now(UTC).isoformat(timespec="milliseconds")
        rows = []
        for each in objects:
            pointed_at = [(str(holder), attribute) for holder, attribute in each.pointed_at]
            data = _encode({"attributes": each.entry.attributes, "pointed_at": pointed_at})
            dn = each.entry.dn
            rows.append((self._identity, job, now, who, str(dn), dn.key, data, _digest(data)))
        self._write_many(
            "INSERT OR IGNORE INTO item(identity, job, deleted, who, dn, key, data, digest) "
            "VALUES(?, ?, ?, ?, ?, ?, ?, ?)",
            rows,
        )  # fmt: skip

    def settle(self, job: int, deleted: Iterable[DN], not_deleted: Iterable[DN]) -> None:
        """Say what became of objects that a job was to delete: what stayed needs no place here."""
        self._write_many(
            "UPDATE item SET is_gone = 1 WHERE identity = ? AND job = ? AND key = ?",
            [(self._identity, job, dn.key) for dn in deleted],
        )
        self._write_many(
            "DELETE FROM item WHERE identity = ? AND job = ? AND key = ?",
            [(self._identity, job, dn.key) for dn in not_deleted],
        )

    def keep_leavers(self, job: int, leavers: Mapping[str, Mapping[str, Any]]) -> None:
        """Keep what people had who are about to leave, by the directory's identifier of their account."""
        self.must_be_writable("nothing is deleted")
        coded = [(identifier, _encode(earlier)) for identifier, earlier in leavers.items()]
        self._write_many(
            "INSERT OR REPLACE INTO leaver(identity, identifier, job, data, digest) VALUES(?, ?, ?, ?, ?)",
            [(self._identity, identifier, job, data, _digest(data)) for identifier, data in coded],
        )

    def leaver(self, identifier: str) -> dict[str, Any] | None:
        """What somebody had who has left; None where that is not known.

        Raises:
            DirectoryError: ``damaged``.

        """
        if not self.exists:
            return None
        with sqlite_file.plain_errors(self.path):
            row = self.db.execute(
                "SELECT data, digest FROM leaver WHERE identity = ? AND identifier = ?", (self._identity, identifier)
            ).fetchone()
        if row is None:
            return None
        if _digest(row[0]) != row[1]:
            what = "what is kept of the account from the time before it left is damaged"
            raise DirectoryError(Code.DAMAGED, what, where=Location(file=str(self.path)), remedy="give it back by hand")
        earlier: dict[str, Any] = _decode(row[0])
        return earlier

    def take_out(self, numbers: Iterable[int], job: int) -> None:
        """Take note that objects are back in the directory, brought there by a job."""
        self._write_many("UPDATE item SET restored = ? WHERE number = ?", [(job, number) for number in numbers])

    def purge(self, numbers: Iterable[int]) -> None:
        """Forget objects for good. What was written is overwritten."""
        with sqlite_file.overwriting(self.db, self.path):
            self.db.executemany("DELETE FROM item WHERE number = ?", [(number,) for number in numbers])

    def _write_many(self, sql: str, rows: Sequence[tuple[object, ...]]) -> None:
        if not rows:
            return
        with sqlite_file.transaction(self.db, self.path):
            self.db.executemany(sql, rows)

    # --- reading

    def items(self, *, job: int = 0, key: str = "", before: datetime | None = None) -> Iterator[Item]:
        """The objects that are here, the last deleted first: of one job, of one name, or deleted before a time."""
        if not self.exists:
            return
        where, values = "identity = ? AND restored = 0", [self._identity]
        for condition, value in (
            ("job = ?", job), ("key = ?", key),
            ("deleted < ?", before.astimezone(UTC).isoformat(timespec="milliseconds") if before else ""),
        ):  # fmt: skip
            if value:
                where += f" AND {condition}"
                values.append(value)  # type: ignore[arg-type]
        with sqlite_file.plain_errors(self.path):
            for row in self.db.execute(
                "SELECT number, job, deleted, who, is_gone, dn, data, digest FROM item "
                f"WHERE {where} ORDER BY deleted DESC, number",
                values,
            ):
                if (item := self._item(*row)) is not None:
                    yield item

    def brought_back(self) -> dict[int, tuple[int, DN]]:
        """What is in the directory again, by its number here: the job that brought it back, and its old name."""
        if not self.exists:
            return {}
        with sqlite_file.plain_errors(self.path):
            rows = self.db.execute(
                "SELECT number, restored, dn FROM item WHERE identity = ? AND restored > 0", (self._identity,)
            ).fetchall()
        return {number: (job, names.parse(dn)) for number, job, dn in rows}

    def item(self, number: int) -> Item | None:
        """One object by its number, whether it is back or not."""
        if not self.exists:
            return None
        with sqlite_file.plain_errors(self.path):
            row = self.db.execute(
                "SELECT number, job, deleted, who, is_gone, dn, data, digest FROM item WHERE number = ?", (number,)
            ).fetchone()
        return self._item(*row) if row else None

    def _item(
        self, number: int, job: int, deleted: str, who: str, is_gone: int, dn: str, data: bytes, digest: bytes
    ) -> Item | None:
        try:
            if _digest(data) != digest:
                raise ValueError("its check sum is another")
            content = _decode(data)
            pointed_at = tuple((names.parse(holder), attribute) for holder, attribute in content["pointed_at"])
        except (ValueError, msgspec.MsgspecError, DirectoryError):
            what = f"what is kept of {dn} is damaged, and cannot be restored"
            where = Location(file=str(self.path), row=number)
            self.damaged.append(Finding(Code.DAMAGED, what, where, "take it from a copy of the file", NOTE))
            return None
        entry = Entry(names.parse(dn), content["attributes"])
        return Item(number, job, datetime.fromisoformat(deleted), who, bool(is_gone), entry, pointed_at, len(data))


def _digest(data: bytes) -> bytes:
    return hashlib.blake2b(data, digest_size=16).digest()
