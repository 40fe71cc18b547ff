"""``vandrel import``: accounts, groups, units and computers from a tabular file."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli import many, row_by_row
from vandrel.cli.session import Session, count

if TYPE_CHECKING:
    from vandrel.errors import Finding
    from vandrel.intake.description import Description
    from vandrel.intake.table import Table
    from vandrel.jobs.bulk.roster import Roster
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
    parser.add_argument("file", metavar="FILE", help="delimited text, .xlsx or .ods")
    parser.add_argument("--intake", metavar="FILE", help="what its columns mean (default: NAME.intake.yaml beside it)")
    parser.add_argument("--propose", action="store_true", help="write that file from the header and the first rows")
    parser.add_argument("--findings", metavar="FILE", help="write the rows again, with a column of findings")
    parser.add_argument("--rows", type=many.positive, metavar="N", help="how many rows are expected")
    parser.add_argument("--sound-only", action="store_true", help="make the sound rows, and leave the others out")
    parser.add_argument("--missing", action="store_true", help="list who exists and stands in no row")
    group = parser.add_argument_group("in place of what the small file says")
    group.add_argument("--of", choices=("account", "group", "unit", "computer"), help="what each row is")
    group.add_argument("--kind", metavar="KIND", help="kind of account or group, where no column gives it")
    group.add_argument(
        "--mode", choices=("create", "update", "both"), help="make new ones, change existing ones, or both"
    )
    group.add_argument("--encoding", metavar="NAME", help="utf-8, utf-16, windows-1252, latin-1 ...")
    group.add_argument("--separator", metavar="CHAR", help="the character between cells; tab for a tab")
    group.add_argument("--quote", metavar="CHAR", help="the character around cells; none for none")
    group.add_argument("--sheet", metavar="NAME", help="the sheet of a spreadsheet")
    many.configure(parser)


def run(session: Session) -> int:
    from vandrel.errors import Code, Finding, Location, Refused
    from vandrel.intake.annotate import must_be_new

    path = Path(session.args.file)
    _must_be_there(path)
    if session.args.propose:
        return _propose(session, path)
    many.must_be_possible(session)
    if session.args.findings:
        must_be_new(Path(session.args.findings))
    described, table = _opened(session, path)
    secret = _one_for_all(session, described)
    roster, more = check(session, described, table, secret)
    findings = sorted([*more, *roster.findings()], key=lambda f: (not f.is_fatal, f.row))
    if session.args.findings:
        _annotate(session, table, findings)
    if session.args.missing:
        return _missing(session, roster, path)
    fatal = [finding for finding in findings if finding.is_fatal]
    many.show_findings(session, findings)
    read = len(roster.lines)
    expected = f" ({session.args.rows} expected)" if session.args.rows else ""
    if not session.out.as_json:
        many.show_roster(session, roster, described.object_type)
        session.out.note(
            f"{path.name}: {count(read, 'row')} read{expected}: {many.summary(roster) or 'nothing to do'}."
        )
    if fatal and (not session.args.sound_only or any(finding.row == 0 for finding in fatal)):
        if session.out.as_json:
            session.out.json(row_by_row.as_json(session, roster, None))
        what = f"{count(len(fatal), 'finding')} in {count(len({f.row for f in fatal}), 'row')}: nothing was written"
        remedy = "mend the file; or make the sound rows alone: --sound-only"
        raise Refused([Finding(Code.INTAKE, what, Location(file=str(path)), remedy)])
    return many.make(session, roster, described.object_type, f"import {path.name}")


def _must_be_there(path: Path) -> None:
    """See to it that there is a file to read.

    Raises:
        VandrelError: ``not-found``, or ``bad-value`` for a folder.

    """
    from vandrel.errors import Code, Location, VandrelError

    if not path.exists():
        raise VandrelError(Code.NOT_FOUND, "there is no such file", where=Location(file=str(path)))
    if path.is_dir():
        raise VandrelError(Code.BAD_VALUE, "this is a folder, and no file of rows", where=Location(file=str(path)))


def _propose(session: Session, path: Path) -> int:
    """Write the description that the file seems to need.

    Raises:
        VandrelError: ``taken`` where there is one.

    """
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.intake.description import as_yaml, beside
    from vandrel.intake.propose import propose
    from vandrel.intake.table import open_table, sheets_of

    target = Path(session.args.intake) if session.args.intake else beside(path)
    said, sheets = _said(session), sheets_of(path)
    typed = said.pop("sheet")
    # Of several sheets, the first whose columns mean something.
    for sheet in [*sheets, sheets[0]] if sheets and not typed else [typed]:
        described, table, comments = propose(
            open_table(path, **said, sheet=sheet), session.charter, session.args.of or "account",
            session.args.kind or "",
        )  # fmt: skip
        if described.key:
            break
    if len(sheets) > 1:
        session.out.note(f"It has the sheets {', '.join(sheets)}; this is for {table.layout.sheet}.\n")
    if not described.columns:
        raise VandrelError(
            Code.BAD_VALUE, "the file has no rows", where=Location(file=str(path)), remedy="is it the right one?"
        )
    text = as_yaml(described, table.layout, comments)
    if session.args.dry_run:
        print(text, end="")
        return 0
    try:
        with target.open("x", encoding="utf-8") as file:
            file.write(text)
    except FileExistsError:
        raise VandrelError(
            Code.TAKEN, "there is a description already, and it is not overwritten", where=Location(file=str(target)),
            remedy="see a new one: --propose --dry-run",
        ) from None  # fmt: skip
    except OSError as error:
        raise VandrelError(
            Code.NOT_PERMITTED, f"it cannot be written: {error.strerror}", where=Location(file=str(target))
        ) from None
    session.out.note(text.rstrip())
    session.out.note(f"\nWritten: {target}. Read it, correct it, then: vandrel import {path} --dry-run")
    return 0


def _said(session: Session) -> dict[str, str | None]:
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
    described = load(Path(args.intake) if args.intake else beside(path))
    typed = {name: value for name, value in (("sort", args.of), ("kind", args.kind), ("mode", args.mode)) if value}
    described = structs.replace(described, **typed)
    said = layout_of(described.file) | {name: value for name, value in _said(session).items() if value is not None}
    table = open_table(path, **said)
    _must_know_the_kind(session, described, path)
    if args.password is None:
        args.password = "ask" if described.passwords == "ask" else "generate"
        args.no_passwords = args.no_passwords or described.passwords == "none"
    return described, Table(table.path, structs.replace(table.layout, header=described.file.header))


def _must_know_the_kind(session: Session, described: Description, path: Path) -> None:
    """See to it that the kind of accounts or groups is known, where no column gives it.

    Raises:
        VandrelError: ``unknown-kind``.

    """
    from vandrel.errors import Code, Location, VandrelError

    fields = {described.column(name).field for name in described.columns}
    if described.object_type not in ("account", "group") or "kind" in fields | {*described.constants, *described.built}:
        return
    if described.kind:
        (session.charter.kind if described.object_type == "account" else session.charter.group_kind)(described.kind)
    elif described.object_type == "account" and described.mode != "update":
        kinds = ", ".join(session.charter.document.kinds)
        what = "no column says of which kind the accounts are, and the description does not either"
        raise VandrelError(
            Code.UNKNOWN_KIND, what, where=Location(file=str(path)), remedy=f"--kind, or kind: with one of {kinds}"
        )


def _one_for_all(session: Session, described: Description) -> Secret | None:
    """The password that all new people get, if there is to be one.

    Raises:
        VandrelError: ``usage`` where the file has passwords of its own.

    """
    from vandrel.errors import Code, Location, VandrelError

    if described.object_type != "account" or session.args.password in (None, "generate"):
        return None
    if any(described.column(name).field == "password" for name in described.columns):
        what = "the file has a column of passwords, so one for all does not fit"
        raise VandrelError(
            Code.USAGE,
            what,
            where=Location(option="--password"),
            remedy="take the column out of the description, or --password",
        )
    return many.one_for_all(session, described.kind)


def check(
    session: Session, described: Description, table: Table, secret: Secret | None = None
) -> tuple[Roster, list[Finding]]:  # fmt: skip
    """The whole file worked out, and what is wrong with it as a whole."""
    from itertools import chain

    from vandrel.errors import Code, Finding, Location, Refused
    from vandrel.intake.convert import Converter
    from vandrel.intake.propose import looks_like_header
    from vandrel.intake.table import text
    from vandrel.jobs.bulk.roster import Planner
    from vandrel.text.nearest import did_you_mean

    header = table.header()
    found: list[Finding] = []
    for name in described.columns:
        if name not in header and described.columns[name] != "":
            hint = did_you_mean(name, header) or f"the file has: {', '.join(header)}"
            found.append(Finding(Code.HEADER, f"there is no column {name!r}", Location(row=0, header=name), hint))
    if any(described.column(finding.column).field in described.key for finding in found):
        many.show_findings(session, found)
        what = f"{count(len(found), 'column')} of the description {'is' if len(found) == 1 else 'are'} not in the file"
        remedy = "is it the description of another file? a new one: --propose --dry-run"
        raise Refused([Finding(Code.INTAKE, what, Location(file=str(table.path)), remedy)])
    twice = [name for number, name in enumerate(header) if name in header[:number] and described.column(name).field]
    found += [
        Finding(Code.HEADER, f"two columns are called {name!r}", Location(row=0, header=name), "rename one")
        for name in twice
    ]
    converter = Converter(described, header, session.charter.document.lists, table.layout.quote)
    rows = table.rows()
    if not table.layout.header and (first := next(rows, None)) is not None:
        if looks_like_header(first.cells):
            what = "the header is taken for data"
            value = text(first.cells[0])
            found.append(
                Finding(Code.HEADER, what, Location(row=first.number, header=header[0]), "write header: 1", value=value)
            )
        else:
            rows = chain([first], rows)
    roster = Planner(session.context, described, session.charter.today()).plan(
        many.with_password(converter.items(rows), secret)
    )
    if session.args.rows and session.args.rows != len(roster.lines):
        what = f"{len(roster.lines)} rows were read, and {session.args.rows} are expected"
        found.append(Finding(Code.ROWS, what, Location(row=0), "is the file whole, and does it have lines of its own?"))
    return roster, found


def _annotate(session: Session, table: Table, findings: list[Finding]) -> None:
    """The rows again, with a column that says what is wrong: for whoever sent the file."""
    from vandrel.intake.annotate import write

    target = Path(session.args.findings)
    by_row: dict[int, list[str]] = {}
    for finding in findings:
        said = f"{finding.column}: {finding.what}" + (f" - {finding.remedy}" if finding.remedy else "")
        by_row.setdefault(finding.row, []).append(said if finding.is_fatal else f"note: {said}")
    write(table, target, by_row)
    session.out.note(f"The rows with what is wrong: {target}\n")


def _missing(session: Session, roster: Roster, path: Path) -> int:
    """Who exists and stands in no row, with the day since when that was noticed."""
    from vandrel.intake.annotate import missing_since

    since = missing_since(path, [" ".join(item.key) for item in roster.missing], session.charter.today())
    rows = [
        (" ".join(item.key), item.dn.name, session.context.place(item.dn.parent), since[" ".join(item.key)])
        for item in sorted(roster.missing, key=lambda item: (since[" ".join(item.key)], item.key))
    ]
    if session.out.as_json:
        session.out.json({"command": NAME, "missing": [
            {"key": key, "name": name, "place": place, "since": day} for key, name, place, day in rows]})  # fmt: skip
    elif rows:
        session.out.table(("key", "name", "place", "missing since"), rows)
    else:
        session.out.note("Nobody is missing.")
    return 0
