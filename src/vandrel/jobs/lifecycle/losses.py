"""What goes with an object that is deleted: its members, power, and the rules of the charter that still name it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence

from vandrel.directory.entry import Entry
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.common.report import count
from vandrel.objects.context import Context
from vandrel.objects.membership import effective, people_in, privileged_within
from vandrel.objects.namesakes import Namesakes
from vandrel.text.string_prep import prepare

#: Objects that are looked at one by one; members that are named.
_FEW, _NAMED = 20, 5


def what_goes_along(context: Context, entries: Sequence[Entry]) -> tuple[list[Finding], list[str]]:
    """What must be known before objects are deleted.

    Args:
        context: the charter and the directory.
        entries: the objects; of very many, only the first groups and accounts are looked into.

    Returns:
        Notes, and the names of those groups that carry power.

    """
    notes: list[Finding] = []
    privileged: list[str] = []
    for group in [entry for entry in entries if context.object_type(entry) == GROUP][:_FEW]:
        where = Location(dn=str(group.dn))
        notes += _members(context, group, where)
        for name, reach in privileged_within(context, group):
            privileged.append(group.dn.name)
            through = "" if prepare(name) == prepare(group.dn.name) else f", through {name}"
            what = f"it carries power{through}: {reach}; who loses it: {people_in(context, group) or 'nobody is in it'}"
            notes.append(Finding(Code.REFUSED, what, where, severity=NOTE))
        if rules := list(rules_that_name(context, group.dn.name)):
            what = f"the charter still names it: {', '.join(rules)}"
            notes.append(Finding(Code.CHARTER, what, where, "take it out of the charter as well", NOTE))
    for account in [entry for entry in entries if context.object_type(entry) == ACCOUNT][:_FEW]:
        notes += _power_of(context, account)
    return notes, list(dict.fromkeys(privileged))


def _members(context: Context, group: Entry, where: Location) -> Iterator[Finding]:
    members = [member for member in context.dialect.members(group) if member]
    if members:
        few = ", ".join(Namesakes(context).shown(members[:_NAMED]))
        more = f" and {len(members) - _NAMED} more" if len(members) > _NAMED else ""
        what = f"{count(len(members), 'member')} lose{'s' if len(members) == 1 else ''} it: {few}{more}"
        yield Finding(Code.REFUSED, what, where, severity=NOTE)


def _power_of(context: Context, account: Entry) -> Iterator[Finding]:
    power = {prepare(name): reach for name, reach in context.charter.power.items()}
    groups = (
        {m.group.dn.name for m in effective(context, account) if prepare(m.group.dn.name) in power} if power else ()
    )
    for name in sorted(groups):
        what = f"it holds the power of {name}: {power[prepare(name)]}"
        yield Finding(Code.REFUSED, what, Location(dn=str(account.dn)), severity=NOTE)


def rules_that_name(context: Context, group: str) -> Iterator[str]:
    """The rules of the charter in which a group stands, in words; patterns count where they may give its name."""
    document, key = context.charter.document, prepare(group)
    for name, kind in document.kinds.items():
        if any(_gives(pattern, key, document.lists) for pattern in kind.groups):
            yield f"kind {name}"
    for name, role in document.roles.items():
        if key in map(prepare, role.groups):
            yield f"role {name}"
    if key in map(prepare, document.privileged):
        yield "privileged"
    for unit in context.charter.design:
        if key in {prepare(team) for team, _ in unit.delegation}:
            yield f"delegation of /{'/'.join(unit.place)}"


def _gives(pattern: str, key: str, lists: Mapping[str, Sequence[str]]) -> bool:
    """Whether a pattern of the charter may give this name.

    A field in braces may be any word of the charter's list of that name, or anything where there is none.
    """

    def any_of(braces: str) -> str:
        words = lists.get(braces.strip("{}").split()[0] if braces.strip("{} ") else "", ())
        return f"(?:{'|'.join(re.escape(prepare(word)) for word in words)})" if words else ".+"

    parts = re.split(r"(\{[^}]*\})", pattern)
    form = "".join(any_of(part) if part.startswith("{") else re.escape(prepare(part)) for part in parts)
    return re.fullmatch(form, key) is not None
