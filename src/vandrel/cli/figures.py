"""Figures, drawn by Matplotlib: one function for each."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel import safe_file
from vandrel.errors import Code, Location, VandrelError
from vandrel.text import week

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_ALLOWED, _CLOSED, _LINES = "#1f6f8b", "#eef1f3", "#ffffff"


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
    """The hours of a week (168, from Sunday 00:00 on), a row for each day from Monday on."""
    figure = _figure(10, 4)
    axes = figure.subplots()
    for row, day in enumerate(week.ORDER):
        for hour in range(24):
            colour = _ALLOWED if hours[day * 24 + hour] else _CLOSED
            axes.barh(row, 1, left=hour, height=0.9, color=colour, edgecolor=_LINES)
    axes.set_yticks(range(7), [week.DAYS[day] for day in week.ORDER])
    axes.invert_yaxis()
    axes.set_xticks(range(0, 25, 2), [f"{hour:02d}" for hour in range(0, 25, 2)])
    axes.set_xlim(0, 24)
    axes.set_xlabel(below)
    axes.set_title(title, loc="left")
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_visible(False)
    return figure
