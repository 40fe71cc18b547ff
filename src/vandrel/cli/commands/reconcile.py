"""``vandrel reconcile``: a roster of everybody against the directory."""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.intake_files import add_layout, must_be_there, opened, password_for_all
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "reconcile"
HELP = "a roster of everybody against the directory: who joins, moves, leaves, comes back"
DESCRIPTION = """\
Compare a roster of everybody with the directory, and propose what makes the directory what the roster says: who joins
is created, who has another name is renamed, who works elsewhere is moved with the groups of the kind, who is in no row
leaves by the charter's routine, who is back gets everything back. All of it is shown before, made as one job, and taken
back as one. What the columns mean stands in the small file of vandrel import. A row whose number nobody has, and whose
name somebody has, is asked about and never guessed."""
EXAMPLES = """\
  vandrel reconcile roster.csv --dry-run
  vandrel reconcile roster.csv --hand-out first.csv
  vandrel reconcile roster.csv --same 2099=alund --new 2100 --last-day 2026-12-31
  personnel-list | vandrel reconcile - --intake roster.intake.yaml --most-leavers 0 --yes
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("file", metavar="FILE", help="delimited text, .xlsx, .ods or .ldif; - for standard input")
    parser.add_argument("--intake", metavar="FILE", help="what its columns mean (default: NAME.intake.yaml beside it)")
    parser.add_argument("--rows", type=options.positive, metavar="N", help="how many rows are expected")
    parser.add_argument(
        "--same", action="append", default=[], metavar="KEY=NAME", help="the row of KEY is this account"
    )
    parser.add_argument("--new", action="append", default=[], metavar="KEY", help="the row of KEY is somebody new")
    parser.add_argument("--most-leavers", type=options.natural, metavar="N",
                        help="stop where more would leave (default: a twentieth, 3 at the least)")  # fmt: skip
    parser.add_argument("--last-day", type=options.day, metavar="DAY", help="of who leaves (default: today)")
    parser.add_argument("--sound-only", action="store_true", help="leave out the rows that something is wrong with")
    options.add_mail_report(parser)
    group = parser.add_argument_group("in place of what the small file says")
    group.add_argument("--kind", metavar="KIND", help="kind of account, where no column gives it")
    add_layout(group)
    options.add_first_passwords(parser)


def run(session: Session) -> Proposal:
    """Read the roster and its description, and hand them on."""
    from vandrel.intake.other_sources import STANDARD_INPUT, as_table
    from vandrel.jobs.bulk.import_file import ImportRequest, check_kind
    from vandrel.jobs.personnel.reconcile import ReconcileRequest, reconcile

    args = session.args
    path = Path(args.file)
    if args.file != STANDARD_INPUT:
        must_be_there(path)
    bulk = options.bulk_options(session)
    with tempfile.TemporaryDirectory(prefix="vandrel-") as folder:
        table_path = as_table(path, Path(folder), sys.stdin.buffer)
        description, table = opened(session, table_path, beside_of=path)
        check_kind(session.charter, description, str(path))
        secret = password_for_all(session, description)
        file = ImportRequest(table, description, args.rows or 0, secret, bulk)
        request = ReconcileRequest(
            file, args.most_leavers, args.last_day, options.answers(args.same), frozenset(args.new)
        )
        return reconcile(session.context, session.attic, request)
