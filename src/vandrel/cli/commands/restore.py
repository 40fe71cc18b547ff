"""``vandrel restore``: deleted objects come back, with who pointed at them and their passwords."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "restore"
HELP = "bring back what was deleted"
DESCRIPTION = """\
Bring objects back from the attic, by name or by job: with every attribute, the groups that they were in, the people
whose manager they were, and the old password where it is kept. Units that were deleted as well come back first. Where a
name was taken meanwhile, the charter's next is given. What does not come back is listed, with the reason."""
EXAMPLES = """\
  vandrel restore alund
  vandrel restore --job 12                            all that one job deleted
  vandrel restore /Ferries/Northquay/Stores --contents
  vandrel restore alund title="Purser" --to /Shore/Office
  vandrel restore alund password=generate --hand-out anna.csv
  vandrel restore alund --from-snapshot 3             deleted by whatever program since then
  vandrel restore alund --from-snapshot 3 --field title --field groups
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    options.add_attic_selection(parser)
    parser.add_argument("--contents", action="store_true", help="what was deleted with a unit and below it, too")
    place = parser.add_argument("--to", metavar="PLACE", default="", help="put it there, and not where it was")
    complete.attach(place, complete.places)
    group = parser.add_argument_group("from a snapshot")
    group.add_argument("--from-snapshot", type=options.positive, metavar="N", help="what is gone since snapshot N")
    field = group.add_argument("--field", action="append", metavar="FIELD",
                               help="of an object that is there: this field as it was; may be repeated")  # fmt: skip
    complete.attach(field, complete.columns)
    options.add_hand_out(parser)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.jobs.lifecycle.later_names import LaterNames
    from vandrel.jobs.lifecycle.restore import RestoreRequest, restore
    from vandrel.jobs.snapshots.put_back import SnapshotSource

    args = session.args
    plain, assignments = options.split(session, args.names)
    source = next((a.values[0] for a in assignments if a.field == "password" and a.values), "")
    others = [assignment for assignment in assignments if assignment.field != "password"]
    if args.field:
        return _put_back(session, plain)
    selection = options.attic_selection(session, plain)
    request = RestoreRequest(selection, args.contents, args.to, others, source)
    if not args.from_snapshot:
        later = LaterNames(session.journal, session.attic, session.directory.identity)
        return restore(session.context, session.attic, request, later)
    snapshot = SnapshotSource(session.context, session.snapshots, session.snapshots.one(args.from_snapshot))
    return restore(session.context, snapshot, request, snapshot.later)


def _put_back(session: Session, names: list[str]) -> Proposal:
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.selection import Selection
    from vandrel.jobs.snapshots.put_back import PutBackRequest, put_back

    args = session.args
    if not args.from_snapshot:
        remedy = "add --from-snapshot N; vandrel snapshot list shows them"
        raise VandrelError(Code.USAGE, "as it was when?", where=Location(option="--field"), remedy=remedy)
    request = PutBackRequest(Selection(names), args.field)
    return put_back(session.context, session.snapshots, session.snapshots.one(args.from_snapshot), request)
