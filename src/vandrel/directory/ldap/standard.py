"""What a standard server wants on the wire, beside RFC 4511: RFC 3062 and the password policy draft for passwords."""

from __future__ import annotations

import shlex
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Any

import ldap
from ldap.controls import RequestControl

from vandrel.directory.dn import DN
from vandrel.directory.ldap import content_sync
from vandrel.directory.ldap.error_mapping import in_words
from vandrel.directory.ldap.reconnect import NO_ANSWER
from vandrel.directory.ldap.server import Octets
from vandrel.directory.operations import Change, SetPassword
from vandrel.directory.port import Changes, Directory
from vandrel.errors import NOWHERE, Code, DirectoryError, Location

#: draft-zeilenga-ldap-relax-03: what only the server sets may be set, by those who manage it.
_RELAX = RequestControl("1.3.6.1.4.1.4203.666.5.12", True)
#: draft-behera-ldap-password-policy-10, section 5.3.3: locked until somebody lifts it.
DISABLED = b"000001010000Z"
#: The arc of what describes a server itself, where its configuration is a tree of its own, and the letters of a
#: definition in which its number stands. It is in no other tree, and to search one for it costs a look at everything.
_CONFIGURATION, _OID = "1.3.6.1.4.1.4203.1.12.2.", 30


class StandardServer:
    """See `vandrel.directory.ldap.server.Server`."""

    name: str = "standard LDAP"
    subschema: tuple[str, ...] = ("attributeTypes", "objectClasses", "dITContentRules")
    #: Requests on their way at one time: more bring nothing, and a server cuts off who sends without end.
    window: int = 16
    mends_references: bool = False  # some do, with an overlay; none says so
    bounds_bind: bool = False
    virtual: frozenset[str] = frozenset()
    entry_name: str = "entryDN"  # RFC 5020

    def __init__(self, controls: Collection[str]) -> None:
        self._has_policies = False
        self._tells_changes = content_sync.CONTROL in controls

    def schema_stamp(self, subschema: str, container: str) -> tuple[str, str]:
        """The subentry itself."""
        return subschema, "modifyTimestamp"

    def definitions(self, subschema: Mapping[str, Sequence[str]]) -> Iterable[tuple[str, str]]:
        """The schema as the server gives it."""
        attributes = subschema.get("attributeTypes", ())
        # Attributes of password policies are known only to servers that have them.
        self._has_policies = any("'pwdReset'" in text for text in attributes)
        yield from (("attributetype", text) for text in attributes if _CONFIGURATION not in text[:_OID])
        yield from (
            ("objectclass", text) for text in subschema.get("objectClasses", ()) if _CONFIGURATION not in text[:_OID]
        )
        yield from (("ditcontentrule", text) for text in subschema.get("dITContentRules", ()))

    def changes(
        self, connection: Any, directory: Directory, base: DN, since: str, identifiers_before: Collection[str]
    ) -> Changes:  # fmt: skip
        """By content synchronization (RFC 4533), which not every server offers."""
        return content_sync.refresh(connection, base, since, identifiers_before) if self._tells_changes else Changes()

    def wanted(self, attributes: Iterable[str]) -> list[str]:
        """The attributes to ask for."""
        return list(attributes) or ["*", "+"]

    def reading(self) -> list[Any]:
        """No controls are needed."""
        return []

    def shown(self, attributes: Octets) -> Octets:
        """The values as they are."""
        return attributes

    def inside(self, connection: Any, dn: DN, changes: Sequence[Change]) -> tuple[list[Any], list[Any]]:
        """Nothing is kept inside of other attributes."""
        return [], []

    def identifier_control(self, was: str) -> tuple[tuple[str, list[bytes]], Any]:
        """The identifier as an attribute, and the control that lets it be set."""
        return ("entryUUID", [was.encode()]), _RELAX

    def add_again(self, connection: Any, dn: str, attributes: list[tuple[str, list[bytes]]], was: str) -> None:
        """With its old ``entryUUID``, where the server lets this identity set one."""
        identifier, control = self.identifier_control(was)
        try:
            connection.add_ext_s(dn, [*attributes, identifier], serverctrls=[control])
        except (*NO_ANSWER, ldap.ALREADY_EXISTS, ldap.NO_SUCH_OBJECT):
            raise
        except ldap.LDAPError:
            connection.add_s(dn, attributes)

    def password(self, connection: Any, operation: SetPassword, so_far: set[str]) -> None:
        """Set a password by RFC 3062, with the marks of the password policy."""
        dn = str(operation.dn)
        if operation.secret is None:
            replaced = ("userPassword", "pwdReset") if self._has_policies else ("userPassword",)
            connection.modify_s(dn, [(ldap.MOD_REPLACE, name, None) for name in replaced])
            return
        if not self._has_policies:
            connection.passwd_s(dn, None, operation.secret.reveal())
            return
        if self._is_disabled(connection, dn):
            so_far.add("disabled")
        marks: list[Any] = [(ldap.MOD_REPLACE, "pwdReset", [b"TRUE"] if operation.must_change else None)]
        if "disabled" in so_far:
            # A new password unlocks, and servers take a disabled account for a locked one.
            marks.append((ldap.MOD_REPLACE, "pwdAccountLockedTime", [DISABLED]))
        if "set" not in so_far:
            if "disabled" in so_far:  # whoever may not put the mark back shall not set the password either
                connection.modify_s(dn, marks)
            connection.passwd_s(dn, None, operation.secret.reveal())  # RFC 3062: the server hashes it
            so_far.add("set")
        try:
            connection.modify_s(dn, marks)
        except NO_ANSWER:
            raise
        except ldap.LDAPError as error:
            raise self._half_set(connection, operation, error, was_disabled="disabled" in so_far) from None

    @staticmethod
    def _is_disabled(connection: Any, dn: str) -> bool:
        results = connection.search_s(dn, ldap.SCOPE_BASE, "(objectClass=*)", ["pwdAccountLockedTime"])
        return bool(results) and DISABLED in results[0][1].get("pwdAccountLockedTime", [])

    def _half_set(
        self, connection: Any, operation: SetPassword, error: ldap.LDAPError, *, was_disabled: bool
    ) -> DirectoryError:  # fmt: skip
        """What has come of a password whose marks were refused afterwards."""
        where, why = Location(dn=str(operation.dn)), in_words(error, NOWHERE).findings[0].what
        if not was_disabled:
            what = f"the password is set, and its change at the next logon is not demanded: {why}"
            return DirectoryError(Code.HALF_SET, what, where=where, remedy="tell the person to change it")
        try:
            is_enabled = not self._is_disabled(connection, str(operation.dn))
        except ldap.LDAPError:
            is_enabled = True
        who = shlex.quote(str(operation.dn))
        state = "the account, disabled before, is enabled now" if is_enabled else "the account is disabled as before"
        return DirectoryError(
            Code.HALF_SET, f"the password is set, and {state}: {why}", where=where,
            remedy=f"disable it as somebody who may: vandrel disable {who}" if is_enabled else "",
        )  # fmt: skip
