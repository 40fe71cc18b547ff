"""The write requests of a run: several on their way at a time, and each looked up again where its answer was lost."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from contextlib import suppress
from typing import Any

import ldap
from ldap.controls import AssertionControl
from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory.applied import is_applied
from vandrel.directory.ldap.error_mapping import in_words
from vandrel.directory.ldap.open_changes import Look, OpenChanges, octets_of, parts_of
from vandrel.directory.ldap.reconnect import NO_ANSWER, Link
from vandrel.directory.ldap.server import Server
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry, Operation, RenameEntry, SetPassword
from vandrel.directory.port import Directory, other_identities
from vandrel.errors import Code, DirectoryError, Location, VandrelError, not_made_with_the_rest

Outcome = DirectoryError | None

ASSERTION = "1.3.6.1.1.12"  # RFC 4528

#: Attributes without an EQUALITY rule have no value that could be named: RFC 4511, section 4.6.
_NOT_BY_VALUE = (ldap.INAPPROPRIATE_MATCHING,)
#: What is to come and is there, or to go and is not, is no error (see the port).
_SO_ALREADY = (
    ldap.TYPE_OR_VALUE_EXISTS, ldap.NO_SUCH_ATTRIBUTE, ldap.ALREADY_EXISTS, ldap.UNWILLING_TO_PERFORM,
    ldap.NO_SUCH_OBJECT,
)  # fmt: skip


#: What speaks against an addition with or without an old identifier.
_NOT_FOR_IDENTIFIER = (ldap.ALREADY_EXISTS, ldap.NO_SUCH_OBJECT)
#: Behind a name: something below it is about to go.
_BELOW = "\0"
#: Operations of a run in which something may be looked at before the server says that it must be.
_FEW = 20
#: Refused modifications that are looked at together.
_MOST_DOUBTFUL = 3


class _PendingRequest(Struct):
    """A request on its way: which operation it makes, where it was sent, and the look that went along."""

    index: int
    request: int
    connection: Any
    look: Look | None = None


class _Outcomes(Struct):
    """What became of the operations so far, by their places, and how many were refused."""

    found: dict[int, Outcome] = {}
    refused: int = 0
    #: Refused modifications of which a part may be so already: the place, the refusal, and the look that went along.
    doubtful: list[tuple[int, ldap.LDAPError, Look | None]] = []

    def add(self, index: int, outcome: Outcome) -> None:
        """Take note of what became of an operation."""
        self.found[index] = outcome
        self.refused += outcome is not None


class Writer:
    """Makes operations on one connection."""

    def __init__(self, link: Link, directory: Directory, server: Server, controls: frozenset[str]) -> None:
        self._link = link
        self._directory = directory
        self._schema = directory.schema
        self._server = server
        self._can_assert = ASSERTION in controls
        self._virtual = server.virtual
        self._open = OpenChanges(link, directory, can_assert=self._can_assert)
        #: Of modifications of which a part was so already: what was left to change, by the identity of the operation.
        self._changed: dict[int, tuple[Change, ...]] = {}
        #: The renames of this run, which some servers follow in whatever points at the object.
        self._renamed: list[RenameEntry] = []
        self._below = tuple(context.key + names.LEVEL for context in directory.contexts)

    def run(self, operations: Sequence[Operation], *, atomic: bool, most_refused: int | None = None) -> list[Outcome]:
        """See `vandrel.directory.port.Directory.execute`.

        With `atomic` nothing more is sent after the first refusal, and what was made is taken back as far as can be.
        """
        outcomes = _Outcomes()
        self._changed.clear()
        self._renamed.clear()
        most = 0 if atomic else len(operations) if most_refused is None else most_refused
        pending: deque[_PendingRequest] = deque()
        touched: set[str] = set()
        deleting = False
        for index, operation in enumerate(operations):
            # What is to be taken back with the rest must not go before the rest is settled.
            simple = self._is_simple(operation) and not (atomic and isinstance(operation, DeleteEntry))
            # Some servers mend what points at an entry that goes, and must find what was changed of that before.
            was_deleting, deleting = deleting, isinstance(operation, DeleteEntry)
            if not simple or deleting != was_deleting or self._builds_upon(operation, touched):
                self._settle(operations, pending, outcomes, 0)
                touched.clear()
            if outcomes.refused > most:
                break
            if not simple:
                outcomes.add(index, self._one(operation))
                if isinstance(operation, RenameEntry):
                    self._renamed.append(operation)
                continue
            self._settle(operations, pending, outcomes, self._server.window - 1)
            try:
                sent = self._send(operation)
                look = self._look_along(operation) if len(operations) <= _FEW else None
                pending.append(_PendingRequest(index, sent, self._link.connection, look))
                touched |= self._waited_for(operation)
            except NO_ANSWER:
                outcomes.add(index, self._one(operation, unsure=True))
        self._settle(operations, pending, outcomes, 0)
        settled = outcomes.found
        if not (atomic and outcomes.refused):
            return [settled[index] for index in range(len(settled))]
        refused = next(outcome for outcome in settled.values() if outcome is not None)
        self._take_back([operations[index] for index, outcome in settled.items() if outcome is None], refused)
        return [settled.get(index) or not_made_with_the_rest() for index in range(len(operations))]

    # --- several at a time

    def _is_simple(self, operation: Operation) -> bool:
        """Whether one request makes it, and it can be sent while others are on their way."""
        match operation:
            case AddEntry():
                inside = self._is_inside(operation) and self._virtual.isdisjoint(operation.attributes)
                return inside and (not operation.was or self._server.identifier_control(operation.was) is not None)
            case DeleteEntry():
                return self._is_inside(operation)
            case ModifyEntry():
                return (
                    bool(operation.changes)
                    and self._is_inside(operation)
                    and not any(change.attribute in self._virtual for change in operation.changes)
                    and (self._can_assert or not any(map(self._open.needs_look, operation.changes)))
                )
        return False

    def _is_inside(self, operation: Operation) -> bool:
        key = operation.dn.key
        return key.startswith(self._below) or any(operation.dn == context for context in self._directory.contexts)

    @staticmethod
    def _builds_upon(operation: Operation, touched: set[str]) -> bool:
        """Whether something on its way must be made first: servers make requests of one connection in any order."""
        key = operation.dn.key
        return not touched.isdisjoint((key, key + _BELOW, key.rpartition(names.LEVEL)[0]))

    @staticmethod
    def _waited_for(operation: Operation) -> set[str]:
        """The keys of the names for which a later operation waits: what holds a deleted entry is one of them."""
        key = operation.dn.key
        return {key, key.rpartition(names.LEVEL)[0] + _BELOW} if isinstance(operation, DeleteEntry) else {key}

    def _send(self, operation: Operation) -> int:
        connection, dn = self._link.connection, str(operation.dn)
        match operation:
            case AddEntry():
                attributes, controls = self._attributes(operation), None
                if operation.was and (control := self._server.identifier_control(operation.was)):
                    attributes, controls = [*attributes, control[0]], [control[1]]
                return int(connection.add_ext(dn, attributes, serverctrls=controls))
            case DeleteEntry():
                return int(connection.delete_ext(dn))
        assert isinstance(operation, ModifyEntry)
        return int(
            connection.modify_ext(dn, parts_of(operation.changes), serverctrls=self._asserting(operation.changes))
        )

    def _look_along(self, operation: Operation) -> Look | None:
        """A look on its way with the modification, where the server may have been quicker; None where it may not."""
        if not self._renamed or not isinstance(operation, ModifyEntry):
            return None
        return self._open.ask(operation.dn, operation.changes) if all(map(self._follows, operation.changes)) else None

    def _follows(self, change: Change) -> bool:
        """Whether a change does no more than to put new names in the place of old ones."""
        if len(change.removed) != len(change.added) or not self._schema.is_reference(change.attribute):
            return False
        try:
            old_names, new_names = ([names.parse(str(value)) for value in values]
                                    for values in (change.removed, change.added))  # fmt: skip
        except VandrelError:
            return False
        return all(
            any(dn.is_within(rename.dn) and dn.moved(rename.dn, rename.new) in new_names for rename in self._renamed)
            for dn in old_names
        )

    def _settle(
        self, operations: Sequence[Operation], pending: deque[_PendingRequest], outcomes: _Outcomes, leave: int
    ) -> None:  # fmt: skip
        """Wait for answers until no more than `leave` requests are on their way."""
        while len(pending) > leave:
            one = pending.popleft()
            operation = operations[one.index]
            try:
                if one.connection is not self._link.connection:
                    raise ldap.SERVER_DOWN({})
                one.connection.result3(one.request)
                outcomes.add(one.index, None)
                self._open.let_go(one.look)
            except NO_ANSWER:
                outcomes.add(one.index, self._one(operation, unsure=True))
            except ldap.LDAPError as error:
                if isinstance(operation, ModifyEntry) and isinstance(error, (*_SO_ALREADY, *_NOT_BY_VALUE)):
                    outcomes.doubtful.append((one.index, error, one.look))
                elif isinstance(operation, AddEntry) and operation.was and not isinstance(error, _NOT_FOR_IDENTIFIER):
                    outcomes.add(one.index, self._one(operation))  # the server may let nobody set an identifier
                else:
                    outcomes.add(one.index, self._outcome(operation, error))
                    self._open.let_go(one.look)
        if leave == 0 or len(outcomes.doubtful) >= _MOST_DOUBTFUL:
            self._look_again(operations, outcomes)

    def _look_again(self, operations: Sequence[Operation], outcomes: _Outcomes) -> None:
        """Settle modifications that were refused because a part of them may be so already."""
        looks: list[tuple[int, ModifyEntry, Look | None, ldap.LDAPError]] = []
        for index, error, along in outcomes.doubtful:
            operation = operations[index]
            assert isinstance(operation, ModifyEntry)
            if along is not None and self._is_made(along, error):
                self._changed[id(operation)] = ()
                outcomes.add(index, None)
                continue
            look = None
            with suppress(*NO_ANSWER):  # then it is made by itself, over another connection
                look = self._open.ask(operation.dn, operation.changes)
            looks.append((index, operation, look, error))
        outcomes.doubtful.clear()
        for index, operation, look, error in looks:
            try:
                if look is None:
                    raise ldap.SERVER_DOWN({})
                self._make_the_rest(operation, look, error)
                outcomes.add(index, None)
            except NO_ANSWER:
                outcomes.add(index, self._one(operation, unsure=True))
            except ldap.LDAPError as refusal:
                outcomes.add(index, self._outcome(operation, refusal))

    def _is_made(self, look: Look, error: ldap.LDAPError) -> bool:
        """Whether all of a modification was so already; what was seen just before the server did it does not count."""
        try:
            return not any(change.removed or change.added for change in self._open.rest(look, error)[0])
        except ldap.LDAPError:
            return False

    # --- one at a time

    def _one(self, operation: Operation, *, unsure: bool = False) -> Outcome:
        """Make one operation; with `unsure`, it was sent before and may have been made."""
        if not self._is_inside(operation):
            return DirectoryError(
                Code.NO_PARENT, "the name is outside of this directory", where=Location(dn=str(operation.dn))
            )
        if isinstance(operation, SetPassword) and not (self._link.private or self._link.settings.plain):
            return DirectoryError(
                Code.NOT_PERMITTED,
                "the password would go over the network unencrypted",
                where=Location(dn=str(operation.dn)),
                remedy="use ldaps://, or write start-tls: true or unencrypted: true into the connection",
            )
        tries, so_far = int(unsure), set[str]()

        def attempt() -> Outcome:
            nonlocal tries
            tries += 1
            # An answer was lost: what was asked for may have been done all the same.
            if tries > 1 and is_applied(self._directory, operation):
                if not isinstance(operation, SetPassword):
                    return None
                so_far.add("set")  # what belongs to it may not have been done
            outcome = self._try(operation, so_far)
            if outcome is None or tries == 1 or isinstance(operation, SetPassword):
                return outcome
            return None if is_applied(self._directory, operation) else outcome

        return self._link.persist(attempt)

    def _try(self, operation: Operation, so_far: set[str]) -> Outcome:
        """One attempt: None, or why it was refused; a connection that is lost is raised."""
        try:
            self._perform(operation, so_far)
        except NO_ANSWER:
            raise
        except ldap.LDAPError as error:
            return self._outcome(operation, error)
        except DirectoryError as error:
            if error.code is not Code.HALF_SET:
                raise
            return error
        return None

    def _outcome(self, operation: Operation, error: ldap.LDAPError) -> DirectoryError:
        where = Location(dn=str(operation.dn))
        if isinstance(error, ldap.NO_SUCH_OBJECT) and isinstance(operation, AddEntry | RenameEntry):
            return DirectoryError(Code.NO_PARENT, "there is no object to hold it", where=where)
        if isinstance(error, ldap.INSUFFICIENT_ACCESS):
            return self._protected(operation) or self._not_permitted(operation)
        if isinstance(error, ldap.ALREADY_EXISTS) and isinstance(operation, ModifyEntry):
            error = ldap.TYPE_OR_VALUE_EXISTS(*error.args)  # how some servers say it
        return in_words(error, where)

    def _not_permitted(self, operation: Operation) -> DirectoryError:
        """Who may not do what to what, and as whom else it might be tried."""
        match operation:
            case AddEntry():
                what = f"create an object in {operation.dn.parent}"
            case ModifyEntry():
                what = f"change {', '.join(dict.fromkeys(change.attribute for change in operation.changes))}"
            case RenameEntry():
                what = "rename or move it"
            case DeleteEntry():
                what = "delete it"
            case SetPassword():
                what = "set its password"
        settings = self._link.settings
        return DirectoryError(
            Code.NOT_PERMITTED, f"{settings.who} may not {what}", where=Location(dn=str(operation.dn)),
            remedy=other_identities(settings.others),
        )  # fmt: skip

    def _protected(self, operation: Operation) -> Outcome:
        """The true cause, where a server that protects objects says only that it may not be done."""
        if not isinstance(operation, DeleteEntry | RenameEntry):
            return None
        entry = self._directory.get(operation.dn)
        if entry is None or entry.text("vandrelProtected") != "TRUE":
            return None
        what, remedy = "the object is protected", "release first, on purpose"
        return DirectoryError(Code.PROTECTED, what, where=Location(dn=str(operation.dn)), remedy=remedy)

    def _attributes(self, operation: AddEntry) -> list[tuple[str, list[bytes]]]:
        values_of = operation.attributes
        # Written out, because a run of many thousands spends most of its own time here.
        stored = [(name, values) for name, values in values_of.items() if values and name not in self._virtual]
        try:
            attributes = [(name, list(map(str.encode, values))) for name, values in stored]  # type: ignore[arg-type]
        except TypeError:  # some are octets already
            attributes = [(name, octets_of(values)) for name, values in stored]
        for kind, value in operation.dn.rdn:
            if kind not in values_of and (name := self._schema.attribute_name(kind) or kind) not in values_of:
                attributes.append((name, octets_of([value])))
        return attributes

    def _perform(self, operation: Operation, so_far: set[str]) -> None:
        connection, dn = self._link.connection, str(operation.dn)
        match operation:
            case AddEntry():
                if operation.was:
                    self._server.add_again(connection, dn, self._attributes(operation), operation.was)
                else:
                    connection.add_s(dn, self._attributes(operation))
                inside = {name: tuple(v) for name, v in operation.attributes.items() if name in self._virtual}
                if inside:
                    self._modify(ModifyEntry(operation.dn, tuple(Change(n, added=v) for n, v in inside.items())))
            case ModifyEntry():
                self._modify(operation)
            case RenameEntry():
                new = operation.new
                above = None if new.parent == operation.dn.parent else str(new.parent)
                connection.rename_s(dn, new.rdn_text, above, 1)
            case DeleteEntry():
                connection.delete_s(dn)
            case SetPassword():
                self._server.password(connection, operation, so_far)

    def _modify(self, operation: ModifyEntry) -> None:
        connection, dn = self._link.connection, str(operation.dn)
        virtual = [change for change in operation.changes if change.attribute in self._virtual]
        plain = [change for change in operation.changes if change.attribute not in self._virtual]
        more, controls = self._server.inside(connection, operation.dn, virtual) if virtual else ([], [])
        try:
            if not operation.changes and self._directory.get(operation.dn) is None:
                raise ldap.NO_SUCH_OBJECT({})
            if not self._can_assert and any(map(self._open.needs_look, plain)):
                self._open.see_nothing_else(plain, self._directory.get(operation.dn))
            if plain or more:
                connection.modify_ext_s(dn, parts_of(plain) + more, serverctrls=[*controls, *self._asserting(plain)])
        except (*_SO_ALREADY, *_NOT_BY_VALUE) as error:
            self._make_the_rest(operation, self._open.ask(operation.dn, plain), error, more, controls)

    def _make_the_rest(
        self, operation: ModifyEntry, look: Look, error: ldap.LDAPError,
        more: Sequence[Any] = (), controls: Sequence[Any] = (),
    ) -> None:  # fmt: skip
        """Make what is left of a modification that was refused because a part of it is so already.

        Raises:
            ldap.LDAPError: the refusal, where that was not the cause; or that of what is left.

        """
        rest, parts, asserted = self._open.rest(look, error)
        if parts or more:
            dn = str(operation.dn)
            self._link.connection.modify_ext_s(dn, [*more, *parts], serverctrls=[*controls, *asserted])
        self._changed[id(operation)] = tuple(rest)

    def _asserting(self, changes: Sequence[Change]) -> list[AssertionControl]:
        """The control by which the server sees to it that exclusive changes find no other value (RFC 4528)."""
        if not self._can_assert:
            return []
        parts: list[filters.Filter] = []
        for change in changes:
            attribute = self._schema.attribute(change.attribute)
            if not change.is_exclusive or change.attribute in self._virtual:
                continue
            values = (*change.removed, *change.added)
            empty = filters.Not(filters.Present(change.attribute))
            if attribute is not None and attribute.equality and all(isinstance(value, str) for value in values):
                same = [filters.Compare(change.attribute, "=", str(value)) for value in values]
                parts.append(filters.Or((empty, *same)))
            elif not change.removed:
                parts.append(empty)
        return [AssertionControl(True, filters.to_text(filters.And(tuple(parts))))] if parts else []

    def _take_back(self, executed: Sequence[Operation], because: DirectoryError) -> None:
        """Undo operations of a sequence that is to be whole, as far as can be: there are no transactions here."""
        created = {operation.dn.key for operation in executed if isinstance(operation, AddEntry)}
        for operation in reversed(executed):
            back: Operation | None = None
            match operation:
                case AddEntry():
                    back = DeleteEntry(operation.dn)
                case ModifyEntry():
                    # What somebody else had done before stays.
                    changed = self._changed.get(id(operation), operation.changes)
                    back = ModifyEntry(operation.dn, tuple(c.reverse() for c in changed if c.removed or c.added))
                case RenameEntry():
                    back = RenameEntry(operation.new, operation.dn)
                case SetPassword() if operation.dn.key in created:
                    continue  # it goes with its account
            if back is None or self._one(back) is not None:
                what = f"{because.findings[0].what}; and what was made before it cannot be taken back"
                first = because.findings[0]
                raise DirectoryError(first.code, what, where=first.where, remedy=first.remedy)
