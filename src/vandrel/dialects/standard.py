"""The standard dialect: RFC 4519, RFC 2798, the password policy draft, and our auxiliary schema."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property
from itertools import islice
from typing import ClassVar

from vandrel.charter.document import Passwords
from vandrel.dialects.base import BaseDialect, table
from vandrel.dialects.codec import (
    DateCodec,
    FieldCodec,
    MarkCodec,
    NameCodec,
    OctetsCodec,
    OctetTextCodec,
    PosixCodec,
    SecretCodec,
    is_yes,
    put,
    yes_no,
)
from vandrel.dialects.posix_codecs import SHADOW_END, EndCodec, FirstGroupCodec
from vandrel.dialects.standard_groups import NOBODY, MembersCodec, StandardGroups
from vandrel.directory import dn as names
from vandrel.directory import gentime
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import And, Compare, Filter, Not, Or, Present
from vandrel.directory.member_lists import BY_LOGIN
from vandrel.directory.operations import Change
from vandrel.fields import ACCOUNT, COMPUTER, GROUP, UNIT

#: draft-behera-ldap-password-policy-10, section 5.3.3: this value disables until somebody lifts it.
DISABLED = "000001010000Z"

#: The object classes by which an entry is found to be of a type.
_CLASSES_OF = {
    ACCOUNT: ("person", "posixAccount"), GROUP: ("groupOfNames", "groupOfUniqueNames", "posixGroup"),
    UNIT: ("organizationalUnit",), COMPUTER: ("device",),
}  # fmt: skip

_ADDRESSES = ("mail", "vandrelMailAlias")
_DAY = 86_400
#: Accounts with a password of which two must show theirs, so that hashes count as shown: most see their own.
_ENOUGH = 5


class _FullNameCodec(FieldCodec):
    """The full name: a value of ``cn`` other than the one that names the entry."""

    needs_attribute = False

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The other values; the naming value where there are none."""
        others = [value for value in entry.texts("cn") if value != entry.dn.name]
        return others or entry.texts("cn")[:1]

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Keep the naming value first, where the entry is named by it."""
        named = [entry.dn.name] if entry.dn.naming_attribute.lower() == "cn" else []
        put(entry, attribute, [*named, *values])


class _EnabledCodec(FieldCodec):
    """An account is disabled by a lock that never ends."""

    needs_attribute = False
    heeded_by = "pwdLockout"

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """Whether there is no such lock."""
        if dialect.object_type_of(entry) not in (ACCOUNT, COMPUTER):
            return []
        return yes_no(DISABLED not in entry.texts(self.attribute))

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """The lock, or nothing."""
        return [DISABLED] if list(values) == ["no"] else []

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Set the lock in place of any other; lift no other."""
        others = [value for value in entry.values_of(attribute) if value != DISABLED]
        put(entry, attribute, self.store(dialect, attribute, values) or others)

    def condition(self, dialect: BaseDialect, attribute: str, value: str) -> Filter | None:
        """Look for the lock, or for its lack."""
        disabled = Compare(self.attribute, "=", DISABLED)
        return disabled if value == "no" else Not(disabled)


class _LockedCodec(FieldCodec):
    """Bad attempts leave a lock that has begun at some time."""

    needs_attribute = False
    at_creation = False

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """Whether there is such a lock."""
        return yes_no(is_locked(entry)) if dialect.object_type_of(entry) == ACCOUNT else []

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Lift the lock; nobody but the server sets one."""
        if not is_yes(values):
            put(entry, attribute, [value for value in entry.values_of(attribute) if value == DISABLED])


class _MustChangeCodec(MarkCodec):
    """That the password must be changed."""

    heeded_by = "pwdMustChange"

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """Whether an account is marked so."""
        return super().read(dialect, entry, attribute) if dialect.object_type_of(entry) == ACCOUNT else []


def is_locked(entry: Entry) -> bool:
    """Whether bad attempts have locked the account."""
    return any(value != DISABLED for value in entry.texts("pwdAccountLockedTime"))


class StandardDialect(StandardGroups):
    """See `vandrel.dialects.dialect.Dialect`."""

    name = "standard"
    enables_last = False
    tells_last_logon = False
    members_at_creation = True
    has_servers_own = False

    CLASSES: ClassVar[Mapping[str, Sequence[str]]] = {
        ACCOUNT: ("top", "person", "organizationalPerson", "inetOrgPerson", "vandrelAccount"),
        GROUP: ("top", "groupOfNames", "vandrelGroup"),
        UNIT: ("top", "organizationalUnit", "vandrelUnit"),
        COMPUTER: ("top", "device", "vandrelComputer"),
    }
    TYPES: ClassVar[Sequence[tuple[str, str]]] = (
        ("person", ACCOUNT), ("groupofnames", GROUP), ("groupofuniquenames", GROUP), ("posixgroup", GROUP),
        ("posixaccount", ACCOUNT), ("device", COMPUTER), ("organizationalunit", UNIT),
    )  # fmt: skip
    CODECS: ClassVar[Mapping[str, FieldCodec]] = table(
        login=FieldCodec("uid", unique=["uid"]),
        principal=FieldCodec("vandrelPrincipalName", unique=["vandrelPrincipalName"]),
        enabled=_EnabledCodec("pwdAccountLockedTime"),
        password=SecretCodec("userPassword"),
        change=_MustChangeCodec("pwdReset"),
        locked=_LockedCodec("pwdAccountLockedTime"),
        starts=DateCodec("vandrelStart"),
        ends=EndCodec("vandrelEnd"),
        back=DateCodec("vandrelBack"),
        hours=FieldCodec("vandrelHours"),
        machines=FieldCodec("vandrelMachine"),
        name=NameCodec("cn", on={UNIT: "ou"}),
        full=_FullNameCodec("cn"),
        display=FieldCodec("displayName"),
        given=FieldCodec("givenName"),
        middle=FieldCodec("vandrelMiddleName"),
        surname=FieldCodec("sn"),
        generation=FieldCodec("generationQualifier"),
        initials=FieldCodec("initials"),
        language=FieldCodec("preferredLanguage"),
        photo=OctetsCodec("jpegPhoto"),
        number=FieldCodec("employeeNumber"),
        badge=FieldCodec("vandrelBadge"),
        kind=FieldCodec("employeeType", on={GROUP: "vandrelGroupKind"}),
        title=FieldCodec("title"),
        company=FieldCodec("o"),
        department=FieldCodec("departmentNumber"),
        division=FieldCodec("ou"),
        site=FieldCodec("l"),
        office=FieldCodec("physicalDeliveryOfficeName"),
        room=FieldCodec("roomNumber"),
        category=FieldCodec("businessCategory"),
        car=FieldCodec("carLicense"),
        manager=FieldCodec("manager"),
        assistant=FieldCodec("secretary"),
        sponsor=FieldCodec("vandrelSponsor"),
        owner=FieldCodec("owner"),
        mail=FieldCodec("mail", unique=_ADDRESSES),
        alias=FieldCodec("vandrelMailAlias", unique=_ADDRESSES),
        phone=FieldCodec("telephoneNumber"),
        mobile=FieldCodec("mobile"),
        recovery_mail=FieldCodec("vandrelRecoveryMail"),
        fax=FieldCodec("facsimileTelephoneNumber"),
        pager=FieldCodec("pager"),
        home_phone=FieldCodec("homePhone"),
        home_address=FieldCodec("homePostalAddress"),
        ip_phone=FieldCodec("vandrelNetworkPhone"),
        web=FieldCodec("labeledURI"),
        entitlement=FieldCodec("vandrelEntitlement"),
        service_role=FieldCodec("vandrelServiceRole"),
        street=FieldCodec("street"),
        postcode=FieldCodec("postalCode"),
        post_box=FieldCodec("postOfficeBox"),
        province=FieldCodec("st"),
        country=FieldCodec("c"),
        home=FieldCodec("vandrelHomeFolder"),
        drive=FieldCodec("vandrelHomeDrive"),
        profile=FieldCodec("vandrelProfile"),
        script=FieldCodec("vandrelLogonScript"),
        uid_number=PosixCodec(FieldCodec("uidNumber", unique=["uidNumber"])),
        gid_number=PosixCodec("gidNumber"),
        primary=FirstGroupCodec("gidNumber"),
        unix_home=PosixCodec("homeDirectory"),
        shell=PosixCodec("loginShell"),
        ssh_key=PosixCodec(OctetTextCodec("sshPublicKey"), "ldapPublicKey"),
        purpose=FieldCodec("vandrelGroupPurpose"),
        scope=FieldCodec("vandrelGroupScope"),
        members=MembersCodec("member"),
        notes=FieldCodec("description"),
        protected=MarkCodec("vandrelProtected"),
    )

    def before_deletion(self, entry: Entry) -> tuple[str, str]:
        """The name; where the object was is not told."""
        return entry.dn.name, ""

    def is_servers_own(self, entry: Entry) -> bool:
        """Nothing is."""
        return False

    def filter_for(self, object_type: str) -> Filter:
        """By the object classes that make one such."""
        classes = [name for name in _CLASSES_OF[object_type] if self.schema.object_class(name) is not None]
        wheres = tuple(Compare("objectClass", "=", name) for name in classes)
        return wheres[0] if len(wheres) == 1 else Or(wheres)

    def classes(self, object_type: str) -> list[str]:
        """Those of a new group are the charter's choice."""
        names_ = super().classes(object_type)
        if object_type != GROUP:
            return names_
        own = [name for name in self.charter.group_classes if self.schema.object_class(name) is not None]
        return [*names_[:1], *own, *(name for name in names_[1:] if name != "groupOfNames")]

    # --- reading

    def attribute(self, field: str, object_type: str) -> str:
        """Members of a new group are in the list of the classes that the charter gives it; an end may be Unix's."""
        if field != "members" or object_type != GROUP:
            attribute = super().attribute(field, object_type)
            is_unix = field == "ends" and self.schema.attribute(SHADOW_END) is not None
            return SHADOW_END if is_unix and not attribute and object_type == ACCOUNT else attribute
        return self.member_attribute(Entry(DN(()), {"objectClass": list(self.classes(GROUP))})) or BY_LOGIN

    primary_joins = False
    of_server: frozenset[str] = frozenset()

    def primary_members(self, group: Entry) -> Compare | None:
        """By the number of the group."""
        number = group.text("gidNumber")
        return Compare("gidNumber", "=", number) if number else None

    def groups_numbered(self, number: str) -> list[str]:
        """The names of the groups with a number, in order; asked once for all that have it as their first."""
        if number not in self._numbered:
            where = And((self.filter_for(GROUP), Compare("gidNumber", "=", number)))
            groups = self.directory.search(self.charter.base, where=where, only=["cn"])
            self._numbered[number] = sorted(str(group.dn) for group in groups)
        return self._numbered[number]

    @cached_property
    def _numbered(self) -> dict[str, list[str]]:
        return {}

    def has_password(self, entry: Entry) -> bool | None:
        """Whether a hash or the time of one can be seen; where neither is, it must be known that hashes are shown."""
        if entry.values_of("userPassword"):
            return True
        if self._shows_hashes:
            return False
        return True if entry.text("pwdChangedTime") else None

    @cached_property
    def _shows_hashes(self) -> bool:
        """Whether this identity sees the hashes of others than itself, and so would see this one."""
        if self.directory.capabilities.embedded:
            return True
        entries = self.directory.search(self.charter.base, where=Present("userPassword"), only=["userPassword"])
        return sum(bool(entry.values_of("userPassword")) for entry in islice(entries, _ENOUGH)) > 1

    def is_locked(self, entry: Entry) -> bool:
        """Whether bad attempts have locked the account."""
        return is_locked(entry)

    def instants(self, entry: Entry) -> Iterator[tuple[str, datetime]]:
        """From RFC 4512, 3.4, and the password policy draft."""
        for label, attribute in (
            ("created", "createTimestamp"), ("changed", "modifyTimestamp"), ("password set", "pwdChangedTime"),
        ):  # fmt: skip
            if instant := gentime.parse(entry.text(attribute)):
                yield label, instant

    # --- policies

    @cached_property
    def _policies(self) -> dict[str, Entry]:
        """The password policies that can be seen, by the key of their name."""
        if self.directory.capabilities.embedded or self.schema.object_class("pwdPolicy") is None:
            return {}
        where = Compare("objectClass", "=", "pwdPolicy")
        return {entry.dn.key: entry for context in self.directory.contexts
                for entry in self.directory.search(context, where=where)}  # fmt: skip

    def _policy(self, entry: Entry | None) -> Entry | None:
        """The policy in force: the object's own, the one that the connection names, or the only one there is."""
        own = entry.text("pwdPolicySubentry") if entry is not None else ""
        named = own or self.directory.capabilities.policy
        if named:
            return self._policies.get(names.parse(named).key)
        return next(iter(self._policies.values())) if len(self._policies) == 1 else None

    def keeps_out(self, entry: Entry | None) -> bool | None:
        """Only where a policy has pwdLockout (the draft's section 5.2.11)."""
        if self.directory.capabilities.disables:
            return True
        if self.schema.attribute("pwdAccountLockedTime") is None:
            return False
        policy = self._policy(entry)
        return None if policy is None else policy.text("pwdLockout") == "TRUE"

    def why_not_heeded(self, field: str, entry: Entry) -> str:
        """What a policy must say so that the server acts on a field: the draft's section 5.2."""
        if self.directory.capabilities.disables:
            return ""
        codec = self.codec(field)
        if codec is None or not codec.heeded_by:
            return "the server knows nothing of it"
        policy = self._policy(entry)
        if policy is None:
            return "no password policy can be seen that makes the server heed it"
        missing = policy.text(codec.heeded_by) != "TRUE"
        return f"the password policy {policy.dn.name} has no {codec.heeded_by}" if missing else ""

    def suffix_list(self) -> None:
        """There is no list."""

    def registered_suffixes(self) -> None:
        """No such list is kept here."""

    def password_layers(self, entry: Entry | None) -> list[tuple[str, Passwords]]:
        """The rules of the policy in force."""
        policy = self._policy(entry)
        if policy is None:
            return []
        days = {name: -(-int(policy.text(name) or 0) // _DAY) for name in ("pwdMaxAge", "pwdMinAge")}
        number = {name: int(policy.text(name) or 0) for name in ("pwdMinLength", "pwdInHistory")}
        rules = Passwords(
            length=number["pwdMinLength"], history=number["pwdInHistory"], maximum_age=days["pwdMaxAge"],
            minimum_age=days["pwdMinAge"],
        )  # fmt: skip
        return [(f"server: {policy.dn.name}", rules)]

    # --- writing

    def naming_attribute(self, object_type: str) -> str:
        """The logon name names accounts where the charter says so."""
        by_login = object_type == ACCOUNT and self.charter.document.named_by == "login"
        return self.attribute("login", ACCOUNT) if by_login else super().naming_attribute(object_type)

    def new_entry(self, object_type: str, dn: DN, values: Mapping[str, Sequence[str]]) -> dict[str, list[Value]]:
        """The attributes of a new object with these fields; those that are not kept here are left out."""
        entry = Entry(dn, {"objectClass": list(self.classes(object_type))})
        entry.attributes[self.schema.attribute_name(dn.naming_attribute)] = [dn.name]
        for field, texts in values.items():
            codec, attribute = self._codecs.get(field), self.attribute(field, object_type)
            if codec is not None and texts and attribute and codec.at_creation:
                codec.write(self, entry, attribute, texts)
        if ends := values.get("ends"):  # once more, as by now it is known whether Unix systems have part in it
            self.write(entry, "ends", ends)
        if object_type == GROUP and (attribute := self._must_list(entry)):
            entry.attributes.setdefault(attribute, [NOBODY])
        self._remember_login(entry)
        return entry.attributes

    def addable(self, entry: Entry, *, is_same: bool = False) -> tuple[dict[str, list[Value]], str]:
        """See `BaseDialect.addable`; the logon name is known from here on."""
        self._remember_login(entry)
        return super().addable(entry, is_same=is_same)

    def changes_after_creation(self, object_type: str, values: Mapping[str, Sequence[str]]) -> list[Change]:
        """Everything can stand in a new entry."""
        return []
