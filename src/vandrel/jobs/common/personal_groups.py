"""Groups of one's own, as Unix systems know them: with the logon name and the number of an account, and nobody else."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare, Filter, Or
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.common.new_object import new_object_steps
from vandrel.objects.context import Context
from vandrel.steps.step import Rename, Step
from vandrel.text.string_prep import prepare

#: Accounts whose groups are asked for together.
_AT_ONCE = 100


def unit_of(context: Context) -> DN | None:
    """The unit in which such groups stand; None where accounts have none.

    With the Active Directory schema, a group and an account cannot share their logon name.
    """
    posix = context.charter.document.posix
    if posix is None or not posix.personal_groups or context.directory.capabilities.schema != "standard":
        return None
    return places.to_dn(places.parse(posix.personal_groups), context.charter.base)


def why_no_group(context: Context, login: str) -> Finding | None:
    """What is wrong with a logon name that a group of its own is to have; None for nothing."""
    unit = unit_of(context)
    if unit is None or not login:
        return None
    name = context.dialect.attribute("name", GROUP)
    where = And((context.dialect.filter_for(GROUP), Compare(name, "=", login)))
    other = next(iter(context.directory.search(context.charter.base, where=where, only=[name])), None)
    if other is None:
        return None
    what = f"there is a group {other.dn.name} in {context.place(other.dn.parent)}, so it cannot have one of its own"
    return Finding(Code.TAKEN, what, Location(field="login"), "give another: login=...")


def group_steps(context: Context, account: DN, fields: Mapping[str, Sequence[str]]) -> list[Step]:
    """The steps that make the group of a new account; none where it is to have none."""
    unit, one = unit_of(context), {name: next(iter(values), "") for name, values in fields.items()}
    login, number = one.get("login", ""), one.get("gid-number", "")
    if unit is None or not login or not number or number != one.get("uid-number"):
        return []
    own = {"gid-number": (number,), "members": (str(account),)}
    return new_object_steps(context, GROUP, unit.child("cn", login), own)


def is_own_group(context: Context, group: Entry, account: Entry) -> bool:
    """Whether the one has the name and the number that the group of its own of the other has."""
    if unit_of(context) is None or (context.object_type(group), context.object_type(account)) != (GROUP, ACCOUNT):
        return False
    one, number = context.one, "gid-number"
    return prepare(group.dn.name) == prepare(one(account, "login")) and one(group, number) == one(account, number)


def follow(context: Context, account: Entry, login: str) -> tuple[list[Step], list[Finding]]:
    """The steps that give the group of its own of an account, if it has one, its new logon name; and what to tell."""
    group = groups_of(context, [account]).get(account.dn.key)
    if group is None:
        return [], []
    what = f"its own group {group.dn.name} becomes {login}"
    findings = [Finding(Code.REFUSED, what, Location(field="login"), severity=NOTE), why_no_group(context, login)]
    rename = Rename(group.dn, group.dn.parent.child(group.dn.naming_attribute, login))
    return [rename], [finding for finding in findings if finding is not None]


def groups_of(context: Context, accounts: Iterable[Entry]) -> dict[str, Entry]:
    """The groups of their own that accounts have, by the keys of the accounts' names.

    One that has other members, or is the first group of another account, is nobody's own.
    """
    if unit_of(context) is None:
        return {}
    dialect, base = context.dialect, context.charter.base
    of_accounts, of_groups = (dialect.attribute("gid-number", each) for each in (ACCOUNT, GROUP))
    concerned = [
        (entry, login, number) for entry in accounts
        if context.object_type(entry) == ACCOUNT and (login := context.one(entry, "login"))
        and (number := entry.text(of_accounts))
    ]  # fmt: skip
    own: dict[str, Entry] = {}
    for start in range(0, len(concerned), _AT_ONCE):
        chunk = concerned[start : start + _AT_ONCE]

        def with_number(object_type: str, attribute: str, chunk: Sequence[tuple[Entry, str, str]] = chunk) -> Filter:
            return And((dialect.filter_for(object_type), Or(tuple(Compare(attribute, "=", n) for *_, n in chunk))))

        found = context.directory.search(base, where=with_number(GROUP, of_groups))
        groups = {(prepare(group.dn.name), group.text(of_groups)): group for group in found}
        users = list(context.directory.search(base, where=with_number(ACCOUNT, of_accounts), only=[of_accounts]))
        for entry, login, number in chunk:
            group = groups.get((prepare(login), number))
            others = [user for user in users if user.text(of_accounts) == number and user.dn != entry.dn]
            if group is not None and not others and _has_nobody_else(context, group, entry):
                own[entry.dn.key] = group
    return own


def _has_nobody_else(context: Context, group: Entry, account: Entry) -> bool:
    return {*context.dialect.members(group)} <= {str(account.dn)}
