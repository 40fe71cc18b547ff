"""Which inherited policies reach an object, in what order, from which unit."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.active import policy_links
from vandrel.directory.dn import DN
from vandrel.errors import VandrelError
from vandrel.objects.context import Context


class Policy(Struct, frozen=True):
    """One policy that reaches an object, by its name, and the unit that it is linked to."""

    name: str
    unit: str
    enforced: bool

    def __str__(self) -> str:
        return f"{self.name} (from {self.unit}{', enforced' if self.enforced else ''})"


def reaching(context: Context, unit: DN) -> list[Policy]:
    """The policies that reach what stands in a unit, the one that wins last; none where servers have no such thing."""
    if context.directory.schema.attribute("gPLink") is None:
        return []
    top = [*unit.ancestors()][::-1]
    within = [dn for dn in (*top, unit) if any(dn.is_within(context) for context in context.directory.contexts)]
    levels = []
    for dn in within:
        entry = context.directory.get(dn)
        if entry is not None:
            levels.append((context.place(dn), entry.text("gPLink"), entry.text("gPOptions")))
    return list(_named(context, levels))


def _named(context: Context, levels: list[tuple[str, str, str]]) -> Iterator[Policy]:
    for unit, link in policy_links.in_force(levels):
        try:
            entry = context.directory.get(names.parse(link.policy))
        except VandrelError:
            entry = None
        yield Policy(entry.text("displayName") if entry else f"{link.policy} (gone)", unit, link.enforced)
