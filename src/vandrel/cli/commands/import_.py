"""``vandrel import``: accounts, groups, units and computers from a tabular file."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel import safe_file
from vandrel.cli import options
from vandrel.cli.intake_files import add_layout, must_be_there, opened, password_for_all, typed_layout
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report

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
    add_layout(group)
    options.add_bulk(parser)


def run(session: Session) -> Proposal | Report:
    """Read the file and its description, and hand them on."""
    from vandrel.intake.annotate import missing_since, must_be_new, write
    from vandrel.jobs.bulk.import_file import ImportRequest, check_kind, import_file, missing_from, work_out

    args = session.args
    path = Path(args.file)
    must_be_there(path)
    if args.propose:
        return _propose(session, path)
    bulk = options.bulk_options(session)
    if args.findings:
        must_be_new(Path(args.findings))
    description, table = opened(session, path)
    check_kind(session.charter, description, str(path))
    request = ImportRequest(table, description, args.rows or 0, password_for_all(session, description), bulk)
    if args.missing:
        keys = [" ".join(item.key) for item in work_out(session.context, request)[0].missing]
        return missing_from(session.context, request, missing_since(path, keys, session.charter.today()))
    proposal = import_file(session.context, request)
    if args.findings:
        secret = [name for name in description.columns if description.column(name).field == "password"]
        write(table, Path(args.findings), proposal.findings, secret)
        without = "; the passwords are left out" if secret else ""
        session.terminal.note(f"The rows with what is wrong: {args.findings}{without}\n")
    return proposal


def _propose(session: Session, path: Path) -> Report:
    """Write the description that the file seems to need."""
    from vandrel.intake.description import beside
    from vandrel.intake.propose import propose_for_file
    from vandrel.jobs.common.report import Report

    args = session.args
    target = Path(args.intake) if args.intake else beside(path)
    proposed = propose_for_file(
        path, typed_layout(session), session.charter, args.type or "account", args.kind or "", args.mode or "create"
    )
    if args.dry_run:
        return Report("import", text=proposed.text)
    safe_file.write(target, proposed.text.encode(), "description", private=False)
    sheets = [f"It has the sheets {', '.join(proposed.sheets)}; this is for {proposed.sheet}."]
    summary = f"Written: {target}. Read it, correct it, then: vandrel import {path} --dry-run"
    text = "" if session.terminal.quiet else proposed.text
    return Report("import", text=text, facts=[], summary=[*sheets[: len(proposed.sheets) > 1], summary])
