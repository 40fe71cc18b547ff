"""``vandrel series``: numbered accounts, groups or computers."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "series"
HELP = "make numbered accounts, groups or computers"
DESCRIPTION = """\
Make a series: a stem, and a number behind it, or where a # stands in it. The first and the last are shown before.
Numbers that are taken are skipped, or refused with --taken refuse. A field may have a # in its value as well."""
EXAMPLES = """\
  vandrel series seasonal kiosk site=Kelness surname="Kiosk #" --count 12 --digits 2 --hand-out kiosk.csv
  vandrel series computer KN-DESK- groups=team-desks --count 20 --first-number 5 --digits 2
  vandrel series group "Watch #" kind=team --count 4
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    words = parser.add_argument(
        "words", nargs="+", metavar="KIND STEM FIELD=VALUE",
        help="a kind of account, or group, or computer; what the number is put behind, or in place of its #; fields",
    )  # fmt: skip
    complete.attach(words, complete.assignments)
    parser.add_argument("--count", type=options.positive, required=True, metavar="N", help="how many")
    parser.add_argument(
        "--first-number", type=options.positive, default=0, metavar="N",
        help="these numbers from N on and no others, of which some may be there (default: the next that are free)",
    )  # fmt: skip
    parser.add_argument(
        "--digits", type=options.positive, default=1, metavar="N", help="with leading zeros up to these"
    )
    parser.add_argument("--taken", choices=("skip", "refuse"), default="skip", help="numbers in use (default: skip)")
    options.add_bulk(parser)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.errors import Code, VandrelError
    from vandrel.jobs.bulk.series import SeriesRequest, propose_series
    from vandrel.jobs.common.assignments import as_fields

    args = session.args
    bulk = options.bulk_options(session)
    plain, assignments = options.split(session, args.words)
    if len(plain) != 2 or any(each.raw or each.operator != "=" for each in assignments):
        remedy = "vandrel series crew kiosk site=Kelness --count 3"
        raise VandrelError(Code.USAGE, "a kind, a stem and fields are needed", remedy=remedy)
    kind, stem = plain
    secret = None
    if kind not in ("group", "computer"):
        session.charter.kind(kind)
        secret = options.password_for_all(session, args.password or "", kind)
    request = SeriesRequest(
        kind,
        stem,
        as_fields(assignments),
        args.count,
        args.first_number,
        args.digits,
        args.taken == "skip",
        secret,
        bulk,
    )
    return propose_series(session.context, request)
