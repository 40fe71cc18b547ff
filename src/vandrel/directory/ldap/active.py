"""What a server with the Active Directory schema wants on the wire, beside RFC 4511."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from typing import Any, NamedTuple
from uuid import UUID

import ldap
from ldap.controls import RequestControl
from ldap.dn import explode_dn

from vandrel.directory.active import delegation, descriptor, schema, sid
from vandrel.directory.active.descriptor import Descriptor
from vandrel.directory.dn import DN
from vandrel.directory.filter import Compare
from vandrel.directory.ldap.server import Octets
from vandrel.directory.operations import Change, SetPassword
from vandrel.directory.port import Changes, Directory

#: In supportedCapabilities of the root DSE: [MS-ADTS] 3.1.1.3.4.3.
CAPABILITY = "1.2.840.113556.1.4.800"

_DESCRIPTOR = "nTSecurityDescriptor"
#: [MS-ADTS] 3.1.1.3.4.1.11: of the descriptor, the discretionary list alone; whoever may not read the rest may that.
_LIST_ALONE = RequestControl("1.2.840.113556.1.4.801", True, b"\x30\x03\x02\x01\x04")
#: [MS-ADTS] 3.1.1.3.4.1.14.
SHOW_DELETED = RequestControl("1.2.840.113556.1.4.417", True)


class _DescriptorAttribute(NamedTuple):
    """An attribute that is kept inside the security descriptor: how it is read there, and how changed."""

    values: Callable[[Descriptor], list[str]]
    changed: Callable[[Descriptor, Change], Descriptor]


def _flag(
    is_set: Callable[[Descriptor], bool], changed: Callable[[Descriptor, bool], Descriptor]
) -> _DescriptorAttribute:
    return _DescriptorAttribute(
        lambda d: ["TRUE"] if is_set(d) else [], lambda d, change: changed(d, "TRUE" in change.added)
    )


def _own_entries(current: Descriptor, change: Change) -> Descriptor:
    """The descriptor with the own entries of the one that is wanted: what is handed down is for the server to say."""
    octets = change.added[0] if change.added else b""
    if not isinstance(octets, bytes) or not octets:
        return current
    return descriptor.with_own_of(current, descriptor.decode(octets))


#: The descriptor itself is the first: the others then say what is to be so in it.
_KEPT_INSIDE = {
    _DESCRIPTOR: _DescriptorAttribute(lambda d: [], _own_entries),
    "vandrelProtected": _flag(descriptor.is_protected, descriptor.protect),
    "vandrelGuarding": _flag(descriptor.is_guarding, descriptor.guard_children),
    "vandrelPasswordFixed": _flag(descriptor.is_password_fixed, descriptor.fix_password),
    "vandrelShieldedFrom": _DescriptorAttribute(
        delegation.shielded_from,
        lambda d, change: delegation.shield(d, map(str, change.added), map(str, change.removed)),
    ),
    "vandrelDelegation": _DescriptorAttribute(
        delegation.read, lambda d, change: delegation.changed(d, map(str, change.added), map(str, change.removed))
    ),
}


class ActiveServer:
    """See `vandrel.directory.ldap.server.Server`."""

    name: str = "Active Directory schema"
    subschema: tuple[str, ...] = schema.ATTRIBUTES
    #: It makes one after the other; over a long line their answers come together all the same.
    window: int = 16
    mends_references: bool = True
    bounds_bind: bool = True  # they are rangeUpper of [MS-ADA1] to [MS-ADA3]
    virtual: frozenset[str] = frozenset(_KEPT_INSIDE)
    entry_name: str = "distinguishedName"  # [MS-ADA1] 2.177

    def schema_stamp(self, subschema: str, container: str) -> tuple[str, str]:
        """The container of the schema, whose time is that of the newest class or attribute."""
        return container, "whenChanged"

    def definitions(self, subschema: Mapping[str, Sequence[str]]) -> Iterable[tuple[str, str]]:
        """The schema in the notation of RFC 4512."""
        yield from schema.definitions(subschema)
        yield from schema.VIRTUAL

    def changes(
        self, connection: Any, directory: Directory, base: DN, since: str, identifiers_before: Collection[str]
    ) -> Changes:  # fmt: skip
        """[MS-ADTS] 3.1.1.1.9: each change has a number, which is one controller's own, and counts up."""
        root = connection.search_s("", ldap.SCOPE_BASE, "(objectClass=*)", ["dsServiceName", "highestCommittedUSN"])
        ((_, attributes),) = root
        service = attributes["dsServiceName"][0].decode()
        ((_, controller),) = connection.search_s(service, ldap.SCOPE_BASE, "(objectClass=*)", ["invocationId"])
        invocation = next(iter(controller.get("invocationId", ())), b"").hex()  # another one once it was restored
        stamp = f"{invocation} {attributes['highestCommittedUSN'][0].decode()}"
        seen_by, _, number = since.rpartition(" ")
        if not invocation or seen_by != invocation:
            return Changes(stamp)
        later = Compare("uSNChanged", ">=", str(int(number) + 1))
        changed = [entry.dn for entry in directory.search(base, where=later, only=("objectGUID",))]
        there = (entry.identifier for entry in directory.search(base, only=("objectGUID",)))
        return Changes(stamp, changed, frozenset(identifiers_before).difference(there))

    def wanted(self, attributes: Iterable[str]) -> list[str]:
        """The attributes to ask for."""
        names = list(attributes)
        if not names:
            return ["*", _DESCRIPTOR, *schema.COMPUTED]
        return list(dict.fromkeys([*names, _DESCRIPTOR])) if set(names) & set(_KEPT_INSIDE) else names

    def reading(self) -> list[Any]:
        """The controls of a search."""
        return [_LIST_ALONE]

    def shown(self, attributes: Octets) -> Octets:
        """With what the security descriptor says as attributes, and identifiers as text."""
        attributes = dict(attributes)  # an answer may be given once more, and stays as it came
        for name in schema.SIDS & attributes.keys():
            attributes[name] = [sid.to_text(value).encode() for value in attributes[name]]
        for name in schema.GUIDS & attributes.keys():
            attributes[name] = [str(UUID(bytes_le=value)).encode() for value in attributes[name]]
        if _DESCRIPTOR in attributes:
            decoded = descriptor.decode(attributes[_DESCRIPTOR][0])
            for name, attribute in _KEPT_INSIDE.items():
                if values := attribute.values(decoded):
                    attributes[name] = [value.encode() for value in values]
        return attributes

    def inside(self, connection: Any, dn: DN, changes: Sequence[Change]) -> tuple[list[Any], list[Any]]:
        """The part of a modification that says these changes in the security descriptor, and its controls."""
        octets = self._descriptor(connection, str(dn))
        new = descriptor.decode(octets)
        order = list(_KEPT_INSIDE)
        for change in sorted(changes, key=lambda change: order.index(change.attribute)):
            new = _KEPT_INSIDE[change.attribute].changed(new, change)
        if (encoded := descriptor.encode(new)) == octets:
            return [], []
        return [(ldap.MOD_REPLACE, _DESCRIPTOR, [encoded])], [_LIST_ALONE]

    @staticmethod
    def _descriptor(connection: Any, dn: str) -> bytes:
        results = connection.search_ext_s(
            dn, ldap.SCOPE_BASE, "(objectClass=*)", [_DESCRIPTOR], serverctrls=[_LIST_ALONE]
        )
        return bytes(results[0][1][_DESCRIPTOR][0])

    def identifier_control(self, was: str) -> None:
        """A tombstone has to be looked for first."""

    def add_again(self, connection: Any, dn: str, attributes: list[tuple[str, list[bytes]]], was: str) -> None:
        """[MS-ADTS] 3.1.1.5.3.7: a tombstone is reanimated, so that GUID and SID survive; the rest is filled in."""
        if not self._is_there(connection, dn, was):
            if (tombstone := self._tombstone(connection, was, dn)) is None:
                connection.add_s(dn, attributes)
                return
            parts = [(ldap.MOD_DELETE, "isDeleted", None), (ldap.MOD_REPLACE, "distinguishedName", [dn.encode()])]
            connection.modify_ext_s(tombstone, parts, serverctrls=[SHOW_DELETED])
        results = connection.search_s(dn, ldap.SCOPE_BASE, "(objectClass=*)", ["*"])
        now = {name.lower(): values for name, values in results[0][1].items()}
        naming = dn.partition("=")[0].lower()
        rest = [
            (ldap.MOD_REPLACE, name, values) for name, values in attributes
            if name.lower() not in (naming, "objectclass") and sorted(now.get(name.lower(), [])) != sorted(values)
        ]  # fmt: skip
        if rest:
            connection.modify_s(dn, rest)

    @staticmethod
    def _is_there(connection: Any, dn: str, identifier: str) -> bool:
        try:
            results = connection.search_s(dn, ldap.SCOPE_BASE, "(objectClass=*)", ["objectGUID"])
        except ldap.NO_SUCH_OBJECT:
            return False
        octets = next((values for name, values in results[0][1].items() if name == "objectGUID"), [b""])[0]
        return octets == UUID(identifier).bytes_le

    @staticmethod
    def _tombstone(connection: Any, identifier: str, dn: str) -> str | None:
        octets = "".join(f"\\{octet:02x}" for octet in UUID(identifier).bytes_le)
        where = f"(&(isDeleted=TRUE)(objectGUID={octets}))"
        # Tombstones stand in the domain of the object (3.1.1.5.5.1), whose name is all domain components.
        base = ",".join(rdn for rdn in explode_dn(dn) if rdn.lower().startswith("dc="))
        answers = connection.search_ext_s(base, ldap.SCOPE_SUBTREE, where, ["1.1"], serverctrls=[SHOW_DELETED])
        return next((dn for dn, _ in answers if dn), None)

    def password(self, connection: Any, operation: SetPassword, so_far: set[str]) -> None:
        """[MS-ADTS] 3.1.1.3.1.5.1: between quotation marks, in UTF-16; the change is demanded by a time of 0."""
        if operation.secret is None:
            raise ldap.UNWILLING_TO_PERFORM({"info": "this server has no way to take a password away"})
        quoted = f'"{operation.secret.reveal()}"'.encode("utf-16-le")
        parts = [(ldap.MOD_REPLACE, "unicodePwd", [quoted])]
        if operation.must_change:
            parts.append((ldap.MOD_REPLACE, "pwdLastSet", [b"0"]))
        connection.modify_s(str(operation.dn), parts)
