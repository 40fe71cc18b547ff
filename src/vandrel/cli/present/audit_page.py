"""The report of an audit as one HTML file that needs nothing from elsewhere."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from importlib import resources
from typing import TYPE_CHECKING, Any

from vandrel.errors import Code, VandrelError

if TYPE_CHECKING:
    from vandrel.jobs.audit.page import AuditPage

#: Faults of one rule that the page has; all stand in the JSON of the audit.
MOST_ROWS = 200
_COLUMNS = ("Object", "Place", "What is wrong", "What mends it", "Since")
_PROLOG = re.compile(r"^.*?(?=<svg)", re.DOTALL)
_META = re.compile(r"<metadata>.*?</metadata>", re.DOTALL)


def render(page: AuditPage) -> str:
    """The page. Whatever comes from the directory is text in it and never markup.

    Raises:
        VandrelError: ``usage`` where what it is made with is not installed.

    """
    try:
        from jinja2 import Environment
    except ImportError:
        raise VandrelError(
            Code.USAGE, "Jinja is not installed, which makes pages", remedy="pip install 'vandrel[figures]'"
        ) from None
    template = resources.files(__package__).joinpath("audit_report.html.j2").read_text("utf-8")
    environment = Environment(autoescape=True, trim_blocks=True)
    return environment.from_string(template).render(
        title=page.title, written=page.written, content=page.content, changes=page.changes, rules=page.rules,
        figures=_figures(page), columns=_COLUMNS, most=MOST_ROWS,
    )  # fmt: skip


def _figures(page: AuditPage) -> Sequence[dict[str, Any]]:
    """The figures that are not empty, drawn; none where the library that draws is not installed."""
    from markupsafe import Markup
    from matplotlib import rc_context

    from vandrel.cli.figures import statistic_figure

    drawn = []
    for name in page.figures:
        if name.is_empty:
            continue
        svg = io.StringIO()
        figure = statistic_figure(name, has_title=False)
        with rc_context({"svg.fonttype": "none"}):  # letters stay letters: a tenth of the size, and they are found
            figure.savefig(svg, format="svg", metadata={"Date": None})
        # Made by Matplotlib, which escapes the texts that it is given.
        markup = Markup(_META.sub("", _PROLOG.sub("", svg.getvalue(), count=1)))
        label = f'<svg role="img" aria-label="{Markup.escape(name.title)}"'
        drawn.append({
            "name": name.name, "title": name.title, "note": name.note, "label": name.label, "series": name.series,
            "rows": name.rows, "svg": Markup(markup.replace("<svg", Markup(label), 1)),
        })  # fmt: skip
    return drawn
