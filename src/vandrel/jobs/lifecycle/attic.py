"""What is in the attic: the objects that were deleted, who deleted them, when, and until when they are kept."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime, timedelta
from typing import Protocol

from msgspec import Struct

from vandrel.directory import place as places
from vandrel.errors import Code, Finding, VandrelError
from vandrel.jobs.common.personal_groups import is_own_group
from vandrel.jobs.common.report import Report, Table, count
from vandrel.objects.context import Context
from vandrel.record.attic import Attic, Item
from vandrel.text.string_prep import prepare

_STYLE = "%Y-%m-%d %H:%M"
#: Names of an object that somebody may type.
_NAMES = ("login", "principal", "mail", "number", "full")


class AtticSelection(Struct, frozen=True):
    """Which objects of the attic: all conditions count together; an empty one chooses all.

    Attributes:
        names: names as typed: of any field that names an object, in full or a fragment; or the number in the attic.
        job: the job that deleted them; 0 for any.
        kind: their kind or type.
        under: the place, as ``/Ferries/Kelness``, in or below which they were.
        since: the first moment that counts.
        until: the last.

    """

    names: Sequence[str] = ()
    job: int = 0
    kind: str = ""
    under: str = ""
    since: datetime | None = None
    until: datetime | None = None


class ItemSource(Protocol):
    """Where deleted objects come from: the attic, or a snapshot. ``damaged`` is what could not be read."""

    damaged: list[Finding]

    def items(self, *, job: int = 0, key: str = "") -> Iterator[Item]:
        """The objects that are there, the last deleted first: of one job, or of one name."""


def chosen_items(context: Context, attic: ItemSource, selection: AtticSelection) -> list[Item]:
    """The objects that are meant, the last deleted first; of one that was deleted several times, the last.

    Raises:
        VandrelError: ``not-found``, ``ambiguous``.

    """
    newest: dict[str, Item] = {}
    for item in attic.items(job=selection.job):
        if _fits(context, item, selection) and not is_still_there(context, item):
            newest.setdefault(item.entry.dn.key, item)
    items = list(newest.values())
    if not selection.names:
        return items
    chosen: dict[str, Item] = {}
    for word in selection.names:
        item = _named(context, items, word)
        chosen[item.entry.dn.key] = item
    return list(chosen.values())


def is_still_there(context: Context, item: Item) -> bool:
    """Whether the directory did not delete the object after all: its job was broken off just then."""
    if item.is_gone:
        return False
    entry = context.directory.get(item.entry.dn)
    return entry is not None and entry.identifier == item.entry.identifier != ""


def _fits(context: Context, item: Item, selection: AtticSelection) -> bool:
    entry = item.entry
    if selection.kind and selection.kind not in (context.one(entry, "kind"), context.object_type(entry)):
        return False
    if selection.under and not entry.dn.is_within(places.to_dn(places.parse(selection.under), context.charter.base)):
        return False
    return (selection.since or item.deleted) <= item.deleted <= (selection.until or item.deleted)


def _named(context: Context, items: Iterable[Item], word: str) -> Item:
    key = prepare(word)
    exact: list[Item] = []
    partly: list[Item] = []
    by_number: list[Item] = []
    for item in items:
        entry = item.entry
        names = [str(entry.dn), entry.dn.name, context.place(entry.dn), *(context.one(entry, name) for name in _NAMES)]
        words = [prepare(name) for name in names if name]
        if key in words:
            exact.append(item)
        elif any(key in each for each in words[1:]):
            partly.append(item)
        if word == str(item.number):
            by_number.append(item)
    fitting = [
        item for item in exact or by_number or partly
        if not any(is_own_group(context, item.entry, other.entry) for other in exact)  # it comes with the account
    ]  # fmt: skip
    if not fitting:
        what = f"nothing that was deleted is called {word!r}"
        raise VandrelError(Code.NOT_FOUND, what, remedy="vandrel attic lists what is there")
    if len(fitting) > 1:
        few = ", ".join(f"{item.number} ({context.label(item.entry)})" for item in fitting[:5])
        what = f"{word!r} fits {count(len(fitting), 'object')}: {few}{' ...' if len(fitting) > 5 else ''}"
        raise VandrelError(Code.AMBIGUOUS, what, remedy="name one by its number in the attic")
    return fitting[0]


def list_attic(context: Context, attic: Attic, selection: AtticSelection) -> Report:
    """List what is in the attic, the last deleted first.

    Raises:
        VandrelError: what choosing raises.

    """
    return report_of(context, attic, "attic", chosen_items(context, attic, selection))


def report_of(context: Context, attic: Attic, command: str, items: Iterable[Item]) -> Report:
    """Objects of the attic as a report of this command."""
    days, zone = context.charter.document.attic_days, context.charter.zone
    columns = ("number", "deleted", "kept_until", "who", "job", "type", "label", "place", "dn", "octets")
    rows = []
    for item in items:
        entry = item.entry
        rows.append(
            (
                item.number, item.deleted.astimezone(zone).strftime(_STYLE),
                (item.deleted + timedelta(days=days)).astimezone(zone).date().isoformat(), item.who, item.job,
                context.object_type(entry) or "object", context.label(entry), context.place(entry.dn.parent),
                str(entry.dn), item.size,
            )
        )  # fmt: skip
    display_rows = [(row[0], row[1], row[2], row[3], row[4], row[6], row[7]) for row in rows]
    heads = ("no.", "deleted", "kept until", "who", "job", "what", "place")
    octets = sum(item[-1] for item in rows)
    summary = [f"{count(len(rows), 'object')}, {octets:,} octets, kept for {count(days, 'day')}: {attic.path.name}"]
    return Report(
        command, columns, rows, is_for_programs=True,
        tables=[Table("listed", "", heads, display_rows, has_header=True)],
        summary=summary if rows else ["Nothing in the attic."], findings=attic.damaged,
    )  # fmt: skip


def kept_by_server(context: Context) -> frozenset[str]:
    """The identifiers of what the server itself still has of deleted objects, and can bring back as they were."""
    return frozenset(entry.text("objectGUID") for entry in context.directory.deleted()) - {""}


def expired_items(context: Context, attic: Attic) -> list[Item]:
    """The objects whose days in the attic are over."""
    before = datetime.now(UTC) - timedelta(days=context.charter.document.attic_days)
    return list(attic.items(before=before))
