"""``vandrel suffixes``: suffixes of principal names, who uses them, whether they are ours; and changing them."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report

NAME = "suffixes"
HELP = "suffixes of principal names: who uses them, whether they are routable and ours; change them"
DESCRIPTION = """\
List the suffixes of the charter, of the server and of everybody's principal name: how many use it, who registers it,
whether the internet can route it, and since when it is recorded as ours. `prove` says what to publish in the zone of
a domain, and what to write into the charter once it is seen there. `register` and `withdraw` write the list of a
server with the Active Directory schema; one that somebody has is withdrawn only with another for them (--to).
`change` gives those of the chosen who have it another one, or all who do; their addresses in that domain follow, and
the old ones stay as aliases."""
EXAMPLES = """\
  vandrel suffixes
  vandrel suffixes prove marrowick.example
  vandrel suffixes register lines.example
  vandrel suffixes change marrowick.example --to lines.example --under /Ferries/Northquay --dry-run
  vandrel suffixes change marrowick.example --to lines.example alund hbrekke
  vandrel suffixes withdraw lines.example --to marrowick.example
"""
WRITES = True
ACTIONS = ("list", "prove", "register", "change", "withdraw")


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("action", nargs="?", choices=ACTIONS, default="list", help="what to do (default: list)")
    parser.add_argument("suffix", nargs="?", metavar="SUFFIX", help="the suffix")
    parser.add_argument("--to", metavar="SUFFIX", default="", help="with change and withdraw: the one that follows")
    names = parser.add_argument("names", nargs="*", metavar="NAME", help="with change: whose (default: everybody's)")
    complete.attach(names, complete.objects)
    options.add_selection(parser)


def run(session: Session) -> Proposal | Report:
    """Hand the request on.

    Raises:
        VandrelError: ``usage`` where a suffix lacks, or something is given that the action does not take.

    """
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.selection import Selection
    from vandrel.jobs.services import suffix_changes, suffixes

    args, context = session.args, session.context
    if args.action == "list":
        return suffixes.list_suffixes(context)
    if not args.suffix or (args.action == "change" and not args.to):
        what = "which suffix?" if not args.suffix else "which one instead?"
        example = " --to lines.example" if args.action == "change" else ""
        raise VandrelError(Code.USAGE, what, remedy=f"vandrel suffixes {args.action} marrowick.example{example}")
    chosen = Selection(args.names, args.where or "", args.under or "")
    if chosen != Selection([]) and args.action != "change":
        what, remedy = f"{args.action} concerns everybody", "vandrel suffixes change takes names, --under and --where"
        raise VandrelError(Code.USAGE, what, where=Location(option="NAME"), remedy=remedy)
    match args.action:
        case "prove":
            return suffixes.proof_of(context, args.suffix)
        case "register":
            return suffix_changes.register(context, args.suffix)
        case "withdraw":
            return suffix_changes.withdraw(context, args.suffix, args.to)
    return suffix_changes.change_suffix(context, args.suffix, args.to, chosen)
