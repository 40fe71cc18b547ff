"""Administrative roles: named sets of groups. Whoever is in all groups of a role, directly or not, holds it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.common.report import Report
from vandrel.objects.context import Context
from vandrel.objects.membership import effective_members
from vandrel.text.nearest import did_you_mean


class Holder(Struct, frozen=True):
    """An account that holds a role, and the groups through which it does; none where it is in each group directly."""

    entry: Entry
    through: tuple[str, ...] = ()


def holders_of(context: Context, role: str) -> Iterator[Holder]:
    """The accounts that hold a role: members of each of its groups, directly or through other groups."""
    dialect, base = context.dialect, context.charter.base
    of_groups = []
    for name in context.charter.document.roles[role].groups:
        where = And((dialect.filter_for(GROUP), Compare(dialect.attribute("name", GROUP), "=", name)))
        group = next(context.directory.search(base, where=where), None)
        of_groups.append(effective_members(context, group) if group is not None else {})
    if not all(of_groups):
        return
    for entry in context.directory.search(base, where=dialect.filter_for(ACCOUNT)):
        if all(entry.dn.key in members for members in of_groups):
            paths = (members[entry.dn.key] for members in of_groups)
            yield Holder(entry, tuple(dict.fromkeys(name for path in paths for name in path)))


def _sentences(context: Context, holder: Holder) -> str:
    label = context.label(holder.entry)
    return f"{label} through {' in '.join(reversed(holder.through))}" if holder.through else label


class RolesRequest(Struct, frozen=True):
    """Which roles to list; none named: all."""

    roles: Sequence[str] = ()


def list_roles(context: Context, request: RolesRequest) -> Report:
    """List the administrative roles of the charter, and who holds which.

    Raises:
        VandrelError: ``not-found`` for a role that the charter does not have.

    """
    roles = context.charter.document.roles
    for name in request.roles:
        if name not in roles:
            remedy = did_you_mean(name, roles) or f"there are: {', '.join(roles) or 'none'}"
            what = f"the charter has no role {name!r}"
            raise VandrelError(Code.NOT_FOUND, what, where=Location(text=name), remedy=remedy)
    rows = [
        (name, roles[name].groups, roles[name].about,
         [_sentences(context, holder) for holder in holders_of(context, name)] or ["nobody"])
        for name in request.roles or roles
    ]  # fmt: skip
    empty = [] if roles else ["The charter has no roles: write some under the key roles."]
    return Report("roles", ("role", "groups", "about", "held by"), rows, summary=empty)
