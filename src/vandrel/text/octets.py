"""Values that are octets, where everything else is text: as base 64 (RFC 4648, section 4)."""

from __future__ import annotations

from base64 import b64decode, b64encode


def to_text(value: str | bytes) -> str:
    """The text that stands for these octets among values of fields."""
    return b64encode(value if isinstance(value, bytes) else value.encode()).decode()


def from_text(text: str) -> bytes:
    """Octets from text."""
    return b64decode(text)


def told(text: str) -> str:
    """What people read instead: ``JPEG, 18,240 bytes``."""
    value = from_text(text)
    return f"{'JPEG' if is_jpeg(value) else 'no JPEG'}, {len(value):,} bytes"


def is_jpeg(value: bytes) -> bool:
    """Whether the octets begin and end as ITU-T T.81 (B.1.1.3) demands: SOI and another marker, EOI."""
    return value[:3] == b"\xff\xd8\xff" and value.rstrip(b"\0")[-2:] == b"\xff\xd9"
