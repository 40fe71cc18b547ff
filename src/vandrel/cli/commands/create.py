"""``vandrel create``: an account of any kind, a group, a unit."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "create"
HELP = "create an account of any kind, a group, a unit or a computer"
DESCRIPTION = """\
Create an account, a group or a unit. Everything that the charter says about it is worked out and shown with
the rule that gave it; any field given as an assignment goes first. What is required and missing is asked for."""
EXAMPLES = """\
  vandrel create crew "Anna Lund" number=2041 site=Northquay department=Deck category=Hands
  vandrel create staff given=Jörg surname=Müller language=de number=3107 department=IT password=ask
  vandrel create administrator "Anna Lund" number=2041 --hand-out adm.csv
  vandrel create group "Night watch" kind=team members=alund,jmueller
  vandrel create unit /Ferries/Northquay/Stores
  vandrel create computer NQ-DESK-07 notes="Ticket desk" groups=team-desks
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    kind = parser.add_argument(
        "kind", metavar="KIND", help="a kind of account in the charter, or: group, unit, computer"
    )
    complete.attach(kind, complete.kinds)
    words = parser.add_argument(
        "words",
        nargs="*",
        metavar="NAME|FIELD=VALUE",
        help="the full name, the unit's place or the computer's name, and fields",
    )
    complete.attach(words, complete.assignments)
    options.add_hand_out(parser)


def run(session: Session) -> Proposal:
    """Hand the request on; a required field that is missing is asked for."""
    from vandrel.jobs.accounts.propose import AccountRequest, create_account
    from vandrel.jobs.common.assignments import as_fields
    from vandrel.jobs.common.create_object import ObjectRequest, create_objects

    args = session.args
    plain, assignments = options.split(session, args.words)
    fields = as_fields(assignments)
    if args.kind in ("group", "unit", "computer"):
        return create_objects(session.context, ObjectRequest(args.kind, plain, fields))
    name = " ".join(plain)
    proposal = create_account(session.context, AccountRequest(args.kind, name, fields))
    if proposal.missing and session.terminal.is_interactive:
        fields |= {field: (_ask(session, field),) for field in proposal.missing}
        proposal = create_account(session.context, AccountRequest(args.kind, name, fields))
    return proposal


def _ask(session: Session, name: str) -> str:
    words, fields = session.charter.words_of(name), session.charter.fields
    hint = f" ({', '.join(words)})" if words else f" ({fields[name].about})" if name in fields else ""
    answer = ""
    while not answer:
        answer = input(f"{name}{hint}: ").strip()
    return answer
