"""What every job works with: the charter, the directory, and how fields are kept in it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from functools import cached_property

from msgspec import Struct

from vandrel.charter.charter import Charter
from vandrel.charter.passwords import PasswordRules, with_server
from vandrel.dialects.ahead import ask_ahead
from vandrel.dialects.dialect import Dialect
from vandrel.directory import place as places
from vandrel.directory import secret_attributes
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.port import Directory
from vandrel.errors import NOTE, STOP, Code, Finding, Location, Severity
from vandrel.fields import ACCOUNT, Field, FieldCatalog, Shape

#: Objects whose questions are sent ahead; of more, they are asked together in other ways.
_FEW = 10


class Context(Struct, frozen=True, dict=True):
    """One organization's charter and directory."""

    charter: Charter
    directory: Directory
    dialect: Dialect

    def __post_init__(self) -> None:
        """Let everybody know which attributes the charter calls secret."""
        if self.charter.document.secret_attributes:
            secret_attributes.declare(self.charter.document.secret_attributes)

    def ask_ahead(self, work: Callable[[Context], object], objects: int = 1) -> None:
        """Send the questions that a piece of work on a few objects is going to ask, and of many none.

        See `vandrel.dialects.ahead.ask_ahead`.
        """
        if 0 < objects <= _FEW:
            ask_ahead(self.dialect, lambda dialect: work(Context(self.charter, dialect.directory, dialect)))

    @cached_property
    def _kept_in(self) -> dict[str, dict[str, list[Field]]]:
        return {}

    def fields_kept_in(self, attribute: str, object_type: str) -> Sequence[Field]:
        """The fields of such an object that an attribute keeps: one as a rule, several where they share it."""
        return self._kept(object_type).get(attribute, ())

    def _kept(self, object_type: str) -> dict[str, list[Field]]:
        if object_type not in self._kept_in:
            by_attribute = self._kept_in[object_type] = {}
            for name, field in self.fields.items():
                if object_type in field.on and (attribute := self.dialect.attribute(name, object_type)):
                    by_attribute.setdefault(attribute, []).append(field)
        return self._kept_in[object_type]

    def single_attributes(self, object_type: str) -> frozenset[str]:
        """The attributes that keep one value of one field and nothing else."""
        kept = self._kept(object_type).items()
        return frozenset(name for name, fields in kept if len(fields) == 1 and not fields[0].many)

    @property
    def fields(self) -> FieldCatalog:
        """The built-in fields and the organization's own."""
        return self.charter.fields

    def place(self, dn: DN) -> str:
        """A name as a place, ``/Ferries/Northquay``."""
        return places.of(dn, self.charter.base)

    def typed(self, dn: DN) -> str:
        """An object as a command takes it: by its place, in quotes where a shell wants them."""
        return places.typed(dn, self.charter.base)

    def object_type(self, entry: Entry) -> str:
        """``account``, ``group``, ``unit``, ``computer``, or an empty string for anything else."""
        return self.dialect.object_type_of(entry)

    def one(self, entry: Entry, field: str) -> str:
        """The first value of one field, or an empty string."""
        values = self.dialect.read(entry, field)
        return values[0] if values else ""

    def title(self, entry: Entry) -> str:
        """What heads a view of the object: the full name of an account, else the name of the entry."""
        return (self.one(entry, "full") if self.object_type(entry) == ACCOUNT else "") or entry.dn.name

    def label(self, entry: Entry) -> str:
        """What people call the object: its logon name and full name, or its name alone."""
        login = self.one(entry, "login") if self.object_type(entry) == ACCOUNT else ""
        full = self.one(entry, "full") if login else ""
        return f"{login} ({full})" if full else login or entry.dn.name

    def groups_of(self, entry: Entry) -> list[Entry]:
        """The groups that an object is a direct member of, the primary group included: their names and classes."""
        where = self.dialect.groups_filter(entry)
        return list(self.directory.search(self.charter.base, where=where, only=["cn", "objectClass"]))

    def password_rules(self, kind: str, entry: Entry | None = None) -> PasswordRules:
        """The password rules in force for an account, or a new one of this kind: the charter's and the server's."""
        return with_server(self.charter.password_rules(kind), self.dialect.password_layers(entry))

    def rules_for(self, entry: Entry) -> PasswordRules:
        """The password rules in force for an account that exists."""
        return self.password_rules(self.one(entry, "kind"), entry)

    def unregistered_suffix(self, principal: str) -> str:
        """The suffix of a principal name if the directory keeps a list of them that it is not on; else empty."""
        suffix = principal.rpartition("@")[2]
        return "" if self._suffixes is None or suffix.lower() in self._suffixes else suffix

    @cached_property
    def _suffixes(self) -> frozenset[str] | None:
        return self.dialect.registered_suffixes()

    def _not_kept_out(self, entry: Entry | None, severity: Severity) -> list[Finding]:
        """What there is to say where a disabled account could log on all the same."""
        keeps_out = self.dialect.keeps_out(entry)
        if keeps_out or (entry is not None and self.dialect.has_password(entry) is False):
            return []
        who = self.typed(entry.dn) if entry is not None else "NAME"
        if keeps_out is None:
            what = "whether the server keeps a disabled account out cannot be seen: it shows no password policy"
            remedy = f"try it: vandrel logon {who}"
            return [Finding(Code.NOT_KEPT, what, Location(field="enabled"), remedy, NOTE)]
        what = "the account could log on all the same: the server has no password policy with pwdLockout"
        remedy = f"have one set up (vandrel probe), or take the password away: vandrel edit {who} password=none"
        return [Finding(Code.NOT_KEPT, what, Location(field="enabled"), remedy, severity)]

    def not_kept(
        self, object_type: str, fields: Mapping[str, Sequence[str]], typed: Collection[str], entry: Entry | None = None
    ) -> list[Finding]:
        """Fields that this directory cannot keep, or keeps in vain.

        Fatal where somebody typed them, else told and left out.

        Args:
            object_type: the type of the object.
            fields: the values that it is to have.
            typed: the fields that somebody typed.
            entry: the object, where it exists.

        """
        findings = []
        if object_type == ACCOUNT and list(fields.get("enabled", ())) == ["no"]:
            findings += self._not_kept_out(entry, STOP if "enabled" in typed else NOTE)
        for name, values in fields.items():
            if name not in self.fields or not values or not (why := self.dialect.why_not_kept(name, object_type)):
                continue
            if name == "enabled" or (list(values) == ["no"] and self.fields[name].shape is Shape.FLAG):
                continue
            remedy = f"name an attribute for it in the charter: attributes: {{{self.dialect.name}: {{{name}: ...}}}}"
            severity = STOP if name in typed else NOTE
            findings.append(Finding(Code.NOT_KEPT, why, Location(field=name), remedy, severity))
        return findings
