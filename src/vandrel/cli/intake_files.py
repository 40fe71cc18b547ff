"""Tabular files and what their columns mean, as the options of a command name them."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.intake.description import Description
    from vandrel.intake.table import Table
    from vandrel.secret import Secret


def add_layout(group: argparse._ArgumentGroup) -> None:
    """Add the options that say how a file is written."""
    group.add_argument("--encoding", metavar="NAME", help="utf-8, utf-16, windows-1252, latin-1 ...")
    group.add_argument("--separator", metavar="CHAR", help="the character between cells; tab for a tab")
    group.add_argument("--quote", metavar="CHAR", help="the character around cells; none for none")
    group.add_argument("--sheet", metavar="NAME", help="the sheet of a spreadsheet")


def must_be_there(path: Path) -> None:
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


def typed_layout(session: Session) -> dict[str, str | None]:
    """How a file is written, as far as options say."""
    args = session.args
    separator = {"tab": "\t", "comma": ",", "semicolon": ";", "pipe": "|"}.get(args.separator, args.separator)
    quote = "" if args.quote == "none" else args.quote
    return {"encoding": args.encoding, "separator": separator, "quote": quote, "sheet": args.sheet}


def opened(session: Session, path: Path, *, beside_of: Path | None = None) -> tuple[Description, Table]:
    """The description and the table, with what was typed in place of what the description says.

    Args:
        session: the options.
        path: the file with the rows.
        beside_of: beside which file the description stands, if not that one.

    """
    from msgspec import structs

    from vandrel.intake.description import beside, layout_of, load
    from vandrel.intake.table import Table, open_table

    args = session.args
    named = beside_of or path
    description = load(Path(args.intake) if args.intake else beside(named), session.charter.fields, str(named))
    typed = {"object_type": getattr(args, "type", None), "kind": args.kind, "mode": getattr(args, "mode", None)}
    description = structs.replace(description, **{name: value for name, value in typed.items() if value})
    layout = layout_of(description.file) | {n: value for n, value in typed_layout(session).items() if value is not None}
    table = open_table(path, **layout)
    args.no_passwords = args.no_passwords or (args.password is None and description.passwords == "none")
    return description, Table(table.path, structs.replace(table.layout, header=description.file.header))


def password_for_all(session: Session, description: Description) -> Secret | None:
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
