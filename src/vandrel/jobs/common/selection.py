"""Which objects a request is about: names, and what a filter finds."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Or
from vandrel.directory.filter import parse as parse_filter
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import OBJECT_TYPES, UNIT
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context


class Selection(Struct, frozen=True):
    """Names as typed, and a filter of RFC 4515 with the unit within which it counts; empty for none."""

    names: Sequence[str] = ()
    where: str = ""
    under: str = ""


def select(
    context: Context, selection: Selection, object_types: Sequence[str] = OBJECT_TYPES, only: Sequence[str] = ()
) -> list[Entry]:  # fmt: skip
    """The objects of these types that are meant, each once; with `only`, no other attributes of them need to come.

    Raises:
        VandrelError: ``usage`` where nothing is named, ``not-found``, ``ambiguous``, ``bad-filter``.

    """
    if not selection.names and not selection.where:
        raise VandrelError(Code.USAGE, "whom or what?", remedy="name somebody, or choose with --where")
    chosen = {entry.dn.key: entry for entry in (resolve(context, name, object_types, only) for name in selection.names)}
    if selection.where:
        base = resolve(context, selection.under, (UNIT,)).dn if selection.under else context.charter.base
        of_types = Or(tuple(context.dialect.filter_for(each) for each in object_types))
        where = And((of_types, parse_filter(selection.where)))
        entries = context.directory.search(base, where=where, only=only)
        chosen |= {entry.dn.key: entry for entry in sorted(entries, key=lambda entry: entry.dn.key)}
    if not chosen:
        raise VandrelError(Code.NOT_FOUND, "the filter finds nothing", where=Location(option="--where"))
    return list(chosen.values())
