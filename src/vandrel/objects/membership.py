"""What memberships amount to: effective ones with their path, circles, power, and the accepted pattern of nesting."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Not, Or
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import ACCOUNT, GROUP
from vandrel.objects.context import Context
from vandrel.objects.delegation import OUT_OF_REACH, reached_by
from vandrel.objects.long_lists import with_some_members
from vandrel.text.string_prep import prepare

#: Which groups a group of a scope may hold, within a domain: [MS-SAMR] 3.1.1.8.8 and 3.1.1.8.9.
_MAY_HOLD = {
    "global": ("global",),
    "domain-local": ("global", "domain-local", "universal"),
    "universal": ("global", "universal"),
}

#: Groups asked about in one search.
_AT_ONCE = 40


class Membership(Struct, frozen=True):
    """A group that an object is a member of, and the groups by which it is, the nearest first; none: directly."""

    group: Entry
    through: tuple[str, ...]


#: People who are named where a group gets power; of more, their number.
_NAMED = 5


def effective(context: Context, entry: Entry) -> Iterator[Membership]:
    """Every group that an object is a member of, directly or through others, the nearest first, each once.

    One search for each level of nesting and forty groups of it, however many groups there are.
    """
    visited = {entry.dn.key}
    level: list[tuple[Entry, tuple[str, ...]]] = [(entry, ())]
    while level:
        following: list[tuple[Entry, tuple[str, ...]]] = []
        for start in range(0, len(level), _AT_ONCE):
            chunk = level[start : start + _AT_ONCE]
            where = Or(tuple(context.dialect.groups_filter(member) for member, _ in chunk))
            # Which of them a group holds, a file answers one by one; over a line, it is told with the group.
            is_told = len(chunk) > 1 and not context.directory.capabilities.embedded
            only = () if is_told else context.dialect.attributes_read(GROUP)
            for group in context.directory.search(context.charter.base, where=where, only=only):
                if group.dn.key in visited:
                    continue
                visited.add(group.dn.key)
                path = _path(context, group, chunk)
                yield Membership(group, path)
                following.append((group, (group.dn.name, *path)))
        level = following


def _path(context: Context, group: Entry, chunk: Sequence[tuple[Entry, tuple[str, ...]]]) -> tuple[str, ...]:
    """By which of these members, and what lies below them, the group was reached."""
    if len(chunk) == 1:
        return chunk[0][1]
    if not (members := context.dialect.members(group)):
        group_entry = with_some_members(context, group, [member.dn for member, _ in chunk], leaving=False)
        members = context.dialect.members(group_entry)
    keys = {context.directory.schema.key("member", name) for name in members}
    return next((path for member, path in chunk if member.dn.key in keys), chunk[0][1])


def privileged_within(context: Context, group: Entry) -> list[tuple[str, str]]:
    """The privileged groups of the charter that membership in a group amounts to, each with its reach."""
    privileged = {prepare(name): (name, reach) for name, reach in context.charter.power.items()}
    if not privileged:
        return []
    names = [group.dn.name, *(membership.group.dn.name for membership in effective(context, group))]
    return [privileged[key] for name in names if (key := prepare(name)) in privileged]


def privileged_by(context: Context, groups: Sequence[Entry]) -> dict[str, list[tuple[str, str]]]:
    """What `privileged_within` says of each of these groups, by the key of its name.

    That none of them is in another group, as it mostly is, one search for all of them shows.
    """
    if len(groups) > 1:
        where = Or(tuple(context.dialect.groups_filter(group) for group in groups))
        if next(context.directory.search(context.charter.base, where=where, only=["cn"]), None) is None:
            power = {prepare(name): (name, reach) for name, reach in context.charter.power.items()}
            return {group.dn.key: [power[key]] if (key := prepare(group.dn.name)) in power else [] for group in groups}
    return {group.dn.key: privileged_within(context, group) for group in groups}


def members_by_primary(context: Context, group: Entry) -> list[Entry]:
    """The names of those who are members because a group is their primary one, and so stand in no list."""
    return with_primary(context, group) if context.dialect.primary_joins else []


def with_primary(context: Context, group: Entry) -> list[Entry]:
    """The names of those that have a group as their primary one."""
    if (has := context.dialect.primary_members(group)) is None:
        return []
    where = And((Not(context.dialect.filter_for(GROUP)), has))
    return list(context.directory.search(context.charter.base, where=where, only=["cn"]))


def effective_members(context: Context, group: Entry) -> dict[str, tuple[str, ...]]:
    """The keys of all members of a group, each with the groups in it through which it is one, the outermost first."""
    groups = {e.dn.key: e.dn for e in context.directory.search(
        context.charter.base, where=context.dialect.filter_for(GROUP), only=["objectClass"]
    )}  # fmt: skip
    members: dict[str, tuple[str, ...]] = {}
    level: list[tuple[Entry, tuple[str, ...]]] = [(group, ())]
    while level:
        following = []
        for each, path in level:
            others = members_by_primary(context, each)
            listed = (names.parse(str(member)).key for member in context.dialect.members(each))
            for key in (*listed, *(entry.dn.key for entry in others)):
                if key in members or key == group.dn.key:
                    continue
                members[key] = path
                if key in groups and (inner := context.directory.get(groups[key])) is not None:
                    following.append((inner, (*path, inner.dn.name)))
        level = following
    return members


def joining(context: Context, group: Entry, member: Entry) -> Iterator[Finding]:
    """What speaks against, or must be known before, an object joins a group."""
    where = Location(dn=str(group.dn))
    if context.dialect.object_type_of(member) == GROUP:
        yield from _circle(context, group, member)
    called = context.label(member)
    for name, reach in privileged_within(context, group):
        through = "" if prepare(name) == prepare(group.dn.name) else f", through {group.dn.name}"
        what = f"{name} carries power: {reach}; {called} gets it{through}{_people_of(context, member)}"
        remedy = ""
        is_account = context.dialect.object_type_of(member) == ACCOUNT
        if is_account and (teams := reached_by(context, member.dn, member)):
            what += f"; who can log on as {called} gets it too: {teams}"
            remedy = OUT_OF_REACH if context.dialect.can_shield else ""
        yield Finding(Code.REFUSED, what, where, remedy, NOTE)
    yield from _pattern(context, group, member)


def _people_of(context: Context, member: Entry) -> str:
    """The accounts that get what a group gets, directly or through groups in it; nothing for an account."""
    if context.dialect.object_type_of(member) != GROUP:
        return ""
    people = people_in(context, member)
    return f", and with it {people}" if people else ", and nobody is in it yet"


def people_in(context: Context, group: Entry) -> str:
    """The accounts in a group, directly or through groups in it: the first by name, and how many more; or nothing."""
    keys = effective_members(context, group)
    accounts = context.directory.search(context.charter.base, where=context.dialect.filter_for(ACCOUNT))
    people = sorted(context.label(entry) for entry in accounts if entry.dn.key in keys)
    more = f" and {len(people) - _NAMED} more" if len(people) > _NAMED else ""
    return f"{', '.join(people[:_NAMED])}{more}"


def conversion(context: Context, group: Entry, field: str, before: str, after: str) -> Iterator[Finding]:
    """What speaks against another purpose or scope of a group: [MS-SAMR] 3.1.1.8.8, and what it is in and holds."""
    where = Location(dn=str(group.dn))
    if field == "purpose":
        if after == "distribution":
            what = "rights that it was given stop to count: a distribution group carries none"
        else:
            what = "from now on its members have whatever rights it is given"
        yield Finding(Code.REFUSED, what, where, severity=NOTE)
        return
    if {before, after} == {"global", "domain-local"}:
        what = f"a {before} group becomes {after} only by way of universal"
        yield Finding(Code.REFUSED, what, where, f"first scope=universal, then scope={after}")
        return
    above = context.directory.search(context.charter.base, where=context.dialect.groups_filter(group))
    pairs = [(context.one(outer, "scope"), after, outer, "it is in") for outer in above]
    below = (context.directory.get(names.parse(name)) for name in context.dialect.members(group))
    pairs += [
        (after, context.one(e, "scope"), e, "it holds")
        for e in below
        if e and context.dialect.object_type_of(e) == GROUP
    ]
    for outer_scope, inner_scope, other, reason in pairs:
        if outer_scope and inner_scope and inner_scope not in _MAY_HOLD[outer_scope]:
            what = f"it cannot become {after}: {reason} {context.one(other, 'scope')} {other.dn.name}"
            yield Finding(Code.REFUSED, what, where, f"take the one out of the other first, or change {other.dn.name}")


def convertible(context: Context, group: Entry) -> list[tuple[str, str]]:
    """The other scopes, each with what speaks against it, or an empty string."""
    now = context.one(group, "scope")
    return [
        (scope, next((finding.what for finding in conversion(context, group, "scope", now, scope)), ""))
        for scope in _MAY_HOLD
        if scope != now
    ]


def _circle(context: Context, group: Entry, member: Entry) -> Iterator[Finding]:
    if group.dn == member.dn:
        yield Finding(Code.REFUSED, "a group cannot be a member of itself", Location(dn=str(group.dn)))
        return
    for membership in effective(context, group):
        if membership.group.dn == member.dn:
            chain = [group.dn.name, *reversed(membership.through), member.dn.name]
            what = f"this would make a circle: {' is in '.join(chain)}"
            yield Finding(Code.REFUSED, what, Location(dn=str(group.dn)), f"take {chain[0]} out of {chain[1]} first")


def _pattern(context: Context, group: Entry, member: Entry) -> Iterator[Finding]:
    """People in global groups, those in domain-local ones, rights on domain-local ones: what differs is told."""
    inner, outer = (context.one(entry, "scope") for entry in (member, group))
    if context.directory.capabilities.schema == "ad" and inner and outer and inner not in _MAY_HOLD[outer]:
        what = f"{outer} {group.dn.name} cannot hold the {inner} group {member.dn.name}"
        yield Finding(
            Code.REFUSED, what, Location(dn=str(group.dn)), "turn it round, or change the scope of one of the two"
        )
        return
    if context.one(group, "purpose") == "distribution":
        return
    if outer == "domain-local" and context.dialect.object_type_of(member) == ACCOUNT:
        what = (
            f"{member.dn.name} would be in a domain-local group directly: people belong in global ones, and those here"
        )
        yield Finding(Code.REFUSED, what, Location(dn=str(group.dn)), severity=NOTE)
    if outer == "global" and inner in ("domain-local", "universal"):
        what = f"{inner} {member.dn.name} would be in a global group; it goes the other way round"
        yield Finding(Code.REFUSED, what, Location(dn=str(group.dn)), severity=NOTE)
