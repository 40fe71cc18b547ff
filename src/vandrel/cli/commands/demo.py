"""``vandrel demo``: a made-up organization to try everything in, and a commented tour of it."""

from __future__ import annotations

import argparse
from pathlib import Path

from vandrel import safe_file
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
    from vandrel.cli.tour_guide import take_tour

    folder = Path(session.args.folder)
    if session.args.stand_in:
        rehearsal.must_have_libraries()
    safe_file.make_empty_folder(folder)
    people = _make(session, folder)
    what = "the charter of" if session.target else "the charter and the directory of"
    session.terminal.note(f"{folder} holds {what} Marrowick Ferries: {people} accounts, all made up.")
    failures = 0 if session.args.no_tour else take_tour(session, folder)
    if session.args.stand_in:
        rehearsal.serve_in_demo(session, folder.resolve())
    return 1 if failures else 0


def _make(session: Session, folder: Path) -> int:
    """Fill the folder, and the server where one was named; how many accounts there are."""
    from vandrel.demo.world import make
    from vandrel.errors import Code, Location, VandrelError

    if session.target is None and session.args.directory:
        what, remedy = "the demo makes a file of its own, or fills a server", "name a connection or an LDAP URL"
        raise VandrelError(Code.USAGE, what, where=Location(option="--directory"), remedy=remedy)
    if session.target is None:
        return make(folder)
    return make(folder, session.server, session.target.connection.journal)
