"""``vandrel chart``: figures of the directory, as numbers or as a picture."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "chart"
HELP = "figures of the directory: numbers, or a picture"
DESCRIPTION = """\
Count the directory: accounts by unit and kind, what the audit finds by unit, how often fields are filled, the age of
logons and passwords, growth, what is ahead, sizes and nesting of groups. Without a name the charts are listed; with
--to the figure is drawn into a file, in the format that its suffix names."""
EXAMPLES = """\
  vandrel chart
  vandrel chart fields
  vandrel chart kinds --to kinds.svg
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("name", nargs="?", metavar="CHART", help="which one; without a name they are listed")
    parser.add_argument("--to", metavar="FILE", help="draw it: .svg, .png or .pdf")


def run(session: Session) -> Report:
    """Hand the request on, and draw what comes back."""
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.audit.audit import AuditRequest, broken_rules
    from vandrel.jobs.audit.statistics import as_report, list_statistics, statistic
    from vandrel.jobs.audit.survey import Survey
    from vandrel.jobs.common.report import Report

    args = session.args
    if not args.name:
        if args.to:
            raise VandrelError(
                Code.USAGE, "which chart?", where=Location(option="--to"), remedy="vandrel chart lists them"
            )
        return list_statistics()
    survey = Survey(session.context)
    needs_faults = args.name == "conformity"
    faults = [each.fault for each in broken_rules(survey, AuditRequest())] if needs_faults else []
    chosen = statistic(survey, args.name, faults)
    if not args.to:
        return as_report(chosen)
    from vandrel.cli.figures import save, statistic_figure

    save(statistic_figure(chosen), Path(args.to))
    return Report("chart", text=f"{chosen.title}: {args.to}\n")
