"""What the charter delegates to teams on units, beside what the directory has in force."""

from __future__ import annotations

from collections.abc import Iterator

from vandrel.charter.hierarchy import DesignedUnit
from vandrel.directory import place as places
from vandrel.directory.entry import Entry
from vandrel.errors import Code, Finding, Location
from vandrel.fields import ACCOUNT, GROUP, UNIT
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.proposal import FieldChange, Proposal
from vandrel.jobs.common.report import Report
from vandrel.objects.context import Context
from vandrel.objects.delegation import OUT_OF_REACH, TAKES_OVER, on_unit
from vandrel.objects.power_reach import holders_of_power
from vandrel.steps.step import Set
from vandrel.text.string_prep import prepare


def missing(context: Context) -> list[Edit]:
    """Edits that put in force what the charter delegates; for directories that keep it."""
    editor, edits = Editor(context), []
    present = {
        prepare(e.dn.name)
        for e in context.directory.search(context.charter.base, where=context.dialect.filter_for(GROUP))
    }
    for unit in context.charter.design:
        if not unit.delegation:
            continue
        entry = context.directory.get(places.to_dn(unit.place, context.charter.base))
        where = places.to_text(unit.place)
        if entry is None:
            edits.append(_faulty(context, unit, f"there is no unit {where} yet"))
            continue
        lacking = [item for item in on_unit(context, entry) if not item.in_force]
        if unknown := [item.team for item in lacking if prepare(item.team) not in present]:
            edits.append(_faulty(context, unit, f"there is no group {unknown[0]} yet, to which {where} is delegated"))
        elif lacking:
            words = tuple(f"{item.team}:{item.task}" for item in lacking)
            edits.append(editor.edit(entry, [Assignment("delegation", "+=", words)]))
    return edits


def _faulty(context: Context, unit: DesignedUnit, what: str) -> Edit:
    dn = places.to_dn(unit.place, context.charter.base)
    finding = Finding(
        Code.NO_PARENT,
        what,
        Location(place=places.to_text(unit.place)),
        "vandrel hierarchy build makes what is missing",
    )
    return Edit(Entry(dn, {}), UNIT, findings=[finding])


def _shields(context: Context) -> Iterator[Edit]:
    """Keep those who hold power from the tasks of teams that would let these log on as them, and nobody else."""
    powers, taking = holders_of_power(context), dict[str, set[str]]()
    for unit in context.charter.design:
        dn = places.to_dn(unit.place, context.charter.base)
        if (entry := context.directory.get(dn)) is not None:
            tasks = {f"{item.team}: {item.task}" for item in on_unit(context, entry) if item.task in TAKES_OVER}
            taking[dn.key] = tasks
    for account in context.directory.search(context.charter.base, where=context.dialect.filter_for(ACCOUNT)):
        now, needed = set(context.dialect.shielded_from(account)), set[str]()
        if account.dn.key in powers:
            needed.update(*(taking.get(above.key, ()) for above in account.dn.ancestors()))
        if now != needed:
            changes = context.dialect.shield(sorted(needed - now), sorted(now - needed))
            change = FieldChange("out of reach of", tuple(sorted(now)), tuple(sorted(needed)))
            yield Edit(account, ACCOUNT, [change], [Set(account.dn, tuple(changes))])


def delegate(context: Context) -> Proposal | Report:
    """Propose to put in force what the charter delegates; where nothing enforces it, say so."""
    if why := context.dialect.why_not_kept("delegation", UNIT):
        reason = "a file knows no identities" if context.directory.capabilities.embedded else why
        lines = [
            f"The charter records what is delegated; here nothing enforces it: {reason}.",
            "For slapd: vandrel hierarchy delegate --rules prints access rules to load.",
        ]
        return Report("hierarchy delegate", summary=lines)
    edits = missing(context)
    shields = list(_shields(context)) if context.dialect.can_shield else []
    if shields:  # who is named in these notes is taken out of reach with the same yes
        for edit in edits:
            edit.findings = [finding for finding in edit.findings if finding.remedy != OUT_OF_REACH]
    edits += shields
    if not edits:
        return Report("hierarchy delegate", summary=["Everything that the charter delegates is in force."])
    return propose(context, edits, (), "delegate")
