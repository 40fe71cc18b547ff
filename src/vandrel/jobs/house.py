"""What every job works with: the house rules, the directory, and how the one is kept in the other."""

from __future__ import annotations

from msgspec import Struct

from vandrel.charter.charter import Charter
from vandrel.dialects.dialect import Dialect
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.port import Directory


class House(Struct, frozen=True):
    """One organization's charter and directory."""

    charter: Charter
    directory: Directory
    dialect: Dialect

    def place(self, dn: DN) -> str:
        """A name as a place, ``/Ferries/Northquay``."""
        return places.of(dn, self.charter.base)

    def one(self, entry: Entry, field: str) -> str:
        """The first value of one field of ours, or an empty string."""
        return next(iter(self.dialect.read(entry, field)), "")

    def has_password(self, entry: Entry) -> bool:
        """Whether an account has a password, as far as the directory shows it."""
        return bool(entry.values_of(self.dialect.attribute("password", "account")))

    def label(self, entry: Entry) -> str:
        """What people call the object: its logon name and full name, or its name alone."""
        login = self.one(entry, "login") if self.dialect.sort_of(entry) == "account" else ""
        return f"{login} ({self.one(entry, 'full')})" if login else entry.dn.name
