"""Objects as LDIF, in an order in which they can be made again: each after the one that holds it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory import ldif
from vandrel.directory import place as places
from vandrel.directory.dn import DN, LEVEL
from vandrel.directory.entry import Entry
from vandrel.directory.filter import EVERYTHING, Filter, matches
from vandrel.directory.filter import parse as parse_filter
from vandrel.directory.ldif import Origin
from vandrel.directory.port import Directory, Scope
from vandrel.directory.secret_attributes import is_secret
from vandrel.errors import Code, Location, VandrelError
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context
from vandrel.record.snapshots import Snapshot, Snapshots
from vandrel.text.nearest import did_you_mean


class ExportRequest(Struct, frozen=True):
    """What to put out.

    Attributes:
        names: objects as they were typed, each with all below it; none for everything.
        where: a filter (RFC 4515); empty for all objects.
        only: names of attributes; none for all.
        with_operational: whether attributes that the directory itself keeps come along.
        with_schema: whether the schema stands first.
        with_hashes: whether hashes of passwords come along.

    """

    names: Sequence[str] = ()
    where: str = ""
    only: Sequence[str] = ()
    with_operational: bool = False
    with_schema: bool = False
    with_hashes: bool = False


def export(context: Context, request: ExportRequest, of: tuple[Snapshots, Snapshot] | None = None) -> Iterator[str]:
    """Put out objects as LDIF (RFC 2849), record by record: as they are, or as they were in a snapshot.

    Raises:
        VandrelError: ``unknown-field``, what resolving the names raises, ``bad-value`` for the filter, ``damaged``.

    """
    directory, contexts = context.directory, context.directory.contexts
    where = parse_filter(request.where) if request.where else EVERYTHING
    if of is not None:
        bases = [_named_then(context, name) for name in request.names] or [of[1].base]
        entries = _as_they_were(context, bases, where, *of)
        contexts = contexts if of[1].base in contexts else (of[1].base,)
    else:
        bases = [resolve(context, name, only=["objectClass"]).dn for name in request.names] or [context.charter.base]
        entries = (entry for base in _apart(bases) for entry in superiors_first(directory, base, where))
    keep = _keep(context, request)
    origin = Origin(contexts, directory.schema.definitions) if request.with_schema else None

    def records() -> Iterator[str]:
        yield "version: 1\n\n"
        if origin is not None:
            yield ldif.origin(origin)
        for entry in entries:
            yield ldif.content(entry, keep)

    return records()


def _apart(bases: Sequence[DN]) -> list[DN]:
    """Those of the names that stand below no other of them, each once."""
    different = list(dict.fromkeys(bases))
    return [dn for dn in different if not any(dn.is_below(other) for other in different)]


def _named_then(context: Context, typed: str) -> DN:
    """An object of a snapshot, which need not be there any more, by its name in full or its place."""
    if typed.startswith("/"):
        return places.to_dn(places.parse(typed), context.charter.base)
    if "=" in typed:
        return names.parse(typed)
    what, remedy = f"{typed!r} is neither a place nor a distinguished name", "a snapshot knows objects by these"
    raise VandrelError(Code.BAD_NAME, what, where=Location(text=typed), remedy=remedy)


def _as_they_were(
    context: Context, bases: Sequence[DN], where: Filter, snapshots: Snapshots, snapshot: Snapshot
) -> Iterator[Entry]:
    """The objects of a snapshot that are one of these or below."""
    for entry in snapshots.entries(snapshot):
        is_asked_for = any(entry.dn.is_within(base) for base in bases)
        if is_asked_for and (where == EVERYTHING or matches(where, entry, context.directory.schema)):
            yield entry


def _keep(context: Context, request: ExportRequest) -> Callable[[str], bool]:
    """Which attributes are put out."""
    schema = context.directory.schema
    only = set()
    for typed in request.only:
        if not (name := schema.attribute_name(typed)):
            what, hint = f"the schema has no attribute {typed!r}", did_you_mean(typed, schema.attribute_names())
            raise VandrelError(Code.UNKNOWN_FIELD, what, where=Location(option="--only"), remedy=hint)
        only.add(name)

    def kept(name: str) -> bool:
        if only and name not in only:
            return False
        if is_secret(name):
            return request.with_hashes
        attribute = schema.attribute(name)
        return request.with_operational or attribute is None or not attribute.read_only

    return kept


def superiors_first(directory: Directory, base: DN, where: Filter = EVERYTHING) -> Iterator[Entry]:
    """The entries within `base` that the filter finds, superiors before their subordinates.

    Servers have an order of their own, mostly the one in which objects were made. The names alone are read first, to
    learn which objects hold others; then each entry goes out at once, unless what holds it is still to come. So no
    more is in memory than the names of those that hold others, and the few entries that stand before their superior.
    """
    keys = (entry.dn.key for entry in directory.search(base, where=where, only=["objectClass"]))
    superiors = {key.rpartition(LEVEL)[0] for key in keys}
    come = _found_among(directory, base, where, superiors)  # only what comes itself can be waited for
    there: set[str] = set()
    waiting: dict[str, list[Entry]] = {}
    for entry in directory.search(base, where=where):
        above = entry.dn.key.rpartition(LEVEL)[0]
        if above in come and above not in there:
            waiting.setdefault(above, []).append(entry)
            continue
        yield from _with_those_that_wait(entry, superiors, there, waiting)


def _found_among(directory: Directory, base: DN, where: Filter, superiors: set[str]) -> set[str]:
    """Which of the objects that hold others are found by the filter themselves."""
    if where == EVERYTHING:
        return {key for key in superiors if key == base.key or key.startswith(base.key + LEVEL)}
    return {entry.dn.key for entry in directory.search(base, Scope.SUBTREE, where, ["objectClass"])} & superiors


def _with_those_that_wait(
    entry: Entry, superiors: set[str], there: set[str], waiting: dict[str, list[Entry]]
) -> Iterator[Entry]:
    todo = [entry]
    while todo:
        one = todo.pop(0)
        yield one
        if one.dn.key in superiors:
            there.add(one.dn.key)
            todo += waiting.pop(one.dn.key, [])
