"""``vandrel edit``: assignments to one object or several."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "edit"
HELP = "change fields of accounts, groups and units"
DESCRIPTION = """\
Change fields by assignments: FIELD=VALUE sets, FIELD= clears, FIELD+=VALUE adds one value and FIELD-=VALUE takes one
away. Membership is a field from either side: groups of an account, members of a group. @ATTRIBUTE=VALUE sets a raw
attribute. Whom each name was taken for, and every value before and after, is shown first."""
EXAMPLES = """\
  vandrel edit alund title="Second mate" phone+="+47 5555 0100"
  vandrel edit alund jmueller groups+=team-it office=
  vandrel edit team-night-watch members-=alund
  vandrel edit alund password=generate change=yes enabled=yes
  vandrel edit /Ferries/Northquay/Stores protected=no
  vandrel edit --where "(department=Deck)" web="https://marrowick.example/{login}"     {field}: of each account itself
  vandrel find title=Cook --columns login --as csv | tail -n +2 | vandrel edit - office=Galley --yes
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    words = parser.add_argument(
        "words",
        nargs="+",
        metavar="NAME|FIELD=VALUE",
        help="whom or what (- reads names, a line each), and what to change",
    )
    complete.attach(words, complete.assignments)
    options.add_hand_out(parser)
    options.add_selection(parser)
    parser.set_defaults(names_first=True)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.errors import Code, VandrelError
    from vandrel.jobs.common.edit_proposal import edit_selected

    plain, assignments = options.split(session, session.args.words)
    for assignment in assignments:  # before anything is looked up or shown
        if not assignment.raw:
            session.charter.fields.named(assignment.field)
    if not assignments:
        raise VandrelError(Code.USAGE, "what is to change?", remedy="vandrel edit NAME FIELD=VALUE")
    return edit_selected(session.context, options.selection(session, plain), assignments, NAME)
