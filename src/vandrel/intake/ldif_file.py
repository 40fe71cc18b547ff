"""LDIF as a file: its lines, which attributes are octets in it, and the files that its values name."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from urllib.parse import unquote, urlsplit

from vandrel.directory.schema import Schema
from vandrel.errors import Code, Location, VandrelError


class BinaryAttributes:
    """Whether an attribute holds octets; the first record may bring the schema by which the others are read."""

    def __init__(self, schema: Schema) -> None:
        self.schema = schema

    def __call__(self, name: str) -> bool:
        """Look it up in the schema."""
        return self.schema.is_binary(name)


def lines(path: Path) -> Iterator[str]:
    """The lines of a file, with their ends.

    Raises:
        VandrelError: ``not-found`` where it cannot be read, ``bad-value`` where it is not UTF-8.

    """
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            yield from file
    except OSError as error:
        raise VandrelError(
            Code.NOT_FOUND, f"the file cannot be read: {error.strerror}", where=Location(file=str(path))
        ) from None
    except UnicodeDecodeError as error:
        raise VandrelError(
            Code.BAD_VALUE, "the file is not UTF-8", where=Location(file=str(path), octet=error.start)
        ) from None


def content_of(url: str) -> bytes:
    """The octets of a ``file:`` URL (RFC 8089) of this machine; nothing else is fetched.

    Raises:
        VandrelError: ``refused`` for another URL, ``not-found`` where it cannot be read.

    """
    parts = urlsplit(url)
    if parts.scheme != "file" or parts.netloc not in ("", "localhost"):
        raise VandrelError(Code.REFUSED, "only file: URLs of this machine are read", where=Location(server=url))
    try:
        return Path(unquote(parts.path)).read_bytes()
    except OSError as error:
        raise VandrelError(
            Code.NOT_FOUND, f"the file cannot be read: {error.strerror}", where=Location(server=url)
        ) from None
