"""Roles as the groups that make them up."""

from __future__ import annotations

from vandrel.directory.entry import Entry
from vandrel.errors import Code, Location, VandrelError
from vandrel.jobs.common.assignments import Assignment
from vandrel.objects.context import Context
from vandrel.objects.view import roles_held
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare


def role_groups(context: Context, entry: Entry, assignment: Assignment) -> list[Assignment]:
    """What an assignment to the roles of an account means for its groups.

    A group that another role needs, which stays, is not left.

    Raises:
        VandrelError: ``not-found`` for a role that the charter does not have.

    """
    roles = context.charter.document.roles
    for name in assignment.values:
        if name not in roles:
            remedy = did_you_mean(name, roles) or "the charter's roles: vandrel roles"
            raise VandrelError(
                Code.NOT_FOUND, f"there is no role {name!r}", where=Location(field="roles"), remedy=remedy
            )
    now = roles_held(roles, (group.dn.name for group in context.groups_of(entry)))
    values = list(assignment.values)
    if assignment.operator == "+=":
        then = [*now, *values]
    else:
        then = [name for name in now if name not in values] if assignment.operator == "-=" else values
    needed = list(dict.fromkeys(group for name in then for group in roles[name].groups))
    needed_keys = set(map(prepare, needed))
    leave = [g for name in now if name not in then for g in roles[name].groups if prepare(g) not in needed_keys]
    changes = [Assignment("groups", "+=", tuple(needed))] if needed else []
    return changes + ([Assignment("groups", "-=", tuple(dict.fromkeys(leave)))] if leave else [])
