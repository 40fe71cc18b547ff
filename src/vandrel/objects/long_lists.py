"""Groups without their lists of members, which may be as long as the directory."""

from __future__ import annotations

from collections.abc import Sequence

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import And, Compare, Filter
from vandrel.fields import GROUP
from vandrel.objects.context import Context


def groups_to_join(context: Context, where: Filter) -> list[Entry]:
    """The groups that a filter finds, for somebody new: of their members, the empty name alone where it is one."""
    dialect, directory, base = context.dialect, context.directory, context.charter.base
    where = And((dialect.filter_for(GROUP), where))
    groups = list(directory.search(base, where=where, only=dialect.attributes_read(GROUP)))
    if any(map(may_list_logins, groups)):
        return list(directory.search(base, where=where))
    if not groups and directory.capabilities.answers:
        return []
    for attribute in dict.fromkeys(map(dialect.member_attribute, groups or [Entry(base, {})])):
        if (nobody := dialect.placeholder(attribute)) is None:
            continue
        is_empty = And((where, Compare(attribute, "=", nobody)))
        empty = {group.dn.key for group in directory.search(base, where=is_empty, only=["cn"])}
        for group in groups:
            if group.dn.key in empty:
                group.attributes[attribute] = [nobody]
    return groups


def with_some_members(
    context: Context, group: Entry, concerned: Sequence[DN], *, leaving: bool, others: int = 0
) -> Entry:  # fmt: skip
    """A group with those of its members that a change concerns, and at most so many others.

    With `leaving`, at least one that stays is among them, if there is any. That is all that `Dialect.member_change`
    needs to know: who is there already, and whether anybody is left.
    """
    attribute = context.dialect.member_attribute(group)
    if not attribute or may_list_logins(group):
        return context.directory.get(group.dn) or group
    nobody = context.dialect.placeholder(attribute)
    names = [*map(str, concerned), *([] if nobody is None else [nobody])]
    others = max(others, 1 if leaving and nobody is not None else 0)
    values: list[Value] = context.directory.some_values(group.dn, attribute, names, others)
    return Entry(group.dn, {**group.attributes, attribute: values})


def may_list_logins(group: Entry) -> bool:
    """Whether a group may list logon names beside names: which of them is whose, only the whole lists tell."""
    return group.has_class("posixGroup")
