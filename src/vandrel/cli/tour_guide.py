"""The tour of the demo: each command printed, run, and its output shown."""

from __future__ import annotations

import os
import shlex
import sys
from pathlib import Path

from vandrel import file_names
from vandrel.cli.session import Session


def take_tour(session: Session, folder: Path) -> int:
    """Take the tour in the folder; how many of its commands did not end as it says."""
    from vandrel.demo.tour import TOUR

    failures = 0
    before = Path.cwd()
    os.chdir(folder)
    os.environ |= _environment(session, before)
    try:
        for comment, words, expected in TOUR:
            failures += _stop(session, comment, words, expected)
    finally:
        os.chdir(before)
    session.terminal.line(f"\nThe folder stays. Go on with:  cd {shlex.quote(str(folder))}  and  vandrel --help")
    return failures


def _environment(session: Session, before: Path) -> dict[str, str]:
    """What the commands of the tour inherit, so that they go to the same directory."""
    variables = {}
    for name, value in (("VANDREL_DIRECTORY", session.args.directory), ("VANDREL_WHO", session.args.who)):
        if value and session.target:
            variables[name] = value
    connections = before / os.environ.get("VANDREL_CONNECTIONS", file_names.CONNECTIONS)
    return variables | {"VANDREL_CONNECTIONS": str(connections)} if variables and connections.exists() else variables


def _stop(session: Session, comment: str, words: list[str], expected: int) -> bool:
    """One stop of the tour; true if the command did not end as the tour says."""
    from rich.text import Text

    from vandrel.cli.main import main

    session.terminal.line()
    session.terminal.line(Text(f"# {comment}", style="dim"))
    session.terminal.heading(f"$ vandrel {' '.join(_quoted(word) for word in words)}")
    sys.stdout.flush()
    code = main(words)
    sys.stdout.flush()
    if code:
        session.terminal.line(Text(f"(exit code {code})", style="dim"))
    return code != expected


def _quoted(word: str) -> str:
    """As somebody would type it: quotes around the value alone."""
    name, equals, value = word.partition("=")
    if equals and name.replace("+", "").replace("-", "").isalnum():
        return f"{name}={_quoted(value)}" if value else word
    return f'"{word}"' if any(char in word for char in " ()&*!#") else word
