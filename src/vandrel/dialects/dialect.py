"""What a dialect is: how our fields are kept in a directory of a given schema."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Protocol

from vandrel.charter.charter import Charter
from vandrel.charter.document import Passwords
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import Compare, Filter
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory


class Dialect(Protocol):
    """Between our fields (`vandrel.fields`) and the attributes of a directory.

    Values of our fields are text; dates are ISO 8601 days, flags ``yes`` and ``no``, references names in text.
    """

    @property
    def name(self) -> str:
        """``standard`` or ``ad``, as the charter's ``attributes`` call it."""

    @property
    def directory(self) -> Directory:
        """The directory whose schema it is."""

    @property
    def charter(self) -> Charter:
        """The house rules."""

    @property
    def enables_last(self) -> bool:
        """Whether an account can be enabled only once it has a password."""

    @property
    def tells_last_logon(self) -> bool:
        """Whether the directory keeps when somebody logged on last."""

    @property
    def members_at_creation(self) -> bool:
        """Whether a group has its members from its creation, because it must not be without one."""

    @property
    def superior_guard(self) -> str:
        """The attribute by which a superior keeps its protected children; empty where it need not."""

    @property
    def has_servers_own(self) -> bool:
        """Whether servers of this schema make objects for themselves."""

    def attribute(self, field: str, object_type: str) -> str:
        """The attribute that keeps a field of an object of this type; empty where several do, or none."""

    def naming_attribute(self, object_type: str) -> str:
        """The attribute that names new entries of objects of this type."""

    def attributes_read(self, object_type: str) -> list[str]:
        """The attributes that the fields of such objects are read from, but for the list of members."""

    def why_not_kept(self, field: str, object_type: str) -> str:
        """Why a field of such an object cannot be kept in this directory; empty where it can."""

    def keeps_out(self, entry: Entry | None) -> bool | None:
        """Whether the server refuses disabled accounts, this one or any; None where this identity cannot see it."""

    @property
    def can_shield(self) -> bool:
        """Whether a single account can be kept from a team that a task was delegated to on its unit."""

    def shielded_from(self, entry: Entry) -> list[str]:
        """The tasks of teams, ``team: task``, that an account is kept from."""

    def shield(self, come: Collection[str], go: Collection[str]) -> list[Change]:
        """The changes to an account that keep these tasks of teams from it, and those not any more."""

    def before_deletion(self, entry: Entry) -> tuple[str, str]:
        """The name that a deleted object had, and the name of what held it, if the directory still tells."""

    def object_type_of(self, entry: Entry) -> str:
        """``account``, ``group``, ``unit``, ``computer``, or an empty string for anything else."""

    def is_servers_own(self, entry: Entry) -> bool:
        """Whether the server made the object for itself, so that no design of ours covers it."""

    def filter_for(self, object_type: str) -> Filter:
        """The filter that finds all objects of a type."""

    def classes(self, object_type: str) -> list[str]:
        """The object classes of a new object of a type."""

    def read(self, entry: Entry, field: str) -> list[str]:
        """The values of one field; memberships, which stand in the groups, are not read here."""

    def read_many(self, entries: Sequence[Entry], field: str, object_type: str) -> Iterator[Sequence[str]]:
        """What `read` gives for each of many entries, all of which are of one type."""

    def new_entry(self, object_type: str, dn: DN, values: Mapping[str, Sequence[str]]) -> dict[str, list[Value]]:
        """The attributes of a new object with these fields; those that are not kept here are left out."""

    def changes_with_name(self, entry: Entry, name: str) -> list[Change]:
        """What else is to change when an object gets another name."""

    def addable(self, entry: Entry, *, is_same: bool = False) -> tuple[dict[str, list[Value]], str]:
        """The attributes with which a deleted object can be added again; and, in words, what does not come back.

        With `is_same`, the directory brings back the object itself, with its identity.
        """

    def changes_after_creation(self, object_type: str, values: Mapping[str, Sequence[str]]) -> list[Change]:
        """What cannot stand in a new entry and is set once it is there."""

    def write(self, entry: Entry, field: str, values: Sequence[str]) -> None:
        """Change an entry in place so that a field has exactly these values; `difference` then gives the changes."""

    def changes(self, entry: Entry, field: str, values: Sequence[str]) -> list[Change]:
        """What to change so that a field has exactly these values; empty if it has."""

    def stored(self, field: str, values: Sequence[str]) -> list[Value]:
        """The values of a field as the directory keeps them."""

    def condition(self, field: str, value: str) -> Filter | None:
        """What finds the objects whose field has this value, where that is no comparison of its attribute."""

    def first_members(self, group: Entry, new: Sequence[DN]) -> list[Change]:
        """The changes by which objects that are new themselves come into a group: no look at thousands of members."""

    def unique_forms(self, field: str, value: str) -> list[tuple[str, str]]:
        """The attributes and values that nobody else may have if this is to be unique; empty if it need not be."""

    def unique_columns(self, field: str, values: Sequence[str]) -> list[tuple[str, Sequence[str]]]:
        """The same for many values at once: each attribute with what stands in it for each value."""

    def unique_attributes(self) -> Mapping[str, str]:
        """Attributes with values that must be unique, each with the field that it belongs to."""

    def unique_value(self, attribute: str, stored: str) -> str:
        """The value of the field that a stored value of such an attribute stands for."""

    def member_change(self, group: Entry, add: Sequence[DN], remove: Sequence[DN]) -> list[Change]:
        """What to change in a group so that these are, and those are no longer, its members."""

    def placeholder(self, attribute: str) -> str | None:
        """What stands in an attribute of names that must not be empty, for nobody; None where nothing can."""

    def member_attribute(self, group: Entry) -> str:
        """The attribute by which a group lists its members by name; empty where it lists logon names alone."""

    def members(self, group: Entry) -> list[str]:
        """The names of the members that the group itself lists."""

    def groups_filter(self, entry: Entry) -> Filter:
        """What finds the groups that an object is a direct member of, the primary group included."""

    @property
    def of_server(self) -> frozenset[str]:
        """Attributes that the server alone gives an object, though its schema does not say so."""

    @property
    def primary_joins(self) -> bool:
        """Whether whoever has a primary group is a member of it; else it is a number beside the lists."""

    def primary_members(self, group: Entry) -> Compare | None:
        """What the members have that have the group as their primary one, in no list perhaps; None: nobody can."""

    def has_password(self, entry: Entry) -> bool | None:
        """Whether an account has a password; None where the directory does not show that to this identity."""

    def is_locked(self, entry: Entry) -> bool:
        """Whether bad attempts have locked the account."""

    def why_not_heeded(self, field: str, entry: Entry) -> str:
        """Why the directory does not act on a field that is to keep somebody out; empty where it does.

        Asked of ``enabled``, ``change``, ``hours``, ``machines``, ``starts`` and ``ends``.
        """

    @property
    def hours_late(self) -> int:
        """Minutes by which each hour of a week begins later by the clock than it says, as the directory keeps it."""

    def means_later(self, field: str, value: str) -> tuple[str, str]:
        """What a value comes to mean of its own accord, and the day from which on; empty where it stays as it is."""

    def registered_suffixes(self) -> frozenset[str] | None:
        """The suffixes of principal names that the directory knows of, in lower case; None where it keeps no list."""

    def suffix_list(self) -> Entry | None:
        """The object that lists suffixes beside the names of domains, in ``uPNSuffixes``; None where there is none."""

    def password_layers(self, entry: Entry | None) -> list[tuple[str, Passwords]]:
        """The password rules that the server itself has for an account, or for a new one, from wide to narrow."""

    def instants(self, entry: Entry) -> Iterator[tuple[str, datetime]]:
        """When the object was made and changed, and its password set."""
