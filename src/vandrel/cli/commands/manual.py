"""``vandrel manual``: the manual page, from the parser and the table of exit codes."""

from __future__ import annotations

import argparse
import json
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "manual"
HELP = "put out the manual page"
DESCRIPTION = "Put out the manual page in the notation of man(7), with every command, option and exit code."
EXAMPLES = """\
  vandrel manual > vandrel.1 && man ./vandrel.1
  vandrel manual > ~/.local/share/man/man1/vandrel.1
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument(
        "page", nargs="?", choices=("man", "json"), default="man",
        help="man: the manual page (the default); json: the JSON Schema of what --json puts out",
    )  # fmt: skip


def run(session: Session) -> Report:
    """Put out the page, or the schema of JSON results."""
    from vandrel.cli.present.json_output import json_schema
    from vandrel.jobs.common.report import Report

    if session.args.page == "json":
        return Report("manual", text=json.dumps(json_schema(), indent=2) + "\n")
    return Report("manual", text=page())


def page() -> str:
    """The manual page."""
    from argparse_manpage.manpage import Manpage

    from vandrel import __version__
    from vandrel.cli.parser import build_parser
    from vandrel.errors import Code

    parser = build_parser()
    parser.man_short_description = parser.description.rstrip(".") if parser.description else ""  # type: ignore[attr-defined]
    listed = [(0, "done"), *((code.exit_code, code.meaning) for code in Code if not code.is_of_rows)]
    codes = "".join(f".TP\n.B {code}\n{meaning}\n" for code, meaning in listed)
    data = {"project_name": "vandrel", "version": __version__, "manual_title": "Vandrel"}
    return str(Manpage(parser, _data=data)).rstrip() + f"\n\n.SH EXIT CODES\n{codes}"
