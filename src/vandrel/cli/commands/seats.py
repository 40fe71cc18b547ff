"""``vandrel seats``: seats of products, who has them, how many are left, and giving and taking them."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report

NAME = "seats"
HELP = "seats of products: who has them, how many are left, give and take them"
DESCRIPTION = """\
Count the seats that the charter has pools of: whoever is in the group of a pool has one, directly or through other
groups. Without a name the pools are listed; with one, who has a seat, how, and what the coming months bring. give and
take change it, wholly or by a part (post/archive), for people or whole groups. Whatever command gives a seat says how
many are taken then, and more than there are is refused, unless the charter says that it is to be told."""
EXAMPLES = """\
  vandrel seats
  vandrel seats post
  vandrel seats give post alund hbrekke
  vandrel seats give post/archive --where "(departmentNumber=Office)"
  vandrel seats take post alund
"""
WRITES = True
ACTIONS = ("give", "take")


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_names(parser)


def run(session: Session) -> Proposal | Report:
    """Hand the request on.

    Raises:
        VandrelError: ``usage`` where it is not said which seats.

    """
    from vandrel.errors import Code, VandrelError
    from vandrel.jobs.services.seats import SeatRequest, change_seats, list_holders, list_pools

    words = session.args.names
    if not words:
        return list_pools(session.context)
    if words[0] not in ACTIONS:
        if len(words) > 1:
            remedy = f"vandrel seats give {words[0]} NAME, or take"
            raise VandrelError(Code.USAGE, "what is to be done with them?", remedy=remedy)
        return list_holders(session.context, words[0])
    if len(words) < 2:
        raise VandrelError(Code.USAGE, "which seats?", remedy=f"vandrel seats {words[0]} post alund")
    selection = options.selection(session, words[2:])
    return change_seats(session.context, SeatRequest(words[1], selection, takes_away=words[0] == "take"))
