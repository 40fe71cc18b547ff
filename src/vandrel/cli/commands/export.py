"""``vandrel export``: objects as LDIF."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Iterator
from typing import IO, TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.directory.entry import Entry
    from vandrel.directory.ldif import Origin
    from vandrel.jobs.common.report import Report

NAME = "export"
HELP = "put out objects as LDIF"
DESCRIPTION = """\
Put out objects as LDIF (RFC 2849), each after the one that holds it, so that `vandrel load` or another directory can
take them in. Password hashes stay behind unless asked for."""
EXAMPLES = """\
  vandrel export > everything.ldif
  vandrel export /Ferries/Northquay --to northquay.ldif
  vandrel export --schema --directory harbour --to copy.ldif     then: vandrel load copy.ldif --directory copy.db
  vandrel export --where "(title=*mate*)" --only cn,mail,telephoneNumber
"""
WRITES = False

_HASHES = frozenset({"userPassword", "pwdHistory"})


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    place = parser.add_argument(
        "place", nargs="?", metavar="PLACE", help="a unit, with all below it (default: everything)"
    )
    complete.attach(place, complete.places)
    parser.add_argument("--where", metavar="FILTER", help="only objects that this filter of RFC 4515 finds")
    parser.add_argument("--only", metavar="ATTRIBUTE,...", help="only these attributes")
    parser.add_argument(
        "--own", action="store_true", help="also what the directory keeps itself: identity, time stamps"
    )
    parser.add_argument(
        "--schema", action="store_true", help="the directory's schema first, so that a copy of its own can be made"
    )
    parser.add_argument("--hashes", action="store_true", help="also password hashes, which others can try to break")
    parser.add_argument("--to", metavar="FILE", help="write to a file for you alone, which must not exist")


def run(session: Session) -> Report:
    """Write the objects, one after the other."""
    from vandrel.directory.filter import EVERYTHING
    from vandrel.directory.filter import parse as parse_filter
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.report import Report, count
    from vandrel.jobs.common.resolve import resolve
    from vandrel.jobs.inspect.export import superiors_first

    context, args = session.context, session.args
    if args.json and not args.to:
        what, remedy = "LDIF is no JSON", "write it to a file: --to FILE"
        raise VandrelError(Code.USAGE, what, where=Location(option="--json"), remedy=remedy)
    base = resolve(context, args.place, ("unit",)).dn if args.place else context.charter.base
    entries = superiors_first(context.directory, base, parse_filter(args.where) if args.where else EVERYTHING)
    keep = _keep(session)
    origin = None
    if args.schema:
        from vandrel.directory.ldif import Origin

        origin = Origin(context.directory.contexts, context.directory.schema.definitions)
    if not args.to:
        _write(entries, keep, sys.stdout, origin)
        return Report("export")
    with _new_file(args.to) as file:
        written = _write(entries, keep, file, origin)
    facts = [("objects", written)] if session.terminal.as_json else []
    return Report("export", facts=facts, summary=[f"{count(written, 'object')} in {args.to}"])


def _keep(session: Session) -> Callable[[str], bool]:
    """Which attributes are put out.

    Raises:
        VandrelError: ``unknown-field``.

    """
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.text.nearest import did_you_mean

    schema, args = session.context.directory.schema, session.args
    only = set()
    for typed in (args.only or "").split(","):
        name = schema.attribute_name(typed.strip())
        if typed.strip() and not name:
            hint = did_you_mean(typed, schema.attribute_names())
            raise VandrelError(
                Code.UNKNOWN_FIELD,
                f"the schema has no attribute {typed!r}",
                where=Location(option="--only"),
                remedy=hint,
            )
        only.add(name)
    only -= {""}

    def kept(name: str) -> bool:
        if only and name not in only:
            return False
        if name in _HASHES:
            return bool(args.hashes)
        attribute = schema.attribute(name)
        return bool(args.own) or attribute is None or not attribute.read_only

    return kept


def _new_file(path: str) -> IO[str]:
    from vandrel.errors import Code, Location, VandrelError

    try:
        return os.fdopen(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "w", encoding="utf-8")
    except FileExistsError:
        raise VandrelError(Code.TAKEN, "the file exists and is not overwritten", where=Location(file=path)) from None
    except OSError as error:
        raise VandrelError(
            Code.NOT_PERMITTED, f"the file cannot be written: {error.strerror}", where=Location(file=path)
        ) from None


def _write(entries: Iterator[Entry], keep: Callable[[str], bool], file: IO[str], origin: Origin | None) -> int:
    from vandrel.directory import ldif

    file.write("version: 1\n\n")
    if origin is not None:
        file.write(ldif.origin(origin))
    written = 0
    for entry in entries:
        file.write(ldif.content(entry, keep))
        written += 1
    return written
