"""What a dialect is: how our fields are kept in a directory of a given schema."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import Filter
from vandrel.directory.operations import Change


class Dialect(Protocol):
    """Between our fields (`vandrel.fields`) and the attributes of a directory.

    Values of our fields are text; dates are ISO 8601 days, flags ``yes`` and ``no``, references names in text.
    """

    def attribute(self, field: str, sort: str) -> str:
        """The attribute that keeps a field of an object of this sort; empty where none does by itself."""

    def sort_of(self, entry: Entry) -> str:
        """``account``, ``group``, ``unit``, or an empty string for anything else."""

    def filter_for(self, sort: str) -> Filter:
        """What finds all objects of a sort."""

    def read(self, entry: Entry, field: str) -> list[str]:
        """The values of one field; memberships, which stand in the groups, are not read here."""

    def new_entry(self, sort: str, dn: DN, values: Mapping[str, Sequence[str]]) -> dict[str, list[Value]]:
        """The attributes of a new object with these fields."""

    def changes(self, entry: Entry, field: str, values: Sequence[str]) -> list[Change]:
        """What to change so that a field has exactly these values; empty if it has."""

    def stored(self, field: str, values: Sequence[str]) -> list[Value]:
        """The values of a field as the directory keeps them."""

    def flag_filter(self, field: str, wanted: bool) -> Filter | None:
        """What finds the objects whose flag is so; None for a field that is no flag kept in the directory."""

    def unique_attributes(self, field: str) -> tuple[str, ...]:
        """The attributes among which the values of a field must be unique; empty if they need not be."""

    def member_change(self, group: Entry, add: Sequence[DN], remove: Sequence[DN]) -> list[Change]:
        """What to change in a group so that these are, and those are no longer, its members."""

    def members(self, group: Entry) -> list[str]:
        """The names of the members."""

    def groups_filter(self, dn: DN) -> Filter:
        """What finds the groups that an object is a direct member of."""
