"""Groups of the standard dialect: members by name, in either list, and by logon name (RFC 4519, RFC 2307)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from vandrel.dialects.base import BaseDialect
from vandrel.dialects.codec import FieldCodec
from vandrel.directory import dn as names
from vandrel.directory.applied import applied
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.filter import Compare, Filter, Or
from vandrel.directory.member_lists import BY_LOGIN, BY_NAME
from vandrel.directory.operations import Change
from vandrel.fields import GROUP

if TYPE_CHECKING:
    from vandrel.directory.spilled import SpilledMap

#: New accounts whose logon names are held in memory.
_LOGINS_IN_MEMORY = 100_000
#: A group of nobody: RFC 4519 (3.5) demands a member, and the empty name is a name.
NOBODY = ""
#: The object classes of groups, each with the list that it has.
_LISTS = {"groupOfNames": "member", "groupOfUniqueNames": "uniqueMember", "posixGroup": BY_LOGIN}
_IDENTIFIER = re.compile(r"#'[01]*'B$")


def _bare(value: str) -> str:
    """The name alone of a value that may have an identifier behind it (RFC 4517, 3.3.21)."""
    return _IDENTIFIER.sub("", value)


class StandardGroups(BaseDialect):
    """What groups list. See `vandrel.dialects.dialect.Dialect`."""

    def member_attribute(self, group: Entry) -> str:
        """By the object class of the group."""
        if group.has_class("groupOfUniqueNames"):
            return "uniqueMember"
        return "" if group.has_class("posixGroup") and not group.has_class("groupOfNames") else "member"

    def _lists_logins(self, group: Entry) -> bool:
        """Whether a group is to list logon names: it has no other list, or it does already."""
        return not self.member_attribute(group) or bool(group.values_of(BY_LOGIN))

    def members(self, group: Entry) -> list[str]:
        """The members that are somebody, by either list, each once."""
        listed = [_bare(value) for value in group.texts(self.member_attribute(group)) if value != NOBODY]
        if not (logins := group.texts(BY_LOGIN)):
            return listed
        keys = set(map(str, self.schema.keys("member", listed)))
        return [*listed, *(str(dn) for dn in self._named(logins).values() if dn.key not in keys)]

    def _present(self, group: Entry) -> dict[object, str]:
        members = group.texts(self.member_attribute(group))
        return dict(zip(self.schema.keys("member", list(map(_bare, members))), members, strict=True))

    def _named(self, logins: Sequence[str]) -> dict[str, DN]:
        """Who has these logon names; what is nobody's is left out."""
        return {login: dn for (_, login), dn in self.directory.find_owners({"uid": logins}).items()}

    def login_of(self, dn: DN) -> str:
        """The logon name of somebody, by the name, by a new entry that was just made, or by the directory."""
        if self._is_named_by_login(dn):
            return dn.name
        if dn.key not in self._logins:
            entry = self.directory.get(dn)
            self._logins[dn.key] = entry.text("uid") if entry is not None else ""
        return self._logins[dn.key]

    def _is_named_by_login(self, dn: DN) -> bool:
        return self.schema.attribute_name(dn.naming_attribute) == "uid"

    def _remember_login(self, new: Entry) -> None:
        """Take note of the logon name of a new entry, which cannot be read yet."""
        if not self._is_named_by_login(new.dn):
            self._logins[new.dn.key] = new.text("uid")

    @cached_property
    def _logins(self) -> SpilledMap[str]:
        from vandrel.directory.spilled import Spill  # most commands have no use for it

        return Spill(_LOGINS_IN_MEMORY).map(str)

    def groups_filter(self, entry: Entry) -> Filter:
        """By the lists of names; by logon name as well where there are groups that list them."""
        wheres = [Compare(name, "=", str(entry.dn)) for name in self._lists if name in BY_NAME]
        if BY_LOGIN in self._lists and (login := entry.text("uid")):
            wheres.append(Compare(BY_LOGIN, "=", login))
        return wheres[0] if len(wheres) == 1 else Or(tuple(wheres))

    @cached_property
    def _lists(self) -> tuple[str, ...]:
        """The attributes that are asked for members: those of the classes of groups that there are.

        Servers have an index only for what they use; asked for another list, they look through everything.
        """
        classes = set(self.charter.document.group_classes or self._other_classes()) | {"groupOfNames"}
        return tuple(name for cls, name in _LISTS.items() if cls in classes)

    def _other_classes(self) -> list[str]:
        others = [cls for cls in _LISTS if cls != "groupOfNames" and self.schema.object_class(cls) is not None]
        if not others or self.directory.capabilities.embedded:
            return others
        where = Or(tuple(Compare("objectClass", "=", cls) for cls in others))
        groups = self.directory.search(self.charter.base, where=where, only=["objectClass"])
        return others if next(groups, None) is not None else []

    def _must_list(self, group: Entry) -> str:
        """The list of members that must not be empty; empty for none."""
        attribute = self.member_attribute(group)
        return attribute if attribute in self.schema.shape(tuple(group.texts("objectClass")))[0] else ""

    def first_members(self, group: Entry, new: Sequence[DN]) -> list[Change]:
        """The new members; nobody's place goes."""
        attribute = self.member_attribute(group)
        changes = super().first_members(group, new) if attribute else []
        if NOBODY in group.values_of(attribute):
            changes.append(Change(attribute, (NOBODY,)))
        return changes + self._login_change(group, new, [])

    def _login_change(self, group: Entry, add: Sequence[DN], remove: Sequence[DN]) -> list[Change]:
        """The same in the list of logon names, of a group that has one; groups have no logon name, and stay out."""
        if not self._lists_logins(group):
            return []
        present = group.texts(BY_LOGIN)
        come = [login for dn in add if (login := self.login_of(dn)) and login not in present]
        go = [login for dn in remove if (login := self.login_of(dn)) in present]
        return [Change(BY_LOGIN, tuple(go), tuple(come))] if come or go else []

    def placeholder(self, attribute: str) -> str | None:
        """The empty name, in lists of members."""
        return NOBODY if attribute in BY_NAME else None

    def member_change(self, group: Entry, add: Sequence[DN], remove: Sequence[DN]) -> list[Change]:
        """What to change in a group so that these are, and those are no longer, its members."""
        attribute, logins = self.member_attribute(group), self._login_change(group, add, remove)
        if not attribute:
            return logins
        must = bool(self._must_list(group))
        present = self._present(group)
        added, removed = self._joins(group, add, remove)
        remaining = len(present) - len(removed) + len(added) - (NOBODY in present)
        if remaining < 1 and removed and must:
            added.append(NOBODY)
        changes = [Change(attribute, tuple(removed), tuple(added))] if added or removed else []
        if remaining > 0 and NOBODY in present:
            # By itself: that nobody's place has gone already is no reason to refuse the members.
            changes.append(Change(attribute, (NOBODY,)))
        return changes + logins


class MembersCodec(FieldCodec):
    """Members of a group, in the list that its object class has; where it must have one, nobody takes the place."""

    needs_attribute = False

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The members that are somebody."""
        assert isinstance(dialect, StandardGroups)
        return dialect.members(entry) if dialect.object_type_of(entry) == GROUP else []

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Make these the members, and no others."""
        assert isinstance(dialect, StandardGroups)
        by_key = {dn.key: dn for dn in map(names.parse, values)}
        present = {dn.key: dn for dn in map(names.parse, dialect.members(entry))}
        come, go = ([dn for key, dn in one.items() if key not in other]
                    for one, other in ((by_key, present), (present, by_key)))  # fmt: skip
        entry.attributes = applied(entry, dialect.member_change(entry, come, go)).attributes
