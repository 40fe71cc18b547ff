"""A directory behind the LDAP protocol (RFC 4511), behind the port."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import suppress
from typing import Any, TypeVar

import ldap
import ldap.controls
import ldap.dn
from msgspec import structs

from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import EVERYTHING, Filter
from vandrel.directory.ldap.connection import Settings, connect
from vandrel.directory.ldap.faults import in_words
from vandrel.directory.made import is_made
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry, Operation, RenameEntry, SetPassword
from vandrel.directory.port import Scope
from vandrel.directory.schema import Schema
from vandrel.errors import DirectoryError, not_made_with_the_rest
from vandrel.secret import Secret

_SCOPES = {Scope.BASE: ldap.SCOPE_BASE, Scope.ONE: ldap.SCOPE_ONELEVEL, Scope.SUBTREE: ldap.SCOPE_SUBTREE}
_PAGE = 1000
#: Values asked for in one filter.
_AT_ONCE = 50
#: The server may or may not have done what it was asked.
_NO_ANSWER = (ldap.SERVER_DOWN, ldap.CONNECT_ERROR, ldap.TIMEOUT, ldap.BUSY, ldap.UNAVAILABLE)
#: Requests on their way at one time: more bring nothing, and a server cuts off who sends without end.
_WINDOW = 16

Outcome = DirectoryError | None

_T = TypeVar("_T")


class LdapDirectory:
    """A server; see `vandrel.directory.port.Directory` for what its methods promise."""

    def __init__(self, settings: Settings) -> None:
        """Connect, bind, and read what the server says of itself.

        Raises:
            DirectoryError: ``out-of-reach``, ``not-permitted``.

        """
        self._settings = settings
        self._connection, self._url = connect(settings)
        root = self._read("", ["namingContexts", "defaultNamingContext", "subschemaSubentry"])
        contexts = [names.parse(text) for text in _texts(root, "namingContexts")]
        default = [names.parse(text) for text in _texts(root, "defaultNamingContext")]
        self._contexts = tuple(dict.fromkeys([*default, *contexts]))
        subschema = self._read(
            next(iter(_texts(root, "subschemaSubentry")), "cn=Subschema"), ["attributeTypes", "objectClasses"]
        )
        self._schema = Schema(
            [("attributetype", text) for text in _texts(subschema, "attributeTypes")]
            + [("objectclass", text) for text in _texts(subschema, "objectClasses")]
        )

    @property
    def location(self) -> str:
        return self._url

    @property
    def schema(self) -> Schema:
        return self._schema

    @property
    def contexts(self) -> tuple[DN, ...]:
        return self._contexts

    def close(self) -> None:
        self._connection.unbind_s()

    # --- reading

    def _read(self, dn: str, attributes: list[str]) -> dict[str, list[bytes]]:
        try:
            found = self._connection.search_s(dn, ldap.SCOPE_BASE, "(objectClass=*)", attributes)
        except ldap.LDAPError as error:
            raise in_words(error, dn or self.location) from None
        return {name.lower(): values for name, values in found[0][1].items()} if found else {}

    def _entry(self, dn: str, attributes: dict[str, list[bytes]]) -> Entry:
        found: dict[str, list[Value]] = {}
        for name, values in attributes.items():
            known = self._schema.attribute_name(name.split(";")[0]) or name
            if self._schema.is_binary(known):
                found[known] = list(values)
            else:
                found[known] = [value.decode("utf-8", "replace") for value in values]
        return Entry(names.parse(dn), found)

    def get(self, dn: DN) -> Entry | None:
        return self._persist(lambda: next(self.search(dn, Scope.BASE), None))

    def search(self, base: DN, scope: Scope = Scope.SUBTREE, where: Filter = EVERYTHING) -> Iterator[Entry]:
        page = ldap.controls.SimplePagedResultsControl(True, size=_PAGE, cookie="")
        text = filters.to_text(where)
        while True:
            try:
                request = self._connection.search_ext(str(base), _SCOPES[scope], text, ["*", "+"], serverctrls=[page])
                _, found, _, controls = self._connection.result3(request)
            except ldap.NO_SUCH_OBJECT:
                return
            except ldap.LDAPError as error:
                raise in_words(error, str(base)) from None
            for dn, attributes in found:
                if dn is not None:  # a referral to another server is left alone
                    yield self._entry(dn, attributes)
            cookies = [control.cookie for control in controls if control.controlType == page.controlType]
            if not cookies or not cookies[0]:
                return
            page.cookie = cookies[0]

    def holders(self, attribute: str, values: Collection[str]) -> dict[str, DN]:
        name = self._schema.attribute_name(attribute) or attribute
        wanted = {self._schema.key(name, value): value for value in values}
        found: dict[str, DN] = {}
        keys = list(wanted)
        for start in range(0, len(keys), _AT_ONCE):
            chunk = [wanted[key] for key in keys[start : start + _AT_ONCE]]
            where = filters.Or(tuple(filters.Compare(name, "=", value) for value in chunk))
            for context in self._contexts:
                for entry in self.search(context, where=where):
                    for value in entry.values_of(name):
                        if (key := self._schema.key(name, value)) in wanted:
                            found[wanted[key]] = entry.dn
        return {value: found[wanted[key]] for value in values if wanted[key := self._schema.key(name, value)] in found}

    def existing(self, dns: Collection[DN]) -> set[DN]:
        found: set[DN] = set()
        waiting: list[tuple[Any, DN]] = []
        for dn in dns:
            if len(waiting) == _WINDOW:
                self._answered(*waiting.pop(0), found)
            request = self._connection.search_ext(str(dn), ldap.SCOPE_BASE, "(objectClass=*)", ["1.1"])
            waiting.append((request, dn))
        for request, dn in waiting:
            self._answered(request, dn, found)
        return found

    def _answered(self, request: Any, dn: DN, found: set[DN]) -> None:
        try:
            _, entries, _, _ = self._connection.result3(request)
        except (ldap.NO_SUCH_OBJECT, ldap.INVALID_DN_SYNTAX, ldap.REFERRAL):
            return
        except ldap.LDAPError as error:
            raise in_words(error, str(dn)) from None
        if any(name is not None for name, _ in entries):
            found.add(dn)

    # --- passwords

    def verify_password(self, dn: DN, secret: Secret) -> bool:
        if not secret.reveal():
            return False  # a bind without a password is anonymous, and succeeds (RFC 4513, section 5.1.2)
        try:
            connect(structs.replace(self._settings, bind_dn=str(dn), secret=secret, external=False))[0].unbind_s()
        except DirectoryError as error:
            if error.code == "not-permitted":
                return False
            raise
        return True

    def password_used(self, dn: DN, secret: Secret, last: int) -> bool:
        """The server keeps its history to itself; only the current password can be told."""
        return last > 0 and self.verify_password(dn, secret)

    # --- writing

    def execute(self, operations: Sequence[Operation], *, atomic: bool) -> list[DirectoryError | None]:
        """One after the other; with `atomic` it stops at the first refusal, and takes back what was made before."""
        outcomes: list[Outcome] = []
        for index, operation in enumerate(operations):
            outcome = self._one(operation)
            outcomes.append(outcome)
            if outcome is not None and atomic:
                self._take_back(operations[:index])
                undone: Outcome = not_made_with_the_rest()
                return [undone] * index + [outcome] + [undone] * (len(operations) - index - 1)
        return outcomes

    def _one(self, operation: Operation) -> Outcome:
        if not any(operation.dn.is_within(context) for context in self._contexts):
            return DirectoryError("no-parent", "the name is outside of this directory", where=str(operation.dn))
        tries = 0

        def attempt() -> Outcome:
            nonlocal tries
            tries += 1
            # An answer was lost: what was asked for may have been done all the same.
            if tries > 1 and is_made(self, operation):
                return None
            outcome = self._try(operation)
            return None if outcome is not None and tries > 1 and is_made(self, operation) else outcome

        return self._persist(attempt)

    def _try(self, operation: Operation) -> Outcome:
        """One attempt: None, or why it was refused; a connection that is lost is raised."""
        try:
            self._perform(operation)
        except ldap.NO_SUCH_OBJECT as error:
            if isinstance(operation, AddEntry | RenameEntry):
                return DirectoryError("no-parent", "there is no object to hold it", where=str(operation.dn))
            return in_words(error, str(operation.dn))
        except ldap.INSUFFICIENT_ACCESS as error:
            return self._protected(operation) or in_words(error, str(operation.dn))
        except _NO_ANSWER:
            raise
        except ldap.LDAPError as error:
            return in_words(error, str(operation.dn))
        return None

    def _persist(self, attempt: Callable[[], _T]) -> _T:
        """Try until a server answers, with growing pauses, as long as the settings have patience.

        Raises:
            DirectoryError: ``out-of-reach`` or ``busy`` in the end.

        """
        deadline, pause = time.monotonic() + self._settings.patience, 0.05
        while True:
            try:
                return attempt()
            except _NO_ANSWER as error:
                failure = in_words(error, self.location)
            except DirectoryError as error:
                if error.code not in ("out-of-reach", "busy"):
                    raise
                failure = error
            if time.monotonic() + pause > deadline:
                raise failure
            time.sleep(pause)
            pause = min(2 * pause, 2.0)
            with suppress(DirectoryError):
                self._connection, self._url = connect(self._settings)

    def _protected(self, operation: Operation) -> Outcome:
        """The true cause, where a server that protects objects says only that it may not be done."""
        if not isinstance(operation, DeleteEntry | RenameEntry):
            return None
        entry = self.get(operation.dn)
        if entry is None or entry.text("vandrelProtected") != "TRUE":
            return None
        what, remedy = "the object is protected", "release it first, on purpose"
        return DirectoryError("protected", what, where=str(operation.dn), remedy=remedy)

    def _octets(self, values: Sequence[Value]) -> list[bytes]:
        return [value if isinstance(value, bytes) else value.encode() for value in values]

    def _perform(self, operation: Operation) -> None:
        dn = str(operation.dn)
        match operation:
            case AddEntry():
                attributes = {name: self._octets(values) for name, values in operation.attributes.items() if values}
                for kind, value in operation.dn.rdn:
                    attributes.setdefault(self._schema.attribute_name(kind) or kind, self._octets([value]))
                self._connection.add_s(dn, list(attributes.items()))
            case ModifyEntry():
                self._modify(operation)
            case RenameEntry():
                new = operation.new
                above = None if new.parent == operation.dn.parent else str(new.parent)
                self._connection.rename_s(dn, new.rdn_text, above, 1)
            case DeleteEntry():
                self._connection.delete_s(dn)
            case SetPassword():
                self._password(operation)

    def _modify(self, operation: ModifyEntry) -> None:
        dn = str(operation.dn)
        try:
            self._connection.modify_s(dn, [part for change in operation.changes for part in self._parts(change)])
        except (ldap.TYPE_OR_VALUE_EXISTS, ldap.NO_SUCH_ATTRIBUTE):
            # What is to come and is there, or to go and is not, is no error (see the port): without it, once more.
            entry = self.get(operation.dn)
            if entry is None:
                raise ldap.NO_SUCH_OBJECT({}) from None
            rest = [part for change in operation.changes for part in self._parts(self._still_open(change, entry))]
            if rest:
                self._connection.modify_s(dn, rest)

    def _still_open(self, change: Change, entry: Entry) -> Change:
        """A change that only adds or only removes, without what is so already; one value for another stays whole."""
        have = {self._schema.key(change.attribute, value) for value in entry.values_of(change.attribute)}
        if change.removed and change.added:
            return change
        removed = tuple(v for v in change.removed if self._schema.key(change.attribute, v) in have)
        return Change(
            change.attribute,
            removed,
            tuple(v for v in change.added if self._schema.key(change.attribute, v) not in have),
        )

    def _parts(self, change: Change) -> list[tuple[int, str, list[bytes]]]:
        parts = []
        if change.removed:
            parts.append((ldap.MOD_DELETE, change.attribute, self._octets(change.removed)))
        if change.added:
            parts.append((ldap.MOD_ADD, change.attribute, self._octets(change.added)))
        return parts

    def _password(self, operation: SetPassword) -> None:
        dn = str(operation.dn)
        if operation.secret is None:
            self._connection.modify_s(dn, [(ldap.MOD_REPLACE, name, None) for name in ("userPassword", "pwdReset")])
            return
        self._connection.passwd_s(dn, None, operation.secret.reveal())  # RFC 3062: the server hashes it
        wanted = [b"TRUE"] if operation.must_change else None
        self._connection.modify_s(dn, [(ldap.MOD_REPLACE, "pwdReset", wanted)])

    def _take_back(self, made: Sequence[Operation]) -> None:
        """Undo operations of a sequence that is to be whole, as far as can be: there are no transactions here."""
        for operation in reversed(made):
            try:
                match operation:
                    case AddEntry():
                        self._connection.delete_s(str(operation.dn))
                    case ModifyEntry():
                        back = [Change(c.attribute, c.added, c.removed) for c in operation.changes]
                        self._modify(ModifyEntry(operation.dn, tuple(back)))
                    case RenameEntry():
                        self._perform(RenameEntry(operation.new, operation.dn))
                    case _:
                        continue
            except ldap.LDAPError as error:
                raise in_words(error, str(operation.dn)) from None


def _texts(attributes: dict[str, list[bytes]], name: str) -> list[str]:
    return [value.decode("utf-8", "replace") for value in attributes.get(name.lower(), [])]
