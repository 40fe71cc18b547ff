"""``vandrel manual``: the manual page, from the parser and the table of exit codes."""

from __future__ import annotations

import argparse
import sys

from vandrel.cli.session import Session

NAME = "manual"
HELP = "put out the manual page"
DESCRIPTION = "Put out the manual page in the notation of man(7), with every command, option and exit code."
EXAMPLES = """\
  vandrel manual > vandrel.1 && man ./vandrel.1
  vandrel manual > ~/.local/share/man/man1/vandrel.1
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    del parser  # takes nothing


def run(session: Session) -> int:
    del session
    sys.stdout.write(page())
    return 0


def page() -> str:
    """The manual page."""
    from argparse_manpage.manpage import Manpage

    from vandrel import __version__
    from vandrel.cli.parser import build_parser
    from vandrel.errors import CODES

    parser = build_parser()
    parser.man_short_description = parser.description.rstrip(".") if parser.description else ""  # type: ignore[attr-defined]
    codes = "".join(f".TP\n.B {code}\n{meaning}\n" for code, meaning in [(0, "done"), *CODES.values()])
    data = {"project_name": "vandrel", "version": __version__, "manual_title": "Vandrel"}
    return str(Manpage(parser, _data=data)).rstrip() + f"\n\n.SH EXIT CODES\n{codes}"
