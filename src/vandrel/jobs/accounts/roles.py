"""Administrative roles: named sets of groups. Whoever is in all groups of a role holds it; nobody does by default."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.common.report import Report
from vandrel.objects.context import Context
from vandrel.text.nearest import did_you_mean


def holders_of(context: Context, role: str) -> Iterator[Entry]:
    """The accounts that hold a role: members of each of its groups, directly."""
    dialect, base, key = context.dialect, context.charter.base, context.directory.schema.key
    lists: list[set[object]] = []
    for name in context.charter.document.roles[role].groups:
        where = And((dialect.filter_for(GROUP), Compare(dialect.attribute("name", GROUP), "=", name)))
        group = next(context.directory.search(base, where=where), None)
        lists.append({key("member", member) for member in dialect.members(group)} if group is not None else set())
    if not all(lists):
        return
    for entry in context.directory.search(base, where=dialect.filter_for(ACCOUNT)):
        if all(key("member", str(entry.dn)) in keys for keys in lists):
            yield entry


class RolesRequest(Struct, frozen=True):
    """Which roles to list; none named: all."""

    roles: Sequence[str] = ()


def list_roles(context: Context, request: RolesRequest) -> Report:
    """List the administrative roles of the charter, and who holds which.

    Raises:
        VandrelError: ``not-found`` for a role that the charter does not have.

    """
    known = context.charter.document.roles
    for name in request.roles:
        if name not in known:
            remedy = did_you_mean(name, known) or f"there are: {', '.join(known) or 'none'}"
            what = f"the charter has no role {name!r}"
            raise VandrelError(Code.NOT_FOUND, what, where=Location(text=name), remedy=remedy)
    rows = [
        (name, [context.label(entry) for entry in holders_of(context, name)] or ["nobody"], known[name].groups,
         known[name].about)
        for name in request.roles or known
    ]  # fmt: skip
    empty = [] if known else ["The charter has no roles: write some under the key roles."]
    return Report("roles", ("role", "held by", "groups", "about"), rows, summary=empty)
