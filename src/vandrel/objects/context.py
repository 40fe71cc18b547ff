"""What every job works with: the house rules, the directory, and how the one is kept in the other."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from msgspec import Struct

from vandrel.charter.charter import Charter
from vandrel.charter.passwords import PasswordRules, with_server
from vandrel.dialects.dialect import Dialect
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.port import Directory
from vandrel.errors import NOTE, STOP, Code, Finding, Location
from vandrel.fields import FIELDS, Shape

if TYPE_CHECKING:
    from vandrel.steps.step import Step


class Context(Struct, frozen=True, dict=True):
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

    def password_rules(self, kind: str, entry: Entry | None = None) -> PasswordRules:
        """The password rules in force for an account, or a new one of this kind: the charter's and the server's."""
        return with_server(self.charter.password_rules(kind), self.dialect.password_layers(entry))

    def unregistered_suffix(self, principal: str) -> str:
        """The suffix of a principal name if the directory keeps a list of them that it is not on; else empty."""
        suffix = principal.rpartition("@")[2]
        return "" if self._suffixes is None or suffix.lower() in self._suffixes else suffix

    @cached_property
    def _suffixes(self) -> frozenset[str] | None:
        return self.dialect.registered_suffixes()

    def adding(self, object_type: str, dn: DN, fields: Mapping[str, Sequence[str]]) -> list[Step]:
        """The steps that make one object with these fields."""
        from vandrel.steps.step import Add, Set

        made: list[Step] = [Add(dn, self.dialect.new_entry(object_type, dn, fields))]
        after = self.dialect.changes_after_creation(object_type, fields)
        return [*made, Set(dn, tuple(after))] if after else made

    def not_kept(self, object_type: str, fields: Mapping[str, Sequence[str]], typed: Collection[str]) -> list[Finding]:
        """Fields that this directory cannot keep: fatal where somebody typed them, else told and left out."""
        findings = []
        for name, values in fields.items():
            if name not in FIELDS or not values or not (why := self.dialect.why_not_kept(name, object_type)):
                continue
            if list(values) == ["no"] and FIELDS[name].shape is Shape.FLAG:
                continue
            remedy = f"name an attribute for it in the charter: attributes: {{{self.dialect.name}: {{{name}: ...}}}}"
            findings.append(
                Finding(Code.NOT_KEPT, why, Location(field=name), remedy, severity=STOP if name in typed else NOTE)
            )
        return findings

    def label(self, entry: Entry) -> str:
        """What people call the object: its logon name and full name, or its name alone."""
        login = self.one(entry, "login") if self.dialect.object_type_of(entry) == "account" else ""
        return f"{login} ({self.one(entry, 'full')})" if login else entry.dn.name
