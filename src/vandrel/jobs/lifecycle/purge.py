"""Forgetting deleted objects for good, and what the journal has of jobs that are long over."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from msgspec import Struct, structs

from vandrel.errors import Code, Location, VandrelError
from vandrel.jobs.common.report import Report, count
from vandrel.jobs.inspect.find import DELETED_COLUMNS, deleted_row
from vandrel.jobs.lifecycle.attic import AtticSelection, chosen_items, expired_items, report_of
from vandrel.objects.context import Context
from vandrel.record.attic import Attic
from vandrel.record.journal import Journal


class PurgeRequest(Struct, frozen=True):
    """Which objects of the attic are forgotten: those of a selection, or those whose days are over."""

    selection: AtticSelection
    expired: bool = False


class ToForget(Struct, frozen=True):
    """The numbers of objects in the attic, and of jobs in the journal, that are to be forgotten."""

    objects: list[int]
    jobs: list[int] = []

    def __bool__(self) -> bool:
        """Whether there is anything."""
        return bool(self.objects or self.jobs)

    def __str__(self) -> str:
        """How many, in words."""
        jobs = f"{count(len(self.jobs), 'job')} of the journal" if self.jobs else ""
        return " and ".join(filter(None, [count(len(self.objects), "object") if self.objects else "", jobs]))


def purge_there(context: Context, words: Sequence[str]) -> tuple[Report, list[str]]:
    """What is left in the directory itself of deleted objects, and is to be forgotten there; and its identifiers.

    Args:
        context: the directory.
        words: names of objects as they were, or logon names.

    Raises:
        VandrelError: ``usage`` where nobody is named; ``refused`` where the directory lets nobody do it; ``not-found``.

    """
    if not words:
        raise VandrelError(Code.USAGE, "who is to be forgotten there?", remedy="vandrel find --deleted lists them")
    if not context.directory.capabilities.forgets_deleted:
        what = "this directory keeps nothing of what is deleted that could be purged by a command"
        raise VandrelError(Code.REFUSED, what, where=Location(server=context.directory.location))
    rows, identifiers, by_name = [], [], {word.casefold(): word for word in words}
    unmatched = dict(by_name)
    for entry in context.directory.deleted():
        row = deleted_row(context, entry)
        called = {row[1].casefold(), row[2].casefold()} & by_name.keys()
        if called:
            rows.append(row)
            identifiers.append(entry.identifier)
            for word in called:
                unmatched.pop(word, None)
    if unmatched:
        what = f"nobody who was deleted there is called {next(iter(unmatched.values()))}"
        raise VandrelError(Code.NOT_FOUND, what, remedy="vandrel find --deleted lists them")
    summary = f"{count(len(rows), 'object')} to be forgotten there."
    return Report("purge", DELETED_COLUMNS, rows, summary=[summary]), identifiers


def purge(
    context: Context, attic: Attic, journal: Journal | None, request: PurgeRequest
) -> tuple[Report, ToForget]:  # fmt: skip
    """What is to be forgotten, for people, and its numbers; without a journal where there is none yet.

    Raises:
        VandrelError: ``usage`` where nothing is chosen; what choosing raises.

    """
    if not request.expired and request.selection == AtticSelection():
        remedy = "name somebody, or: vandrel purge --expired"
        raise VandrelError(Code.USAGE, "what is to be forgotten?", remedy=remedy)
    jobs: list[int] = []
    if request.expired:
        items = expired_items(context, attic)
        days = context.charter.document.journal_days
        if journal is not None and days:
            jobs = journal.over(context.directory.identity, datetime.now(UTC) - timedelta(days=days))
    else:  # what was deleted several times under a name is forgotten with all of them
        keys = [item.entry.dn.key for item in chosen_items(context, attic, request.selection)]
        items = [item for key in keys for item in attic.items(job=request.selection.job, key=key)]
    report, forgotten = report_of(context, attic, "purge", items), ToForget([item.number for item in items], jobs)
    summary = f"{forgotten} to be forgotten." if forgotten else "Nothing to be forgotten."
    return structs.replace(report, summary=[summary]), forgotten
