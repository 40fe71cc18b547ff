"""Delegated tasks that reach people who hold power: whoever may reset their passwords can act as they do."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import ACCOUNT, GROUP
from vandrel.objects.context import Context
from vandrel.objects.delegation import OUT_OF_REACH, TAKES_OVER
from vandrel.objects.membership import effective_members

_ELSEWHERE = "let those accounts stand where nobody resets passwords: vandrel move NAME --to PLACE"
#: People who are named; of more, their number.
_NAMED = 5


def holders_of_power(context: Context) -> dict[str, str]:
    """Who holds power, by the key of the name, each with the privileged group; directly or through others."""
    powers: dict[str, str] = {}
    for name in context.charter.power:
        where = And((context.dialect.filter_for(GROUP), Compare(context.dialect.attribute("name", GROUP), "=", name)))
        for group in context.directory.search(context.charter.base, where=where):
            for key in effective_members(context, group):
                powers.setdefault(key, group.dn.name)
    return powers


def powerful_within(context: Context, unit: DN, powers: Mapping[str, str]) -> list[tuple[Entry, str]]:
    """The accounts in a unit and below that hold power, each with the privileged group, by name.

    `powers` is what `holders_of_power` tells.
    """
    if not powers:
        return []
    accounts = context.directory.search(unit, where=context.dialect.filter_for(ACCOUNT))
    return sorted(
        ((entry, powers[entry.dn.key]) for entry in accounts if entry.dn.key in powers), key=lambda pair: pair[0].dn.key
    )


def reach_of_tasks(context: Context, unit: DN, words: Iterable[str]) -> Iterator[Finding]:
    """A note of each delegated task (``team: task``) on a unit that reaches people who hold power, with their names."""
    taking = [word for word in words if word.rpartition(": ")[2] in TAKES_OVER]
    powerful = powerful_within(context, unit, holders_of_power(context)) if taking else []
    for word in taking:
        team, _, task = word.rpartition(": ")
        reached = [pair for pair in powerful if word not in context.dialect.shielded_from(pair[0])]
        if not reached:
            continue
        few = ", ".join(f"{context.label(entry)} ({power})" for entry, power in reached[:_NAMED])
        more = f" and {len(reached) - _NAMED} more" if len(reached) > _NAMED else ""
        what = f"with {task}, {team} can log on as {few}{more}, and so has their power"
        remedy = OUT_OF_REACH if context.dialect.can_shield else _ELSEWHERE
        yield Finding(Code.REFUSED, what, Location(place=context.place(unit)), remedy, NOTE)
