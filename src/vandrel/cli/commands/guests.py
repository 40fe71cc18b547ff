"""``vandrel guests``: guests of a service, invited and reminded in the name of somebody here."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report

NAME = "guests"
HELP = "guests of a service: who was invited, who accepted, who answers for them; invite, remind"
DESCRIPTION = """\
List the guests of a service that takes invitations: which are pending, accepted or have expired, and whether whoever
answers for them is still here. `invite` takes an address, and the name of somebody here who answers for the guest;
`remind` sends again what is not answered, to those who are named or to all. A guest is an account of the service:
`vandrel delete ADDRESS --directory NAME` withdraws the invitation."""
EXAMPLES = """\
  vandrel guests --into courses
  vandrel guests invite bell@harbour.example given=Anna surname=Bell --sponsor alund --into courses
  vandrel guests remind bell@harbour.example --into courses
  vandrel guests remind --into courses --yes
"""
WRITES = True
ACTIONS = ("list", "invite", "remind")


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("action", nargs="?", choices=ACTIONS, default="list", help="what to do (default: list)")
    parser.add_argument("names", nargs="*", metavar="ADDRESS", help="whom; with invite one, and values of fields")
    parser.add_argument("--into", required=True, metavar="NAME", help="the connection of the service")
    parser.add_argument("--into-who", default="", metavar="WHO", help="an identity of that connection")
    sponsor = parser.add_argument("--sponsor", metavar="NAME", default="", help="with invite: who answers for them")
    complete.attach(sponsor, complete.objects)


def run(session: Session) -> Proposal | Report:
    """Open both directories, and hand the request on.

    Raises:
        VandrelError: ``usage`` where an address or a sponsor lacks, or more is given than the action takes.

    """
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.selection import Selection
    from vandrel.jobs.services import guests

    args = session.args
    names, assignments = options.split(session, args.names)
    here = session.turn_to(args.into, args.into_who)
    there = session.context
    if (args.action == "list" and args.names) or (args.action == "remind" and assignments):
        what, remedy = f"{args.action} takes no values", f"vandrel guests {args.action} --into {args.into}"
        raise VandrelError(Code.USAGE, what, where=Location(text=args.names[0]), remedy=remedy)
    if args.action == "list":
        return guests.list_guests(here, there)
    if args.action == "remind":
        return guests.remind(there, Selection(names))
    if len(names) != 1 or not args.sponsor:
        what = "who answers for the guest?" if len(names) == 1 else "whom? One address at a time"
        remedy = f"vandrel guests invite bell@harbour.example --sponsor alund --into {args.into}"
        raise VandrelError(Code.USAGE, what, remedy=remedy)
    return guests.invite(here, there, guests.Invitation(names[0], args.sponsor, assignments))
