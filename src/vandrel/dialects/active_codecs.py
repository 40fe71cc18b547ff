"""How fields are kept by the Active Directory schema: [MS-ADA1] to [MS-ADA3], [MS-ADTS], [MS-SAMR]."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, cast

from vandrel.dialects.base import BaseDialect
from vandrel.dialects.codec import FieldCodec, UniqueForm, is_yes, put, yes_no
from vandrel.directory import dn as names
from vandrel.directory.active import account_control, filetime, hours, remote_sessions, sid
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import Compare, Extensible, Filter, Not, Or
from vandrel.fields import ACCOUNT, GROUP
from vandrel.text import addresses, week

if TYPE_CHECKING:
    from vandrel.dialects.active import ActiveDialect

#: [MS-ADTS] 3.1.1.3.4.4.1: whether all these bits are set.
ALL_BITS = "1.2.840.113556.1.4.803"

#: [MS-OXOABK] 2.2.3.23: the address that answers go to is marked in capitals.
PRIMARY_ADDRESS, FURTHER_ADDRESS = "SMTP:", "smtp:"

CONTROL = "userAccountControl"


def control_of(entry: Entry) -> int:
    """The flags of an account or a computer."""
    return int(entry.text(CONTROL) or 0)


def has_bits(attribute: str, bits: int) -> Filter:
    """Find the entries in whose attribute all of the bits are set."""
    return Extensible(attribute, ALL_BITS, False, str(bits))


class FlagCodec(FieldCodec):
    """One bit of userAccountControl ([MS-ADTS] 2.2.16).

    `is_inverted` is whether the bit stands for no. Where it stands for yes, the field is empty without it.
    """

    def __init__(self, bit: int, *, is_inverted: bool = False) -> None:
        """Name the bit."""
        super().__init__(CONTROL)
        self._bit = bit
        self._is_inverted = is_inverted
        self.at_creation = not is_inverted

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """What the bit says."""
        is_set = bool(control_of(entry) & self._bit)
        return yes_no(not is_set) if self._is_inverted else ["yes"] if is_set else []

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Set the bit, or clear it."""
        is_set = is_yes(values) != self._is_inverted
        put(entry, attribute, [str(account_control.with_flag(control_of(entry), self._bit, is_set))])

    def condition(self, dialect: BaseDialect, attribute: str, value: str) -> Filter | None:
        """Look at the bit."""
        is_set = has_bits(CONTROL, self._bit)
        return is_set if (value == "yes") != self._is_inverted else Not(is_set)


class MustChangeCodec(FieldCodec):
    """The password must be changed where it counts as never set ([MS-SAMR] 3.1.1.8.8)."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """Whether the time is 0."""
        return yes_no(entry.text(attribute) == "0")

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Set 0, or -1, which the server turns into the current time."""
        if is_yes(values) != (entry.text(attribute) == "0"):
            put(entry, attribute, ["0" if is_yes(values) else "-1"])

    def condition(self, dialect: BaseDialect, attribute: str, value: str) -> Filter | None:
        """Look for 0."""
        zero = Compare(attribute, "=", "0")
        return zero if value == "yes" else Not(zero)


class LockedCodec(FieldCodec):
    """Bad attempts have locked the account ([MS-SAMR] 3.1.1.8.11)."""

    at_creation = False

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """What the server works out."""
        return yes_no(is_locked(entry))

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Lift the lock; nobody but the server sets one."""
        if not is_yes(values) and entry.text(attribute) not in ("", "0"):
            put(entry, attribute, ["0"])


def is_locked(entry: Entry) -> bool:
    """Whether the account is locked ([MS-ADTS] 3.1.1.4.5.17)."""
    return bool(int(entry.text("msDS-User-Account-Control-Computed") or 0) & account_control.LOCKED)


class EndCodec(FieldCodec):
    """The instant after the last day; two numbers mean never."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The last day, in the organization's time zone."""
        instant = filetime.parse(entry.text(attribute))
        return [dialect.day_of(self.field, instant).isoformat()] if instant else []

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """Intervals of 100 ns since 1601 in UTC."""
        return [filetime.to_text(dialect.instant_of(self.field, value)) for value in values]

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Set the instant, or never."""
        if values or filetime.parse(entry.text(attribute)) is not None:
            put(entry, attribute, self.store(dialect, attribute, values) or [filetime.NEVER])


class HoursCodec(FieldCodec):
    """Hours of the week, 21 octets in UTC ([MS-ADA1] logonHours)."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The week by the organization's clock."""
        octets = next((value for value in entry.values_of(attribute) if isinstance(value, bytes)), b"")
        ahead = cast("ActiveDialect", dialect).hours_ahead
        return [week.to_text(hours.shifted(hours.decode(octets), ahead))] if octets else []

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """The week in UTC."""
        ahead = cast("ActiveDialect", dialect).hours_ahead
        return [hours.encode(hours.shifted(week.parse(value), -ahead)) for value in values[:1]]


class MachinesCodec(FieldCodec):
    """Names of computers, divided by commas in one value."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The names."""
        return [name for name in entry.text(attribute).split(",") if name]

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """One value."""
        return [",".join(values)] if values else []


class AddressCodec(FieldCodec):
    """The main address and the further ones: ``mail`` follows the one primary address of ``proxyAddresses``.

    The list is kept only where there are further ones.
    """

    def __init__(self, attribute: str) -> None:
        """Name ``mail`` or ``proxyAddresses``."""
        super().__init__(attribute, unique=("mail", "proxyAddresses"))

    def attributes(self) -> tuple[str, ...]:
        """Both."""
        return self.unique

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The main address, or the further ones."""
        return _further(entry) if self.field == "alias" else entry.texts(attribute)

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """Addresses as ``proxyAddresses`` has them; the main one as it is."""
        return list(values) if self.field == "mail" else [*map(_listed, values)]

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Both attributes, so that they say the same."""
        mail = list(values) if self.field == "mail" else entry.texts("mail")
        further = list(values) if self.field == "alias" else _further(entry)
        is_kept = bool(further or entry.texts("proxyAddresses"))
        main: list[Value] = [*mail]
        put(entry, "mail", main)
        aliases = [value for value in further if value.casefold() not in {m.casefold() for m in mail}]
        if is_kept:
            put(entry, "proxyAddresses", [*(f"{PRIMARY_ADDRESS}{value}" for value in mail), *map(_listed, aliases)])

    def condition(self, dialect: BaseDialect, attribute: str, value: str) -> Filter | None:
        """Compare a further address as the list has it."""
        return Compare("proxyAddresses", "=", _listed(value)) if self.field == "alias" else None

    def unique_forms(self, value: str) -> list[UniqueForm]:
        """In either attribute; an address of another type in the list alone."""
        if addresses.split(value)[0]:
            return [("proxyAddresses", value)]
        return [("mail", value), ("proxyAddresses", f"{FURTHER_ADDRESS}{value}")]

    def unique_columns(self, values: Sequence[str]) -> list[tuple[str, Sequence[str]]]:
        """The same for addresses that are built, none of which has a type."""
        return [("mail", values), ("proxyAddresses", [f"{FURTHER_ADDRESS}{value}" for value in values])]

    def field_value(self, attribute: str, stored: str) -> str:
        """The address without the type of mail."""
        is_mail = attribute == "proxyAddresses" and addresses.split(stored)[0].lower() == "smtp"
        return addresses.split(stored)[1] if is_mail else stored


def _further(entry: Entry) -> list[str]:
    others = (value for value in entry.texts("proxyAddresses") if not value.startswith(PRIMARY_ADDRESS))
    return [value.removeprefix(FURTHER_ADDRESS) for value in others]


def _listed(value: str) -> str:
    return value if addresses.split(value)[0] else f"{FURTHER_ADDRESS}{value}"


class GroupTypeCodec(FieldCodec):
    """Purpose and scope of a group, two parts of one number ([MS-ADTS] 2.2.12)."""

    at_creation = False

    def __init__(self) -> None:
        """Name the attribute."""
        super().__init__("groupType")

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """One of the two."""
        stored = entry.text(attribute)
        if self.field == "purpose":
            return [account_control.purpose_of(stored)] if stored else []
        scope = account_control.scope_of(stored or "0")
        return [scope] if scope else []

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """Nothing: it is a part of a number."""
        return []

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Change one of the two and keep the other."""
        stored = entry.text(attribute) or "0"
        both = {"purpose": account_control.purpose_of(stored), "scope": account_control.scope_of(stored)}
        both[self.field] = next(iter(values), both[self.field])
        put(entry, attribute, [account_control.group_type(both["purpose"], both["scope"])])

    def condition(self, dialect: BaseDialect, attribute: str, value: str) -> Filter | None:
        """Look at the bits."""
        if self.field == "scope":
            return has_bits(attribute, int(account_control.group_type("distribution", value)))
        security = has_bits(attribute, account_control.SECURITY)
        return security if value == "security" else Not(security)


class PrimaryGroupCodec(FieldCodec):
    """The primary group, by the last number of its SID."""

    at_creation = False

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The name of the group."""
        own, number = entry.text("objectSid"), entry.text(attribute)
        if not own or not number:
            return []
        where = Compare("objectSid", "=", sid.sibling(own, int(number)))
        groups = dialect.directory.search(dialect.charter.base, where=where, only=["objectSid"])
        return [str(group.dn) for group in groups]

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """The number of each group."""
        entries = (dialect.directory.get(names.parse(value)) for value in values)
        return [str(sid.relative(group.text("objectSid"))) for group in entries if group is not None]

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Set another group; nobody is without one."""
        if values:
            put(entry, attribute, self.store(dialect, attribute, values))


class PairCodec(FieldCodec):
    """Several values, the first in one attribute and the others in a second one ([MS-ADSC] 2.263)."""

    def __init__(self, attribute: str, second: str) -> None:
        """Name both."""
        super().__init__(attribute)
        self.second = second

    def attributes(self) -> tuple[str, ...]:
        """Both."""
        return self.attribute, self.second

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The first, then the others."""
        return [*entry.texts(attribute), *entry.texts(self.second)]

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """The first, then the others."""
        put(entry, attribute, list(values[:1]))
        put(entry, self.second, list(values[1:]))

    def condition(self, dialect: BaseDialect, attribute: str, value: str) -> Filter | None:
        """Look in both."""
        return Or(tuple(Compare(name, "=", value) for name in (attribute, self.second)))


class NotesCodec(FieldCodec):
    """Notes: of accounts and groups the first in ``description``, the others as lines of ``info``."""

    def __init__(self) -> None:
        """Name the attribute."""
        super().__init__("description")

    def attributes(self) -> tuple[str, ...]:
        """Both."""
        return "description", "info"

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The first, then the lines."""
        if not self._has_lines(dialect, entry):
            return entry.texts(attribute)
        return [*entry.texts(attribute), *filter(None, entry.text("info").splitlines())]

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """The first, then the lines."""
        if not self._has_lines(dialect, entry):
            put(entry, attribute, list(values))
            return
        put(entry, attribute, list(values[:1]))
        put(entry, "info", ["\r\n".join(values[1:])] if values[1:] else [])

    @staticmethod
    def _has_lines(dialect: BaseDialect, entry: Entry) -> bool:
        return dialect.object_type_of(entry) in (ACCOUNT, GROUP)


class RemoteCodec(FieldCodec):
    """A setting of remote sessions; older programs left it in a list of their own, which is read and never written."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The attribute, or else the older list."""
        if entry.values_of(attribute):
            return self._stored(entry, attribute)
        older = remote_sessions.read(entry.text("userParameters"), self.field)
        return [older] if older else []

    def _stored(self, entry: Entry, attribute: str) -> list[str]:
        return entry.texts(attribute)


class RemoteFlagCodec(RemoteCodec):
    """Whether remote sessions are allowed."""

    def _stored(self, entry: Entry, attribute: str) -> list[str]:
        return [{"TRUE": "yes", "FALSE": "no"}[v] for v in entry.texts(attribute) if v in ("TRUE", "FALSE")]

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """TRUE or FALSE."""
        return ["TRUE" if value == "yes" else "FALSE" for value in values]


class AddressNumberCodec(FieldCodec):
    """An IPv4 address as a signed number ([MS-ADA2] msRADIUSFramedIPAddress)."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The address in decimal notation with dots."""
        from ipaddress import IPv4Address

        return [str(IPv4Address(int(value) & 0xFFFFFFFF)) for value in entry.texts(attribute)]

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """The number, in 32 bits with a sign."""
        from ipaddress import IPv4Address

        numbers = [int(IPv4Address(value)) for value in values]
        return [str(number - (1 << 32) if number >> 31 else number) for number in numbers]


class DelegationCodec(FieldCodec):
    """Teams and tasks on a unit: ``team-desk: unlock`` for a SID and a task."""

    at_creation = False

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """Teams by their names."""
        team = cast("ActiveDialect", dialect).team_called
        pairs = (value.partition(" ") for value in entry.texts(attribute))
        return [f"{team(who)}: {task}" for who, _, task in pairs]

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """Teams by their SIDs."""
        return list(map(cast("ActiveDialect", dialect).delegated, values))
