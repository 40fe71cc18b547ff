"""Which names are taken: in the directory, and by what the same request makes."""

from __future__ import annotations

from vandrel.directory.dn import DN
from vandrel.jobs.house import House
from vandrel.jobs.ledger import Ledger


class Register:
    """Answers for the four scopes of uniqueness: domain, forest, siblings, everywhere.

    What `reserve` was told counts as taken, so that two new people of one name get different ones.
    """

    def __init__(self, house: House, ledger: Ledger | None = None) -> None:
        """Prepare; with a `ledger`, the directory was read once before, and is not asked for each name."""
        self._house = house
        self._ledger = ledger
        self._reserved: dict[tuple[str, str], DN | tuple[DN, str]] = {}
        self._names: dict[str, DN] = {}

    def _key(self, forms: list[tuple[str, str]]) -> tuple[str, str]:
        attribute, value = forms[0]
        return attribute, str(self._house.directory.schema.key(attribute, value))

    def holder(self, target: str, value: str, but: DN | None = None) -> DN | None:
        """Who has this logon name, principal name or mail address, other than `but`; None if it is free."""
        forms = self._house.dialect.unique_forms(target, value)
        if not forms:
            return None
        for attribute, stored in forms:
            if self._ledger is not None:
                found = self._ledger.holder(attribute, stored)
            else:
                found = self._house.directory.holders(attribute, [stored]).get(stored)
            if found is not None and found != but:
                return found
        planned = self._reserved.get(self._key(forms))
        if isinstance(planned, tuple):
            planned = planned[0].child("cn", planned[1])
        return planned if planned != but else None

    def why_taken(self, target: str, value: str, but: DN | None = None) -> str:
        """In words, why a name cannot be had; empty if it can."""
        holder = self.holder(target, value, but)
        return f"taken by {self.say(holder)}" if holder is not None else ""

    def why_sibling(self, dn: DN) -> str:
        """In words, why an object cannot have this name; empty if it can."""
        if dn.key in self._names or self._is_there(dn):
            return f"taken by its sibling in {self._house.place(dn.parent)}"
        return ""

    def _is_there(self, dn: DN) -> bool:
        return dn.key in self._ledger.names if self._ledger is not None else bool(self._house.directory.existing([dn]))

    def say(self, dn: DN) -> str:
        return f"{dn.name} in {self._house.place(dn.parent)}"

    def reserve(self, target: str, value: str, dn: DN | tuple[DN, str]) -> None:
        """Take note that a name is given to an object: by its name, or its unit and what it is called there."""
        if forms := self._house.dialect.unique_forms(target, value):
            self._reserved[self._key(forms)] = dn

    def reserve_name(self, dn: DN) -> None:
        self._names[dn.key] = dn
