"""``vandrel handover``: an account passes to a successor."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "handover"
HELP = "pass an account to a successor: new names and password, same groups and rights"
DESCRIPTION = """\
Pass an account to a successor: it keeps its identity, groups and rights, and gets new names by the charter and a
new password. What still carries the old name is listed, with a command to mend each. Replaced at once: hand over;
replaced later: disable until then; the post abolished: delete."""
EXAMPLES = """\
  vandrel handover hbrekke "Tuva Solberg" number=2099 --hand-out tuva.csv
  vandrel handover hbrekke given=Tuva surname=Solberg number=2099 --password ask --keep-alias
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    words = parser.add_argument(
        "words", nargs="+", metavar="NAME|NEW NAME|FIELD=VALUE", help="whose; the successor's name; other fields"
    )
    complete.attach(words, complete.assignments)
    parser.add_argument("--keep-alias", action="store_true", help="mail to the predecessor's address arrives as well")
    parser.add_argument(
        "--password", choices=("generate", "ask", "-"), default="generate",
        help="where it comes from (default: generate; - reads it from standard input)",
    )  # fmt: skip
    options.add_hand_out(parser)
    parser.set_defaults(names_first=True)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.errors import Code, VandrelError
    from vandrel.jobs.accounts.rename import HandoverRequest, handover

    args = session.args
    plain, typed = options.split(session, args.words)
    if not plain or len(plain) > 2:
        remedy = 'vandrel handover hbrekke "Tuva Solberg" number=2099'
        raise VandrelError(Code.USAGE, "whose account passes to whom?", remedy=remedy)
    request = HandoverRequest(plain[0], "".join(plain[1:]), typed, args.password, args.keep_alias)
    return handover(session.context, request)
