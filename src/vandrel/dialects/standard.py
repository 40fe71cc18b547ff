"""The standard dialect: RFC 4519, RFC 2798, the password policy draft, and our auxiliary schema."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property
from typing import ClassVar

from vandrel.charter.document import Passwords
from vandrel.dialects.base import BaseDialect, yes
from vandrel.directory import dn as names
from vandrel.directory import gentime
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import Compare, Filter, Not
from vandrel.directory.operations import Change
from vandrel.fields import ACCOUNT, COMPUTER, GROUP, UNIT

#: draft-behera-ldap-password-policy-10, section 5.3.3: this value disables until somebody lifts it.
DISABLED = "000001010000Z"

#: A group of nobody: RFC 4519 (3.5) demands a member, and the empty name is a name.
_NOBODY = ""

_UNIQUE = {"login": ("uid",), "principal": ("vandrelPrincipalName",), "mail": ("mail", "vandrelMailAlias")}
_UNIQUE["alias"] = _UNIQUE["mail"]
_FIELD = {"uid": "login", "vandrelPrincipalName": "principal", "mail": "mail", "vandrelMailAlias": "alias"}

_DAY = 86_400

#: What a policy must say so that the server acts on a field: draft-behera-ldap-password-policy-10, section 5.2.
_HEEDED_BY = {"enabled": "pwdLockout", "change": "pwdMustChange"}


class StandardDialect(BaseDialect):
    """See `vandrel.dialects.dialect.Dialect`."""

    name = "standard"
    enables_last = False

    CLASSES: ClassVar[Mapping[str, Sequence[str]]] = {
        ACCOUNT: ("top", "person", "organizationalPerson", "inetOrgPerson", "vandrelAccount"),
        GROUP: ("top", "groupOfNames", "vandrelGroup"),
        UNIT: ("top", "organizationalUnit", "vandrelUnit"),
        COMPUTER: ("top", "device", "vandrelComputer"),
    }
    ATTRIBUTES: ClassVar[Mapping[str, str]] = {
        "login": "uid", "principal": "vandrelPrincipalName", "enabled": "pwdAccountLockedTime",
        "password": "userPassword", "change": "pwdReset",
        "locked": "pwdAccountLockedTime", "starts": "vandrelStart", "ends": "vandrelEnd", "back": "vandrelBack",
        "hours": "vandrelHours", "machines": "vandrelMachine", "photo": "jpegPhoto", "badge": "vandrelBadge",
        "division": "ou", "recovery-mail": "vandrelRecoveryMail", "home-address": "homePostalAddress",
        "ip-phone": "vandrelNetworkPhone", "post-box": "postOfficeBox", "home": "vandrelHomeFolder",
        "drive": "vandrelHomeDrive", "profile": "vandrelProfile", "script": "vandrelLogonScript",
        "name": "cn", "full": "cn", "display": "displayName", "given": "givenName", "middle": "vandrelMiddleName",
        "surname": "sn", "generation": "generationQualifier", "initials": "initials", "language": "preferredLanguage",
        "number": "employeeNumber", "kind": "employeeType", "title": "title", "company": "o",
        "department": "departmentNumber", "site": "l", "office": "physicalDeliveryOfficeName", "room": "roomNumber",
        "category": "businessCategory", "car": "carLicense", "manager": "manager", "assistant": "secretary",
        "sponsor": "vandrelSponsor", "owner": "owner", "mail": "mail", "alias": "vandrelMailAlias",
        "phone": "telephoneNumber", "mobile": "mobile", "fax": "facsimileTelephoneNumber", "pager": "pager",
        "home-phone": "homePhone", "web": "labeledURI", "street": "street", "postcode": "postalCode", "province": "st",
        "country": "c", "purpose": "vandrelGroupPurpose", "scope": "vandrelGroupScope", "members": "member",
        "notes": "description", "protected": "vandrelProtected",
    }  # fmt: skip
    ELSEWHERE: ClassVar[Mapping[tuple[str, str], str]] = {(GROUP, "kind"): "vandrelGroupKind", (UNIT, "name"): "ou"}

    def object_type_of(self, entry: Entry) -> str:
        if entry.has_class("person"):
            return ACCOUNT
        if entry.has_class("groupOfNames"):
            return GROUP
        if entry.has_class("device"):
            return COMPUTER
        return UNIT if entry.has_class("organizationalUnit") else ""

    def before_deletion(self, entry: Entry) -> tuple[str, str]:
        return entry.dn.name, ""

    def is_servers_own(self, entry: Entry) -> bool:
        return False

    def filter_for(self, object_type: str) -> Filter:
        name = {ACCOUNT: "person", GROUP: "groupOfNames", UNIT: "organizationalUnit", COMPUTER: "device"}[object_type]
        return Compare("objectClass", "=", name)

    def condition(self, field: str, value: str) -> Filter | None:
        if field == "enabled":
            disabled = Compare("pwdAccountLockedTime", "=", DISABLED)
            return disabled if value == "no" else Not(disabled)
        if field in ("change", "protected"):
            found = Compare(self.ATTRIBUTES[field], "=", "TRUE")
            return found if value == "yes" else Not(found)
        return None

    # --- reading

    def read(self, entry: Entry, field: str) -> list[str]:
        object_type = self.object_type_of(entry)
        match field:
            case "name":
                return [entry.dn.name]
            case "full":
                others = [value for value in entry.texts("cn") if value != entry.dn.name]
                return others or entry.texts("cn")[:1]
            case "enabled":
                return (
                    yes(DISABLED not in entry.texts("pwdAccountLockedTime"))
                    if object_type in (ACCOUNT, COMPUTER)
                    else []
                )
            case "change":
                return yes(entry.text("pwdReset") == "TRUE") if object_type == ACCOUNT else []
            case "locked":
                return yes(self.is_locked(entry)) if object_type == ACCOUNT else []
            case "protected":
                return yes(entry.text("vandrelProtected") == "TRUE")
            case "password":
                return []
            case "members":
                return self.members(entry)
        return self._plain(entry, field, self.attribute(field, object_type))

    def members(self, group: Entry) -> list[str]:
        return [value for value in group.texts("member") if value != _NOBODY]

    def groups_filter(self, entry: Entry) -> Filter:
        return Compare("member", "=", str(entry.dn))

    def primary_members(self, group: Entry) -> None:
        """There are no primary groups here."""

    def has_password(self, entry: Entry) -> bool:
        return bool(entry.values_of("userPassword"))

    def is_locked(self, entry: Entry) -> bool:
        return any(value != DISABLED for value in entry.texts("pwdAccountLockedTime"))

    def instants(self, entry: Entry) -> Iterator[tuple[str, datetime]]:
        for label, attribute in (
            ("created", "createTimestamp"), ("changed", "modifyTimestamp"), ("password set", "pwdChangedTime"),
        ):  # fmt: skip
            if instant := gentime.parse(entry.text(attribute)):
                yield label, instant

    # --- policies

    @cached_property
    def _policies(self) -> dict[str, Entry]:
        """The password policies that can be seen, by the key of their name."""
        if self._directory.capabilities.embedded or self._schema.object_class("pwdPolicy") is None:
            return {}
        where = Compare("objectClass", "=", "pwdPolicy")
        return {entry.dn.key: entry for context in self._directory.contexts
                for entry in self._directory.search(context, where=where)}  # fmt: skip

    def _policy(self, entry: Entry | None) -> Entry | None:
        """The policy in force: the object's own, the one that the connection names, or the only one there is."""
        own = entry.text("pwdPolicySubentry") if entry is not None else ""
        named = own or self._directory.capabilities.policy
        if named:
            return self._policies.get(names.parse(named).key)
        return next(iter(self._policies.values())) if len(self._policies) == 1 else None

    def why_not_heeded(self, field: str, entry: Entry) -> str:
        if self._directory.capabilities.disables:
            return ""
        demand = _HEEDED_BY.get(field)
        if demand is None:
            return "the server knows nothing of it"
        policy = self._policy(entry)
        if policy is None:
            return "no password policy can be seen that makes the server heed it"
        return "" if policy.text(demand) == "TRUE" else f"the password policy {policy.dn.name} has no {demand}"

    def registered_suffixes(self) -> None:
        """No such list is kept here."""

    def password_layers(self, entry: Entry | None) -> list[tuple[str, Passwords]]:
        policy = self._policy(entry)
        if policy is None:
            return []
        days = {name: -(-int(policy.text(name) or 0) // _DAY) for name in ("pwdMaxAge", "pwdMinAge")}
        number = {name: int(policy.text(name) or 0) for name in ("pwdMinLength", "pwdInHistory")}
        found = Passwords(
            length=number["pwdMinLength"], history=number["pwdInHistory"], maximum_age=days["pwdMaxAge"],
            minimum_age=days["pwdMinAge"],
        )  # fmt: skip
        return [(f"server: {policy.dn.name}", found)]

    # --- writing

    def new_entry(self, object_type: str, dn: DN, values: Mapping[str, Sequence[str]]) -> dict[str, list[Value]]:
        attributes: dict[str, list[Value]] = {"objectClass": list(self.classes(object_type))}
        attributes[self.attribute("name", object_type)] = [dn.name]
        for field, given in values.items():
            attribute = self.attribute(field, object_type)
            if field in ("name", "locked") or not given or not attribute:
                continue
            kept = attributes.setdefault(attribute, [])
            kept += [value for value in self.stored(field, given) if value not in kept]
            if not kept:
                del attributes[attribute]
        if object_type == GROUP:
            attributes.setdefault("member", [_NOBODY])
        return attributes

    def changes_after_creation(self, object_type: str, values: Mapping[str, Sequence[str]]) -> list[Change]:
        return []

    def stored(self, field: str, values: Sequence[str]) -> list[Value]:
        if field == "enabled":
            return [DISABLED] if list(values) == ["no"] else []
        if field in ("change", "protected"):
            return ["TRUE"] if list(values) == ["yes"] else []
        return super().stored(field, values)

    def changes(self, entry: Entry, field: str, values: Sequence[str]) -> list[Change]:
        attribute = self.attribute(field, self.object_type_of(entry))
        if not attribute:
            return []
        wanted = self.stored(field, values)
        if field == "locked":  # it shares its attribute with "enabled"
            locked = [value for value in entry.values_of(attribute) if value != DISABLED]
            return self._differences(attribute, locked, []) if list(values) != ["yes"] else []
        if field == "enabled":
            locked = [value for value in entry.values_of(attribute) if value != DISABLED]
            wanted = wanted or locked
        if field == "full":
            wanted = [entry.dn.name, *(value for value in wanted if value != entry.dn.name)]
        if field == "members":
            wanted = wanted or [_NOBODY]
        return self._differences(attribute, entry.values_of(attribute), wanted)

    def first_members(self, group: Entry, new: Sequence[DN]) -> list[Change]:
        nobody = [Change("member", (_NOBODY,))] if _NOBODY in group.values_of("member") else []
        return [*super().first_members(group, new), *nobody]

    def member_change(self, group: Entry, add: Sequence[DN], remove: Sequence[DN]) -> list[Change]:
        present = self._present(group)
        added, removed = self._joins(group, add, remove)
        left = len(present) - len(removed) + len(added) - (_NOBODY in present)
        if left < 1 and removed:
            added.append(_NOBODY)
        changes = [Change("member", tuple(removed), tuple(added))] if added or removed else []
        if left > 0 and _NOBODY in present:
            # By itself: that nobody's place has gone already is no reason to refuse the members.
            changes.append(Change("member", (_NOBODY,)))
        return changes

    # --- what must be unique

    def unique_forms(self, field: str, value: str) -> list[tuple[str, str]]:
        return [(name, value) for name in self._unique.get(field, ())]

    def unique_columns(self, field: str, values: Sequence[str]) -> list[tuple[str, Sequence[str]]]:
        return [(name, values) for name in self._unique.get(field, ())]

    @cached_property
    def _unique(self) -> dict[str, list[str]]:
        return {
            field: [name for name in attributes if self._schema.attribute(name) is not None]
            for field, attributes in _UNIQUE.items()
        }

    def unique_attributes(self) -> Mapping[str, str]:
        return _FIELD

    def unique_value(self, attribute: str, stored: str) -> str:
        return stored
