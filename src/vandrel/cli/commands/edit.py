"""``vandrel edit``: assignments to one object or several."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, selection
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from collections.abc import Sequence

    from vandrel.jobs.common.assignments import Assignment

NAME = "edit"
HELP = "change fields of accounts, groups and units"
DESCRIPTION = """\
Change fields by assignments: FIELD=VALUE sets, FIELD= clears, FIELD+=VALUE adds one value and FIELD-=VALUE takes one
away. Membership is a field from either side: groups of an account, members of a group. @ATTRIBUTE=VALUE sets a raw
attribute. Whom each name was taken for, and every value before and after, is shown first."""
EXAMPLES = """\
  vandrel edit alund title="Second mate" phone+="+47 5555 0100"
  vandrel edit alund jmueller groups+=gg-it office=
  vandrel edit gg-night-watch members-=alund
  vandrel edit alund password=generate change=yes enabled=yes
  vandrel edit /Ferries/Northquay/Stores protected=no
  vandrel edit --where "(department=Deck)" web="https://marrowick.example/{login}"     {field}: of each account itself
  vandrel find title=Cook --columns login --as csv | tail -n +2 | vandrel edit - office=Galley --yes
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    words = parser.add_argument(
        "words",
        nargs="+",
        metavar="NAME|FIELD=VALUE",
        help="whom or what (- reads names, a line each), and what to change",
    )
    complete.attach(words, complete.assignments)
    parser.add_argument("--hand-out", metavar="FILE", help="write generated passwords to this file, for you alone")
    selection.configure(parser)
    parser.set_defaults(names_first=True)


def run(session: Session) -> int:
    from vandrel.cli.change import change
    from vandrel.errors import Code, VandrelError
    from vandrel.jobs.common import assignments

    plain, given = assignments.split(session.args.words)
    _known(given)
    if not given:
        raise VandrelError(Code.USAGE, "what is to change?", remedy="vandrel edit NAME FIELD=VALUE")
    return change(session, selection.chosen(session, plain), given, "edit")


def _known(given: Sequence[Assignment]) -> None:
    """Refuse an unknown field, and a password that was typed, before anything is looked up or shown."""
    from vandrel.cli.passwords import choice_of
    from vandrel.fields import field

    for assignment in given:
        if not assignment.raw:
            field(assignment.field)
        if assignment.field == "password":
            choice_of(assignment.values[0] if assignment.values else "none")
