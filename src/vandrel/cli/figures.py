"""Figures, drawn by Matplotlib: one function for each."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from vandrel import safe_file
from vandrel.errors import Code, Location, VandrelError
from vandrel.jobs.audit.statistics import Form, Statistic
from vandrel.text import week

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from vandrel.jobs.common.report import Branch

_PERIOD, _LINES = "#8a4b2a", "#d5d9dc"
#: Series differ in colour, in how light they are, and in what is drawn over them: they can be told apart in grey.
_SERIES = (
    ("#8a4b2a", ""), ("#d9a441", "//"), ("#31606b", ""), ("#a9c5c1", ".."), ("#5b3f63", "xx"), ("#e3d3bd", ""),
    ("#6d7a3a", "\\\\"), ("#c9cbd6", "--"), ("#3d3d3d", "oo"), ("#f0e9d8", "++"),
)  # fmt: skip
#: Characters of a label; inches of a row, of the edges, and of the width.
_LONGEST_LABEL, _ROW, _EDGES, _WIDTH = 46, 0.27, 1.6, 10.0
#: Characters of all labels below columns that stand side by side.
_CROWDED = 75
#: Rows of one column of the drawn hierarchy.
_UNITS_A_COLUMN = 60


def _figure(width: float, height: float, *, is_laid_out: bool = True) -> Figure:
    try:
        from matplotlib.figure import Figure
    except ImportError:
        raise VandrelError(
            Code.USAGE, "Matplotlib is not installed, which draws pictures", remedy="pip install 'vandrel[figures]'"
        ) from None
    return Figure(figsize=(width, height), layout="constrained" if is_laid_out else None)


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


def statistic_figure(chosen: Statistic, *, has_title: bool = True) -> Figure:
    """One figure of a directory, as its form says: bars for rows with long names, columns or a line for few."""
    height = _EDGES + _ROW * max(len(chosen.rows), 6) if chosen.form is Form.BARS else 5.0
    figure = _figure(_WIDTH, height)
    from matplotlib.ticker import MaxNLocator

    axes = figure.subplots()
    labels = [_shortened(label) for label, _ in chosen.rows]
    if chosen.is_empty:
        axes.text(0.5, 0.5, "nothing to show", ha="center", va="center", transform=axes.transAxes)
    elif chosen.form is Form.LINE:
        axes.plot(labels, [numbers[0] for _, numbers in chosen.rows], color=_PERIOD, marker="o", markersize=3)
        axes.set_ylim(bottom=0)
    elif chosen.form is Form.COLUMNS:
        _columns(axes, chosen)
    else:
        _bars(axes, chosen)
    if chosen.form is Form.BARS:
        axes.set_yticks(range(len(labels)), labels)
        axes.invert_yaxis()
        axes.set_xlabel(_unit_of(chosen))
        axes.xaxis.set_major_locator(MaxNLocator(integer=True))
        axes.grid(axis="x", color=_LINES, linewidth=0.6)
    else:
        is_crowded = sum(map(len, labels)) > _CROWDED
        axes.set_xticks(range(len(labels)), labels, rotation=45 if is_crowded else 0, ha="center")
        axes.yaxis.set_major_locator(MaxNLocator(integer=True))
        axes.set_xlabel(chosen.label)
        axes.set_ylabel(_unit_of(chosen))
        axes.grid(axis="y", color=_LINES, linewidth=0.6)
    axes.set_axisbelow(True)
    if has_title:
        axes.set_title(chosen.title, loc="left", pad=14)
    axes.tick_params(length=0)
    if len(chosen.series) > 1 and not chosen.is_empty:
        figure.legend(loc="outside lower center", ncols=min(len(chosen.series), 5), frameon=False)
    for side in axes.spines.values():
        side.set_visible(False)
    return figure


def _unit_of(chosen: Statistic) -> str:
    return chosen.series[0] if len(chosen.series) == 1 else "accounts"


def _shortened(label: str) -> str:
    """A label that leaves room for the bars: its end counts most, as in a place."""
    return label if len(label) <= _LONGEST_LABEL else f"...{label[-_LONGEST_LABEL + 3 :]}"


def _bars(axes: Axes, chosen: Statistic) -> None:
    """Bars side by side in one row for each label, with the sum behind them."""
    sums = [0] * len(chosen.rows)
    for number, name in enumerate(chosen.series):
        color, hatch = _SERIES[number % len(_SERIES)]
        values = [numbers[number] for _, numbers in chosen.rows]
        axes.barh(range(len(values)), values, left=sums, height=0.7, color=color, hatch=hatch, edgecolor="white",
                  linewidth=0.5, label=name)  # fmt: skip
        sums = [total + value for total, value in zip(sums, values, strict=True)]
    most = max(sums)
    for row, (_, numbers) in enumerate(chosen.rows):
        label = (
            f"{sum(numbers):,}" if len(numbers) == 1 or numbers[-1] == 0 else " + ".join(f"{n:,}" for n in numbers if n)
        )
        axes.text(sums[row] + most * 0.01, row, label, va="center", fontsize=8)
    axes.set_xlim(0, most * 1.15)


def _columns(axes: Axes, chosen: Statistic) -> None:
    width = 0.8 / len(chosen.series)
    for number, name in enumerate(chosen.series):
        color, hatch = _SERIES[number % len(_SERIES)]
        values = [numbers[number] for _, numbers in chosen.rows]
        at = [place - 0.4 + width * (number + 0.5) for place in range(len(values))]
        drawn = axes.bar(
            at, values, width=width, color=color, hatch=hatch, edgecolor="white", linewidth=0.5, label=name
        )
        axes.bar_label(drawn, [f"{value:,}" if value else "" for value in values], fontsize=8)


def hierarchy_figure(root: Branch) -> Figure:
    """The units of a hierarchy as an outline in columns, each with a line to the one that holds it."""
    rows = list(_outline(root, 0, -1))
    columns = -(-len(rows) // _UNITS_A_COLUMN)
    height = _EDGES / 2 + min(len(rows), _UNITS_A_COLUMN) * 0.2
    figure = _figure(max(6.0, 5.2 * columns), height, is_laid_out=False)
    axes = figure.add_axes((0.01, 0.01, 0.98, 0.98))
    at: dict[int, tuple[float, float]] = {}
    for number, (depth, above, branch) in enumerate(rows):
        column, row = divmod(number, _UNITS_A_COLUMN)
        x, y = column * 30 + depth * 1.4, float(row)
        at[number] = (x, y)
        if above >= 0 and at[above][0] < x and above // _UNITS_A_COLUMN == column:
            axes.plot(
                [at[above][0] + 0.3, at[above][0] + 0.3, x - 0.2], [at[above][1] + 0.4, y, y], color=_LINES, lw=0.8
            )
        words = [branch.name, *(f"[{mark}]" for mark in branch.marks), *branch.words]
        weight = "bold" if depth <= 1 else "normal"
        axes.text(x, y, _shortened("  ".join(words)), va="center", fontsize=8, weight=weight)
    axes.set_xlim(-0.5, columns * 30)
    axes.set_ylim(min(len(rows), _UNITS_A_COLUMN), -1)
    axes.axis("off")
    return figure


def _outline(branch: Branch, depth: int, above: int, start: int = 0) -> Iterator[tuple[int, int, Branch]]:
    """Depth, number of the branch above and the branch itself, from the top down; numbers count from `start`."""
    yield depth, above, branch
    number = start + 1
    for below in branch.below:
        for row in _outline(below, depth + 1, start, number):
            yield row
            number += 1
