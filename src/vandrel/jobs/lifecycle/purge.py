"""Forgetting deleted objects for good."""

from __future__ import annotations

from msgspec import Struct, structs

from vandrel.errors import Code, VandrelError
from vandrel.jobs.common.report import Report, count
from vandrel.jobs.lifecycle.attic import AtticSelection, chosen_items, expired_items, report_of
from vandrel.objects.context import Context
from vandrel.record.attic import Attic


class PurgeRequest(Struct, frozen=True):
    """Which objects of the attic are forgotten: those of a selection, or those whose days are over."""

    selection: AtticSelection
    expired: bool = False


def purge(context: Context, attic: Attic, request: PurgeRequest) -> tuple[Report, list[int]]:
    """What is to be forgotten, for people, and its numbers in the attic.

    Raises:
        VandrelError: ``usage`` where nothing is chosen; what choosing raises.

    """
    if not request.expired and request.selection == AtticSelection():
        remedy = "name somebody, or: vandrel purge --expired"
        raise VandrelError(Code.USAGE, "what is to be forgotten?", remedy=remedy)
    if request.expired:
        items = expired_items(context, attic)
    else:  # what was deleted several times under a name is forgotten with all of them
        keys = [item.entry.dn.key for item in chosen_items(context, attic, request.selection)]
        items = [item for key in keys for item in attic.items(job=request.selection.job, key=key)]
    report = report_of(context, attic, "purge", items)
    said = f"{count(len(items), 'object')} to be forgotten." if items else "Nothing to be forgotten."
    return structs.replace(report, summary=[said]), [item.number for item in items]
