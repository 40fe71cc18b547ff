"""FILETIME as text: [MS-DTYP] 2.3.3, and how [MS-ADA1] 2.1 (accountExpires) uses it."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

_BEGIN = datetime(1601, 1, 1, tzinfo=UTC)
NEVER = str(2**63 - 1)


def parse(text: str) -> datetime | None:
    """Intervals of 100 ns since 1601 UTC as an instant; None for never (0 and 2^63-1) and for what is no time."""
    if not text.isdecimal() or text in ("0", NEVER):
        return None
    try:
        return _BEGIN + timedelta(microseconds=int(text) // 10)
    except OverflowError:
        return None


def to_text(instant: datetime) -> str:
    """An aware datetime as a number of intervals."""
    since = instant.astimezone(UTC) - _BEGIN
    return str((since.days * 86_400 + since.seconds) * 10_000_000 + since.microseconds * 10)
