"""The tables of an embedded directory, and opening its file: new, writable, read-only, or not one of ours."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from vandrel.errors import NOTE, Code, DirectoryError, Finding, Location

#: "Vand" as PRAGMA application_id, and the version of the tables as PRAGMA user_version.
APPLICATION = 0x56616E64
VERSION = 7

TABLES = """
CREATE TABLE meta(name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE definition(number INTEGER PRIMARY KEY, kind TEXT NOT NULL, text TEXT NOT NULL);
CREATE TABLE attribute(number INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE entry(
    id INTEGER PRIMARY KEY,
    parent INTEGER REFERENCES entry(id),
    key TEXT NOT NULL UNIQUE,
    dn TEXT NOT NULL,
    data BLOB NOT NULL,
    change INTEGER NOT NULL
);
CREATE INDEX entry_parent ON entry(parent);
CREATE INDEX entry_change ON entry(change);
CREATE TABLE past(change INTEGER PRIMARY KEY);
CREATE TABLE value(
    attribute INTEGER NOT NULL, value NOT NULL, entry INTEGER NOT NULL,
    PRIMARY KEY(attribute, value, entry)
) WITHOUT ROWID;
CREATE TABLE reference(
    attribute INTEGER NOT NULL, key TEXT NOT NULL, entry INTEGER NOT NULL, dn TEXT NOT NULL,
    PRIMARY KEY(attribute, key, entry)
) WITHOUT ROWID;
CREATE INDEX reference_entry ON reference(entry, attribute);
"""

_TABLES_GONE = ("no such table", "no such column", "malformed")
_BUSY_SECONDS = 10.0
_LITTLE_ROOM = 65_536  # bytes: what SQLite needs beside the file to open it for writing

# The beginning of sqlite_errorname -> our code, what it means, what to do.
_SQLITE = (
    ("SQLITE_FULL", Code.DISK_FULL, "no room left on the disk", "free some room and give the command again"),
    (
        "SQLITE_BUSY",
        Code.BUSY,
        "another process has been writing for {seconds:.0f} seconds",
        "try again when it is done",
    ),
    ("SQLITE_LOCKED", Code.BUSY, "another process is writing", "try again when it is done"),
    (
        "SQLITE_READONLY",
        Code.NOT_PERMITTED,
        "the file cannot be written",
        "check the rights on the file and its folder",
    ),
    ("SQLITE_CANTOPEN", Code.OUT_OF_REACH, "the file cannot be opened", "check the rights on the file and its folder"),
    ("SQLITE_PERM", Code.NOT_PERMITTED, "the file cannot be opened", "check the rights on the file and its folder"),
    ("SQLITE_NOTADB", Code.FOREIGN, "the file is not a Vandrel directory", "name another file"),
    ("SQLITE_CORRUPT", Code.DAMAGED, "the file is damaged", "vandrel verify tells where; vandrel unpack takes a copy"),
    (
        "SQLITE_IOERR",
        Code.OUT_OF_REACH,
        "the disk reports an error",
        "check the disk; nothing of this change was written",
    ),
)


def _is_full(path: Path) -> bool:
    try:
        return os.statvfs(path.parent).f_bavail * os.statvfs(path.parent).f_frsize < _LITTLE_ROOM
    except OSError:
        return False


@contextmanager
def plain_errors(path: Path) -> Iterator[None]:
    """Turn what SQLite raises into a `DirectoryError` that names the file."""
    try:
        yield
    except sqlite3.Error as error:
        name = getattr(error, "sqlite_errorname", "") or ""
        if "decode to UTF-8" in str(error):  # the module's own error, which has no name
            name = "SQLITE_CORRUPT"
        if name.startswith("SQLITE_IOERR") and _is_full(path):
            name = "SQLITE_FULL"  # said by the file system in other words
        for beginning, code, what, remedy in _SQLITE:
            if name.startswith(beginning):
                raise DirectoryError(
                    code, what.format(seconds=_BUSY_SECONDS), where=Location(file=str(path)), remedy=remedy
                ) from None
        if name == "SQLITE_ERROR" and any(word in str(error) for word in _TABLES_GONE):
            raise DirectoryError(
                Code.DAMAGED,
                f"the file is damaged: {error}",
                where=Location(file=str(path)),
                remedy="restore it from a copy",
            ) from None
        raise


def integrity(connection: sqlite3.Connection, path: Path) -> list[Finding]:
    """What SQLite itself finds wrong with a file, at most a hundred things."""
    try:
        rows = connection.execute("PRAGMA integrity_check(100)").fetchall()
    except sqlite3.Error as error:
        rows = [(str(error),)]
    where, remedy = Location(file=str(path)), "vandrel unpack takes a copy from before"
    return [
        Finding(Code.DAMAGED, f"the file is damaged: {row[0]}", where, remedy, NOTE) for row in rows if row[0] != "ok"
    ]


@contextmanager
def transaction(connection: sqlite3.Connection, path: Path) -> Iterator[None]:
    """Write in one go: all of it, or nothing where an error is raised. Errors of SQLite name the file."""
    with plain_errors(path):
        connection.execute("BEGIN IMMEDIATE")
        try:
            yield
            connection.execute("COMMIT")
        except BaseException:
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            raise


@contextmanager
def overwriting(connection: sqlite3.Connection, path: Path) -> Iterator[None]:
    """As `transaction`; what is deleted in it is overwritten, in the file and in what waits to be put into it."""
    with plain_errors(path):
        connection.execute("PRAGMA secure_delete = ON")
    with transaction(connection, path):
        yield
    with plain_errors(path):
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")


def create(path: Path, application: int, tables: str, what: str, version: int = VERSION) -> None:
    """Make a new file with these tables, for its owner alone (mode 0600).

    The file gets its name only once it is complete, so that a kill leaves no half-made one behind.

    Raises:
        DirectoryError: ``taken`` where the file exists; ``not-permitted``, ``out-of-reach``, ``disk-full``.

    """
    draft = path.with_name(f".vandrel-{os.urandom(8).hex()}")
    try:
        os.close(os.open(draft, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
    except OSError as error:
        raise DirectoryError(
            Code.NOT_PERMITTED, f"the {what} cannot be made: {error.strerror}", where=Location(file=str(path))
        ) from None
    try:
        with plain_errors(path):
            connection = sqlite3.connect(draft, isolation_level=None)
            try:
                connection.executescript(
                    f"PRAGMA application_id = {application}; PRAGMA user_version = {version}; {tables}"
                    "PRAGMA journal_mode = WAL;"
                )
            finally:
                connection.close()
        os.link(draft, path)  # unlike a rename, this refuses to replace a file
    except FileExistsError:
        raise DirectoryError(Code.TAKEN, f"there is a {what} already", where=Location(file=str(path))) from None
    except OSError as error:
        raise DirectoryError(
            Code.NOT_PERMITTED, f"the {what} cannot be made: {error.strerror}", where=Location(file=str(path))
        ) from None
    finally:
        draft.unlink(missing_ok=True)


def connect(path: Path, application: int, what: str, version: int = VERSION) -> tuple[sqlite3.Connection, bool]:
    """A connection to a file of ours, and whether it can write.

    A file or folder that cannot be written is opened for reading. The header is asked of SQLite and never read beside
    it: closing a file drops every lock that the process holds on it (sqlite.org/howtocorrupt.html, 2.2).

    Raises:
        DirectoryError: ``out-of-reach``, ``not-permitted``, ``foreign`` or ``damaged``.

    """
    if not os.access(path, os.F_OK):
        raise DirectoryError(Code.OUT_OF_REACH, f"there is no such {what}", where=Location(file=str(path)))
    if not path.is_file() or not os.access(path, os.R_OK):
        raise DirectoryError(Code.NOT_PERMITTED, f"the {what} cannot be read", where=Location(file=str(path)))
    with plain_errors(path):
        connection, writable = _connect(path)
        try:
            application_id, version_found = (
                connection.execute(f"PRAGMA {name}").fetchone()[0] for name in ("application_id", "user_version")
            )
        except BaseException:
            connection.close()
            raise
    if application_id != application:
        why, remedy = f"this file is not a Vandrel {what}", "name another file"
    elif version_found != version:
        why = f"the {what} has format {version_found}, and this program reads format {version}"
        remedy = "use the version of Vandrel that wrote it"
    else:
        return connection, writable
    connection.close()
    raise DirectoryError(Code.FOREIGN, why, where=Location(file=str(path)), remedy=remedy)


def _connect(path: Path) -> tuple[sqlite3.Connection, bool]:
    # A URI file name, escaped as SQLite reads it (sqlite.org/uri.html); urllib is slow to import.
    name = str(path.absolute()).replace("%", "%25").replace("?", "%3f").replace("#", "%23")
    if os.access(path, os.W_OK) and os.access(path.parent, os.W_OK):
        connection = sqlite3.connect(
            f"file:{name}?mode=rw", uri=True, isolation_level=None, timeout=_BUSY_SECONDS,
            check_same_thread=False,  # a snapshot writes from a second one, while the first one reads
        )  # fmt: skip
        # A commit is on the disk before it is reported, so that neither a kill nor a power cut undoes it.
        connection.execute("PRAGMA synchronous = FULL")
        connection.execute("PRAGMA cache_size = -8192")  # in KiB: most of what is kept here is read once
        return connection, True
    connection = sqlite3.connect(f"file:{name}?mode=ro", uri=True, isolation_level=None)
    try:
        connection.execute("SELECT 1 FROM sqlite_master").fetchone()
    except sqlite3.OperationalError:
        # In a folder that cannot be written the write-ahead index cannot be made: read the file as it is.
        connection.close()
        connection = sqlite3.connect(f"file:{name}?immutable=1", uri=True, isolation_level=None)
    return connection, False
