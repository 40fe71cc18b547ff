"""Security identifiers: [MS-DTYP] 2.4.2."""

from __future__ import annotations

import struct

EVERYONE = "S-1-1-0"
SELF = "S-1-5-10"


def to_text(octets: bytes) -> str:
    """The packet representation (2.4.2.2) as a string (2.4.2.1): ``S-1-5-21-...``.

    Raises:
        ValueError: the octets are no SID.

    """
    if len(octets) < 8 or octets[0] != 1 or len(octets) != length(octets):
        raise ValueError(f"not a security identifier: {octets.hex()}")
    authority = int.from_bytes(octets[2:8], "big")
    subs = struct.unpack(f"<{octets[1]}I", octets[8:])
    # 2.4.2.1: an authority of 2^32 or more is written in hexadecimal.
    first = str(authority) if authority < 1 << 32 else f"0x{authority:012X}"
    return "-".join(["S-1", first, *map(str, subs)])


def length(octets: bytes) -> int:
    """How many octets the SID takes that begins with these; at least two must be given."""
    return 8 + 4 * octets[1]


def from_text(text: str) -> bytes:
    """The packet representation of a string.

    Raises:
        ValueError: the text is no SID.

    """
    parts = text.upper().split("-")
    if len(parts) < 3 or parts[:2] != ["S", "1"] or len(parts) - 3 > 15:
        raise ValueError(f"not a security identifier: {text!r}")
    authority = int(parts[2], 16 if parts[2].startswith("0X") else 10)
    subs = [int(part) for part in parts[3:]]
    try:
        return bytes((1, len(subs))) + authority.to_bytes(6, "big") + struct.pack(f"<{len(subs)}I", *subs)
    except (OverflowError, struct.error):
        raise ValueError(f"not a security identifier: {text!r}") from None


def relative(text: str) -> int:
    """The last number: the relative identifier within the domain."""
    return int(text.rpartition("-")[2])


def sibling(text: str, rid: int) -> str:
    """The SID of the same domain with this relative identifier."""
    return f"{text.rpartition('-')[0]}-{rid}"
