"""Which objects a command is about: names, a filter, conditions on a unit, or a list on standard input."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from collections.abc import Sequence

    from vandrel.directory.entry import Entry


def configure(parser: argparse.ArgumentParser) -> None:
    """The options that choose many; names are the command's own business."""
    group = parser.add_argument_group("many at once")
    group.add_argument("--where", metavar="FILTER", help="everything that this filter of RFC 4515 finds")
    under = group.add_argument("--under", metavar="PLACE", help="of what the filter finds, only this unit and below")
    complete.attach(under, complete.places)


def add_names(parser: argparse.ArgumentParser) -> None:
    """Names alone, for commands without assignments; and the options for many."""
    names = parser.add_argument("names", nargs="*", metavar="NAME", help="whom or what; - reads names, a line each")
    complete.attach(names, complete.objects)
    configure(parser)


def chosen(session: Session, typed: Sequence[str], object_types: Sequence[str] = ()) -> list[Entry]:
    """The objects that were named, each once; of the sorts given, or any.

    Raises:
        VandrelError: ``usage`` where nothing is named, ``not-found``, ``ambiguous``, ``bad-filter``.

    """
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.resolve import OBJECT_TYPES, resolve

    wanted = tuple(object_types) or OBJECT_TYPES
    names = [name for word in typed for name in (_lines() if word == "-" else [word])]
    if not names and not session.args.where and session.out.interactive and not session.out.as_json:
        names = [input("Whom or what? ")]
    if not names and not session.args.where:
        raise VandrelError(Code.USAGE, "whom or what?", remedy=f"vandrel {session.args.command} NAME")
    found = {entry.dn.key: entry for entry in (resolve(session.context, name, wanted) for name in names)}
    if session.args.where:
        found |= {entry.dn.key: entry for entry in _filtered(session, wanted)}
    if not found:
        raise VandrelError(Code.NOT_FOUND, "the filter finds nothing", where=Location(option="--where"))
    return list(found.values())


def _lines() -> list[str]:
    return [line.strip() for line in sys.stdin if line.strip()]


def _filtered(session: Session, object_types: Sequence[str]) -> list[Entry]:
    from vandrel.directory.filter import And, Or
    from vandrel.directory.filter import parse as parse_filter
    from vandrel.jobs.common.resolve import resolve

    context = session.context
    base = resolve(context, session.args.under, ("unit",)).dn if session.args.under else context.charter.base
    of_types = Or(tuple(context.dialect.filter_for(object_type) for object_type in object_types))
    found = context.directory.search(base, where=And((of_types, parse_filter(session.args.where))))
    return sorted(found, key=lambda entry: entry.dn.key)
