"""A service of SCIM 2.0 behind the port of all directories: its people and groups right below one top.

A person is named by the user name, a group by what it is called. Each change is one request, made only if the record is
still as it was read (ETag); a request whose answer was lost is looked up before it is sent again.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote

from vandrel.directory import gentime
from vandrel.directory.applied import applied, is_applied
from vandrel.directory.by_search import search_pointing, some_of
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import EVERYTHING, And, Compare, Filter, Present, Substring, matches
from vandrel.directory.operations import AddEntry, DeleteEntry, ModifyEntry, Operation, RenameEntry
from vandrel.directory.packing import Packed, pack
from vandrel.directory.port import Capabilities, Changes, EffectiveRights, Form, NamingTurn, Scope
from vandrel.directory.schema import Schema
from vandrel.directory.service import mapping
from vandrel.directory.service.link import ServiceLink, ServiceSettings, WholeServiceError
from vandrel.directory.service.records import GROUPS, NAMING, PEOPLE, Record, Records, endpoint_of, quoted, version_of
from vandrel.errors import Code, DirectoryError, Location
from vandrel.secret import Secret

_DELETED = "/DeletedUsers"
#: Names up to which each is asked for by itself; for more, everything is read once.
_FEW = 10
#: How often a change is worked out anew because the record was changed meanwhile, or a request sent again.
_TRIES = 3
_CLASSES = {PEOPLE: tuple(mapping.CLASSES_OF_PEOPLE), GROUPS: tuple(mapping.CLASSES_OF_GROUPS)}


class ServiceDirectory:
    """See `vandrel.directory.port.Directory`."""

    def __init__(self, settings: ServiceSettings, base: DN) -> None:
        """Prepare; `base` is the top below which everything is to stand."""
        self.link = ServiceLink(settings)
        self.settings, self._base = settings, base
        self._schema = _schema()
        self._records = Records(self.link, base)

    @property
    def location(self) -> str:
        """What the connection is called."""
        return self.settings.name or self.settings.url

    @property
    def identity(self) -> str:
        """The base URL: a service is where it is."""
        return self.settings.url.rstrip("/")

    def confirm(self) -> None:
        """Nothing was taken on trust."""

    @property
    def bound_as(self) -> str:
        """Whoever holds the token."""
        return "the holder of the token"

    @property
    def capabilities(self) -> Capabilities:
        """Members follow whoever is renamed or deleted, and ``active`` is heeded."""
        return Capabilities(
            mends_references=True, disables=True, keeps_deleted=True, forgets_deleted=True, is_flat=True
        )

    @property
    def schema(self) -> Schema:
        """What is kept of RFC 7643."""
        return self._schema

    @property
    def contexts(self) -> tuple[DN, ...]:
        """The top."""
        return (self._base,)

    # --- reading

    def get(self, dn: DN) -> Entry | None:
        """The record of this name, read anew."""
        if dn == self._base:
            return self._top()
        record = self._records.fresh(dn)
        return self._entry(record) if record is not None else None

    def search(
        self, base: DN, scope: Scope = Scope.SUBTREE, where: Filter = EVERYTHING, only: Collection[str] = ()
    ) -> Iterator[Entry]:
        """The records that the filter finds; what a service can be asked for by equality, it is asked for."""
        if not base.is_within(self._base):
            return
        if base != self._base or scope is Scope.BASE:
            entry = self.get(base)
            if entry is not None and scope is not Scope.ONE and matches(where, entry, self._schema):
                yield entry
            return
        if scope is Scope.SUBTREE and matches(where, self._top(), self._schema):
            yield self._top()
        for endpoint in (PEOPLE, GROUPS):
            if not self._can_match(endpoint, where):
                continue
            for record in self._names_compared(endpoint, where):
                entry = self._entry(record)
                if matches(where, entry, self._schema):
                    yield entry

    def packed(self, base: DN, scope: Scope = Scope.SUBTREE) -> Iterator[Packed]:
        """The entries in this scope, packed."""
        return map(pack, self.search(base, scope))

    def find_owners(self, forms: Mapping[str, Collection[str]]) -> dict[Form, DN]:
        """Which values are in use; of very many, and once everything was read, as they were read last."""
        keys = {(attribute, value): self._schema.key(attribute, value)
                for attribute, values in forms.items() for value in values}  # fmt: skip
        if len(keys) <= _FEW and not self._records.is_known(PEOPLE):
            entries: Iterable[Entry] = (entry for attribute, value in keys
                     for entry in self.search(self._base, where=Compare(attribute, "=", value)))  # fmt: skip
        else:
            entries = map(self._entry, self._records.all(PEOPLE))
        wanted = {(attribute, key) for (attribute, _), key in keys.items()}
        owners = {form: entry.dn for entry in entries for attribute in forms for stored in entry.texts(attribute)
                  if (form := (attribute, self._schema.key(attribute, stored))) in wanted}  # fmt: skip
        return {form: owners[form[0], key] for form, key in keys.items() if (form[0], key) in owners}

    def existing(self, dns: Collection[DN]) -> set[DN]:
        """Which names are in use: as they were read last, where everything was read."""
        present = {dn for dn in dns if dn == self._base}
        for endpoint, naming in NAMING.items():
            people = [dn for dn in dns if dn.naming_attribute.lower() == naming and dn != self._base]
            if len(people) > _FEW or self._records.is_known(endpoint):
                if people:
                    self._records.know(endpoint)
                present |= {dn for dn in people if self._records.known(dn) is not None}
            else:
                present |= {dn for dn in people if self._records.fresh(dn) is not None}
        return present

    def versions(self, dns: Iterable[DN]) -> dict[str, str]:
        """As records were read or answered last."""
        versions = ((dn.key, self._records.version(dn)) for dn in dns)
        return {key: version for key, version in versions if version}

    def remember(self, dn: DN, identifier: str, version: str = "") -> None:
        """A record is read by its identifier, for a service goes through all of them to find a name.

        One that still has its version need not even be read to be changed.
        """
        self._records.remember(dn, identifier, version)

    def some_values(self, dn: DN, attribute: str, values: Collection[str], others: int = 0) -> list[Value]:
        """From the record, which comes whole."""
        return some_of(self.schema, self.get(dn), attribute, values, others)

    def pointing(self, dns: Sequence[DN], attributes: Sequence[str], *, leaving: bool = False) -> Iterator[Entry]:
        """By searches."""
        return search_pointing(self, dns, attributes)

    def identifiers(self, dns: Collection[DN]) -> dict[str, str]:
        """As the answers said that came when they were made or read."""
        find = self._records.find
        if sum(self._records.known(dn) is None for dn in dns) > _FEW:
            for endpoint in NAMING:
                self._records.know(endpoint)
            find = self._records.known
        records = ((dn.key, find(dn)) for dn in dns)
        return {key: record.identifier for key, record in records if record is not None}

    def changes(self, base: DN, since: str, identifiers_before: Collection[str]) -> Changes:
        """Nothing can be told: whoever reads what changed has read all of it."""
        return Changes()

    def deleted(self) -> Iterator[Entry]:
        """The people whom a service keeps for a time; nothing where it has no list of them (RFC 7644 knows none)."""
        try:
            for resource in self.link.read(_DELETED):
                yield mapping.to_entry(resource, mapping.name_of(resource, self._base), lambda identifier: None)
        except DirectoryError as error:
            if error.code is not Code.NOT_FOUND:
                raise

    def forget(self, identifier: str) -> None:
        """Purge somebody who was deleted; whoever is gone already is."""
        try:
            self.link.delete(_DELETED, identifier, "")
        except DirectoryError as error:
            if error.code is not Code.NOT_FOUND:
                raise

    def _top(self) -> Entry:
        return Entry(self._base, {"objectClass": ["top", "organization"], "o": [self._base.name]})

    def _entry(self, record: Record) -> Entry:
        resource = record.resource
        unknown = [each for each in mapping.pointed_at(resource) if not self._records.is_named(each)]
        if len(unknown) > _FEW and not self._records.is_known(PEOPLE):
            self._records.know(PEOPLE)
        return mapping.to_entry(resource, record.dn, self._records.name)

    def _can_match(self, endpoint: str, where: Filter) -> bool:
        """Whether a filter can find such records: by the class and the attributes that it asks for."""
        parts = where.parts if isinstance(where, And) else (where,)
        must, may = self._schema.shape(_CLASSES[endpoint])
        for part in parts:
            if not isinstance(part, Compare | Present | Substring):
                continue
            name = self._schema.attribute_name(part.attribute)
            definition = self._schema.attribute(name)
            if definition is not None and not definition.operational and name not in must | may:
                return False
            is_class = name == "objectClass" and isinstance(part, Compare) and part.operator == "="
            if is_class and part.value.lower() not in map(str.lower, _CLASSES[endpoint]):  # type: ignore[union-attr]
                return False
        return True

    def _names_compared(self, endpoint: str, where: Filter) -> Iterable[Record]:
        """The records that may match: those of an equality that the service is asked for, or all.

        All of them are read before the first is given out, since they point at each other.
        """
        parts = where.parts if isinstance(where, And) else (where,)
        for part in parts:
            if not isinstance(part, Compare) or part.operator not in ("=", ">="):
                continue
            name = self._schema.attribute_name(part.attribute)
            if part.operator == ">=":
                instant = gentime.parse(part.value) if name == "modifyTimestamp" else None
                if instant is None:
                    continue
                return list(self._records.read(endpoint, f"meta.lastModified ge {quoted(instant.isoformat())}"))
            if endpoint == PEOPLE and (path := mapping.ASKED.get(name)):
                return list(self._records.read(endpoint, f"{path} eq {quoted(part.value)}"))
            if endpoint == GROUPS and name == "cn":
                return list(self._records.read(endpoint, f"displayName eq {quoted(part.value)}"))
        self._records.know(endpoint, again=True)
        return self._records.all(endpoint)

    # --- writing

    def execute(
        self, operations: Sequence[Operation], *, atomic: bool, most_refused: int | None = None
    ) -> list[DirectoryError | None]:  # fmt: skip
        """Make the operations one by one: a service makes none of them with another."""
        outcomes: list[DirectoryError | None] = []
        refused = 0
        for operation in operations:
            try:
                self._make(operation)
                outcomes.append(None)
            except WholeServiceError:
                raise
            except DirectoryError as error:
                outcomes.append(error)
                refused += 1
                if most_refused is not None and refused > most_refused:
                    break
        return outcomes

    def _make(self, operation: Operation) -> None:
        """Make one operation; after an answer that was lost, look whether it was made."""
        for tries_left in reversed(range(_TRIES)):
            try:
                return self._make_once(operation)
            except WholeServiceError as error:
                if not error.is_open or not tries_left:
                    raise
                self._records.forget(operation.dn)
                if is_applied(self, operation):
                    return None
            except DirectoryError as error:
                if error.code is not Code.CHANGED or not tries_left:
                    raise
        return None

    def _make_once(self, operation: Operation) -> None:
        match operation:
            case AddEntry(dn, attributes):
                endpoint = endpoint_of(dn)
                if operation.was and endpoint == PEOPLE and (back := self._restored(operation.was)) is not None:
                    before = self._entry(back)
                    self._patch(back, mapping.renaming(dn) if back.dn != dn else [])
                    record = self._records.must_have(dn)
                    after = Entry(dn, {name: attributes.get(name, before.values_of(name)) for name in before.attributes}
                                  | attributes)  # fmt: skip
                    self._patch(
                        record, mapping.patch(record.resource, self._entry(record), after, self._records.identifier)
                    )
                    return
                body = mapping.to_resource(Entry(dn, attributes), self._records.identifier)
                self._records.take(endpoint, self.link.create(endpoint, body))
            case ModifyEntry(dn):
                if self._make_unread(operation):
                    return
                record = self._records.must_have(dn)
                before = self._entry(record)
                if not _fits(self._schema, before, operation):  # perhaps it was read too long ago
                    record = self._records.fresh(dn) or record
                    before = self._entry(record)
                    if not _fits(self._schema, before, operation):
                        what = "the object has changed since the change was worked out"
                        raise DirectoryError(Code.CHANGED, what, where=Location(dn=str(dn)), remedy="run it again")
                after = applied(before, operation.changes)
                self._patch(record, mapping.patch(record.resource, before, after, self._records.identifier))
            case RenameEntry(dn, new):
                if new.parent != self._base:
                    what = "a service has no units: everything stands right below the top"
                    raise DirectoryError(Code.NO_PARENT, what, where=Location(dn=str(new)))
                self._patch(self._records.must_have(dn), mapping.renaming(new))
            case DeleteEntry(dn):
                record = self._records.must_have(dn)
                self.link.delete(record.endpoint, record.identifier, record.version)
                self._records.drop(record)
            case _:
                change = {"op": "remove", "path": "password"}
                if operation.secret is not None:
                    change |= {"op": "replace", "value": operation.secret.reveal()}
                self._patch(self._records.must_have(operation.dn), [change])

    def _make_unread(self, operation: ModifyEntry) -> bool:
        """Change plain values of a record that is as an earlier run has left it; whether it is, and was changed."""
        dn = operation.dn
        identifier, version = self._records.remembered(dn)
        is_person = endpoint_of(dn) == PEOPLE
        is_plain = is_person and all(change.attribute in mapping.PLAIN for change in operation.changes)
        if not version or not is_plain or self._records.known(dn) is not None:
            return False
        before = Entry(dn, {change.attribute: list(change.removed) for change in operation.changes})
        operations = mapping.patch({}, before, applied(before, operation.changes), lambda dn: "")
        try:
            answer = self.link.change(PEOPLE, identifier, operations, version, only="meta.version")
        except DirectoryError as error:
            if error.code not in (Code.CHANGED, Code.NOT_FOUND):
                raise
            self._records.remember(dn, identifier)  # it is read, and told what has become of it
            return False
        self._records.remember(dn, identifier, version_of(answer or {}))
        return True

    def _restored(self, identifier: str) -> Record | None:
        """A person who was deleted, brought back by the service with the same identifier; None where it cannot."""
        try:
            return self._records.take(PEOPLE, self.link.create(f"{_DELETED}/{quote(identifier, safe='')}/restore", {}))
        except DirectoryError as error:
            if error.code is Code.NOT_FOUND:
                return None
            raise

    def _patch(self, record: Record, operations: list[dict[str, Any]]) -> None:
        if not operations:
            return
        try:
            resource = self.link.change(record.endpoint, record.identifier, operations, record.version)
        except DirectoryError as error:
            if error.code in (Code.CHANGED, Code.NOT_FOUND):
                self._records.drop(record)  # it is read anew by the next try
            raise
        if resource is None and self._records.is_known(record.endpoint):  # what is known of all is kept up to date
            resource = self.link.get(record.endpoint, record.identifier)
        self._records.drop(record)
        if resource is not None:
            self._records.take(record.endpoint, resource)

    # --- what a service has no part in

    def naming_turn(self) -> NamingTurn | None:
        """None: user names are unique by RFC 7643, 4.1.1."""
        return None

    def verify_password(self, dn: DN, secret: Secret) -> bool:
        """No: RFC 7644 has no question for it, so a password that may have been set is set again."""
        return False

    def try_logon(self, dn: DN, secret: Secret) -> str:
        """Refuse: people log on to a service in its own way."""
        what = "a service cannot be asked whether a password is right"
        raise DirectoryError(Code.NOT_PERMITTED, what, where=Location(server=self.location))

    def password_used(self, dn: DN, secret: Secret, last: int) -> bool:
        """No, as far as a service tells."""
        return False

    def allowed(self, dn: DN) -> EffectiveRights | None:
        """None: a service does not tell before it is tried."""
        return None

    def ahead(self, *, again: bool = False) -> None:
        """Its answers are kept as they come."""

    def close(self) -> None:
        """Close the connection."""
        self.link.close()


def _schema() -> Schema:
    """The attributes that a service keeps, from our schemas, and its own object classes."""
    from vandrel.directory.schema import read_definitions, shipped_definitions

    own = read_definitions(Path(__file__).with_name("service.schema"))
    return Schema([*((kind, each) for kind, each in shipped_definitions() if kind == "attributetype"), *own])


def _fits(schema: Schema, entry: Entry, operation: ModifyEntry) -> bool:
    """Whether an entry is as whoever worked a change out has seen it."""
    for change in operation.changes:
        have = {schema.key(change.attribute, value) for value in entry.values_of(change.attribute)}
        removed, added = ({schema.key(change.attribute, value) for value in values}
                      for values in (change.removed, change.added))  # fmt: skip
        if not removed <= have or (change.is_exclusive and have - removed) or (added - removed) & have:
            return False
    return True
