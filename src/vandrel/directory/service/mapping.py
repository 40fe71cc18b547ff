"""A person or a group of a service (RFC 7643, sections 4 and 8) as an entry, and the changes of an entry as a patch.

What this table does not name is neither read nor written: a patch touches what changes, and leaves all else.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from vandrel.directory import dn as names
from vandrel.directory import gentime
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.errors import VandrelError
from vandrel.text import octets

USER = "urn:ietf:params:scim:schemas:core:2.0:User"
GROUP = "urn:ietf:params:scim:schemas:core:2.0:Group"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
#: An extension of the stand-in, for no standard has invitations.
GUEST = "urn:ietf:params:scim:schemas:extension:vandrel:2.0:Guest"
PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"

#: The object classes of entries.
CLASSES_OF_PEOPLE = ("top", "person", "organizationalPerson", "inetOrgPerson", "vandrelAccount")
CLASSES_OF_GROUPS = ("top", "groupOfNames", "vandrelGroup")
#: The mark of a disabled account, as the standard dialect has it (draft-behera-ldap-password-policy-10, 5.3.3).
DISABLED = "000001010000Z"

#: attribute -> where a service keeps it: one value by itself.
_SINGLE: dict[str, tuple[str, ...]] = {
    "uid": ("userName",),
    "externalId": ("externalId",),
    "cn": ("name", "formatted"),
    "sn": ("name", "familyName"),
    "givenName": ("name", "givenName"),
    "vandrelMiddleName": ("name", "middleName"),
    "generationQualifier": ("name", "honorificSuffix"),
    "displayName": ("displayName",),
    "title": ("title",),
    "employeeType": ("userType",),
    "preferredLanguage": ("preferredLanguage",),
    "employeeNumber": (ENTERPRISE, "employeeNumber"),
    "o": (ENTERPRISE, "organization"),
    "ou": (ENTERPRISE, "division"),
    "departmentNumber": (ENTERPRISE, "department"),
}
#: What a patch of a person changes without a look at what is there.
PLAIN = frozenset({*_SINGLE, "pwdAccountLockedTime"} - {"uid"})
#: attribute -> list, the type of its items, and the part of an item. The first of mail is the primary address.
_LISTED: dict[str, tuple[str, str, str]] = {
    "telephoneNumber": ("phoneNumbers", "work", "value"),
    "mobile": ("phoneNumbers", "mobile", "value"),
    "facsimileTelephoneNumber": ("phoneNumbers", "fax", "value"),
    "pager": ("phoneNumbers", "pager", "value"),
    "homePhone": ("phoneNumbers", "home", "value"),
    "street": ("addresses", "work", "streetAddress"),
    "l": ("addresses", "work", "locality"),
    "st": ("addresses", "work", "region"),
    "postalCode": ("addresses", "work", "postalCode"),
    "c": ("addresses", "work", "country"),
    "vandrelEntitlement": ("entitlements", "", "value"),
    "vandrelServiceRole": ("roles", "", "value"),
}
_LISTS = ("emails", "phoneNumbers", "addresses", "entitlements", "roles", "photos")
#: A photograph stands in a link of its own (RFC 2397), so that nobody has to fetch it.
_PHOTO = "data:image/jpeg;base64,"
#: Of guests: when they were invited, until when they can answer, when they did, and who answers for them.
_INVITATION = {
    "vandrelInvited": "invited", "vandrelInvitationEnds": "ends", "vandrelAnswered": "answered",
    "vandrelSponsorName": "sponsor",
}  # fmt: skip
_EXTENSIONS = (ENTERPRISE, GUEST)
_SENT_OF_GUESTS = {"vandrelInvited", "vandrelSponsorName"}
#: What can be asked for by equality (RFC 7644, 3.4.2.2), of people and of groups.
ASKED = {
    "uid": "userName", "externalId": "externalId", "mail": "emails.value", "vandrelMailAlias": "emails.value",
    "employeeNumber": f"{ENTERPRISE}:employeeNumber",
}  # fmt: skip

Resource = Mapping[str, Any]
#: From the identifier of a resource to the name of its entry, and back; empty or None where it is not known.
NameOf = Callable[[str], DN | None]
IdOf = Callable[[DN], str]


def text(value: object) -> str:
    """A text of an answer; empty for anything else, whatever a service has put there."""
    return value if isinstance(value, str) else ""


def name_of(resource: Resource, base: DN) -> DN:
    """The name of the entry: by the user name, or by what a group is called."""
    if "userName" in resource:
        return base.child("uid", text(resource["userName"]) or text(resource.get("id")))
    return base.child("cn", text(resource.get("displayName")) or text(resource.get("id")))


def to_entry(resource: Resource, dn: DN, named: NameOf) -> Entry:
    """A person or a group as an entry with this name; `named` knows those that it points at."""
    attributes: dict[str, list[Value]]
    if dn.naming_attribute == "uid":
        attributes = {"objectClass": list(CLASSES_OF_PEOPLE)}
        attributes |= {name: [value] for name, path in _SINGLE.items() if (value := _at(resource, path))}
        attributes["uid"] = [dn.name]
        addresses = _addresses(resource)
        _put(attributes, "mail", addresses[:1])
        _put(attributes, "vandrelMailAlias", addresses[1:])
        for name, (key, kind, part) in _LISTED.items():
            _put(attributes, name, [v for item in _items(resource, key, kind) if (v := text(item.get(part)))])
        manager = resource.get(ENTERPRISE, {})
        manager = manager.get("manager") if isinstance(manager, Mapping) else None
        boss = named(text(manager.get("value"))) if isinstance(manager, Mapping) else None
        _put(attributes, "manager", [str(boss)] if boss is not None else [])
        attributes |= _invitation(resource)
        pictures = (_octets(text(item.get("value"))) for item in _all_items(resource, "photos"))
        if (picture := next(filter(None, pictures), None)) is not None:
            attributes["jpegPhoto"] = [picture]
        if resource.get("active") is False:
            attributes["pwdAccountLockedTime"] = [DISABLED]
    else:
        attributes = {"objectClass": list(CLASSES_OF_GROUPS), "cn": [dn.name]}
        _put(attributes, "externalId", [text(resource.get("externalId"))] if resource.get("externalId") else [])
        members = (named(text(item.get("value"))) for item in _items(resource, "members", ""))
        _put(attributes, "member", [str(member) for member in members if member is not None])
    attributes["entryUUID"] = [text(resource.get("id"))]
    meta = resource.get("meta")
    for name, key in (("createTimestamp", "created"), ("modifyTimestamp", "lastModified")):
        if isinstance(meta, Mapping) and (instant := _instant(text(meta.get(key)))):
            attributes[name] = [instant]
    return Entry(dn, attributes)


def pointed_at(resource: Resource) -> list[str]:
    """The identifiers of the members of a group."""
    return [each for item in _all_items(resource, "members") if (each := text(item.get("value")))]


def to_resource(entry: Entry, id_of: IdOf) -> dict[str, Any]:
    """A new person or group, as it is sent to be created."""
    if entry.dn.naming_attribute != "uid":
        body: dict[str, Any] = {"schemas": [GROUP], "displayName": entry.dn.name}
        if external := entry.text("externalId"):
            body["externalId"] = external
        if members := _member_ids(entry.texts("member"), id_of):
            body["members"] = [{"value": member} for member in members]
        return body
    body = {"schemas": [USER], "active": DISABLED not in entry.texts("pwdAccountLockedTime")}
    for name, path in _SINGLE.items():
        if value := entry.text(name):
            _set(body, path, value)
    body["userName"] = entry.dn.name
    for key in _LISTS:
        if items := _list(key, entry, ()):
            body[key] = items
    for name in _SENT_OF_GUESTS & entry.attributes.keys():
        _set(body, (GUEST, _INVITATION[name]), _as_sent(name, entry.text(name)))
    if boss := _member_ids(entry.texts("manager"), id_of):
        _set(body, (ENTERPRISE, "manager"), _person(boss[0]))
    body["schemas"] += [extension for extension in _EXTENSIONS if extension in body]
    return body


def patch(resource: Resource, before: Entry, after: Entry, id_of: IdOf) -> list[dict[str, Any]]:
    """The operations of a patch (RFC 7644, 3.5.2) that turn one state of an entry into another."""
    changed = {name for name in {*before.attributes, *after.attributes}
               if before.values_of(name) != after.values_of(name)}  # fmt: skip
    operations: list[dict[str, Any]] = []
    if before.dn.naming_attribute != "uid":
        old, new = (_member_ids(entry.texts("member"), id_of) for entry in (before, after))
        if come := [{"value": each} for each in new if each not in old]:
            operations.append({"op": "add", "path": "members", "value": come})
        operations += ({"op": "remove", "path": f'members[value eq "{each}"]'} for each in old if each not in new)
        return operations + [_operation(("externalId",), after.text("externalId"))] * ("externalId" in changed)
    for name, path in _SINGLE.items():
        if name in changed and name != "uid":
            operations.append(_operation(path, after.text(name)))
    for key in _LISTS:
        if any(_key_of(name) == key for name in changed):
            operations.append(_operation((key,), _list(key, after, _all_items(resource, key))))
    if "manager" in changed:
        boss = _member_ids(after.texts("manager"), id_of)
        operations.append(_operation((ENTERPRISE, "manager"), _person(boss[0]) if boss else ""))
    for name in sorted(_SENT_OF_GUESTS & changed):
        operations.append(_operation((GUEST, _INVITATION[name]), _as_sent(name, after.text(name))))
    if "pwdAccountLockedTime" in changed:
        operations.append(_operation(("active",), DISABLED not in after.texts("pwdAccountLockedTime")))
    return operations


def renaming(new: DN) -> list[dict[str, Any]]:
    """The operations that give an entry its new name."""
    return [_operation(("userName" if new.naming_attribute == "uid" else "displayName",), new.name)]


def _operation(path: Sequence[str], value: object) -> dict[str, Any]:
    where = f"{path[0]}:{path[1]}" if path[0] in _EXTENSIONS else ".".join(path)
    if value in ("", []):
        return {"op": "remove", "path": where}
    return {"op": "replace", "path": where, "value": value}


def _person(identifier: str) -> dict[str, str]:
    """A reference to a person (RFC 7643, 4.3: both parts are required)."""
    return {"value": identifier, "$ref": f"../Users/{identifier}"}


def _key_of(attribute: str) -> str:
    if attribute in ("mail", "vandrelMailAlias"):
        return "emails"
    if attribute == "jpegPhoto":
        return "photos"
    return _LISTED[attribute][0] if attribute in _LISTED else ""


def _list(key: str, entry: Entry, present: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """The items of a list as the entry has them, before those of other types that are there already."""
    if key == "emails":
        addresses = [*entry.texts("mail"), *entry.texts("vandrelMailAlias")]
        by_value = {text(item.get("value")): item for item in present}
        return [{**by_value.get(value, {"value": value, "type": "work" if number == 0 else "other"}),
                 "primary": number == 0} for number, value in enumerate(addresses)]  # fmt: skip
    if key == "photos":
        pictures = [value for value in entry.values_of("jpegPhoto") if isinstance(value, bytes)]
        return [{"value": _PHOTO + octets.to_text(picture), "type": "photo"} for picture in pictures]
    ours = {kind for listed, kind, _ in _LISTED.values() if listed == key}
    items: list[dict[str, Any]] = []
    for name, (listed, kind, part) in _LISTED.items():
        for value in entry.texts(name) if listed == key else ():
            if key == "addresses" and items:  # one address has them all
                items[0][part] = value
            else:
                items.append({part: value} | ({"type": kind} if kind else {}))
    return items + [dict(item) for item in present if text(item.get("type")) not in ours]


def _addresses(resource: Resource) -> list[str]:
    """The mail addresses, the primary one first, else that of the work."""
    items = _all_items(resource, "emails")
    items = sorted(items, key=lambda item: (item.get("primary") is not True, text(item.get("type")) != "work"))
    return list(dict.fromkeys(value for item in items if (value := text(item.get("value")))))


def _all_items(resource: Resource, key: str) -> list[Mapping[str, Any]]:
    items = resource.get(key)
    return [item for item in items if isinstance(item, Mapping)] if isinstance(items, list) else []


def _items(resource: Resource, key: str, kind: str) -> list[Mapping[str, Any]]:
    return [item for item in _all_items(resource, key) if not kind or text(item.get("type")) == kind]


def _at(resource: Resource, path: Sequence[str]) -> str:
    value: object = resource
    for part in path:
        value = value.get(part) if isinstance(value, Mapping) else None
    return text(value)


def _set(body: dict[str, Any], path: Sequence[str], value: object) -> None:
    for part in path[:-1]:
        body = body.setdefault(part, {})
    body[path[-1]] = value


def _put(attributes: dict[str, list[Value]], name: str, values: Sequence[str]) -> None:
    if values:
        attributes[name] = list(values)


def _member_ids(values: Sequence[str], id_of: IdOf) -> list[str]:
    identifiers = []
    for value in values:
        try:
            identifiers.append(id_of(names.parse(value)) if value else "")
        except VandrelError:
            continue
    return [each for each in identifiers if each]


def _invitation(resource: Resource) -> dict[str, list[Value]]:
    """What is known of the invitation of a guest."""
    invitation = resource.get(GUEST)
    values: dict[str, list[Value]] = {}
    if not isinstance(invitation, Mapping):
        return values
    for name, key in _INVITATION.items():
        value = text(invitation.get(key))
        if value := value if name == "vandrelSponsorName" else _instant(value):
            values[name] = [value]
    return values


def _as_sent(name: str, value: str) -> str:
    """A value of an invitation as it is sent: a moment in the notation of RFC 3339."""
    instant = gentime.parse(value) if name != "vandrelSponsorName" else None
    return instant.isoformat() if instant is not None else value


def _octets(link: str) -> bytes:
    """The photograph in a link; nothing where it stands elsewhere."""
    try:
        return octets.from_text(link.removeprefix(_PHOTO)) if link.startswith(_PHOTO) else b""
    except ValueError:
        return b""


def _instant(value: str) -> str:
    try:
        instant = datetime.fromisoformat(value)
    except ValueError:
        return ""
    return gentime.to_text(instant if instant.tzinfo else instant.replace(tzinfo=UTC))
