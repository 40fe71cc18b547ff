"""``vandrel demo``: a made-up organization to try everything in, and a commented tour of it."""

from __future__ import annotations

import argparse
import os
import shlex
import sys
from pathlib import Path

from vandrel.cli.session import Session

NAME = "demo"
HELP = "make a folder with a made-up ferry line, and take a tour"
DESCRIPTION = """\
Make a folder with the charter and the directory of Marrowick Ferries, a made-up ferry line with some sixty people, and
run a commented tour that prints each command and its output. The folder stays: go on in it with commands of yours."""
EXAMPLES = """\
  vandrel demo ferry
  vandrel demo ferry --no-tour
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="DIR", help="the folder to make; it must be empty or not exist")
    parser.add_argument("--no-tour", action="store_true", help="make the folder only")


def run(session: Session) -> int:
    from vandrel.demo.tour import TOUR
    from vandrel.demo.world import make
    from vandrel.errors import VandrelError

    folder = Path(session.args.folder)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()):
            raise VandrelError(
                "taken", "the folder is not empty", where=str(folder), remedy="name a new one, or empty it"
            )
    except OSError as error:
        raise VandrelError("not-permitted", f"the folder cannot be made: {error.strerror}", where=str(folder)) from None
    people = make(folder)
    session.out.note(
        f"{folder} holds the charter and the directory of Marrowick Ferries: {people} accounts, all made up."
    )
    if session.args.no_tour:
        return 0
    failures = 0
    before = Path.cwd()
    os.chdir(folder)
    try:
        for comment, words, expected in TOUR:
            failures += _stop(session, comment, words, expected)
    finally:
        os.chdir(before)
    session.out.line(f"\nThe folder stays. Go on with:  cd {shlex.quote(str(folder))}  and  vandrel --help")
    return 1 if failures else 0


def _stop(session: Session, comment: str, words: list[str], expected: int) -> bool:
    """One stop of the tour; true if the command did not end as the tour says."""
    from rich.text import Text

    from vandrel.cli.main import main

    session.out.line()
    session.out.line(Text(f"# {comment}", style="dim"))
    session.out.heading(f"$ vandrel {' '.join(_quoted(word) for word in words)}")
    sys.stdout.flush()
    code = main(words)
    sys.stdout.flush()
    if code:
        session.out.line(Text(f"(exit code {code})", style="dim"))
    return code != expected


def _quoted(word: str) -> str:
    """As somebody would type it: quotes around the value alone."""
    name, equals, value = word.partition("=")
    if equals and name.replace("+", "").replace("-", "").isalnum():
        return f"{name}={_quoted(value)}" if value else word
    return f'"{word}"' if any(char in word for char in " ()&*!#") else word
