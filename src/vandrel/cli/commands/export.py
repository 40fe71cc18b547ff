"""``vandrel export``: objects as LDIF."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel import safe_file
from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "export"
HELP = "put out objects as LDIF"
DESCRIPTION = """\
Put out objects as LDIF (RFC 2849), each after the one that holds it, so that `vandrel load` or another directory can
take them in. Password hashes stay behind unless asked for."""
EXAMPLES = """\
  vandrel export > everything.ldif
  vandrel export /Ferries/Northquay --to northquay.ldif
  vandrel export alund team-it
  vandrel export --schema --directory harbour --to copy.ldif     then: vandrel load copy.ldif --directory copy.db
  vandrel export --from-snapshot 3 --schema --to then.ldif       then: vandrel load then.ldif --directory then.db
  vandrel export --where "(title=*mate*)" --only cn,mail,telephoneNumber
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    named = parser.add_argument(
        "names", nargs="*", metavar="NAME", help="an object, a unit with all below it (default: everything)"
    )
    complete.attach(named, complete.objects)
    parser.add_argument("--where", metavar="FILTER", help="only objects that this filter of RFC 4515 finds")
    parser.add_argument("--only", metavar="ATTRIBUTE,...", help="only these attributes")
    parser.add_argument(
        "--own", action="store_true", help="also what the directory keeps itself: identity, time stamps"
    )
    parser.add_argument(
        "--schema", action="store_true", help="the directory's schema first, so that a copy of its own can be made"
    )
    parser.add_argument("--hashes", action="store_true", help="also password hashes, which others can try to break")
    parser.add_argument("--from-snapshot", type=options.positive, metavar="N", help="what snapshot N holds")
    parser.add_argument("--to", metavar="FILE", help="write to a file for you alone, which must not exist")


def run(session: Session) -> Report:
    """Write the objects, one after the other."""
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.report import Report, count
    from vandrel.jobs.inspect.export import ExportRequest, export

    args = session.args
    if args.json and not args.to:
        what, remedy = "LDIF is no JSON", "write it to a file: --to FILE"
        raise VandrelError(Code.USAGE, what, where=Location(option="--json"), remedy=remedy)
    only = [name.strip() for name in (args.only or "").split(",") if name.strip()]
    request = ExportRequest(args.names, args.where or "", only, args.own, args.schema, args.hashes)
    number = args.from_snapshot
    of = (session.snapshots, session.snapshots.one(number)) if number else None
    pieces = export(session.context, request, of)
    if not args.to:
        sys.stdout.writelines(pieces)
        return Report("export")
    objects = 0
    with safe_file.writing(Path(args.to)) as file:
        for piece in pieces:
            objects += piece.startswith("dn:")
            file.write(piece.encode())
    facts = [("objects", objects)] if session.terminal.as_json else []
    return Report("export", facts=facts, summary=[f"{count(objects, 'object')} in {args.to}"])
