"""Entries as rows: what stands in the blob, in the index of values, in the table of references."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from itertools import islice

import msgspec
from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.packing import Packed, joined
from vandrel.directory.schema import Schema, without_options
from vandrel.directory.schema.matching import Key
from vandrel.errors import Code, DirectoryError, Location

Data = dict[str, list[Value]]

_encode = msgspec.msgpack.Encoder().encode
_decode = msgspec.msgpack.Decoder().decode

#: Longer keys are left out of the index of values; a filter on such an attribute would still find them by
#: reading, so attributes that may be longer than this are not indexed at all.
_INDEXED_LENGTH = 512


#: Octets of the sum before the attributes.
_SUM = 4


class DamagedRowError(Exception):
    """A row that is not as it was written."""


#: What reading such a row raises: it is not even octets, or no text; msgspec's errors are of ValueError.
_DAMAGE = (TypeError, ValueError, AttributeError)


def damaged(dn: DN) -> DirectoryError:
    """Make the answer for an entry that is not as it was written."""
    what = "the entry is damaged: the file is not as it was written"
    return DirectoryError(
        Code.DAMAGED, what, where=Location(dn=str(dn)), remedy="vandrel verify tells what can be done"
    )


def _seal(content: bytes, dn: str) -> bytes:
    return zlib.crc32(content, zlib.crc32(dn.encode())).to_bytes(_SUM, "big") + content


def encode(data: Data, dn: str) -> bytes:
    """Pack the attributes of an entry, behind a sum (CRC-32) over them and the name as it stands in the row."""
    return _seal(_encode(data), dn)


def sealed_anew(blob: bytes, dn: str) -> bytes:
    """The blob of an entry that has another name now."""
    return _seal(blob[_SUM:], dn)


def decode(blob: bytes, dn: str) -> Data:
    """Unpack the attributes of an entry.

    Raises:
        DamagedRowError: it is not what was packed under this name.

    """
    try:
        content = blob[_SUM:]
        if zlib.crc32(content, zlib.crc32(dn.encode())) != int.from_bytes(blob[:_SUM], "big"):
            raise DamagedRowError
        data: Data = _decode(content)
    except _DAMAGE:
        raise DamagedRowError from None
    return data


#: Searched for, or unique, however long their values may be.
_ALWAYS = frozenset({"cn", "name", "mail", "sAMAccountName", "userPrincipalName", "proxyAddresses"})


def indexed_attributes(schema: Schema) -> list[str]:
    """The attributes that an embedded directory of this schema keeps an index of."""
    names = []
    for name in schema.attribute_names():
        attribute = schema.attribute(name)
        if attribute is None or not attribute.equality or schema.is_binary(name):
            continue
        if attribute.limit > _INDEXED_LENGTH and name not in _ALWAYS:
            continue
        if not attribute.operational or name in ("objectClass", "entryUUID", "pwdAccountLockedTime", "pwdReset"):
            names.append(name)
    return names


class Index:
    """Which attributes are indexed, under which number, in which table."""

    def __init__(self, schema: Schema, numbers: dict[str, int]) -> None:
        self.schema = schema
        self.numbers = numbers
        self.names = {number: name for name, number in numbers.items()}
        self.references = {name: numbers[name] for name in schema.references() if name in numbers}
        self._keyed = {
            name: (number, schema.normalizer(name) or str)
            for name, number in numbers.items()
            if name not in self.references
        }

    def table_of(self, attribute: str) -> tuple[str, str]:
        """The table that indexes an attribute: ``value`` or ``reference``."""
        return ("reference", "key") if attribute in self.references else ("value", "value")

    def values(self, entry: int, data: Data) -> Iterator[tuple[int, Key, int]]:
        """The rows of table ``value`` for an entry with this data (references excluded)."""
        for name, values in data.items():
            keyed = self._keyed.get(name) or (self._keyed.get(without_options(name)) if ";" in name else None)
            if keyed is not None:
                number, normalize = keyed
                for value in values:
                    yield number, normalize(value) if isinstance(value, str) else value, entry


_MANY = 400

#: Number, key and name of an entry, and its attributes.
_Row = tuple[int, str, str, bytes]

#: Told of the key and the name of a damaged row.
TellDamage = Callable[[object, object], None]


def read(
    connection: sqlite3.Connection, index: Index, rows: Iterable[_Row],
    tell_damage: TellDamage, only: Collection[str] = (),
) -> Iterator[Entry]:  # fmt: skip
    """Make entries of rows (id, key, dn, data), adding their references; damaged ones are told and left out.

    Args:
        connection: the file.
        index: its attributes.
        rows: the rows.
        tell_damage: is told of the damaged ones.
        only: the attributes that are wanted, all if none is named; the references of others are not read.

    """
    numbers = [number for name, number in index.numbers.items() if name in only and name in index.references]
    narrowed = f" AND attribute IN ({','.join(map(str, numbers))})" if only else ""
    for batch in _batches(rows):
        references = _references(connection, index, batch, narrowed)
        for identity, key, dn, blob in batch:
            try:
                data = decode(blob, dn)
            except DamagedRowError:
                tell_damage(key, dn)
                continue
            if identity in references:
                for name, dns in references[identity].items():
                    data[name] = [*data.get(name, ()), *dns]
            yield Entry(DN.stored(dn, key), data)


class _Identified(Struct):
    """The identifiers of an object, which is all of its attributes that is unpacked."""

    objectGUID: list[object] = []  # noqa: N815
    entryUUID: list[object] = []  # noqa: N815


_identify = msgspec.msgpack.Decoder(_Identified).decode


def read_packed(
    connection: sqlite3.Connection, index: Index, rows: Iterable[_Row], tell_damage: TellDamage
) -> Iterator[Packed]:  # fmt: skip
    """Make packed entries of rows, as `read` makes entries; their attributes stay packed as they are."""
    crc32 = zlib.crc32  # written out: a snapshot of a large directory spends much of its time here
    for batch in _batches(rows):
        references = _references(connection, index, batch, "")
        for identity, key, dn, blob in batch:
            try:
                content = blob[_SUM:]
                if crc32(content, crc32(dn.encode())).to_bytes(_SUM, "big") != blob[:_SUM]:
                    raise DamagedRowError
                known = _identify(content)
            except (DamagedRowError, *_DAMAGE):
                tell_damage(key, dn)
                continue
            for name in known.objectGUID or known.entryUUID:
                if isinstance(name, str):
                    break
            else:
                name = key
            yield name, dn, joined(content, references[identity]) if identity in references else content


def _batches(rows: Iterable[_Row]) -> Iterator[Sequence[_Row]]:
    rows = iter(rows)
    while batch := list(islice(rows, _MANY)):
        yield batch


def _references(
    connection: sqlite3.Connection, index: Index, batch: Sequence[_Row], narrowed: str
) -> dict[int, dict[str, list[Value]]]:  # fmt: skip
    """The references of entries, always in the same order."""
    references: dict[int, dict[str, list[Value]]] = {}
    marks = ",".join("?" * len(batch))
    for entry, number, dn in connection.execute(
        f"SELECT entry, attribute, dn FROM reference WHERE entry IN ({marks}){narrowed} ORDER BY entry, attribute, key",
        [row[0] for row in batch],
    ):
        references.setdefault(entry, {}).setdefault(index.names.get(number, ""), []).append(dn)
    return references
