"""Where a journal is kept: in a file of its own (SQLite), or in a database that several machines share."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, Protocol

from vandrel.directory.embedded import sqlite_file
from vandrel.errors import Code, DirectoryError, Finding, Location
from vandrel.record.job_locks import JobLocks
from vandrel.record.network_folders import network_file_system

#: "Vanj" as PRAGMA application_id.
_APPLICATION = 0x56616E6A

#: Types and words that differ from one database to another stand in braces.
TABLES = """
CREATE TABLE job(
    number {number}, begun TEXT NOT NULL, seen TEXT NOT NULL, ended TEXT,
    who TEXT NOT NULL, bound_as TEXT NOT NULL, host TEXT NOT NULL, pid INTEGER NOT NULL,
    command TEXT NOT NULL, title TEXT NOT NULL, directory TEXT NOT NULL, identity TEXT NOT NULL,
    planned INTEGER NOT NULL,
    made INTEGER NOT NULL DEFAULT 0, refused INTEGER NOT NULL DEFAULT 0, reached INTEGER NOT NULL DEFAULT 0,
    going INTEGER NOT NULL DEFAULT 0, undoes INTEGER NOT NULL DEFAULT 0, state TEXT NOT NULL,
    results TEXT NOT NULL
);
CREATE INDEX job_undoes ON job(undoes);
CREATE TABLE step(
    job INTEGER NOT NULL, number INTEGER NOT NULL, dn TEXT NOT NULL, new_dn TEXT, record {octets} NOT NULL, state TEXT,
    why TEXT,
    PRIMARY KEY(job, number)
){without_rowid};
CREATE INDEX step_dn ON step {hashed}(dn);
CREATE INDEX step_new_dn ON step {hashed}(new_dn) WHERE new_dn IS NOT NULL;
"""


TABLES_OF_FILE = TABLES.format(
    number="INTEGER PRIMARY KEY", octets="BLOB", without_rowid=" WITHOUT ROWID", hashed=""
)  # fmt: skip


class Rows(Protocol):
    """What a statement answers: its rows, as far as they were not fetched yet."""

    def fetchone(self) -> Any:
        """The next row; None where there is none."""

    def fetchall(self) -> list[Any]:
        """All rows."""

    def __iter__(self) -> Iterator[Any]:
        """Go through the rows."""


class Locks(Protocol):
    """The locks of jobs: see `vandrel.record.job_locks.JobLocks`."""

    def take(self, job: int) -> bool:
        """Take the lock of a job; False where another process holds it."""

    def vouch(self, job: int) -> None:
        """Count a job as locked by this process."""

    def free(self, job: int) -> None:
        """Give the lock of a job back."""

    def is_taken(self, job: int) -> bool | None:
        """Whether a process holds the lock of a job; None where there is no way to tell."""

    def close(self) -> None:
        """Have no more to do with the locks."""


class Database(Protocol):
    """What a journal needs of where it is kept. Marks in statements are ``?``.

    Attributes:
        where: for errors.
        locks: the locks of its jobs.
        new_names: what makes a statement go by the index of new names, where the database has to be told.

    """

    where: Location
    locks: Locks
    new_names: str

    def must_be_writable(self) -> None:
        """See to it that it can be written. Raises `DirectoryError` ``not-permitted``."""

    def execute(self, sql: str, values: Sequence[object] = ()) -> Rows:
        """Carry out a statement."""

    def executemany(self, sql: str, rows: Iterable[Sequence[object]]) -> None:
        """Carry out a statement for each of these."""

    def plain_errors(self) -> AbstractContextManager[None]:
        """Raise `DirectoryError` where the database raises errors of its own."""

    def transaction(self) -> AbstractContextManager[None]:
        """Write in one go: all of it, or nothing where an error is raised."""

    def overwriting(self) -> AbstractContextManager[None]:
        """As `transaction`; what is deleted in it is overwritten where the database can do that."""

    def integrity(self) -> list[Finding]:
        """What the database itself finds wrong."""

    def close(self) -> None:
        """Close it."""


class JournalFile:
    """A file (SQLite, mode 0600)."""

    new_names = "INDEXED BY step_new_dn"

    def __init__(self, path: Path, *, create: bool = False) -> None:
        """Open the file; with `create`, it is made where it is not there.

        Raises:
            DirectoryError: ``refused`` for a folder that machines share; as opening a directory does.

        """
        if kind := network_file_system(path):
            what = f"the folder of the journal is on a network file system ({kind}), where its locks do not hold"
            remedy = "name a folder on a disk of this machine; or a database for all, in the connection: journal"
            raise DirectoryError(Code.REFUSED, what, where=Location(file=str(path)), remedy=remedy)
        if create and not path.exists():
            try:
                sqlite_file.create(path, _APPLICATION, TABLES_OF_FILE, "journal")
            except DirectoryError as error:
                if error.code != Code.TAKEN:  # another process has just made it
                    raise
        self.where = Location(file=str(path))
        self._path = path
        self._db, self._is_writable = sqlite_file.connect(path, _APPLICATION, "journal")
        self.locks: Locks = JobLocks(path)

    def must_be_writable(self) -> None:
        """See to it that it can be written. Raises `DirectoryError` ``not-permitted``."""
        if not self._is_writable:
            what, remedy = (
                "the journal cannot be written, so nothing is changed",
                "check the rights on it and its folder",
            )
            raise DirectoryError(Code.NOT_PERMITTED, what, where=self.where, remedy=remedy)

    def execute(self, sql: str, values: Sequence[object] = ()) -> Rows:
        """Carry out a statement."""
        rows: sqlite3.Cursor = self._db.execute(sql, values)
        return rows

    def executemany(self, sql: str, rows: Iterable[Sequence[object]]) -> None:
        """Carry out a statement for each of these."""
        self._db.executemany(sql, rows)

    def plain_errors(self) -> AbstractContextManager[None]:
        """Name the file in errors."""
        return sqlite_file.plain_errors(self._path)

    def transaction(self) -> AbstractContextManager[None]:
        """Write in one go."""
        return sqlite_file.transaction(self._db, self._path)

    def overwriting(self) -> AbstractContextManager[None]:
        """As `transaction`; what is deleted in it is overwritten."""
        return sqlite_file.overwriting(self._db, self._path)

    def integrity(self) -> list[Finding]:
        """What SQLite finds wrong."""
        return sqlite_file.integrity(self._db, self._path)

    def close(self) -> None:
        """Close the file, and have no more to do with its locks."""
        self._db.close()
        self.locks.close()
