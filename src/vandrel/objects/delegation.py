"""What the charter delegates to teams on a unit, beside what the directory has in force there."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from vandrel.charter.hierarchy import DesignedUnit
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.fields import UNIT
from vandrel.objects.context import Context

#: Tasks by which somebody can log on as somebody else.
TAKES_OVER = ("reset-passwords", "create-accounts")
#: What to do about that where the server can.
OUT_OF_REACH = "then take the account out of their reach: vandrel hierarchy delegate"


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
    designed = dict.fromkeys(_sentence(unit)) if unit is not None else {}
    in_force = dict.fromkeys(context.dialect.read(entry, "delegation"))
    return [
        Delegation(place, team, task, delegated in designed, delegated in in_force)
        for delegated in dict.fromkeys([*designed, *in_force])
        for team, _, task in [delegated.rpartition(": ")]
    ]


def reaching(context: Context, unit: DN) -> list[str]:
    """Who may do what in a unit, with the unit that it comes from, the nearest first."""
    delegations = []
    for dn in (unit, *unit.ancestors()):
        if dn.is_within(context.charter.base) and (entry := context.directory.get(dn)) is not None:
            delegations += [f"{item.team}: {item.task} (from {item.place})" for item in on_unit(context, entry)]
    return delegations


def reached_by(context: Context, account: DN, entry: Entry | None = None) -> str:
    """Who can log on as an account by a delegated task, in words, the nearest unit first; empty where nobody can.

    `entry` is the account, where it exists: single accounts may be kept from a team.
    """
    kept_from = context.dialect.shielded_from(entry) if entry is not None else ()
    teams = []
    for dn in account.ancestors():
        if dn.is_within(context.charter.base) and (unit := context.directory.get(dn)) is not None:
            teams += [
                f"{item.team} ({item.task} in {item.place})" for item in on_unit(context, unit)
                if item.task in TAKES_OVER and f"{item.team}: {item.task}" not in kept_from
            ]  # fmt: skip
    return ", ".join(teams)


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


def inherited_rows(context: Context, entry: Entry) -> Iterator[tuple[str, str, str]]:
    """The same of the units above, each with the unit that it comes from, the nearest first."""
    for dn in entry.dn.ancestors():
        above = context.directory.get(dn) if dn.is_within(context.charter.base) else None
        for team, tasks, state in delegation_rows(context, above) if above is not None else ():
            yield team, tasks, f"from {context.place(dn)}{f', {state}' if state else ''}"


def _sentence(unit: DesignedUnit) -> Iterator[str]:
    yield from (f"{team}: {task}" for team, task in unit.delegation)
