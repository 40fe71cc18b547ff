"""The dialect of the Active Directory schema: [MS-ADA1] to [MS-ADA3], [MS-ADSC], [MS-ADTS], [MS-SAMR]."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import date, datetime, time, timedelta
from functools import cached_property
from typing import ClassVar

from vandrel.charter.document import Passwords
from vandrel.dialects import active_password_policy
from vandrel.dialects.active_codecs import (
    AddressCodec,
    AddressNumberCodec,
    DelegationCodec,
    EndCodec,
    FlagCodec,
    GroupTypeCodec,
    HoursCodec,
    LockedCodec,
    MachinesCodec,
    MustChangeCodec,
    NotesCodec,
    PairCodec,
    PrimaryGroupCodec,
    RemoteCodec,
    RemoteFlagCodec,
    control_of,
    is_locked,
)
from vandrel.dialects.base import BaseDialect, table
from vandrel.dialects.codec import BooleanCodec, FieldCodec, MarkCodec, NameCodec, OctetsCodec, SecretCodec, is_yes
from vandrel.directory import gentime
from vandrel.directory import place as places
from vandrel.directory.active import account_control, filetime, hours, sid
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import And, Compare, Filter, Not, Or
from vandrel.directory.operations import Change
from vandrel.fields import ACCOUNT, COMPUTER, GROUP, UNIT
from vandrel.text import week

#: What the server alone gives an object, though its schema lets clients change some of it later: [MS-SAMR] 3.1.1.8 and
#: 3.1.5.1.4 (counters, times, types), [MS-ADTS] 3.1.1.5.2 (categories).
_SERVERS_OWN = frozenset(
    "badPwdCount badPasswordTime lastLogoff lastLogon lastLogonTimestamp logonCount lockoutTime adminCount "
    "pwdLastSet sAMAccountType primaryGroupID objectCategory".split()
)


_NOT_IN_LOGONS = re.compile(r'["/\\\[\]:;|=,+*?<>]')


def _logon_of(object_type: str, name: str) -> str:
    """The logon name that a group or a computer has by its name; empty for others, whose own it is.

    Left to itself, a server gives groups one that nobody can read. Which characters it takes: [MS-SAMR] 3.1.1.6.
    """
    if object_type == COMPUTER:
        return f"{name.upper()}$"
    return _NOT_IN_LOGONS.sub("_", name)[:256] if object_type == GROUP else ""


class ActiveDialect(BaseDialect):
    """See `vandrel.dialects.dialect.Dialect`."""

    name = "ad"
    enables_last = True
    tells_last_logon = True
    members_at_creation = False
    has_servers_own = True

    CLASSES: ClassVar[Mapping[str, Sequence[str]]] = {
        ACCOUNT: ("top", "person", "organizationalPerson", "user"),
        GROUP: ("top", "group"),
        UNIT: ("top", "organizationalUnit"),
        COMPUTER: ("top", "person", "organizationalPerson", "user", "computer"),
    }
    #: A computer is a user as well.
    TYPES: ClassVar[Sequence[tuple[str, str]]] = (
        ("computer", COMPUTER), ("user", ACCOUNT), ("group", GROUP), ("organizationalunit", UNIT),
    )  # fmt: skip
    CODECS: ClassVar[Mapping[str, FieldCodec]] = table(
        login=FieldCodec("sAMAccountName", unique=["sAMAccountName"]),
        principal=FieldCodec("userPrincipalName", unique=["userPrincipalName"]),
        enabled=FlagCodec(account_control.DISABLED, is_inverted=True),
        password=SecretCodec("unicodePwd"),
        change=MustChangeCodec("pwdLastSet"),
        locked=LockedCodec("lockoutTime"),
        password_fixed=MarkCodec("vandrelPasswordFixed", is_sparse=True, at_creation=False),
        password_never_expires=FlagCodec(account_control.PASSWORD_LASTS),
        password_reversible=FlagCodec(account_control.REVERSIBLE),
        ends=EndCodec("accountExpires"),
        hours=HoursCodec("logonHours"),
        machines=MachinesCodec("userWorkstations"),
        name=NameCodec("cn", on={UNIT: "ou"}),
        full=NameCodec("cn"),
        display=FieldCodec("displayName"),
        given=FieldCodec("givenName"),
        middle=FieldCodec("middleName"),
        surname=FieldCodec("sn"),
        generation=FieldCodec("generationQualifier"),
        initials=FieldCodec("initials"),
        language=FieldCodec("preferredLanguage"),
        photo=OctetsCodec("thumbnailPhoto"),
        number=FieldCodec("employeeID"),
        badge=FieldCodec("employeeNumber"),
        kind=FieldCodec("employeeType"),
        title=FieldCodec("title"),
        company=FieldCodec("company"),
        department=FieldCodec("department"),
        division=FieldCodec("division"),
        site=FieldCodec("l"),
        office=FieldCodec("physicalDeliveryOfficeName"),
        room=FieldCodec("roomNumber"),
        category=FieldCodec("businessCategory"),
        car=FieldCodec("carLicense"),
        manager=FieldCodec("manager"),
        assistant=FieldCodec("assistant"),
        owner=FieldCodec("managedBy"),
        mail=AddressCodec("mail"),
        alias=AddressCodec("proxyAddresses"),
        phone=PairCodec("telephoneNumber", "otherTelephone"),
        mobile=PairCodec("mobile", "otherMobile"),
        recovery_mail=FieldCodec("otherMailbox"),
        fax=PairCodec("facsimileTelephoneNumber", "otherFacsimileTelephoneNumber"),
        pager=PairCodec("pager", "otherPager"),
        home_phone=PairCodec("homePhone", "otherHomePhone"),
        home_address=FieldCodec("homePostalAddress"),
        ip_phone=PairCodec("ipPhone", "otherIpPhone"),
        web=PairCodec("wWWHomePage", "url"),
        street=FieldCodec("streetAddress"),
        postcode=FieldCodec("postalCode"),
        post_box=FieldCodec("postOfficeBox"),
        province=FieldCodec("st"),
        country=FieldCodec("c"),
        home=FieldCodec("homeDirectory"),
        drive=FieldCodec("homeDrive"),
        profile=FieldCodec("profilePath"),
        script=FieldCodec("scriptPath"),
        uid_number=FieldCodec("uidNumber", unique=["uidNumber"]),
        gid_number=FieldCodec("gidNumber"),
        unix_home=FieldCodec("unixHomeDirectory"),
        shell=FieldCodec("loginShell"),
        remote_logon=RemoteFlagCodec("msTSAllowLogon"),
        remote_home=RemoteCodec("msTSHomeDirectory"),
        remote_drive=RemoteCodec("msTSHomeDrive"),
        remote_profile=RemoteCodec("msTSProfilePath"),
        remote_session_limit=RemoteCodec("msTSMaxConnectionTime"),
        remote_idle_limit=RemoteCodec("msTSMaxIdleTime"),
        remote_disconnect_limit=RemoteCodec("msTSMaxDisconnectionTime"),
        dial_in=BooleanCodec("msNPAllowDialin"),
        dial_in_callback=FieldCodec("msRADIUSCallbackNumber"),
        dial_in_address=AddressNumberCodec("msRADIUSFramedIPAddress"),
        primary=PrimaryGroupCodec("primaryGroupID"),
        delegation=DelegationCodec("vandrelDelegation"),
        purpose=GroupTypeCodec(),
        scope=GroupTypeCodec(),
        members=FieldCodec("member"),
        notes=NotesCodec(),
        protected=MarkCodec("vandrelProtected", at_creation=False),
    )

    superior_guard = "vandrelGuarding"

    # --- object types

    def before_deletion(self, entry: Entry) -> tuple[str, str]:
        """[MS-ADTS] 3.1.1.5.5.1.1: a line feed and the object's identifier stand behind the name."""
        return entry.dn.name.partition("\n")[0], entry.text("lastKnownParent")

    def is_servers_own(self, entry: Entry) -> bool:
        """[MS-ADTS] 6.1.1: objects that a domain cannot be without, and what is shown to experts alone.

        The first is the server's to say. The second can be written to any account or group, and hides none of them.
        """
        if entry.text("isCriticalSystemObject") == "TRUE":
            return True
        has_power = entry.has_class("user") or entry.has_class("group")
        return not has_power and entry.text("showInAdvancedViewOnly") == "TRUE"

    def filter_for(self, object_type: str) -> Filter:
        """By the object class."""
        if object_type == ACCOUNT:  # a computer is a user as well
            return And((Compare("objectClass", "=", "user"), Not(Compare("objectClass", "=", "computer"))))
        name = {GROUP: "group", UNIT: "organizationalUnit", COMPUTER: "computer"}[object_type]
        return Compare("objectClass", "=", name)

    # --- hours

    @property
    def hours_ahead(self) -> int:
        """Whole hours by which the organization's clock is ahead of UTC today: the server knows of no summer time."""
        return self._ahead_on(self.charter.today())

    def _ahead_on(self, day: date) -> int:
        """Rounded down, so that in a zone of half hours each hour begins later by the clock, and none earlier."""
        return self._offset_on(day) // timedelta(hours=1)

    def _offset_on(self, day: date) -> timedelta:
        return datetime.combine(day, time(12), self.charter.zone).utcoffset() or timedelta()

    @property
    def hours_late(self) -> int:
        """Minutes: what the organization's clock is ahead beyond whole hours."""
        return self._offset_on(self.charter.today()) % timedelta(hours=1) // timedelta(minutes=1)

    def means_later(self, field: str, value: str) -> tuple[str, str]:
        """Hours are kept in UTC, so that they move by the clock when summer time begins or ends."""
        if field != "hours":
            return "", ""
        today = self.charter.today()
        for days in range(1, 367):
            moved = self._ahead_on(today + timedelta(days)) - self.hours_ahead
            if moved:
                then = week.to_text(hours.shifted(week.parse(value), moved))
                return ("", "") if then == value else (then, (today + timedelta(days)).isoformat())
        return "", ""

    # --- groups

    def team_called(self, identifier: str) -> str:
        """The name of the group that has a SID; the SID itself where there is none."""
        if identifier not in self._teams:
            where = Compare("objectSid", "=", identifier)
            groups = self.directory.search(self.directory.contexts[0], where=where, only=["cn"])
            self._teams[identifier] = next((entry.dn.name for entry in groups), identifier)
        return self._teams[identifier]

    def delegated(self, word: str) -> str:
        """A task of a team, ``team: task``, as the directory keeps it: the SID of the group, if there is one."""
        name, _, task = word.rpartition(": ")
        where = And((self.filter_for(GROUP), Compare("cn", "=", name)))
        team = next(self.directory.search(self.charter.base, where=where, only=["objectSid"]), None)
        return f"{team.text('objectSid') if team else name} {task}"

    @property
    def can_shield(self) -> bool:
        """Whether a single account can be kept from a team that a task was delegated to on its unit."""
        return True

    def shielded_from(self, entry: Entry) -> list[str]:
        """The tasks of teams, ``team: task``, that an account is kept from."""
        pairs = (value.partition(" ") for value in entry.texts("vandrelShieldedFrom"))
        return [f"{self.team_called(who)}: {task}" for who, _, task in pairs]

    def shield(self, come: Collection[str], go: Collection[str]) -> list[Change]:
        """The changes to an account that keep these tasks of teams from it, and those not any more."""
        removed, added = (tuple(map(self.delegated, words)) for words in (go, come))
        return [Change("vandrelShieldedFrom", removed, added)]

    @cached_property
    def _teams(self) -> dict[str, str]:
        return {}

    def members(self, group: Entry) -> list[str]:
        """The members in the list; those by primary group are in none."""
        return group.texts("member")

    def groups_filter(self, entry: Entry) -> Filter:
        """By ``member``, and the primary group by its SID."""
        listed = Compare("member", "=", str(entry.dn))
        own, number = entry.text("objectSid"), entry.text("primaryGroupID")
        return Or((listed, Compare("objectSid", "=", sid.sibling(own, int(number))))) if own and number else listed

    primary_joins = True
    of_server = _SERVERS_OWN

    def primary_members(self, group: Entry) -> Compare | None:
        """By the last number of the group's SID."""
        own = group.text("objectSid")
        return Compare("primaryGroupID", "=", str(sid.relative(own))) if own else None

    # --- logging on

    def has_password(self, entry: Entry) -> bool | None:
        """The server tells no more than when it was set; an enabled account must have had one, unless excused.

        A time of 0 is that of an account that never had one, and of one whose password must be changed
        ([MS-ADA3] 2.175), so nothing can be told of a disabled one.
        """
        if entry.text("pwdLastSet") not in ("", "0"):
            return True
        excused = control_of(entry) & (account_control.DISABLED | account_control.PASSWORD_NOT_REQUIRED)
        return None if excused or not entry.text("userAccountControl") else True

    def is_locked(self, entry: Entry) -> bool:
        """Whether bad attempts have locked the account."""
        return is_locked(entry)

    def why_not_heeded(self, field: str, entry: Entry) -> str:
        """A first day is ours alone."""
        if field == "starts" and not self.directory.capabilities.embedded:
            return "the server knows nothing of it"
        return ""

    def registered_suffixes(self) -> frozenset[str] | None:
        """[MS-ADTS] 6.1.1.2.3: the names of the domains of the forest, and what is registered beside them."""
        if self.directory.capabilities.embedded:
            return None
        suffixes: set[str] = set()
        for entry in self._partitions():
            suffixes.update(value.lower() for value in entry.texts("uPNSuffixes"))
            if entry.text("nETBIOSName"):  # a domain, and no other partition
                suffixes.update(value.lower() for value in entry.texts("dnsRoot"))
        return frozenset(suffixes)

    def suffix_list(self) -> Entry | None:
        """The container of the forest's partitions; a copy in a file has none."""
        return next((entry for entry in self._partitions() if entry.has_class("crossRefContainer")), None)

    def _partitions(self) -> Iterator[Entry]:
        where = Or((Compare("objectClass", "=", "crossRef"), Compare("objectClass", "=", "crossRefContainer")))
        attributes = ["objectClass", "dnsRoot", "uPNSuffixes", "nETBIOSName"]
        for base in self.directory.contexts:
            if base.name.lower() == "configuration":
                yield from self.directory.search(base, where=where, only=attributes)

    def instants(self, entry: Entry) -> Iterator[tuple[str, datetime]]:
        """From [MS-ADA3] and [MS-ADA2]; a copy in a file has time stamps of its own."""
        for label, source in (
            ("created", ("whenCreated", "createTimestamp")),
            ("changed", ("whenChanged", "modifyTimestamp")),
        ):
            stamps = (gentime.parse(entry.text(name).replace(".0Z", "Z")) for name in source)
            if instant := next(filter(None, stamps), None):
                yield label, instant
        for label, attribute in (("password set", "pwdLastSet"), ("last logon", "lastLogonTimestamp")):
            if instant := filetime.parse(entry.text(attribute)):
                yield label, instant

    @cached_property
    def _domain(self) -> Entry | None:
        return self.directory.get(self.directory.contexts[0])

    def password_layers(self, entry: Entry | None) -> list[tuple[str, Passwords]]:
        """The rules of the domain, and those of a finer policy."""
        if self._layers is None or self._layers[0] is not entry:  # of one reading of an entry, they stay the same
            self._layers = entry, active_password_policy.layers(self.directory, self._domain, entry)
        return self._layers[1]

    _layers: tuple[Entry | None, list[tuple[str, Passwords]]] | None = None

    # --- writing

    def new_entry(self, object_type: str, dn: DN, values: Mapping[str, Sequence[str]]) -> dict[str, list[Value]]:
        """The attributes of a new object with these fields; an account is disabled until it has a password."""
        entry = Entry(dn, {"objectClass": list(self.classes(object_type))})
        entry.attributes[self.attribute("name", object_type)] = [dn.name]
        if object_type in (ACCOUNT, COMPUTER):
            normal = account_control.NORMAL_ACCOUNT if object_type == ACCOUNT else account_control.WORKSTATION
            off = object_type == ACCOUNT or list(values.get("enabled", ())) == ["no"]
            entry.attributes["userAccountControl"] = [
                str(account_control.with_flag(normal, account_control.DISABLED, off))
            ]
        if object_type == GROUP:
            purpose, scope = (next(iter(values.get(name, ())), "") for name in ("purpose", "scope"))
            entry.attributes["groupType"] = [account_control.group_type(purpose or "security", scope or "global")]
        if logon := _logon_of(object_type, dn.name):
            entry.attributes["sAMAccountName"] = [logon]
        for field, texts in values.items():
            codec, attribute = self._codecs.get(field), self.attribute(field, object_type)
            if codec is not None and texts and attribute and codec.at_creation:
                codec.write(self, entry, attribute, texts)
        return entry.attributes

    def changes_with_name(self, entry: Entry, name: str) -> list[Change]:
        """The logon name of a group or a computer follows its name, where it was that of the old one."""
        object_type = self.object_type_of(entry)
        old, new = _logon_of(object_type, entry.dn.name), _logon_of(object_type, name)
        follows = old and old != new and entry.text("sAMAccountName").casefold() == old.casefold()
        return [Change("sAMAccountName", tuple(entry.texts("sAMAccountName")), (new,))] if follows else []

    def addable(self, entry: Entry, *, is_same: bool = False) -> tuple[dict[str, list[Value]], str]:
        """Without what the server alone gives; an account comes back disabled."""
        attributes, _ = super().addable(entry)
        attributes = {name: values for name, values in attributes.items() if name not in _SERVERS_OWN}
        lacking = [] if is_same else ["as a new object, with another identity (SID and GUID)"]
        if self.object_type_of(entry) == ACCOUNT:
            disabled = account_control.with_flag(control_of(entry), account_control.DISABLED, is_set=True)
            attributes["userAccountControl"] = [str(disabled)]
            mend = f"vandrel edit {places.typed(entry.dn, self.charter.base)} password=generate enabled=yes"
            lacking.append(f"disabled, for want of its password: {mend}")
        return attributes, f"it comes back {' and '.join(lacking)}" if lacking else ""

    def changes_after_creation(self, object_type: str, values: Mapping[str, Sequence[str]]) -> list[Change]:
        """What stands in the security descriptor, which the server makes itself first."""
        changes = [
            Change(codec.attribute, added=("TRUE",))
            for field, texts in values.items()
            if isinstance(codec := self._codecs.get(field), MarkCodec) and not codec.at_creation and is_yes(texts)
        ]
        if delegated := self.stored("delegation", values.get("delegation", ())):
            changes.append(Change("vandrelDelegation", added=tuple(delegated)))
        return changes

    def member_change(self, group: Entry, add: Sequence[DN], remove: Sequence[DN]) -> list[Change]:
        """What to change in a group so that these are, and those are no longer, its members."""
        added, removed = self._joins(group, add, remove)
        return [Change("member", tuple(removed), tuple(added))] if added or removed else []
