"""What is left to change of a modification that a server refused because a part of it is so already.

RFC 4511, section 4.6, refuses a value that is to be added and there, or to be removed and not there; behind the port
(`vandrel.directory.port`) neither is an error. An entry is looked at no more than is needed: of a long list of members
it is asked, value by value, whether they are there.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from functools import partial
from typing import Any

import ldap
from ldap.controls import AssertionControl
from msgspec import Struct

from vandrel.directory import filter as filters
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.ldap.reconnect import NO_ANSWER, Link
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory, Scope

#: So many values of one change are asked for one by one; of more, all values of the attribute are read.
_FEW = 8
_STAMP = "entryCSN"
#: One part of a modification, as the protocol library takes it.
Part = tuple[int, str, list[bytes] | None]


class Look(Struct):
    """A look at an entry that is on its way.

    Attributes:
        dn: its name.
        connection: where the questions were sent.
        changes: what was to be changed.
        compared: requests (RFC 4511, section 4.10), each with the attribute and the value.
        whole: the attributes that are to be read with all their values.

    """

    dn: DN
    connection: Any
    changes: Sequence[Change]
    compared: list[tuple[int, str, Value]]
    whole: set[str]


class OpenChanges:
    """Finds out what is left."""

    def __init__(self, link: Link, directory: Directory, *, can_assert: bool) -> None:
        self._link = link
        self._directory = directory
        self._schema = directory.schema
        self._can_assert = can_assert

    def ask(self, dn: DN, changes: Sequence[Change]) -> Look:
        """Send the questions. Raises `ldap.LDAPError` where they cannot be sent."""
        connection = self._link.connection
        few = [change for change in changes if self._is_by_value(change)]
        values = dict.fromkeys((c.attribute, v) for c in few for v in (*c.removed, *c.added))
        compared = [(int(connection.compare_ext(str(dn), name, octets_of([v])[0])), name, v) for name, v in values]
        return Look(dn, connection, changes, compared, {change.attribute for change in changes if change not in few})

    def let_go(self, look: Look | None) -> None:
        """Let go of the questions of a look that is not needed, if there was one."""
        if look is None:
            return
        with suppress(ldap.LDAPError):
            for request, _, _ in look.compared:
                look.connection.abandon(request)

    def rest(
        self, look: Look, error: ldap.LDAPError
    ) -> tuple[list[Change], list[Part], list[AssertionControl]]:  # fmt: skip
        """What is left of the changes, as such and as parts of a modification, and the controls to send along.

        Raises:
            ldap.LDAPError: ``SERVER_DOWN`` where the questions were sent to another connection than the one in use,
                ``NO_SUCH_OBJECT``, ``NO_SUCH_ATTRIBUTE`` where a value that is to be replaced is gone,
                ``ASSERTION_FAILED`` where an exclusive change finds another value; or `error` itself, the refusal,
                where nothing of all this was so already.

        """
        entry, changes = self._entry(look), look.changes
        self.see_nothing_else(changes, entry)
        rest = [self._still_open(change, entry) for change in changes]
        if any(self._is_stale(change, entry) for change in rest):
            raise ldap.NO_SUCH_ATTRIBUTE({})
        if rest == list(changes) and not any(map(self._is_replaced, rest)):
            raise error
        return rest, *self._parts(rest, entry)

    def needs_look(self, change: Change) -> bool:
        """Whether the server would take another value beside those of an exclusive change."""
        attribute = self._schema.attribute(change.attribute)
        return change.is_exclusive and (attribute is None or not attribute.single)

    def see_nothing_else(self, changes: Sequence[Change], entry: Entry | None) -> None:
        """See to it that exclusive changes find no other value, as far as a read just before can."""
        if entry is None:
            return
        for change in changes:
            key = partial(self._schema.value_key, change.attribute)
            if change.is_exclusive and not {key(value) for value in entry.values_of(change.attribute)} <= {
                key(value) for value in (*change.removed, *change.added)
            }:
                raise ldap.ASSERTION_FAILED({})

    # --- looking

    def _is_by_value(self, change: Change) -> bool:
        """Whether it is enough to know which of its values are there."""
        attribute = self._schema.attribute(change.attribute)
        if attribute is None or not attribute.equality or change.is_exclusive or self._is_respelled(change):
            return False
        return len(change.removed) + len(change.added) <= _FEW

    def _is_respelled(self, change: Change) -> bool:
        key = partial(self._schema.value_key, change.attribute)
        return not set(map(key, change.added)).isdisjoint(map(key, change.removed))

    def _entry(self, look: Look) -> Entry:
        """The entry, as far as it was asked for. Raises ``NO_SUCH_OBJECT``, ``SERVER_DOWN``."""
        if look.connection is not self._link.connection:  # which was lost meanwhile, and the answers with it
            raise ldap.SERVER_DOWN({})
        attributes: dict[str, list[Value]] = {}
        whole = set(look.whole)
        for request, name, value in look.compared:
            is_there = _answer(look.connection, request)
            if is_there is None:
                whole.add(name)
            elif is_there:
                attributes.setdefault(name, []).append(value)
        if whole or not look.compared:
            entry = next(self._directory.search(look.dn, Scope.BASE, only=[*sorted(whole), _STAMP]), None)
            if entry is None:
                raise ldap.NO_SUCH_OBJECT({})
            attributes |= entry.attributes
        return Entry(look.dn, attributes)

    # --- comparing

    def _still_open(self, change: Change, entry: Entry) -> Change:
        """A change without what is so already; one value for another stays whole unless it has been made.

        So does the same value in another spelling: what goes and what comes are equal by the rules of the attribute.
        """
        key = partial(self._schema.value_key, change.attribute)
        have = set(map(key, entry.values_of(change.attribute)))
        to_add, to_remove = set(map(key, change.added)), set(map(key, change.removed))
        if to_add & to_remove:
            is_made = set(change.added) <= set(entry.values_of(change.attribute)) and not (to_remove - to_add) & have
            return Change(change.attribute) if is_made else change
        removed = tuple(v for v in change.removed if self._schema.value_key(change.attribute, v) in have)
        added = tuple(v for v in change.added if self._schema.value_key(change.attribute, v) not in have)
        if change.removed and added:
            return Change(change.attribute, change.removed, added)
        return Change(change.attribute, removed, added)

    def _is_stale(self, change: Change, entry: Entry) -> bool:
        """Whether a value that another is to replace is not there any more."""
        have = {self._schema.value_key(change.attribute, value) for value in entry.values_of(change.attribute)}
        return bool(change.added) and any(
            self._schema.value_key(change.attribute, v) not in have for v in change.removed
        )

    def _is_replaced(self, change: Change) -> bool:
        """Whether the values can only be replaced as a whole, because none can be named."""
        attribute = self._schema.attribute(change.attribute)
        return bool(change.removed or change.added) and attribute is not None and not attribute.equality

    def _parts(self, rest: Sequence[Change], entry: Entry) -> tuple[list[Part], list[AssertionControl]]:
        parts: list[Part] = []
        controls: list[AssertionControl] = []
        for change in rest:
            if not self._is_replaced(change):
                parts += parts_of([change])
                continue
            now = entry.values_of(change.attribute)
            if not set(change.removed) <= set(now):
                raise ldap.NO_SUCH_ATTRIBUTE({})
            remaining = [value for value in now if value not in change.removed]
            remaining += [value for value in change.added if value not in remaining]
            parts.append((ldap.MOD_REPLACE, change.attribute, octets_of(remaining) or None))
            stamp = entry.text(_STAMP)
            if stamp and self._can_assert:  # nobody's change in between is overwritten unseen
                controls.append(AssertionControl(True, filters.to_text(filters.Compare(_STAMP, "=", stamp))))
        return parts, controls


def _answer(connection: Any, request: int) -> bool | None:
    """Whether a value is there; None where the identity may not compare it, and perhaps read it."""
    try:
        connection.result3(request)
    except ldap.COMPARE_TRUE:
        return True
    except (ldap.COMPARE_FALSE, ldap.NO_SUCH_ATTRIBUTE):
        return False
    except (*NO_ANSWER, ldap.NO_SUCH_OBJECT):
        raise
    except ldap.LDAPError:
        return None
    return None


def octets_of(values: Sequence[Value]) -> list[bytes]:
    """The values as they go over the line."""
    return [value if isinstance(value, bytes) else value.encode() for value in values]


def parts_of(changes: Sequence[Change]) -> list[Any]:
    """The changes as parts of a modification."""
    parts: list[Part] = []
    for change in changes:
        if change.removed:
            parts.append((ldap.MOD_DELETE, change.attribute, octets_of(change.removed)))
        if change.added:
            parts.append((ldap.MOD_ADD, change.attribute, octets_of(change.added)))
    return parts
