"""Taking snapshots of the directory, listing and verifying them, and keeping so many of each age."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Hashable, Iterable
from datetime import date
from functools import partial
from zoneinfo import ZoneInfo

from msgspec import Struct, structs

from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.packing import Packed
from vandrel.directory.port import Changes, Scope
from vandrel.errors import Code, VandrelError
from vandrel.jobs.common.report import Report, Table, count
from vandrel.objects.context import Context
from vandrel.record.snapshot_writer import Source
from vandrel.record.snapshots import Snapshot, Snapshots

_STYLE = "%Y-%m-%d %H:%M"


class TakeRequest(Struct, frozen=True):
    """Of which place a snapshot is taken, empty for all; and who takes it."""

    place: str = ""
    who: str = ""


def take(context: Context, snapshots: Snapshots, request: TakeRequest) -> Report:
    """Take a snapshot.

    Raises:
        VandrelError: ``bad-name``; ``not-found`` where nothing stands there; what reading and writing raise.

    """
    base = places.to_dn(places.parse(request.place), context.charter.base) if request.place else context.charter.base
    if not context.directory.existing([base]):
        raise VandrelError(Code.NOT_FOUND, f"there is nothing at {request.place or base}")
    source = Source(partial(_changes, context, base, request.who), partial(_packed, context))
    snapshot, changed = snapshots.take(base, request.who, context.directory.packed(base), source)
    rows = [_row(context, snapshot)]
    summary = (
        f"Snapshot {snapshot.number}: {count(snapshot.entries, 'entry')}, {changed:,} new or changed since the last."
    )
    return Report("snapshot take", _COLUMNS, rows, is_for_programs=True, summary=[summary])


def _packed(context: Context, dn: DN) -> Packed | None:
    """One entry, packed. Raises `DirectoryError` ``damaged`` where it cannot be read."""
    directory = context.directory
    packed = next(iter(directory.packed(dn, Scope.BASE)), None)
    if packed is None:  # gone, or damaged
        directory.get(dn)
    return packed


def _changes(context: Context, base: DN, who: str, since: str, identifiers_before: Collection[str]) -> Changes:
    """What the directory says of changes, with a stamp that is another one for another identity and on another day.

    What an identity may read can change, and no entry changes with it: so all is read on the first run of a day.
    """
    seen_by = f"{context.charter.today()} {context.directory.bound_as} {who}"
    seal = hashlib.blake2b(seen_by.encode(), digest_size=6).hexdigest()
    sealed, _, stamp = since.partition(" ")
    changes = context.directory.changes(base, stamp if sealed == seal else "", identifiers_before)
    return structs.replace(changes, stamp=f"{seal} {changes.stamp}" if changes.stamp else "")


_COLUMNS = ("number", "taken", "who", "place", "entries")


def _row(context: Context, snapshot: Snapshot) -> tuple[int, str, str, str, int]:
    moment = snapshot.taken.astimezone(context.charter.zone).strftime(_STYLE)
    return snapshot.number, moment, snapshot.who, context.place(snapshot.base), snapshot.entries


def list_snapshots(context: Context, snapshots: Snapshots) -> Report:
    """List the snapshots of the directory, the last first."""
    rows = [_row(context, snapshot) for snapshot in snapshots.all()]
    heads = ("no.", "taken", "who", "place", "entries")
    display_rows = [(*row[:4], f"{row[4]:,}") for row in rows]
    octets = snapshots.path.stat().st_size if snapshots.exists else 0
    summary = (
        f"{count(len(rows), 'snapshot')}, {octets:,} octets: {snapshots.path.name}" if rows else "No snapshot yet."
    )
    table = Table("listed", "", heads, display_rows, has_header=True)
    return Report("snapshot list", _COLUMNS, rows, tables=[table], is_for_programs=True, summary=[summary])


def verify(context: Context, snapshots: Snapshots, number: int) -> Report:
    """Look whether a snapshot, or each, is whole; what is damaged is named, and is the exit code.

    Raises:
        VandrelError: ``not-found``.

    """
    chosen = [snapshots.one(number)] if number else snapshots.all()
    findings_of = {snapshot.number: snapshots.verify(snapshot) for snapshot in chosen}
    rows = [(*_row(context, snapshot), len(findings_of[snapshot.number])) for snapshot in chosen]
    display_rows = [(row[0], row[1], f"{row[5]} damaged" if row[5] else "whole") for row in rows]
    findings = list(dict.fromkeys(finding for each in findings_of.values() for finding in each))
    return Report(
        "snapshot verify", (*_COLUMNS, "damaged"), rows, is_for_programs=True,
        tables=[Table("listed", "", ("no.", "taken", ""), display_rows)],
        findings=findings, exit_code=Code.DAMAGED.exit_code if findings else 0,
    )  # fmt: skip


class ThinRequest(Struct, frozen=True):
    """How many days, weeks and months keep their last snapshot."""

    days: int = 14
    weeks: int = 8
    months: int = 12


def to_drop(snapshots: Iterable[Snapshot], request: ThinRequest, zone: ZoneInfo) -> list[Snapshot]:
    """The snapshots that are neither the last of a day, a week or a month that keeps its last, nor the last of all.

    Each base counts by itself; only days, weeks and months with a snapshot count.
    """
    by_base: dict[str, list[Snapshot]] = {}
    for snapshot in sorted(snapshots, key=lambda snapshot: snapshot.taken, reverse=True):
        by_base.setdefault(snapshot.base.key, []).append(snapshot)
    to_go = []
    for line in by_base.values():
        stays = {line[0].number}
        for number, span in ((request.days, _day), (request.weeks, _week), (request.months, _month)):
            stays |= _last_of_each(line, number, span, zone)
        to_go += [snapshot for snapshot in line if snapshot.number not in stays]
    return to_go


def report_dropped(to_go: Iterable[Snapshot], *, is_dry_run: bool) -> Report:
    """Say which snapshots are dropped, or would be."""
    numbers = [snapshot.number for snapshot in to_go]
    verb = "would be dropped" if is_dry_run else "dropped"
    summary = (
        f"{count(len(numbers), 'snapshot')} {verb}: {', '.join(map(str, numbers))}" if numbers else "Nothing to drop."
    )
    rows = [(number,) for number in numbers]
    return Report("snapshot thin", ("number",), rows, is_for_programs=True, summary=[summary])


def _last_of_each(line: list[Snapshot], number: int, span: Callable[[date], Hashable], zone: ZoneInfo) -> set[int]:
    last: dict[Hashable, int] = {}
    for snapshot in line:  # the last one comes first
        last.setdefault(span(snapshot.taken.astimezone(zone).date()), snapshot.number)
    return set(list(last.values())[:number])


def _day(day: date) -> Hashable:
    return day


def _week(day: date) -> Hashable:
    return day.isocalendar()[:2]


def _month(day: date) -> Hashable:
    return day.year, day.month
