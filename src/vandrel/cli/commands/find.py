"""``vandrel find``: lists by fragments, conditions and filters, with chosen columns, kept, sorted, exported."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "find"
HELP = "list accounts, groups, units and computers"
DESCRIPTION = """\
List objects in which every word occurs, that fulfil conditions FIELD=VALUE (* stands for anything), or that a filter
of RFC 4515 finds. Columns are fields of ours or @attributes."""
EXAMPLES = """\
  vandrel find mül                                       by a fragment of any name
  vandrel find site=Northquay title="*mate*" --by surname
  vandrel find --type groups team-
  vandrel find state="without password"                 also disabled, locked, ended, not started, protected
  vandrel find "ends<2026-12-31" "created>-30d"          days, also counted from today; numbers: "number>=3000"
  vandrel find --where "(&(objectClass=person)(!(manager=*)))" --columns login,full,department
  vandrel find department=Deck --columns full,phone --keep deck-phones
  vandrel find --deleted lund --directory harbour        what was deleted, where the server still tells
  vandrel find --list deck-phones --as csv --to deck.csv
"""
WRITES = False

_LISTS = ("accounts", "groups", "units", "computers", "all")


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    words = parser.add_argument(
        "words", nargs="*", metavar="WORD|FIELD=VALUE", help="fragments of names, conditions on fields"
    )
    complete.attach(words, complete.assignments)
    parser.add_argument("--type", choices=_LISTS, help="what to list (default: accounts)")
    parser.add_argument("--where", metavar="FILTER", help="a filter of RFC 4515, raw attribute names")
    under = parser.add_argument("--under", metavar="PLACE", help="only in this unit and below")
    complete.attach(under, complete.places)
    columns = parser.add_argument("--columns", metavar="FIELD,...", help="fields, @attributes, dn, place, state, type")
    complete.attach(columns, complete.columns)
    by = parser.add_argument("--by", metavar="FIELD", help="sort by this column")
    complete.attach(by, complete.columns)
    parser.add_argument("--reverse", action="store_true", help="sort the other way round")
    parser.add_argument(
        "--deleted", action="store_true", help="what was deleted, by anybody, where the server still tells"
    )
    parser.add_argument("--keep", metavar="NAME", help="keep this list under a name")
    list_name = parser.add_argument("--list", metavar="NAME", help="run a kept list again")
    complete.attach(list_name, complete.kept_lists)
    parser.add_argument(
        "--as", dest="form", choices=("table", "csv"), default="table", help="how to write it (default: table)"
    )
    parser.add_argument("--to", metavar="FILE", help="write it to a file, which must not exist")


def run(session: Session) -> Report:
    """Hand the request on; what comes of it may be written into a file."""
    import msgspec

    from vandrel.cli import lists
    from vandrel.jobs.inspect.find import FindRequest, find, find_deleted

    args = session.args
    if args.list:
        for key, value in msgspec.structs.asdict(lists.kept(session, args.list)).items():
            if not getattr(args, key, None):
                setattr(args, key, value)
    columns = [name.strip() for name in (args.columns or "").split(",") if name.strip()]
    is_file = args.form == "csv" or args.to is not None
    request = FindRequest(
        args.words, args.type or "", args.where or "", args.under or "", columns, args.by or "", args.reverse, is_file
    )
    report = find_deleted(session.context, request) if args.deleted else find(session.context, request)
    if args.keep:
        lists.keep(session, args.keep, vars(args))
    return _as_file(session, report) if is_file else report


def _as_file(session: Session, report: Report) -> Report:
    """The rows in a file by its suffix (.csv, .xlsx, .ods), or as text."""
    from pathlib import Path

    from msgspec import structs

    from vandrel.intake.annotate import as_text, write_rows
    from vandrel.jobs.common.report import count
    from vandrel.jobs.inspect.find import portable_rows

    rows = portable_rows(session.context, report)
    if session.args.to:
        number = write_rows(Path(session.args.to), report.columns, rows)
        return structs.replace(report, rows=(), summary=[f"{count(number, 'row')} in {session.args.to}"])
    if session.terminal.as_json:
        return structs.replace(report, rows=list(rows))
    return structs.replace(report, rows=(), text=as_text(report.columns, rows), summary=())
