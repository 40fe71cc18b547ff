"""The hours of a week as people write them: ``Mon-Fri 06-18, Sat 08-12``.

Days stand alone, in ranges, or together (``Mon,Wed``); hours are whole, from the first to the one at which it ends,
and may go past midnight (``Fri 22-06``). A day without hours is meant whole; ``all`` and ``none`` mean what they say.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from vandrel.errors import VandrelError

DAYS = ("Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat")
_WEEK = 7 * 24
_PART = re.compile(r"(?P<days>[A-Za-z]{3}(?:\s*[-+]\s*[A-Za-z]{3})*)(?:\s+(?P<from>\d{1,2})\s*-\s*(?P<to>\d{1,2}))?")
_ORDER = (1, 2, 3, 4, 5, 6, 0)  # Monday first, as weeks are read


def parse(text: str) -> list[bool]:
    """168 hours from Sunday 00:00 on: which of them are allowed.

    Raises:
        VandrelError: code ``bad-value``.

    """
    low = text.strip().casefold()
    if low in ("all", "none"):
        return [low == "all"] * _WEEK
    hours = [False] * _WEEK
    for part in text.split(","):
        match = _PART.fullmatch(part.strip())
        if match is None:
            raise _unreadable(part)
        begin, end = int(match["from"] or 0), int(match["to"] or 24)
        if begin > 23 or end > 24 or begin == end:
            raise _unreadable(part)
        length = end - begin if end > begin else 24 - begin + end
        for day in _days(match["days"], part):
            for hour in range(length):
                hours[(day * 24 + begin + hour) % _WEEK] = True
    return hours


def _unreadable(part: str) -> VandrelError:
    return VandrelError(
        "bad-value", f"{part.strip()!r} is no part of a week", where="hours",
        remedy="write days and hours as Mon-Fri 06-18, Sat 08-12; or all, or none",
    )  # fmt: skip


def _days(text: str, part: str) -> list[int]:
    found = []
    for piece in text.split("+"):
        names = [name.strip().capitalize() for name in piece.split("-")]
        if len(names) > 2 or any(name not in DAYS for name in names):
            raise _unreadable(part)
        first, last = DAYS.index(names[0]), DAYS.index(names[-1])
        found += [(first + step) % 7 for step in range((last - first) % 7 + 1)]
    return found


def to_text(hours: Sequence[bool]) -> str:
    """The shortest way to write a week down; `parse` reads it back."""
    if all(hours) or not any(hours):
        return "all" if all(hours) else "none"
    by_day = {day: _ranges(hours[day * 24 : day * 24 + 24]) for day in range(7)}
    parts = []
    done: set[tuple[int, tuple[int, int]]] = set()
    for place, day in enumerate(_ORDER):
        for span in by_day[day]:
            if (day, span) in done:
                continue
            last = place
            while last < 6 and span in by_day[_ORDER[last + 1]]:
                last += 1
            done |= {(_ORDER[number], span) for number in range(place, last + 1)}
            days = DAYS[day] if last == place else f"{DAYS[day]}-{DAYS[_ORDER[last]]}"
            parts.append(days if span == (0, 24) else f"{days} {span[0]:02d}-{span[1]:02d}")
    return ", ".join(parts)


def _ranges(day: Sequence[bool]) -> list[tuple[int, int]]:
    found, begin = [], None
    for hour in range(25):
        allowed = hour < 24 and day[hour]
        if allowed and begin is None:
            begin = hour
        elif not allowed and begin is not None:
            found.append((begin, hour))
            begin = None
    return found


def drawn(hours: Sequence[bool]) -> list[str]:
    """The week at a glance: a ruler, and a line for each day from Monday on with a mark for each allowed hour."""
    ruler = "     " + "".join(f"{hour:<3d}" for hour in range(0, 24, 3))
    lines = [ruler.rstrip()]
    for day in _ORDER:
        marks = "".join("#" if hours[day * 24 + hour] else "." for hour in range(24))
        lines.append(f"{DAYS[day]}  {marks}")
    return lines
