"""A look through the whole file of an embedded directory: every page, every entry, every name that points at one."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from pathlib import Path

from vandrel.directory import dn as names
from vandrel.directory.embedded import sqlite_file
from vandrel.directory.embedded.row_codec import DamagedRowError, decode
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError

#: Rows that are read together; where one of them cannot be, each is tried by itself.
_TOGETHER = 500


def verify(connection: sqlite3.Connection, path: Path) -> tuple[int, list[Finding]]:
    """Read every row.

    Args:
        connection: to the file.
        path: its name, for messages.

    Returns:
        How many entries were read, and what is damaged.

    """
    findings = sqlite_file.integrity(connection, path)
    entries = 0
    for row in _rows(connection, "SELECT id, key, dn, data FROM entry", "id", findings, path):
        entries += 1
        if why := _why_damaged(*row[1:]):
            findings.append(Finding(Code.DAMAGED, f"the entry is damaged: {why}", Location(dn=str(row[2])), "", NOTE))
    references = (
        "SELECT 0, reference.key, reference.dn, entry.dn FROM entry JOIN reference ON reference.entry = entry.id"
    )
    for _, key, dn, holder in _rows(connection, references, "entry.id", findings, path):
        if _key_of(dn) != key:
            what = f"a name that it points at is damaged: {dn!r}"
            findings.append(Finding(Code.DAMAGED, what, Location(dn=str(holder)), "", NOTE))
    return entries, findings


def _why_damaged(key: object, dn: object, data: object) -> str:
    if not isinstance(dn, str) or not isinstance(data, bytes):
        return "its row is not of the kind that was written"
    try:
        decode(data, dn)
    except DamagedRowError:
        return "its check sum is another"
    return "" if _key_of(dn) == key else "its name is not the one by which it is found"


def _key_of(dn: object) -> str:
    try:
        return names.parse(str(dn)).key if dn else ""
    except VandrelError:
        return "\0"


def _rows(
    connection: sqlite3.Connection, sql: str, column: str, findings: list[Finding], path: Path
) -> Iterator[tuple[object, ...]]:
    """The rows of a table in chunks; what cannot be read is told, and the rest is gone on with."""
    try:
        (last,) = connection.execute("SELECT coalesce(max(id), 0) FROM entry").fetchone()
    except sqlite3.Error:
        last = 0
    start = 0
    while start <= last:
        step = _TOGETHER
        while True:
            try:
                yield from connection.execute(
                    f"{sql} WHERE {column} >= ? AND {column} < ?", (start, start + step)
                ).fetchall()
                break
            except sqlite3.Error as error:
                if step == 1:
                    place, remedy = Location(file=str(path), row=start), "vandrel unpack takes a copy from before"
                    what = f"entry {start} cannot be read: {error}"
                    findings.append(Finding(Code.DAMAGED, what, place, remedy, NOTE))
                    break
                step = 1
        start += step
