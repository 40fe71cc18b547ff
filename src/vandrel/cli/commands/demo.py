"""``vandrel demo``: a made-up organization to try everything in, and a commented tour of it."""

from __future__ import annotations

import argparse
import os
import shlex
import sys
from pathlib import Path

from vandrel import file_names
from vandrel.cli import rehearsal
from vandrel.cli.session import Session

NAME = "demo"
HELP = "make a folder with a made-up ferry line, and take a tour"
DESCRIPTION = """\
Make a folder with the charter and the directory of Marrowick Ferries, a made-up ferry line with some sixty people, and
run a commented tour that prints each command and its output. The folder stays: go on in it with commands of yours.
With --stand-in it goes on to serve a stand-in for a service outside, which is the connection `courses` there."""
EXAMPLES = """\
  vandrel demo ferry
  vandrel demo ferry --no-tour
  vandrel demo ferry --no-tour --stand-in
  vandrel demo ferry --directory harbour     the same people on a server of yours that holds dc=marrowick,dc=example
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("folder", metavar="DIR", help="the folder to make; it must be empty or not exist")
    parser.add_argument("--no-tour", action="store_true", help="make the folder only")
    parser.add_argument("--stand-in", action="store_true", help="then serve a service to rehearse on, until Ctrl-C")


def run(session: Session) -> int:
    """Make the folder, and take the tour."""
    from vandrel.errors import Code, Location, VandrelError

    folder = Path(session.args.folder)
    if session.args.stand_in:
        rehearsal.must_have_libraries()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()):
            raise VandrelError(
                Code.TAKEN,
                "the folder is not empty",
                where=Location(file=str(folder)),
                remedy="name a new one, or empty it",
            )
    except OSError as error:
        raise VandrelError(
            Code.NOT_PERMITTED, f"the folder cannot be made: {error.strerror}", where=Location(file=str(folder))
        ) from None
    people = _make(session, folder)
    what = "the charter of" if session.target else "the charter and the directory of"
    session.terminal.note(f"{folder} holds {what} Marrowick Ferries: {people} accounts, all made up.")
    failures = 0 if session.args.no_tour else _tour(session, folder)
    if session.args.stand_in:
        _serve(session, folder.resolve())
    return 1 if failures else 0


def _serve(session: Session, folder: Path) -> None:
    """Serve the stand-in; the connection to it stands in the folder, unless there is a file of connections already."""
    from importlib import resources

    from vandrel import safe_file

    service, connections = folder / "service", folder / file_names.CONNECTIONS
    service.mkdir(exist_ok=True)
    rules = resources.files("vandrel.demo").joinpath("service.yaml").read_bytes()
    safe_file.write(service / "service.yaml", rules, "file of rules", private=False)

    def told(lines: list[str]) -> None:
        if not connections.exists():
            text = "\n".join(["connections:", *lines, ""])
            safe_file.write(connections, text.encode(), "file of connections")
        session.terminal.note(f"It is the connection courses in {folder}. Ctrl-C ends it. In another terminal:")
        session.terminal.line("  vandrel synchronize courses.profile.yaml --into courses --dry-run")

    rehearsal.serve_stand_in(session, service, 0, told, "courses")


def _tour(session: Session, folder: Path) -> int:
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


def _make(session: Session, folder: Path) -> int:
    """Fill the folder, and the server where one was named.

    Raises:
        VandrelError: ``foreign`` for a server that is not the made-up organization's: nobody else's is written to.

    """
    from vandrel.charter.load import from_text
    from vandrel.demo.world import charter_text, make
    from vandrel.errors import Code, Location, VandrelError

    if session.target is None:
        if session.args.directory:
            what = "the demo makes a file of its own, or fills a server"
            raise VandrelError(
                Code.USAGE, what, where=Location(option="--directory"), remedy="name a connection or an LDAP URL"
            )
        return make(folder)
    base = from_text(charter_text(), Path("demo")).base
    if not any(base.is_within(context) for context in session.server.contexts):
        raise VandrelError(
            Code.FOREIGN,
            f"this server does not hold {base}, and the demo is for no other",
            where=Location(server=session.server.location),
        )
    return make(folder, session.server)


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
