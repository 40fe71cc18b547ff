"""The dialect of the Active Directory schema: [MS-ADA1] to [MS-ADA3], [MS-ADSC], [MS-ADTS], [MS-SAMR]."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime, time, timedelta
from functools import cached_property
from ipaddress import IPv4Address
from typing import ClassVar

from vandrel.charter.document import Passwords
from vandrel.dialects import active_password_policy as active_passwords
from vandrel.dialects.base import BaseDialect, yes
from vandrel.directory import dn as names
from vandrel.directory import gentime
from vandrel.directory.active import account_control, filetime, hours, remote_sessions, sid
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import And, Compare, Extensible, Filter, Not, Or
from vandrel.directory.operations import Change
from vandrel.fields import ACCOUNT, COMPUTER, GROUP, UNIT
from vandrel.text import addresses, week

#: [MS-ADTS] 3.1.1.3.4.4.1: whether all these bits are set.
_ALL_BITS = "1.2.840.113556.1.4.803"

#: Fields of several values that are kept as one in one attribute and the others in another: [MS-ADSC] 2.263.
_PAIRS = {
    "phone": "otherTelephone", "mobile": "otherMobile", "fax": "otherFacsimileTelephoneNumber",
    "pager": "otherPager", "ip-phone": "otherIpPhone", "home-phone": "otherHomePhone", "web": "url",
}  # fmt: skip

#: [MS-OXOABK] 2.2.3.23: the address that answers go to is marked in capitals.
_PRIMARY, _FURTHER = "SMTP:", "smtp:"

_UNIQUE = {"sAMAccountName": "login", "userPrincipalName": "principal", "mail": "mail", "proxyAddresses": "alias"}
_FLAGS = {
    "enabled": account_control.DISABLED,
    "password-never-expires": account_control.PASSWORD_LASTS,
    "password-reversible": account_control.REVERSIBLE,
}
_VIRTUAL = {"protected": "vandrelProtected", "password-fixed": "vandrelPasswordFixed"}
_DELEGATION = "vandrelDelegation"
#: Given by the name or by other attributes, or set once the object is there.
_NOT_AT_CREATION = {"name", "full", "enabled", "locked", "purpose", "scope", "delegation", *_VIRTUAL}
#: What the server alone gives an object, though its schema lets clients change some of it later: [MS-SAMR] 3.1.1.8 and
#: 3.1.5.1.4 (counters, times, types), [MS-ADTS] 3.1.1.5.2 (categories, descriptors).
_SERVERS_OWN = frozenset(
    "badPwdCount badPasswordTime lastLogoff lastLogon lastLogonTimestamp logonCount lockoutTime adminCount "
    "pwdLastSet sAMAccountType primaryGroupID objectCategory nTSecurityDescriptor".split()
)


class ActiveDialect(BaseDialect):
    """See `vandrel.dialects.dialect.Dialect`."""

    name = "ad"
    enables_last = True

    CLASSES: ClassVar[Mapping[str, Sequence[str]]] = {
        ACCOUNT: ("top", "person", "organizationalPerson", "user"),
        GROUP: ("top", "group"),
        UNIT: ("top", "organizationalUnit"),
        COMPUTER: ("top", "person", "organizationalPerson", "user", "computer"),
    }
    ATTRIBUTES: ClassVar[Mapping[str, str]] = {
        "login": "sAMAccountName", "principal": "userPrincipalName", "enabled": "userAccountControl",
        "password": "unicodePwd", "change": "pwdLastSet",
        "locked": "lockoutTime", "password-never-expires": "userAccountControl",
        "password-reversible": "userAccountControl", "photo": "thumbnailPhoto", "badge": "employeeNumber",
        "division": "division", "recovery-mail": "otherMailbox", "home-address": "homePostalAddress",
        "ip-phone": "ipPhone", "post-box": "postOfficeBox", "home": "homeDirectory", "drive": "homeDrive",
        "profile": "profilePath", "script": "scriptPath", **remote_sessions.ATTRIBUTES,
        "dial-in": "msNPAllowDialin", "dial-in-callback": "msRADIUSCallbackNumber",
        "dial-in-address": "msRADIUSFramedIPAddress",
        "password-fixed": "vandrelPasswordFixed", "ends": "accountExpires", "hours": "logonHours",
        "machines": "userWorkstations", "name": "cn", "full": "cn", "display": "displayName", "given": "givenName",
        "middle": "middleName", "surname": "sn", "generation": "generationQualifier", "initials": "initials",
        "language": "preferredLanguage", "number": "employeeID", "kind": "employeeType", "title": "title",
        "company": "company", "department": "department", "site": "l", "office": "physicalDeliveryOfficeName",
        "room": "roomNumber", "category": "businessCategory", "car": "carLicense", "manager": "manager",
        "assistant": "assistant", "owner": "managedBy", "mail": "mail", "alias": "proxyAddresses",
        "phone": "telephoneNumber", "mobile": "mobile", "fax": "facsimileTelephoneNumber", "pager": "pager",
        "home-phone": "homePhone", "web": "wWWHomePage", "street": "streetAddress", "postcode": "postalCode",
        "province": "st", "country": "c", "primary": "primaryGroupID", "purpose": "groupType", "scope": "groupType",
        "members": "member", "notes": "description", "protected": "vandrelProtected", "delegation": _DELEGATION,
    }  # fmt: skip
    ELSEWHERE: ClassVar[Mapping[tuple[str, str], str]] = {(UNIT, "name"): "ou"}

    # --- sorts

    def object_type_of(self, entry: Entry) -> str:
        classes = {value.lower() for value in entry.texts("objectClass")}
        if "computer" in classes:
            return COMPUTER
        if "user" in classes:
            return ACCOUNT
        if "group" in classes:
            return GROUP
        return UNIT if "organizationalunit" in classes else ""

    def before_deletion(self, entry: Entry) -> tuple[str, str]:
        """[MS-ADTS] 3.1.1.5.5.1.1: a line feed and the object's identifier stand behind the name."""
        return entry.dn.name.partition("\n")[0], entry.text("lastKnownParent")

    def is_servers_own(self, entry: Entry) -> bool:
        """[MS-ADTS] 6.1.1: objects that a domain cannot be without, and what is shown to experts alone."""
        return "TRUE" in (entry.text("isCriticalSystemObject"), entry.text("showInAdvancedViewOnly"))

    def filter_for(self, object_type: str) -> Filter:
        if object_type == ACCOUNT:  # a computer is a user as well
            return And((Compare("objectClass", "=", "user"), Not(Compare("objectClass", "=", "computer"))))
        return Compare(
            "objectClass", "=", {GROUP: "group", UNIT: "organizationalUnit", COMPUTER: "computer"}[object_type]
        )

    def condition(self, field: str, value: str) -> Filter | None:
        found: Filter
        wanted = value == "yes"
        if field in _FLAGS:
            found = Extensible("userAccountControl", _ALL_BITS, False, str(_FLAGS[field]))
            wanted = wanted != (field == "enabled")
        elif field == "change":
            found = Compare("pwdLastSet", "=", "0")
        elif field in _VIRTUAL:
            found = Compare(_VIRTUAL[field], "=", "TRUE")
        elif field == "scope":
            bits = int(account_control.group_type("distribution", value))
            return Extensible("groupType", _ALL_BITS, False, str(bits))
        elif field == "purpose":
            found, wanted = Extensible("groupType", _ALL_BITS, False, "2147483648"), value == "security"
        elif field == "alias":
            return Compare("proxyAddresses", "=", str(self.stored(field, [value])[0]))
        elif field in _PAIRS:
            return Or(tuple(Compare(name, "=", value) for name in (self.ATTRIBUTES[field], _PAIRS[field])))
        else:
            return None
        return found if wanted else Not(found)

    # --- reading

    def read(self, entry: Entry, field: str) -> list[str]:
        object_type = self.object_type_of(entry)
        attribute = self.attribute(field, object_type)
        match field:
            case "name" | "full":
                return [entry.dn.name]
            case "password":
                return []
            case "protected":
                return yes(entry.text("vandrelProtected") == "TRUE")
        if not attribute:
            return []
        match field:
            case "enabled":
                return yes(not _control(entry) & account_control.DISABLED)
            case "password-never-expires" | "password-reversible":
                return yes(True) if _control(entry) & _FLAGS[field] else []
            case "password-fixed":
                return yes(True) if entry.text("vandrelPasswordFixed") == "TRUE" else []
            case "locked":
                return yes(self.is_locked(entry))
            case "change":
                return yes(entry.text("pwdLastSet") == "0")
            case "ends":
                instant = filetime.parse(entry.text("accountExpires"))
                return [self.day_of("ends", instant).isoformat()] if instant else []
            case "hours":
                return self._hours(entry)
            case "dial-in" | "remote-logon" if entry.values_of(attribute):
                return [{"TRUE": "yes", "FALSE": "no"}[v] for v in entry.texts(attribute) if v in ("TRUE", "FALSE")]
            case "dial-in-address":
                return [_dotted(value) for value in entry.texts(attribute)]
            case "machines":
                return [name for name in entry.text("userWorkstations").split(",") if name]
            case "alias":
                others = [v for v in entry.texts("proxyAddresses") if not v.startswith(_PRIMARY)]
                return [v.removeprefix(_FURTHER) for v in others]
            case "purpose" | "scope":
                kept = entry.text("groupType")
                said = (
                    account_control.purpose_of(kept)
                    if kept and field == "purpose"
                    else account_control.scope_of(kept or "0")
                )
                return [said] if said else []
            case "delegation":
                return [self._team_and_task(value) for value in entry.texts(attribute)]
            case "primary":
                return [str(dn) for dn in self._primary(entry)]
            case "members":
                return self.members(entry)
            case "notes" if object_type in (ACCOUNT, GROUP):
                return [*entry.texts("description"), *filter(None, entry.text("info").splitlines())]
        if field in remote_sessions.ATTRIBUTES and not entry.values_of(attribute):
            older = remote_sessions.read(entry.text("userParameters"), field)
            return [older] if older else []
        return [*self._plain(entry, field, attribute), *entry.texts(_PAIRS.get(field, ""))]

    def _hours(self, entry: Entry) -> list[str]:
        kept = next((value for value in entry.values_of("logonHours") if isinstance(value, bytes)), b"")
        if not kept:
            return []
        return [week.to_text(hours.shifted(hours.decode(kept), self._ahead))]

    @property
    def _ahead(self) -> int:
        """Whole hours by which the organization's clock is ahead of UTC today: the server knows of no summer time."""
        return self._ahead_on(self._charter.today())

    def _ahead_on(self, day: date) -> int:
        offset = datetime.combine(day, time(12), self._charter.zone).utcoffset() or timedelta()
        return round(offset.total_seconds() / 3600)

    def means_later(self, field: str, value: str) -> tuple[str, str]:
        """Hours are kept in UTC, so that they move by the clock when summer time begins or ends."""
        if field != "hours":
            return "", ""
        today = self._charter.today()
        for days in range(1, 367):
            moved = self._ahead_on(today + timedelta(days)) - self._ahead
            if moved:
                then = week.to_text(hours.shifted(week.parse(value), moved))
                return ("", "") if then == value else (then, (today + timedelta(days)).isoformat())
        return "", ""

    def _primary(self, entry: Entry) -> list[DN]:
        own, number = entry.text("objectSid"), entry.text("primaryGroupID")
        if not own or not number:
            return []
        where = Compare("objectSid", "=", sid.sibling(own, int(number)))
        return [found.dn for found in self._directory.search(self._charter.base, where=where, only=["objectSid"])]

    def _team_and_task(self, kept: str) -> str:
        """``gg-desk: unlock`` from a SID and a task."""
        who, _, task = kept.partition(" ")
        if who not in self._teams:
            where = Compare("objectSid", "=", who)
            found = self._directory.search(self._directory.contexts[0], where=where, only=["cn"])
            self._teams[who] = next((entry.dn.name for entry in found), who)
        return f"{self._teams[who]}: {task}"

    @cached_property
    def _teams(self) -> dict[str, str]:
        return {}

    def _delegations(self, value: str) -> str:
        name, _, task = value.rpartition(": ")
        where = And((self.filter_for(GROUP), Compare("cn", "=", name)))
        team = next(self._directory.search(self._charter.base, where=where, only=["objectSid"]), None)
        return f"{team.text('objectSid') if team else name} {task}"

    def members(self, group: Entry) -> list[str]:
        return group.texts("member")

    def groups_filter(self, entry: Entry) -> Filter:
        listed = Compare("member", "=", str(entry.dn))
        own, number = entry.text("objectSid"), entry.text("primaryGroupID")
        return Or((listed, Compare("objectSid", "=", sid.sibling(own, int(number))))) if own and number else listed

    def primary_members(self, group: Entry) -> Filter | None:
        own = group.text("objectSid")
        return Compare("primaryGroupID", "=", str(sid.relative(own))) if own else None

    def has_password(self, entry: Entry) -> bool:
        """The server tells no more than when it was set; an enabled account must have had one, unless excused."""
        if entry.text("pwdLastSet") not in ("", "0"):
            return True
        flags = _control(entry)
        return not flags & (account_control.DISABLED | account_control.PASSWORD_NOT_REQUIRED)

    def is_locked(self, entry: Entry) -> bool:
        return bool(int(entry.text("msDS-User-Account-Control-Computed") or 0) & account_control.LOCKED)

    def why_not_heeded(self, field: str, entry: Entry) -> str:
        if field == "starts" and not self._directory.capabilities.embedded:
            return "the server knows nothing of it"
        return ""

    def registered_suffixes(self) -> frozenset[str] | None:
        """[MS-ADTS] 6.1.1.2.3: the names of the domains of the forest, and what is registered beside them."""
        if self._directory.capabilities.embedded:
            return None
        partitions = [context for context in self._directory.contexts if context.name.lower() == "configuration"]
        where = Or((Compare("objectClass", "=", "crossRef"), Compare("objectClass", "=", "crossRefContainer")))
        found: set[str] = set()
        for base in partitions:
            for entry in self._directory.search(base, where=where, only=["dnsRoot", "uPNSuffixes", "nETBIOSName"]):
                found.update(value.lower() for value in entry.texts("uPNSuffixes"))
                if entry.text("nETBIOSName"):  # a domain, and no other partition
                    found.update(value.lower() for value in entry.texts("dnsRoot"))
        return frozenset(found)

    def instants(self, entry: Entry) -> Iterator[tuple[str, datetime]]:
        # A copy in a file has time stamps of its own.
        for label, kept in (
            ("created", ("whenCreated", "createTimestamp")),
            ("changed", ("whenChanged", "modifyTimestamp")),
        ):
            stamps = (gentime.parse(entry.text(name).replace(".0Z", "Z")) for name in kept)
            if instant := next(filter(None, stamps), None):
                yield label, instant
        for label, attribute in (("password set", "pwdLastSet"), ("last logon", "lastLogonTimestamp")):
            if instant := filetime.parse(entry.text(attribute)):
                yield label, instant

    # --- password rules of the server

    @cached_property
    def _domain(self) -> Entry | None:
        return self._directory.get(self._directory.contexts[0])

    def password_layers(self, entry: Entry | None) -> list[tuple[str, Passwords]]:
        return active_passwords.layers(self._directory, self._domain, entry)

    # --- writing

    def new_entry(self, object_type: str, dn: DN, values: Mapping[str, Sequence[str]]) -> dict[str, list[Value]]:
        attributes: dict[str, list[Value]] = {"objectClass": list(self.classes(object_type))}
        attributes[self.attribute("name", object_type)] = [dn.name]
        if object_type in (ACCOUNT, COMPUTER):
            normal = account_control.NORMAL_ACCOUNT if object_type == ACCOUNT else account_control.WORKSTATION
            off = object_type == ACCOUNT or list(values.get("enabled", ())) == ["no"]
            attributes["userAccountControl"] = [str(account_control.with_flag(normal, account_control.DISABLED, off))]
        if object_type == GROUP:
            purpose, scope = (next(iter(values.get(name, ())), "") for name in ("purpose", "scope"))
            attributes["groupType"] = [account_control.group_type(purpose or "security", scope or "global")]
        if object_type == COMPUTER:
            attributes["sAMAccountName"] = [f"{dn.name.upper()}$"]
        for field, given in values.items():
            if field in _NOT_AT_CREATION or not given:
                continue
            for change in self.changes(Entry(dn, dict(attributes)), field, given):
                kept = [value for value in attributes.get(change.attribute, []) if value not in change.removed]
                attributes[change.attribute] = [*kept, *change.added]
        return attributes

    def again(self, entry: Entry) -> tuple[dict[str, list[Value]], str]:
        found, _ = super().again(entry)
        found = {name: values for name, values in found.items() if name not in _SERVERS_OWN}
        lacking = "it comes back as a new object, with another identity (SID and GUID)"
        if self.object_type_of(entry) == ACCOUNT:
            found["userAccountControl"] = [
                str(account_control.with_flag(_control(entry), account_control.DISABLED, wanted=True))
            ]
            lacking += ", and disabled: vandrel edit NAME password=generate enabled=yes"
        return found, lacking

    def changes_after_creation(self, object_type: str, values: Mapping[str, Sequence[str]]) -> list[Change]:
        """What stands in the security descriptor, which the server makes itself first."""
        found = [
            Change(_VIRTUAL[field], added=("TRUE",))
            for field, given in values.items()
            if field in _VIRTUAL and list(given) == ["yes"]
        ]
        if delegated := self.stored("delegation", values.get("delegation", ())):
            found.append(Change(_DELEGATION, added=tuple(delegated)))
        return found

    def changes(self, entry: Entry, field: str, values: Sequence[str]) -> list[Change]:
        object_type = self.object_type_of(entry)
        attribute = self.attribute(field, object_type)
        if not attribute or field == "full":
            return []
        now, given = entry.values_of(attribute), list(values)
        wanted: list[Value] = list(given)
        if field in _FLAGS:
            on = (given == ["yes"]) != (field == "enabled")
            wanted = [str(account_control.with_flag(_control(entry), _FLAGS[field], on))]
        elif field in _VIRTUAL:
            wanted = ["TRUE"] if given == ["yes"] else []
        elif field == "change":
            if (given == ["yes"]) == (entry.text("pwdLastSet") == "0"):
                return []
            wanted = ["0" if given == ["yes"] else "-1"]
        elif field == "locked":
            if given == ["yes"] or entry.text("lockoutTime") in ("", "0"):
                return []
            wanted = ["0"]
        elif field == "ends":
            wanted = self.stored(field, given) or [filetime.NEVER]
            if not given and filetime.parse(entry.text("accountExpires")) is None:
                return []
        elif field == "hours":
            wanted = self.stored(field, given[:1])
        elif field in ("purpose", "scope"):
            both = {name: self.read(entry, name) for name in ("purpose", "scope")} | {field: given}
            wanted = [account_control.group_type(both["purpose"][0], both["scope"][0])]
        elif field == "primary":
            wanted = [str(sid.relative(self._sid_of(given[0])))] if given else list(now)
        elif field in _PAIRS:
            more = self._differences(_PAIRS[field], entry.values_of(_PAIRS[field]), given[1:])
            return self._differences(attribute, now, given[:1]) + more
        elif field == "notes" and object_type in (ACCOUNT, GROUP):
            info: list[Value] = ["\r\n".join(given[1:])] if given[1:] else []
            more = self._differences("info", entry.values_of("info"), info)
            return self._differences("description", now, given[:1]) + more
        elif field in ("mail", "alias"):
            return self._addresses(entry, field, given)
        else:
            wanted = self.stored(field, given)
        return self._differences(attribute, now, wanted)

    def _addresses(self, entry: Entry, field: str, given: list[str]) -> list[Change]:
        """`mail` follows the one primary address, and the list is kept only where there are further ones."""
        mail = given if field == "mail" else entry.texts("mail")
        further = given if field == "alias" else self.read(entry, "alias")
        wanted: list[Value] = []
        if further or entry.texts("proxyAddresses"):
            wanted += [f"{_PRIMARY}{value}" for value in mail] + self.stored("alias", further)
        found = self._differences("mail", entry.values_of("mail"), mail)
        return found + self._differences("proxyAddresses", entry.values_of("proxyAddresses"), wanted)

    def _sid_of(self, name: str) -> str:
        entry = self._directory.get(names.parse(name))
        return entry.text("objectSid") if entry else ""

    def stored(self, field: str, values: Sequence[str]) -> list[Value]:
        if field == "ends":
            return [filetime.to_text(self.instant_of(field, value)) for value in values]
        if field == "alias":
            return [value if addresses.split(value)[0] else f"{_FURTHER}{value}" for value in values]
        if field == "hours":
            return [hours.encode(hours.shifted(week.parse(value), -self._ahead)) for value in values]
        if field == "machines":
            return [",".join(values)] if values else []
        if field == "delegation":
            return [self._delegations(value) for value in values]
        if field in ("purpose", "scope", "primary"):
            return []  # a part of a number
        if field in ("dial-in", "remote-logon"):
            return ["TRUE" if value == "yes" else "FALSE" for value in values]
        if field == "dial-in-address":
            return [_signed(value) for value in values]
        return super().stored(field, values)

    def member_change(self, group: Entry, add: Sequence[DN], remove: Sequence[DN]) -> list[Change]:
        added, removed = self._joins(group, add, remove)
        return [Change("member", tuple(removed), tuple(added))] if added or removed else []

    # --- what must be unique

    def unique_forms(self, field: str, value: str) -> list[tuple[str, str]]:
        if field in ("mail", "alias"):
            if addresses.split(value)[0]:
                return [("proxyAddresses", value)]
            return [("mail", value), ("proxyAddresses", f"{_FURTHER}{value}")]
        attribute = {"login": "sAMAccountName", "principal": "userPrincipalName"}.get(field)
        return [(attribute, value)] if attribute else []

    def unique_columns(self, field: str, values: Sequence[str]) -> list[tuple[str, Sequence[str]]]:
        if field == "mail":  # of addresses that are built, none has a type
            return [("mail", values), ("proxyAddresses", [f"{_FURTHER}{value}" for value in values])]
        found: dict[str, list[str]] = {}
        for value in values:
            for attribute, stored in self.unique_forms(field, value):
                found.setdefault(attribute, []).append(stored)
        return list(found.items())

    def unique_attributes(self) -> Mapping[str, str]:
        return _UNIQUE

    def unique_value(self, attribute: str, stored: str) -> str:
        mail = attribute == "proxyAddresses" and addresses.split(stored)[0].lower() == "smtp"
        return addresses.split(stored)[1] if mail else stored


def _control(entry: Entry) -> int:
    return int(entry.text("userAccountControl") or 0)


def _dotted(number: str) -> str:
    """An IPv4 address from the signed number that [MS-ADA2] (msRADIUSFramedIPAddress) keeps."""
    return str(IPv4Address(int(number) & 0xFFFFFFFF))


def _signed(address: str) -> str:
    number = int(IPv4Address(address))
    return str(number - (1 << 32) if number >> 31 else number)
