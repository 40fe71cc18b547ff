"""``vandrel invent``: invented people for a rehearsal, as a tabular file."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel import safe_file
from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "invent"
HELP = "invent people for a rehearsal, as a tabular file"
DESCRIPTION = """\
Write a tabular file of invented people of one kind, with the difficult names of real life, in many languages: for a
rehearsal of import, or to see what the charter's patterns make of them; what its columns mean is written beside it, so
that import reads it. Nothing is changed; --number begins behind the numbers in use."""
EXAMPLES = """\
  vandrel invent crew 500 --to rehearsal.csv
  vandrel import rehearsal.csv --dry-run
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("kind", metavar="KIND", help="a kind of account in the charter")
    parser.add_argument("count", type=options.positive, metavar="N", help="how many")
    parser.add_argument("--to", metavar="FILE", required=True, help=".csv, .xlsx or .ods")
    parser.add_argument(
        "--number", type=options.positive, default=7001, metavar="N", help="the first number (default: 7001)"
    )
    parser.add_argument("--seed", type=options.positive, default=1, metavar="N", help="others for another number")


def run(session: Session) -> Report:
    """Write the rows into a file, and what its columns mean beside it."""
    from vandrel.intake.annotate import write_rows
    from vandrel.intake.description import as_yaml, beside
    from vandrel.intake.invent import rows
    from vandrel.intake.propose import propose
    from vandrel.intake.table import open_table
    from vandrel.jobs.common.report import Report

    args, path = session.args, Path(session.args.to)
    header, people_rows = rows(session.charter, args.kind, args.count, args.number, args.seed)
    safe_file.must_be_free(beside(path))
    number = write_rows(path, header, people_rows)
    description, table, comments = propose(open_table(path), session.charter, kind=args.kind)
    meaning = as_yaml(description, table.layout, comments)
    safe_file.write(beside(path), meaning.encode(), "description", private=False)
    people = "1 invented person" if number == 1 else f"{number} invented people"
    facts = [("rows", number)] if session.terminal.as_json else []
    return Report("invent", facts=facts, summary=[f"{people} in {path}; what its columns mean: {beside(path)}"])
