"""Figures, drawn by Matplotlib: one function for each."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from vandrel import safe_file
from vandrel.errors import Code, Location, VandrelError
from vandrel.text import week

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_PERIOD, _LINES = "#8a4b2a", "#d5d9dc"


def _figure(width: float, height: float) -> Figure:
    try:
        from matplotlib.figure import Figure
    except ImportError:
        raise VandrelError(
            Code.USAGE, "Matplotlib is not installed, which draws pictures", remedy="pip install 'vandrel[figures]'"
        ) from None
    return Figure(figsize=(width, height), layout="constrained")


def save(figure: Figure, path: Path) -> None:
    """Write a figure into a file, in the format that its suffix names.

    Raises:
        VandrelError: ``usage`` for a format that is not known, ``not-permitted`` where it cannot be written.

    """
    try:
        content = io.BytesIO()
        figure.savefig(content, dpi=120, format=path.suffix[1:])
    except ValueError as error:
        raise VandrelError(
            Code.USAGE, str(error), where=Location(file=str(path)), remedy="name the file .png, .svg or .pdf"
        ) from None
    safe_file.write(path, content.getvalue(), "picture", replace=True)


def week_figure(hours: Sequence[bool], title: str, below: str) -> Figure:
    """The hours of a week (168, from Sunday 00:00 on) as a timetable: days side by side, time runs down."""
    figure = _figure(10, 6.2)
    axes = figure.subplots()
    for column, day in enumerate(week.ORDER):
        for begin, end in week.periods(hours, day):
            axes.bar(column, end - begin, bottom=begin, width=0.62, color=_PERIOD)
            inside: dict[str, Any] = {"ha": "center", "color": "white", "fontsize": 9}
            if end - begin == 1:
                axes.text(column, begin + 0.5, f"{begin:02d}-{end:02d}", va="center", **inside)
            else:
                axes.text(column, begin + 0.15, f"{begin:02d}", va="top", **inside)
                axes.text(column, end - 0.15, f"{end:02d}", va="bottom", **inside)
    axes.set_xticks(range(7), [week.DAYS[day] for day in week.ORDER])
    axes.xaxis.tick_top()
    axes.set_xlim(-0.5, 6.5)
    axes.set_ylim(24, 0)
    axes.set_yticks(range(0, 25, 3), [f"{hour:02d}" for hour in range(0, 25, 3)])
    axes.grid(axis="y", color=_LINES, linewidth=0.6)
    axes.set_axisbelow(True)
    axes.set_xlabel(below)
    axes.set_title(title, loc="left", pad=24)
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_visible(False)
    return figure
