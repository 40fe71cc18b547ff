"""What the charter delegates to teams on units, beside what the directory has in force."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from vandrel.charter.hierarchy import DesignedUnit
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.errors import Code, Finding, Location
from vandrel.fields import GROUP, UNIT
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.proposal import Proposal
from vandrel.jobs.common.report import Report
from vandrel.objects.context import Context
from vandrel.text.string_prep import prepare


class Delegation(Struct, frozen=True):
    """One task of one team on a unit: by the charter, in force, or both."""

    place: str
    team: str
    task: str
    designed: bool
    in_force: bool


def on_unit(context: Context, entry: Entry) -> list[Delegation]:
    """What is delegated on one unit itself, by the charter or in force; not what is handed down from above."""
    place = context.place(entry.dn)
    unit = context.charter.designed(places.parse(place)) if place.startswith("/") else None
    designed = dict.fromkeys(_said(unit)) if unit is not None else {}
    in_force = dict.fromkeys(context.dialect.read(entry, "delegation"))
    return [
        Delegation(place, team, task, said in designed, said in in_force)
        for said in dict.fromkeys([*designed, *in_force])
        for team, _, task in [said.rpartition(": ")]
    ]


def reaching(context: Context, unit: DN) -> list[str]:
    """Who may do what in a unit, with the unit that it comes from, the nearest first."""
    found = []
    for dn in (unit, *unit.ancestors()):
        if dn.is_within(context.charter.base) and (entry := context.directory.get(dn)) is not None:
            found += [f"{item.team}: {item.task} (from {item.place})" for item in on_unit(context, entry)]
    return found


def delegation_rows(context: Context, entry: Entry) -> list[tuple[str, str, str]]:
    """Team, tasks, and how the charter and the directory differ about them, on one unit; empty where they agree."""
    is_kept = not context.dialect.why_not_kept("delegation", UNIT)
    tasks: dict[tuple[str, str], list[str]] = {}
    for item in on_unit(context, entry):
        state = "" if item.designed and item.in_force else "not in the charter"
        if not item.in_force:
            state = "not in force yet" if is_kept else "by the charter"
        tasks.setdefault((item.team, state), []).append(item.task)
    return [(team, ", ".join(words), state) for (team, state), words in tasks.items()]


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


def _said(unit: DesignedUnit) -> Iterator[str]:
    yield from (f"{team}: {task}" for team, task in unit.delegation)


def delegate(context: Context) -> Proposal | Report:
    """Propose to put in force what the charter delegates; where nothing enforces it, say so."""
    if why := context.dialect.why_not_kept("delegation", UNIT):
        said = "a file knows no identities" if context.directory.capabilities.embedded else why
        lines = [
            f"The charter records what is delegated; here nothing enforces it: {said}.",
            "For slapd: vandrel hierarchy delegate --rules prints access rules to load.",
        ]
        return Report("hierarchy delegate", summary=lines)
    edits = missing(context)
    if not edits:
        return Report("hierarchy delegate", summary=["Everything that the charter delegates is in force."])
    return propose(context, edits, (), "delegate")
