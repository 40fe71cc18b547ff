"""Charters that were found right, kept as they were decoded: reading and checking YAML takes longer than most commands.

An entry holds the whole text that it was made from, and counts only for exactly that text and this version.
"""

from __future__ import annotations

import zlib
from pathlib import Path

import msgspec

from vandrel import __version__, user_folders
from vandrel.charter.document import Document


class _CacheRecord(msgspec.Struct, frozen=True, array_like=True):
    version: str
    text: str
    document: Document


def _file(path: Path) -> Path:
    return user_folders.cache() / f"charter-{zlib.crc32(str(path.absolute()).encode()):08x}.msgpack"


def find(path: Path, text: str) -> Document | None:
    """The document of the charter at `path`, if exactly this text was found right before."""
    try:
        record = msgspec.msgpack.decode(_file(path).read_bytes(), type=_CacheRecord)
    except (OSError, msgspec.MsgspecError):
        return None
    return record.document if record.version == __version__ and record.text == text else None


def keep(path: Path, text: str, document: Document) -> None:
    """Keep a document; where that is not possible, the next command reads the YAML again."""
    from vandrel import safe_file
    from vandrel.errors import VandrelError

    file = _file(path)
    try:
        file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        content = msgspec.msgpack.encode(_CacheRecord(__version__, text, document))
        safe_file.write(file, content, "cache", replace=True)
    except (OSError, VandrelError):
        return
