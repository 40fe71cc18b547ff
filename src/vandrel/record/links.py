"""Who in one directory is whom in another: what a synchronization has matched and sent, kept between its runs."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from vandrel.directory.embedded import sqlite_file
from vandrel.errors import Code, DirectoryError, Location
from vandrel.record.own_file import OwnFile

#: "Vanl" as PRAGMA application_id.
_APPLICATION = 0x56616E6C

_TABLES = """
CREATE TABLE link(
    source TEXT NOT NULL, target TEXT NOT NULL, here TEXT NOT NULL, there TEXT NOT NULL, sent BLOB NOT NULL,
    PRIMARY KEY(source, target, here)
) WITHOUT ROWID;
CREATE TABLE run(source TEXT NOT NULL, target TEXT NOT NULL, begun TEXT NOT NULL, PRIMARY KEY(source, target));
"""


class Link(Struct, frozen=True):
    """One object in both directories.

    Attributes:
        here: its identifier in the directory that it comes from.
        there: the identifier of its copy.
        values: the fields that the copy was given, each with its values.

    """

    here: str
    there: str
    values: dict[str, tuple[str, ...]]


_encode = msgspec.msgpack.Encoder().encode
_decode = msgspec.msgpack.Decoder(dict[str, tuple[str, ...]]).decode


class LinksBefore:
    """The links of one pair of directories by the identifier here; each is read when somebody asks for it.

    Raises where it is looked at:
        DirectoryError: ``damaged``; as opening a directory does.

    """

    def __init__(self, links: Links, pair: tuple[str, str]) -> None:
        """Take the file, and the identities of both directories."""
        self._links, self._pair, self._exists = links, pair, links.exists
        #: Those that are asked for next, where they were looked for together.
        self._ahead: dict[str, Link | None] = {}

    def look_ahead(self, heres: Sequence[str]) -> None:
        """Read some that will be asked for next, instead of one by one."""
        self._ahead = dict.fromkeys(heres)
        self._ahead |= {row[0]: self._read(*row) for row in self._rows("here, there, sent", _among(heres), *heres)}

    def get(self, here: str) -> Link | None:
        """The link of an object; None where it has none."""
        if here in self._ahead:
            return self._ahead[here]
        row = next(self._rows("here, there, sent", " AND here = ?", here), None)
        return self._read(*row) if row is not None else None

    def __getitem__(self, here: str) -> Link:
        if (link := self.get(here)) is None:
            raise KeyError(here)
        return link

    def identifiers(self) -> Iterator[tuple[str, str]]:
        """The identifiers here and there, and nothing else."""
        return self._rows("here, there")

    def all(self) -> Iterator[Link]:
        """All links, in one pass."""
        return (self._read(*row) for row in self._rows("here, there, sent"))

    def _rows(self, columns: str, where: str = "", *values: str) -> Iterator[Any]:
        if self._exists:
            command = f"SELECT {columns} FROM link WHERE source = ? AND target = ?{where}"
            with sqlite_file.plain_errors(self._links.path):
                yield from self._links.db.execute(command, (*self._pair, *values))

    def _read(self, here: str, there: str, sent: bytes) -> Link:
        try:
            return Link(here, there, _decode(sent))
        except msgspec.MsgspecError:
            raise DirectoryError(
                Code.DAMAGED, "what was sent before is damaged", where=Location(file=str(self._links.path)),
                remedy="delete the file: the next run matches everybody anew",
            ) from None  # fmt: skip


def _among(heres: Sequence[str]) -> str:
    return f" AND here IN ({', '.join('?' * len(heres))})"


class Links(OwnFile):
    """The links between one pair of directories, in a file beside the journal of the second."""

    def __init__(self, path: Path, source: str, target: str) -> None:
        """Take the file, and the identities of both directories."""
        super().__init__(path, _APPLICATION, _TABLES, "file of links")
        self._pair = (source, target)

    def read(self) -> LinksBefore:
        """The links by the identifier here; nothing where nothing was ever kept."""
        return LinksBefore(self, self._pair)

    def last_run(self) -> datetime | None:
        """When the last run that was kept began; None where there was none.

        Raises:
            DirectoryError: as opening a directory does.

        """
        if not self.exists:
            return None
        with sqlite_file.plain_errors(self.path):
            row = self.db.execute("SELECT begun FROM run WHERE source = ? AND target = ?", self._pair).fetchone()
        return datetime.fromisoformat(row[0]) if row else None

    def keep(self, links: Iterable[Link], deleted: Iterable[str], start: datetime) -> None:
        """Keep links, in place of what is there of the same objects, drop those of `deleted`, and note a run's start.

        Raises:
            DirectoryError: ``disk-full``, ``not-permitted``, ``damaged``, ``busy``.

        """
        rows = ((*self._pair, link.here, link.there, _encode(link.values)) for link in links)
        rows_to_drop = [(*self._pair, here) for here in deleted]
        with sqlite_file.transaction(self.db, self.path):
            self.db.execute("INSERT OR REPLACE INTO run VALUES(?, ?, ?)", (*self._pair, start.isoformat()))
            self.db.executemany("DELETE FROM link WHERE source = ? AND target = ? AND here = ?", rows_to_drop)
            self.db.executemany("INSERT OR REPLACE INTO link VALUES(?, ?, ?, ?, ?)", rows)
