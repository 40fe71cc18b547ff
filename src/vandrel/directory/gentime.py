"""Generalized Time (RFC 4517, section 3.3.13) in the form that directories write: UTC, to the second."""

from __future__ import annotations

from datetime import UTC, datetime


def parse(text: str) -> datetime | None:
    """``20261231220000Z`` as an aware datetime; None for anything else. (strptime is slow to import.)"""
    if len(text) != 15 or text[-1] != "Z" or not text[:-1].isdecimal():
        return None
    try:
        return datetime(
            int(text[:4]),
            int(text[4:6]),
            int(text[6:8]),
            int(text[8:10]),
            int(text[10:12]),
            int(text[12:14]),
            tzinfo=UTC,
        )
    except ValueError:
        return None


def to_text(instant: datetime) -> str:
    """An aware datetime as Generalized Time."""
    return instant.astimezone(UTC).strftime("%Y%m%d%H%M%SZ")


def now() -> str:
    """The current time as GeneralizedTime."""
    return to_text(datetime.now(UTC))
