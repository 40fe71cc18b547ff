"""An entry packed into octets, as snapshots compare and keep it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from vandrel.directory.entry import Entry, Value

#: By what an object is known again, its name, and its attributes packed: see `unpack`.
Packed = tuple[str, str, bytes]

_encode = msgspec.msgpack.Encoder(order="deterministic").encode
_decode = msgspec.msgpack.Decoder().decode
#: Stands before two maps, and before the length of the first of them: an octet that MessagePack never uses.
_JOINED, _LENGTH = b"\xc1", 4


def object_of(entry: Entry) -> str:
    """By what an object is known again: the directory's own identifier, or the key of its name where it shows none."""
    return entry.identifier or entry.dn.key


def pack(entry: Entry) -> Packed:
    """Pack an entry; the octets are the same for the same values, in whatever order they come."""
    attributes = dict(entry.attributes)
    for name in [name for name, values in attributes.items() if len(values) > 1]:
        try:
            attributes[name] = sorted(attributes[name])
        except TypeError:  # text and octets
            attributes[name] = sorted(attributes[name], key=_octets)
    return object_of(entry), str(entry.dn), _encode(attributes)


def joined(attributes: bytes, others: Mapping[str, Sequence[Value]]) -> bytes:
    """Join attributes that are packed already (MessagePack, a map of lists) and others that stand elsewhere."""
    return b"".join((_JOINED, len(attributes).to_bytes(_LENGTH, "big"), attributes, _encode(others)))


def unpack(data: bytes) -> dict[str, list[Value]]:
    """The attributes that were packed.

    Raises:
        ValueError: this is nothing that was packed.

    """
    if not data.startswith(_JOINED):
        plain: dict[str, list[Value]] = _decode(data)
        return plain
    start = len(_JOINED) + _LENGTH
    end = start + int.from_bytes(data[len(_JOINED) : start], "big")
    attributes: dict[str, list[Value]] = _decode(data[start:end])
    for name, values in _decode(data[end:]).items():
        attributes[name] = [*attributes.get(name, ()), *values]
    return attributes


def _octets(value: Value) -> bytes:
    return value if isinstance(value, bytes) else value.encode()
