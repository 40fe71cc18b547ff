"""``vandrel snapshot``: what the directory held at certain moments, and what has changed since."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel import safe_file
from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report
    from vandrel.jobs.snapshots.differences import DiffersRequest

NAME = "snapshot"
HELP = "keep what the directory holds now, and tell what has changed since"
DESCRIPTION = """\
Keep what the directory holds at a moment, whole or one branch, in a file for its owner alone; what has not changed is
stored once, and read again no more than once a day where the directory tells what has changed. `differences` tells
what anybody has changed since, with whatever program: created, deleted, moved, renamed, changed field by field,
between a snapshot and now, or between two. What was deleted comes back from a snapshot, and single fields go back to
what they were: vandrel restore NAME --from-snapshot N."""
EXAMPLES = """\
  vandrel snapshot take                         by a scheduler, every hour
  vandrel snapshot list
  vandrel snapshot differences 3                since snapshot 3
  vandrel snapshot differences 3 5 --under /Shore --what deleted
  vandrel snapshot differences 3 --ldif since.ldif
  vandrel export --from-snapshot 3 --schema --to then.ldif && vandrel load then.ldif --directory then.db
  vandrel snapshot verify
  vandrel snapshot thin --days 14 --weeks 8 --months 12
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("action", choices=("take", "list", "differences", "verify", "thin"), help="what to do")
    parser.add_argument("numbers", nargs="*", type=options.positive, metavar="N", help="the numbers of snapshots")
    place = parser.add_argument("--under", metavar="PLACE", default="", help="only this unit and what stands below it")
    complete.attach(place, complete.places)
    group = parser.add_argument_group("which differences")
    group.add_argument("--kind", metavar="KIND", default="", help="of objects of this kind or type")
    words = ("created", "deleted", "renamed", "moved", "changed")
    group.add_argument("--what", choices=words, default="", help="of objects to which this has happened")
    field = group.add_argument("--field", metavar="FIELD", default="", help="of this field, or @attribute")
    complete.attach(field, complete.columns)
    group.add_argument("--ldif", metavar="FILE", help="also as changes that vandrel load takes, without passwords")
    group = parser.add_argument_group("how many stay: the last of each of so many")
    for name, number in (("days", 14), ("weeks", 8), ("months", 12)):
        group.add_argument(f"--{name}", type=options.natural, default=number, metavar="N", help=f"default: {number}")


def run(session: Session) -> Report:
    """Hand the request on; what is dropped is asked about."""
    from vandrel.errors import Code, VandrelError
    from vandrel.jobs.snapshots.differences import DiffersRequest
    from vandrel.jobs.snapshots.keep import TakeRequest, list_snapshots, take, verify

    args, context, snapshots, numbers = session.args, session.context, session.snapshots, session.args.numbers
    most = {"differences": (1, 2), "verify": (0, 1)}.get(args.action, (0, 0))
    if not most[0] <= len(numbers) <= most[1]:
        what = f"{args.action} takes {' or '.join(map(str, sorted(set(most))))} numbers of snapshots"
        raise VandrelError(Code.USAGE, what, remedy="vandrel snapshot list shows them")
    match args.action:
        case "take":
            return take(context, snapshots, TakeRequest(args.under, session.who))
        case "list":
            return list_snapshots(context, snapshots)
        case "verify":
            return verify(context, snapshots, next(iter(numbers), 0))
        case "thin":
            return _thin(session)
    return _differences(
        session, DiffersRequest(numbers[0], (*numbers, 0)[1], args.under, args.kind, args.what, args.field)
    )


def _differences(session: Session, request: DiffersRequest) -> Report:
    from vandrel.jobs.common.report import count
    from vandrel.jobs.snapshots.change_records import as_ldif, as_operations
    from vandrel.jobs.snapshots.differences import differences, report_differences

    name, context = session.args.ldif, session.context
    if name:
        safe_file.must_be_free(Path(name))
    differing = list(differences(context, session.snapshots, request))
    report = report_differences(context, differing, request)
    if name:
        operations = as_operations(context, differing)
        with safe_file.writing(Path(name)) as file:
            file.writelines(as_ldif(operations))
        report.summary = [*report.summary, f"{count(len(operations), 'change')} in {name}."]
    return report


def _thin(session: Session) -> Report:
    from vandrel.jobs.common.report import count
    from vandrel.jobs.snapshots.keep import ThinRequest, report_dropped, to_drop

    args, snapshots = session.args, session.snapshots
    to_go = to_drop(snapshots.all(), ThinRequest(args.days, args.weeks, args.months), session.charter.zone)
    if to_go and not args.dry_run:
        session.terminal.confirm(f"Drop {count(len(to_go), 'snapshot')}? Nothing brings them back.", yes=args.yes)
        snapshots.drop([snapshot.number for snapshot in to_go])
    return report_dropped(to_go, is_dry_run=args.dry_run)
