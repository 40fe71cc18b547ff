"""The standard dialect: RFC 4519, RFC 2798, the password policy draft, and our auxiliary schema."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime

from vandrel.charter.charter import Charter
from vandrel.directory import gentime
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import Compare, Filter, Not
from vandrel.directory.operations import Change
from vandrel.directory.schema import Schema
from vandrel.fields import ACCOUNT, FIELDS, GROUP, UNIT, Shape

#: draft-behera-ldap-password-policy-10, section 5.3.3: this value disables until somebody lifts it.
DISABLED = "000001010000Z"

_CLASSES = {
    ACCOUNT: ["top", "person", "organizationalPerson", "inetOrgPerson", "vandrelAccount"],
    GROUP: ["top", "groupOfNames", "vandrelGroup"],
    UNIT: ["top", "organizationalUnit", "vandrelUnit"],
}

#: A group of nobody: RFC 4519 (3.5) demands a member, and the empty name is a name.
_NOBODY = ""

_ATTRIBUTES = {
    "login": "uid", "principal": "vandrelPrincipalName", "enabled": "pwdAccountLockedTime", "password": "userPassword",
    "change": "pwdReset", "starts": "vandrelStart", "ends": "vandrelEnd", "name": "cn", "full": "cn",
    "display": "displayName", "given": "givenName", "middle": "vandrelMiddleName", "surname": "sn",
    "generation": "generationQualifier", "initials": "initials", "language": "preferredLanguage",
    "number": "employeeNumber", "kind": "employeeType", "title": "title", "company": "o",
    "department": "departmentNumber", "site": "l", "office": "physicalDeliveryOfficeName", "room": "roomNumber",
    "category": "businessCategory", "car": "carLicense", "manager": "manager", "assistant": "secretary",
    "sponsor": "vandrelSponsor", "owner": "owner", "mail": "mail", "alias": "vandrelMailAlias",
    "phone": "telephoneNumber", "mobile": "mobile", "fax": "facsimileTelephoneNumber", "pager": "pager",
    "home-phone": "homePhone", "web": "labeledURI", "street": "street", "postcode": "postalCode", "state": "st",
    "country": "c", "purpose": "vandrelGroupPurpose", "scope": "vandrelGroupScope", "members": "member",
    "notes": "description", "protected": "vandrelProtected",
}  # fmt: skip

_ELSEWHERE = {(GROUP, "kind"): "vandrelGroupKind", (UNIT, "name"): "ou"}

_UNIQUE = {"login": ("uid",), "principal": ("vandrelPrincipalName",), "mail": ("mail", "vandrelMailAlias")}
_UNIQUE["alias"] = _UNIQUE["mail"]


class StandardDialect:
    """See `vandrel.dialects.dialect.Dialect`. The charter's time zone turns days into instants."""

    def __init__(self, schema: Schema, charter: Charter) -> None:
        self._schema = schema
        self._charter = charter

    def attribute(self, field: str, sort: str) -> str:
        return _ELSEWHERE.get((sort, field)) or _ATTRIBUTES.get(field, "")

    def sort_of(self, entry: Entry) -> str:
        if entry.has_class("person"):
            return ACCOUNT
        if entry.has_class("groupOfNames"):
            return GROUP
        return UNIT if entry.has_class("organizationalUnit") else ""

    def filter_for(self, sort: str) -> Filter:
        name = {ACCOUNT: "person", GROUP: "groupOfNames", UNIT: "organizationalUnit"}[sort]
        return Compare("objectClass", "=", name)

    def flag_filter(self, field: str, wanted: bool) -> Filter | None:
        if field == "enabled":
            disabled = Compare("pwdAccountLockedTime", "=", DISABLED)
            return Not(disabled) if wanted else disabled
        if field in ("change", "protected"):
            found = Compare(_ATTRIBUTES[field], "=", "TRUE")
            return found if wanted else Not(found)
        return None

    # --- reading

    def read(self, entry: Entry, field: str) -> list[str]:
        sort = self.sort_of(entry)
        if field == "name":
            return [entry.dn.name]
        if field == "full":
            others = [value for value in entry.texts("cn") if value != entry.dn.name]
            return others or entry.texts("cn")[:1]
        if field == "enabled":
            return ["no" if DISABLED in entry.texts("pwdAccountLockedTime") else "yes"] if sort == ACCOUNT else []
        if field == "change":
            return ["yes" if entry.text("pwdReset") == "TRUE" else "no"] if sort == ACCOUNT else []
        if field == "protected":
            return ["yes" if entry.text("vandrelProtected") == "TRUE" else "no"]
        if field == "password":
            return []
        if field == "members":
            return self.members(entry)
        attribute = self.attribute(field, sort)
        values = entry.texts(attribute) if attribute else []
        if FIELDS[field].shape is Shape.DATE:
            return [day.isoformat() for value in values if (day := self._day(field, value)) is not None]
        return values

    def _day(self, field: str, value: str) -> date | None:
        instant = gentime.parse(value)
        if instant is None:
            return None
        return self._charter.last_day(instant) if field == "ends" else instant.astimezone(self._charter.zone).date()

    def members(self, group: Entry) -> list[str]:
        return [value for value in group.texts("member") if value != _NOBODY]

    def groups_filter(self, dn: DN) -> Filter:
        return Compare("member", "=", str(dn))

    # --- writing

    def new_entry(self, sort: str, dn: DN, values: Mapping[str, Sequence[str]]) -> dict[str, list[Value]]:
        attributes: dict[str, list[Value]] = {"objectClass": list(_CLASSES[sort])}
        attributes[self.attribute("name", sort)] = [dn.name]
        for field, given in values.items():
            if field == "name" or not given:
                continue
            if field == "members":
                attributes["member"] = list(given)
                continue
            attribute = self.attribute(field, sort)
            kept = attributes.setdefault(attribute, [])
            kept += [value for value in self.stored(field, given) if value not in kept]
            if not kept:
                del attributes[attribute]
        if sort == GROUP:
            attributes.setdefault("member", [_NOBODY])
        return attributes

    def stored(self, field: str, values: Sequence[str]) -> list[Value]:
        """The values of a field as the directory keeps them."""
        if field == "enabled":
            return [DISABLED] if list(values) == ["no"] else []
        if field in ("change", "protected"):
            return ["TRUE"] if list(values) == ["yes"] else []
        if FIELDS[field].shape is Shape.DATE:
            return [self._instant(field, date.fromisoformat(value)) for value in values]
        return list(values)

    def _instant(self, field: str, day: date) -> str:
        zone = self._charter.zone
        instant = (
            self._charter.end_instant(day) if field == "ends" else datetime(day.year, day.month, day.day, tzinfo=zone)
        )
        return gentime.to_text(instant)

    def changes(self, entry: Entry, field: str, values: Sequence[str]) -> list[Change]:
        sort = self.sort_of(entry)
        attribute = self.attribute(field, sort)
        now = entry.values_of(attribute)
        wanted = self.stored(field, values)
        if field == "full":
            wanted = [entry.dn.name, *(value for value in wanted if value != entry.dn.name)]
        if field == "members":
            wanted = wanted or [_NOBODY]
        # Compared as they stand: a change of case or spacing alone is a change.
        removed = tuple(value for value in now if value not in wanted)
        added = tuple(value for value in wanted if value not in now)
        return [Change(attribute, removed, added)] if removed or added else []

    def member_change(self, group: Entry, add: Sequence[DN], remove: Sequence[DN]) -> list[Change]:
        present = {self._schema.key("member", value): value for value in group.texts("member")}
        added: list[Value] = [str(dn) for dn in add if dn.key not in present]
        removed: list[Value] = [present[dn.key] for dn in remove if dn.key in present]
        left = len(present) - len(removed) + len(added) - (_NOBODY in present)
        if left < 1 and removed:
            added.append(_NOBODY)
        elif left > 0 and _NOBODY in present:
            removed.append(_NOBODY)
        return [Change("member", tuple(removed), tuple(added))] if added or removed else []

    def unique_attributes(self, field: str) -> tuple[str, ...]:
        return _UNIQUE.get(field, ())
