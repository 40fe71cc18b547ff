"""Logon hours on the wire: [MS-ADA1] 2.376, [MS-SAMR] 2.2.6.5 — 21 octets, a bit for each hour of the week.

Bit 0 of octet 0 is Sunday from 00:00 to 01:00 UTC, least significant bit first.
"""

from __future__ import annotations

from collections.abc import Sequence

WEEK = 168


def decode(octets: bytes) -> list[bool]:
    """The hours of the week in UTC, from Sunday 00:00 on; all true where nothing is set.

    Raises:
        ValueError: neither nothing nor 21 octets.

    """
    if not octets:
        return [True] * WEEK
    if len(octets) != WEEK // 8:
        raise ValueError(f"logon hours are 21 octets, and these are {len(octets)}")
    return [bool(octets[hour // 8] >> hour % 8 & 1) for hour in range(WEEK)]


def encode(hours: Sequence[bool]) -> bytes:
    """168 hours in UTC, from Sunday 00:00 on, as octets."""
    octets = bytearray(WEEK // 8)
    for hour, allowed in enumerate(hours):
        octets[hour // 8] |= allowed << hour % 8
    return bytes(octets)


def shifted(hours: Sequence[bool], by: int) -> list[bool]:
    """The week as a zone sees it that is `by` whole hours ahead of the one given; negative: behind."""
    return [hours[(hour - by) % WEEK] for hour in range(WEEK)]
