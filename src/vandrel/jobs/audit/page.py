"""An audit as a page that people read and pass on: what was found, what changed, and figures."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from itertools import groupby

from msgspec import Struct

from vandrel.jobs.audit.audit import Audit, FoundFault
from vandrel.jobs.audit.statistics import STATISTICS, Statistic, statistic


class PageRow(Struct, frozen=True):
    """One fault, as people read it."""

    label: str
    place: str
    what: str
    remedy: str
    since: str
    new: bool


class PageRule(Struct, frozen=True):
    """One rule, and what breaks it."""

    name: str
    weight: str
    about: str
    why: str
    rows: Sequence[PageRow]


class AuditPage(Struct, frozen=True):
    """The page.

    Attributes:
        title: its heading.
        written: when and from what it was made.
        content: how much was found.
        changes: what is new and what is gone; empty the first time.
        rules: the rules that something breaks.
        figures: the figures of the directory.

    """

    title: str
    written: str
    content: str
    changes: str
    rules: Sequence[PageRule]
    figures: Sequence[Statistic]


def page_of(result: Audit) -> AuditPage:
    """What a page says of an audit."""
    survey, charter = result.survey, result.survey.context.charter
    now = datetime.now(charter.zone)
    looked_at = f"{len(survey.accounts):,} accounts, {len(survey.groups):,} groups and {len(survey.units):,} units"
    faults = [each.fault for each in result.faults]
    rules = [
        PageRule(rule.name, str(rule.weight), rule.about[:1].upper() + rule.about[1:], rule.why,
                 [_row(result, each) for each in faults_of_rule])
        for rule, faults_of_rule in groupby(result.faults, key=lambda each: each.rule)
    ]  # fmt: skip
    return AuditPage(
        f"Audit of {charter.document.organization}",
        f"Made on {now:%Y-%m-%d at %H:%M} ({charter.document.time_zone}) from {looked_at} that could be seen, "
        f"below {charter.base}.",
        result.summary, result.changes, rules, [statistic(survey, name, faults) for name in STATISTICS],
    )  # fmt: skip


def _row(result: Audit, each: FoundFault) -> PageRow:
    context, entry = result.survey.context, each.fault.entry
    is_new = each.is_new and not result.is_first
    label, place = context.label(entry), context.place(entry.dn.parent)
    return PageRow(label, place, each.fault.what, each.fault.remedy, each.since, is_new)
