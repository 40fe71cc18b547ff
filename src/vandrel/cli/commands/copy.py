"""``vandrel copy``: new accounts like one that is there."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session
from vandrel.cli.terminal import input_lines

if TYPE_CHECKING:
    from vandrel.jobs.accounts.copy import NewPerson
    from vandrel.jobs.common.proposal import Proposal

NAME = "copy"
HELP = "make new accounts like one that is there"
DESCRIPTION = """\
Make an account like another: a person's, or a template's. The charter says what comes along; names, place and whatever
follows from them are worked out anew; what stays behind is listed with the reason. Memberships that carry power come
along only if asked for. Several copies are made from lines on standard input."""
EXAMPLES = """\
  vandrel copy alund "Berit Dahl" number=2077
  vandrel copy alund "Berit Dahl" number=2077 title="Third mate" password=none
  vandrel copy alund - --hand-out crew.csv < new.txt      lines as: "Berit Dahl" number=2077
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    source = parser.add_argument("source", metavar="SOURCE", help="the account to copy")
    complete.attach(source, complete.objects)
    words = parser.add_argument(
        "words", nargs="+", metavar="NAME|FIELD=VALUE", help="the new full name, and fields; or - to read lines"
    )
    complete.attach(words, complete.assignments)
    parser.add_argument("--privileged", action="store_true", help="take along memberships that carry power")
    options.add_hand_out(parser)


def run(session: Session) -> Proposal:
    """Hand the request on; several copies are read from lines of standard input."""
    from vandrel.jobs.accounts.copy import CopyRequest, copy

    args = session.args
    return copy(session.context, CopyRequest(args.source, list(_people(session)), args.privileged))


def _people(session: Session) -> Iterator[NewPerson]:
    """For whom copies are made: of the command line, or of each line of standard input.

    Raises:
        VandrelError: ``usage`` where a line cannot be read.

    """
    import shlex

    from vandrel.errors import Code, Location, VandrelError

    words = session.args.words
    if words[:1] != ["-"]:
        yield _person(session, words)
        return
    for number, line in enumerate(input_lines(), 1):
        try:
            parts = shlex.split(line, comments=True)
        except ValueError as error:
            what = f"the line cannot be read: {error}"
            raise VandrelError(Code.USAGE, what, where=Location(line=number)) from None
        if parts:
            yield _person(session, [*parts, *words[1:]])


def _person(session: Session, words: list[str]) -> NewPerson:
    from vandrel.jobs.accounts.copy import NewPerson
    from vandrel.jobs.common.assignments import as_fields

    plain, assignments = options.split(session, words)
    return NewPerson(" ".join(plain), as_fields(assignments))
