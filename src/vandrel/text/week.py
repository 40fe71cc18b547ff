"""The hours of a week as people write them: ``Mon-Fri 06-18, Sat 08-12``.

Days stand alone, in ranges, or together (``Mon+Wed``). Hours are whole: the first, and that at which a block ends;
a block may go past midnight (``Fri 22-06``). Several blocks of a day follow each other (``Mon-Fri 06-10 14-18``).
``not`` takes hours away again (``Mon-Fri 06-18, not Wed 12-14``); if it is first, of the whole week (``not Sun``).
A day without hours is meant whole; ``all`` and ``none`` mean what they say.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from vandrel.errors import Code, Location, VandrelError

DAYS = ("Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat")
_WEEK = 7 * 24
_PART = re.compile(
    r"(?P<not>not\s+)?(?P<days>[A-Za-z]{3}(?:\s*[-+]\s*[A-Za-z]{3})*)(?P<blocks>(?:\s+\d{1,2}\s*-\s*\d{1,2})*)", re.I
)
_BLOCK = re.compile(r"(\d{1,2})\s*-\s*(\d{1,2})")
#: Monday first, as weeks are read.
ORDER = (1, 2, 3, 4, 5, 6, 0)


def parse(text: str) -> list[bool]:
    """168 hours from Sunday 00:00 on: which of them are allowed.

    Raises:
        VandrelError: code ``bad-value``.

    """
    low = text.strip().casefold()
    if low in ("all", "none"):
        return [low == "all"] * _WEEK
    parts = text.split(",")
    hours = [_starts_with_not(parts[0])] * _WEEK  # what is only taken away is taken from the whole week
    for part in parts:
        match = _PART.fullmatch(part.strip())
        if match is None:
            raise _unreadable(part)
        days = _days(match["days"], part)
        for begin, end in _BLOCK.findall(match["blocks"]) or [("0", "24")]:
            for hour in _block(int(begin), int(end), part):
                for day in days:
                    hours[(day * 24 + hour) % _WEEK] = not match["not"]
    if not any(hours):
        what, remedy = f"nothing is left of the week: {text.strip()!r}", "write none where that is meant"
        raise VandrelError(Code.BAD_VALUE, what, where=Location(field="hours"), remedy=remedy)
    return hours


def _starts_with_not(part: str) -> bool:
    return part.strip().casefold().startswith("not ")


def _block(begin: int, end: int, part: str) -> range:
    """The hours of a block, counted from the midnight before it; past the next one where it ends the day after."""
    if begin > 23 or end > 24 or begin == end:
        raise _unreadable(part)
    return range(begin, end if end > begin else 24 + end)


def _unreadable(part: str) -> VandrelError:
    return VandrelError(
        Code.BAD_VALUE, f"{part.strip()!r} is no part of a week", where=Location(field="hours"),
        remedy="write days and hours as Mon-Fri 06-10 14-18, Sat 08-12, not Wed 08-09; or all, or none",
    )  # fmt: skip


def _days(text: str, part: str) -> list[int]:
    days = []
    for piece in text.split("+"):
        names = [name.strip().capitalize() for name in piece.split("-")]
        if len(names) > 2 or any(name not in DAYS for name in names):
            raise _unreadable(part)
        first, last = DAYS.index(names[0]), DAYS.index(names[-1])
        days += [(first + step) % 7 for step in range((last - first) % 7 + 1)]
    return days


def to_text(hours: Sequence[bool]) -> str:
    """The shortest way to write a week down; `parse` reads it back."""
    if all(hours) or not any(hours):
        return "all" if all(hours) else "none"
    whole = {day: tuple(_ranges(hours[day * 24 : day * 24 + 24])) for day in range(7)}
    parts, place = [], 0
    while place < 7:
        blocks, last = whole[ORDER[place]], place
        while last < 6 and whole[ORDER[last + 1]] == blocks:
            last += 1
        if blocks:
            days = DAYS[ORDER[place]] if last == place else f"{DAYS[ORDER[place]]}-{DAYS[ORDER[last]]}"
            text = " ".join(f"{begin:02d}-{end:02d}" for begin, end in blocks)
            parts.append(days if blocks == ((0, 24),) else f"{days} {text}")
        place = last + 1
    return ", ".join(parts)


def _ranges(day: Sequence[bool]) -> list[tuple[int, int]]:
    ranges, begin = [], None
    for hour in range(25):
        allowed = hour < 24 and day[hour]
        if allowed and begin is None:
            begin = hour
        elif not allowed and begin is not None:
            ranges.append((begin, hour))
            begin = None
    return ranges


def periods(hours: Sequence[bool], day: int) -> list[tuple[int, int]]:
    """The periods of a day (0 is Sunday) that are allowed: first hour, and the hour at which it ends."""
    return _ranges(hours[day * 24 : day * 24 + 24])


def drawn(hours: Sequence[bool]) -> list[str]:
    """The week as a timetable: days side by side from Monday on, time runs down, each period begins with its hours."""
    of_day = {day: periods(hours, day) for day in ORDER}
    times = sorted({time for each in of_day.values() for period in each for time in period})
    lines = ["      " + "   ".join(f"{DAYS[day]:<5}" for day in ORDER)]
    for time in times:
        cells = []
        for day in ORDER:
            begin, end = next((period for period in of_day[day] if period[0] <= time < period[1]), (0, 0))
            cells.append("" if not end else f"{begin:02d}-{end:02d}" if begin == time else "  |")
        lines.append(f"{time:02d}    " + "   ".join(f"{cell:<5}" for cell in cells))
    return [line.rstrip() for line in lines]
