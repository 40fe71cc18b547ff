"""``vandrel manual``: the manual page, from the parser and the table of exit codes."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel import safe_file
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "manual"
HELP = "put out the manual page, or write one for each command"
DESCRIPTION = """\
Put out the manual page in the notation of man(7), with every command, option and exit code; that of one command; or
write all of them into a folder."""
EXAMPLES = """\
  vandrel manual > vandrel.1 && man ./vandrel.1
  vandrel manual man rename | man -l -
  vandrel manual --to ~/.local/share/man/man1       vandrel(1), vandrel-show(1), vandrel-find(1) ...
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument(
        "page", nargs="?", choices=("man", "json"), default="man",
        help="man: the manual page (the default); json: the JSON Schema of what --json puts out",
    )  # fmt: skip
    parser.add_argument("command_named", nargs="?", metavar="COMMAND", help="that of one command")
    parser.add_argument("--to", metavar="FOLDER", help="write the page, and one for each command, into a folder")


def run(session: Session) -> Report:
    """Put out a page, or the schema of JSON results; or write all pages."""
    from vandrel.cli.parser import COMMANDS
    from vandrel.cli.present.json_output import json_schema
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.report import Report
    from vandrel.text.nearest import did_you_mean

    args = session.args
    if args.page == "json":
        return Report("manual", text=json.dumps(json_schema(), indent=2) + "\n")
    if args.command_named and args.command_named not in COMMANDS:
        what = f"there is no command {args.command_named!r}"
        remedy = did_you_mean(args.command_named, COMMANDS) or "vandrel --help lists them"
        raise VandrelError(Code.USAGE, what, where=Location(text=args.command_named), remedy=remedy)
    if not args.to:
        return Report("manual", text=page_of(args.command_named) if args.command_named else page())
    folder = Path(args.to)
    folder.mkdir(parents=True, exist_ok=True)
    pages = {"vandrel.1": page()} | {f"vandrel-{name}.1": page_of(name) for name in COMMANDS}
    for name, text in pages.items():
        safe_file.write(folder / name, text.encode(), "page", replace=True, private=False)
    return Report("manual", summary=[f"{len(pages)} pages in {folder}."])


def page_of(command: str) -> str:
    """The manual page of one command."""
    from argparse_manpage.manpage import Manpage

    from vandrel import __version__
    from vandrel.cli.parser import build_parser

    (commands,) = [each for each in build_parser(command)._actions if isinstance(each, argparse._SubParsersAction)]
    chosen = commands.choices[command]
    (listed,) = commands._choices_actions
    chosen.man_short_description = listed.help
    data = {"project_name": "vandrel", "version": __version__, "manual_title": "Vandrel"}
    return str(Manpage(chosen, _data=data)).rstrip() + "\n"


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
