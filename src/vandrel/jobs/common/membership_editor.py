"""Memberships that an edit changes, from the member's side and from the group's."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import partial
from typing import TYPE_CHECKING

from msgspec import structs

from vandrel.directory import dn as names
from vandrel.directory.applied import applied
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import GROUP
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.proposal import FieldChange
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context
from vandrel.objects.groups_of_many import WholeGroups
from vandrel.objects.long_lists import with_some_members
from vandrel.objects.membership import joining
from vandrel.objects.namesakes import Namesakes
from vandrel.objects.view import roles_held
from vandrel.steps.step import Set

if TYPE_CHECKING:
    from vandrel.jobs.common.edit import Edit


#: Members of a group that are listed before and after a change; of more, those who come and go. A server would have to
#: send a list that is known to be longer.
_IN_FULL, _IN_FULL_OF_SERVER = 1000, 50


class MembershipEditor:
    """Works out the memberships of the edits of one request.

    Attributes:
        whole: the groups of the objects.

    """

    def __init__(self, context: Context, namesakes: Namesakes, *, of_many: bool, of_one: bool) -> None:
        """Begin; what earlier edits do to a group counts for later ones, if there are any: `of_one` says no."""
        self._namesakes, self._of_many, self._of_one = namesakes, of_many, of_one
        self.whole = WholeGroups(context)
        self._context = context
        #: Groups with those of their members that the one edit concerns.
        self._partly: dict[str, Entry] = {}
        #: Groups as the edits so far leave them.
        self._groups_so_far: dict[str, Entry] = {}

    def left_by(self, entry: Entry) -> list[Entry]:
        """The groups that an object can leave: all in whose list it stands, and so not its primary one."""
        groups = [self._group_entry(group, [entry.dn], leaving=True) for group in self._context.groups_of(entry)]
        return [group for group in groups if self._context.dialect.member_change(group, [], [entry.dn])]

    def _group_entry(self, group: Entry, concerned: Sequence[DN], *, leaving: bool) -> Entry:
        """A group as far as a change of these memberships must know it: whole, where others may follow."""
        if not self._of_one:
            return self.whole.get(group.dn) or group
        if group.dn.key not in self._partly:
            self._partly[group.dn.key] = with_some_members(self._context, group, concerned, leaving=leaving)
        return self._partly[group.dn.key]

    def of_member(self, edit: Edit, assignments: Sequence[Assignment]) -> None:
        """Memberships from the member's side: all assignments together, one after the other."""
        dn = edit.entry.dn
        now = {group.dn.key: group for group in self._context.groups_of(edit.entry)}
        then = dict(now)
        for assignment in assignments:
            typed = {g.dn.key: g for g in (self._group(name, assignment) for name in assignment.values)}
            if assignment.operator == "-=":
                then = {key: group for key, group in then.items() if key not in typed}
            else:
                then = (then if assignment.operator == "+=" else {}) | typed
        new = [(group, edit.entry) for key, group in then.items() if key not in now]
        if self._of_one:
            self._context.ask_ahead(partial(_ask_of_joining, new), len(new))
        join = [group for group, _ in self._joining(edit, new)]
        then = {key: group for key, group in then.items() if key in now or group in join}
        leave = [group for key, group in now.items() if key not in then]
        edit.is_apart = edit.is_apart or len(join) + len(leave) > 1
        for group in join:
            self._membership(edit, group, [dn], [])
        for group in leave:
            if not self._membership(edit, group, [], [dn]):
                what = f"{group.dn.name} is the primary group of {dn.name}, and cannot be left"
                remedy = "set another one first: primary=..."
                edit.findings.append(Finding(Code.REFUSED, what, Location(field="groups"), remedy))
        if join or leave:
            lists = ([str(group.dn) for group in groups.values()] for groups in (now, then))
            edit.differences.append(FieldChange("groups", *self._namesakes.around(*lists, of_many=self._of_many)))
            self._roles(edit, now.values(), then.values())

    def _group(self, name: str, assignment: Assignment) -> Entry:
        only = self._context.dialect.attributes_read(GROUP)
        if not assignment.literal:
            return resolve(self._context, name, (GROUP,), only)
        dn = names.parse(name)
        entry = self._partly.get(dn.key) if self._of_one else self.whole.get(dn)
        return entry if entry is not None else resolve(self._context, name, (GROUP,), only)

    def _membership(self, edit: Edit, group: Entry, come: Sequence[DN], go: Sequence[DN]) -> bool:
        """Add the step by which these come into a group or leave it; return whether there is one."""
        if group.dn.key in self._groups_so_far:
            group = self._groups_so_far[group.dn.key]
        else:
            group = self._group_entry(group, [*come, *go], leaving=bool(go))
        changes = self._context.dialect.member_change(group, come, go)
        if changes:
            edit.steps.append(Set(group.dn, tuple(changes)))
            self._groups_so_far[group.dn.key] = applied(group, changes)
        return bool(changes)

    def _roles(self, edit: Edit, now: Iterable[Entry], then: Iterable[Entry]) -> None:
        """Say which roles come and go with the groups."""
        roles = self._context.charter.document.roles
        if roles:
            before, after = (roles_held(roles, (group.dn.name for group in groups)) for groups in (now, then))
            if before != after:
                edit.differences.append(FieldChange("roles", tuple(before), tuple(after)))

    def _joining(self, edit: Edit, pairs: Sequence[tuple[Entry, Entry]]) -> list[tuple[Entry, Entry]]:
        """The (group, member) pairs that no rule is against. Of several, one that is refused does not stop the rest."""
        passed = []
        for group, member in pairs:
            findings = list(joining(self._context, group, member))
            stops = any(finding.is_fatal for finding in findings)
            if stops and len(pairs) > 1:
                edit.left_out += 1
                what = f"{self._context.label(member)} does not come into {group.dn.name}"
                fatal = [finding for finding in findings if finding.is_fatal]
                findings = [structs.replace(f, what=f"{what}: {f.what}", severity=NOTE) for f in fatal]
            edit.findings += findings
            if not stops or len(pairs) == 1:
                passed.append((group, member))
        return passed

    def of_group(self, edit: Edit, assignment: Assignment) -> None:
        """Memberships from the group's side."""
        context = self._context
        typed = [names.parse(name) if assignment.literal else resolve(context, name).dn for name in assignment.values]
        is_whole = True
        if self._of_one and assignment.operator != "=":
            leaving = assignment.operator == "-="
            most = _IN_FULL if context.directory.capabilities.embedded else _IN_FULL_OF_SERVER
            edit.entry = with_some_members(context, edit.entry, typed, leaving=leaving, others=most)
            is_whole = len(context.dialect.members(edit.entry)) < most
        present = {dn.key: dn for dn in map(names.parse, context.dialect.members(edit.entry))}
        by_key = {dn.key: dn for dn in typed}
        add = [dn for key, dn in by_key.items() if key not in present] if assignment.operator != "-=" else []
        remove: list[DN] = []
        if assignment.operator == "-=":
            remove = [dn for key, dn in present.items() if key in by_key]
        elif assignment.operator == "=":
            remove = [dn for key, dn in present.items() if key not in by_key]
        new = {dn: context.directory.get(dn) for dn in add}
        pairs = [(edit.entry, member) for member in new.values() if member is not None]
        add = [member.dn for _, member in self._joining(edit, pairs)]
        add += [dn for dn, member in new.items() if member is None]  # made by the same request
        if not edit.add_member_steps(context, add, remove):
            return
        if not is_whole:
            come, go = ([str(dn) for dn in dns] for dns in (add, remove))
            leave, join = (tuple(self._namesakes.shown(values)) for values in (go, come))
            edit.differences.append(FieldChange("members", leave, join, is_partial=True, concerned=(*come, *go)))
            return
        before = [str(dn) for dn in present.values()]
        after = [str(dn) for dn in present.values() if dn not in remove] + [str(dn) for dn in add]
        edit.differences.append(
            FieldChange("members", *self._namesakes.around(before, after, of_many=self._of_many))
        )  # fmt: skip


def _ask_of_joining(pairs: Sequence[tuple[Entry, Entry]], context: Context) -> None:
    """Ask for what must be known when objects join groups; `pairs` are of a group and a member."""
    Namesakes(context).learn(group.dn for group, _ in pairs)
    for group, member in pairs:
        list(joining(context, group, member))
        with_some_members(context, group, [member.dn], leaving=False)
