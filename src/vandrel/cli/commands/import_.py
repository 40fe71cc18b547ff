"""``vandrel import``: accounts, groups, units and computers from a tabular file."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel import safe_file
from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.errors import Finding
    from vandrel.intake.description import Description
    from vandrel.intake.table import Table
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report
    from vandrel.secret import Secret

NAME = "import"
HELP = "make and update accounts, groups, units and computers from a spreadsheet or a delimited file"
DESCRIPTION = """\
Read a delimited file, .xlsx or .ods, check all of it before the first write, and make what is new. What its columns
mean stands in a small file beside it (crew.csv: crew.intake.yaml), which --propose writes from the header and the
first rows, to be read and corrected, and used again. The same file twice changes nothing."""
EXAMPLES = """\
  vandrel import crew.xlsx --propose --kind seasonal      write crew.intake.yaml
  vandrel import crew.xlsx --dry-run                      check, and see what would be made
  vandrel import crew.xlsx --findings mended.xlsx -n      the rows again, with a column that says what is wrong
  vandrel import crew.xlsx --first 2 --hand-out two.csv   a trial
  vandrel import crew.xlsx --hand-out slips.pdf --rows 400 --results made.csv
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("file", metavar="FILE", help="delimited text, .xlsx or .ods")
    parser.add_argument("--intake", metavar="FILE", help="what its columns mean (default: NAME.intake.yaml beside it)")
    parser.add_argument("--propose", action="store_true", help="write that file from the header and the first rows")
    parser.add_argument("--findings", metavar="FILE", help="write the rows again, with a column of findings")
    parser.add_argument("--rows", type=options.positive, metavar="N", help="how many rows are expected")
    parser.add_argument("--sound-only", action="store_true", help="make the sound rows, and leave the others out")
    parser.add_argument("--missing", action="store_true", help="list who exists and stands in no row")
    group = parser.add_argument_group("in place of what the small file says")
    group.add_argument("--type", choices=("account", "group", "unit", "computer"), help="what each row is")
    group.add_argument("--kind", metavar="KIND", help="kind of account or group, where no column gives it")
    group.add_argument(
        "--mode", choices=("create", "update", "both"), help="make new ones, change existing ones, or both"
    )
    group.add_argument("--encoding", metavar="NAME", help="utf-8, utf-16, windows-1252, latin-1 ...")
    group.add_argument("--separator", metavar="CHAR", help="the character between cells; tab for a tab")
    group.add_argument("--quote", metavar="CHAR", help="the character around cells; none for none")
    group.add_argument("--sheet", metavar="NAME", help="the sheet of a spreadsheet")
    options.add_bulk(parser)


def run(session: Session) -> Proposal | Report:
    """Read the file and its description, and hand them on."""
    from vandrel.intake.annotate import missing_since, must_be_new
    from vandrel.jobs.bulk.import_file import ImportRequest, check_kind, import_file, missing_from, work_out

    args = session.args
    path = Path(args.file)
    _must_be_there(path)
    if args.propose:
        return _propose(session, path)
    bulk = options.bulk_options(session)
    if args.findings:
        must_be_new(Path(args.findings))
    description, table = _opened(session, path)
    check_kind(session.charter, description, str(path))
    request = ImportRequest(table, description, args.rows or 0, _password_for_all(session, description), bulk)
    if args.missing:
        keys = [" ".join(item.key) for item in work_out(session.context, request)[0].missing]
        return missing_from(session.context, request, missing_since(path, keys, session.charter.today()))
    proposal = import_file(session.context, request)
    if args.findings:
        secret = [name for name in description.columns if description.column(name).field == "password"]
        _annotate(session, table, proposal.findings, secret)
    return proposal


def _must_be_there(path: Path) -> None:
    """See to it that there is a file to read.

    Raises:
        VandrelError: ``not-found``, or ``bad-value`` for a folder.

    """
    from vandrel.errors import Code, Location, VandrelError

    where = Location(file=str(path))
    if not path.exists():
        raise VandrelError(Code.NOT_FOUND, "there is no such file", where=where)
    if path.is_dir():
        raise VandrelError(Code.BAD_VALUE, "this is a folder, and no file of rows", where=where)


def _propose(session: Session, path: Path) -> Report:
    """Write the description that the file seems to need."""
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.intake.description import as_yaml, beside
    from vandrel.intake.propose import propose
    from vandrel.intake.table import open_table, sheets_of
    from vandrel.jobs.common.report import Report

    args = session.args
    target = Path(args.intake) if args.intake else beside(path)
    layout, sheets = _layout(session), sheets_of(path)
    sheet = layout.pop("sheet")
    # Of several sheets, the first whose columns mean something.
    for name in [*sheets, sheets[0]] if sheets and not sheet else [sheet]:
        table = open_table(path, **layout, sheet=name)
        description, table, comments = propose(
            table, session.charter, args.type or "account", args.kind or "", args.mode or "create"
        )  # fmt: skip
        if description.key:
            break
    if not description.columns:
        where = Location(file=str(path))
        raise VandrelError(Code.BAD_VALUE, "the file has no rows", where=where, remedy="is it the right one?")
    text = as_yaml(description, table.layout, comments)
    if args.dry_run:
        return Report("import", text=text)
    safe_file.write(target, text.encode(), "description", private=False)
    sheets_said = (
        [f"It has the sheets {', '.join(sheets)}; this is for {table.layout.sheet}."] if len(sheets) > 1 else []
    )
    written = f"Written: {target}. Read it, correct it, then: vandrel import {path} --dry-run"
    shown = "" if session.terminal.quiet else text
    return Report("import", text=shown, facts=[], summary=[*sheets_said, written])


def _layout(session: Session) -> dict[str, str | None]:
    args = session.args
    separator = {"tab": "\t", "comma": ",", "semicolon": ";", "pipe": "|"}.get(args.separator, args.separator)
    quote = "" if args.quote == "none" else args.quote
    return {"encoding": args.encoding, "separator": separator, "quote": quote, "sheet": args.sheet}


def _opened(session: Session, path: Path) -> tuple[Description, Table]:
    """The description and the table, with what was typed in place of what the description says."""
    from msgspec import structs

    from vandrel.intake.description import beside, layout_of, load
    from vandrel.intake.table import Table, open_table

    args = session.args
    description = load(Path(args.intake) if args.intake else beside(path), session.charter.fields)
    typed = {"object_type": args.type, "kind": args.kind, "mode": args.mode}
    description = structs.replace(description, **{name: value for name, value in typed.items() if value})
    layout = layout_of(description.file) | {n: value for n, value in _layout(session).items() if value is not None}
    table = open_table(path, **layout)
    args.no_passwords = args.no_passwords or (args.password is None and description.passwords == "none")
    return description, Table(table.path, structs.replace(table.layout, header=description.file.header))


def _password_for_all(session: Session, description: Description) -> Secret | None:
    """The password that all new people get, if there is to be one.

    Raises:
        VandrelError: ``usage`` where the file has passwords of its own.

    """
    from vandrel.errors import Code, Location, VandrelError

    source = session.args.password or ("ask" if description.passwords == "ask" else "generate")
    if description.object_type != "account" or source == "generate":
        return None
    if any(description.column(name).field == "password" for name in description.columns):
        what = "the file has a column of passwords, so one for all does not fit"
        remedy = "take the column out of the description, or --password"
        raise VandrelError(Code.USAGE, what, where=Location(option="--password"), remedy=remedy)
    return options.password_for_all(session, source, description.kind)


def _annotate(session: Session, table: Table, findings: Sequence[Finding], secret: Sequence[str]) -> None:
    """Write the rows again, with a column that says what is wrong: for whoever sent the file."""
    from vandrel.intake.annotate import write

    target = Path(session.args.findings)
    by_row: dict[int, list[str]] = {}
    for finding in findings:
        column = finding.where.header or "-"
        said = f"{column}: {finding.what}" + (f" - {finding.remedy}" if finding.remedy else "")
        by_row.setdefault(finding.where.row, []).append(said if finding.is_fatal else f"note: {said}")
    write(table, target, by_row, secret)
    without = "; the passwords are left out" if secret else ""
    session.terminal.note(f"The rows with what is wrong: {target}{without}\n")
