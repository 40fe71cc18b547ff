"""``vandrel reset``: a new password, to be changed at the next logon, and the account unlocked, in one step."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "reset"
HELP = "give a new password, to be changed at the next logon, and unlock"
DESCRIPTION = """\
Give a new password, which must be changed at the next logon, and unlock the account: one step for the most common call
of the day. The rules in force are shown first, with where each comes from."""
EXAMPLES = """\
  vandrel reset alund                            generated, shown once on the other screen
  vandrel reset alund --password ask             typed twice, unseen
  vandrel reset alund jmueller --hand-out new.csv
  vandrel reset svc-backup --keep                not to be changed at the next logon
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_names(parser)
    parser.add_argument(
        "--password", choices=("generate", "ask", "-"), default="generate",
        help="where it comes from (default: generate; - reads it from standard input)",
    )  # fmt: skip
    parser.add_argument("--keep", action="store_true", help="it need not be changed at the next logon")
    options.add_hand_out(parser)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.jobs.common.assignments import Assignment
    from vandrel.jobs.common.edit_proposal import edit_all
    from vandrel.jobs.common.selection import select

    context, args = session.context, session.args
    chosen = select(context, options.selection(session, args.names), ("account",))
    assignments = [
        Assignment("password", "=", (args.password,)), Assignment("change", "=", ("no" if args.keep else "yes",)),
        Assignment("locked", "=", ("no",)),
    ]  # fmt: skip
    return edit_all(context, chosen, assignments, NAME)
