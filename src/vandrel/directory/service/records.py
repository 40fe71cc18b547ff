"""The records of a service, as they were read last by this connection: what they are called, and where each stands."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator

import msgspec
from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.directory.service import mapping
from vandrel.directory.service.link import ServiceLink
from vandrel.directory.spilled import Spill, SpilledMap
from vandrel.errors import Code, DirectoryError, Location

#: The endpoints of RFC 7644, 3.2, and the attribute that names what stands there.
PEOPLE, GROUPS = "/Users", "/Groups"
NAMING = {PEOPLE: "uid", GROUPS: "cn"}


class Record(Struct):
    """One record as it was read last, packed, and where it stands; the version is empty where none is kept."""

    endpoint: str
    packed: bytes
    dn: DN
    identifier: str
    version: str

    @property
    def resource(self) -> mapping.Resource:
        """The record as it was read."""
        resource: mapping.Resource = msgspec.json.decode(self.packed)
        return resource


class Records:
    """What was read. Whoever reads through it finds later what has been read before."""

    def __init__(self, link: ServiceLink, base: DN) -> None:
        """Begin with nothing; `base` is the top below which everything stands."""
        self._link, self._base = link, base
        spill = Spill()  # there may be very many
        #: By endpoint: the records by the keys of their names, and the names by identifier.
        self._records: dict[str, SpilledMap[Record]] = {endpoint: spill.map(Record) for endpoint in NAMING}
        self._names: dict[str, SpilledMap[DN]] = {endpoint: spill.map(DN) for endpoint in NAMING}
        #: Identifiers that names had in another run, and the versions that it left.
        self._remembered: SpilledMap[tuple[str, str]] = spill.map(tuple[str, str])
        #: Whether everything was read once by this connection, by endpoint; own changes are followed.
        self._is_known = dict.fromkeys(NAMING, False)

    def is_known(self, endpoint: str) -> bool:
        """Whether everything there was read once; own changes are followed."""
        return self._is_known[endpoint]

    def known(self, dn: DN) -> Record | None:
        """A record by its name, as it was read last; None where it was not."""
        return self._records[endpoint_of(dn)].get(dn.key)

    def is_named(self, identifier: str) -> bool:
        """Whether the name of the record with this identifier is known."""
        return any(identifier in names for names in self._names.values())

    def remember(self, dn: DN, identifier: str, version: str = "") -> None:
        """Take note of the identifier that a name had in another run, and of the version, if that may be counted on."""
        self._remembered[dn.key] = (identifier, version)

    def remembered(self, dn: DN) -> tuple[str, str]:
        """The identifier and version that were noted; empty for none."""
        return self._remembered.get(dn.key, ("", ""))

    def version(self, dn: DN) -> str:
        """The version of a record that was seen last, or noted; empty for none."""
        record = self.known(dn)
        return record.version if record is not None else self.remembered(dn)[1]

    # --- reading

    def read(self, endpoint: str, where: str) -> Iterator[Record]:
        """The records that a filter of RFC 7644, 3.4.2.2, finds."""
        for resource in self._link.read(endpoint, where):
            yield self.take(endpoint, resource)

    def know(self, endpoint: str, *, again: bool = False) -> None:
        """See to it that everything there was read once, or read it again."""
        if self._is_known[endpoint] and not again:
            return
        self._is_known[endpoint] = False
        self._records[endpoint].clear()
        self._names[endpoint].clear()
        for resource in self._link.read(endpoint):
            self.take(endpoint, resource)
        self._is_known[endpoint] = True

    def all(self, endpoint: str) -> Iterable[Record]:
        """All records, as they were read last."""
        self.know(endpoint)
        return self._records[endpoint].values()

    def fresh(self, dn: DN) -> Record | None:
        """One record by its name, read anew."""
        cached = self.known(dn)
        if cached is not None:
            resource = self._link.get(cached.endpoint, cached.identifier)
            self.drop(cached)
            is_named_so = {mapping.name_of(each, self._base) for each in (resource or {}, cached.resource)}
            if resource is not None and len(is_named_so) == 1:
                return self.take(cached.endpoint, resource, dn)
        if dn.parent != self._base or dn.naming_attribute.lower() not in NAMING.values():
            return None
        endpoint = endpoint_of(dn)
        path = "userName" if endpoint == PEOPLE else "displayName"
        if identifier := self._remembered.pop(dn.key, ("", ""))[0]:
            resource = self._link.get(endpoint, identifier)
            if resource is not None and mapping.name_of(resource, self._base) == dn:
                return self.take(endpoint, resource)
        resources = self.read(endpoint, f"{path} eq {quoted(dn.name)}")
        return next((record for record in resources if record.dn == dn), None)

    def find(self, dn: DN) -> Record | None:
        """One record by its name, read if it was not yet."""
        return self.known(dn) or self.fresh(dn)

    def must_have(self, dn: DN) -> Record:
        """The same, where it must be there.

        Raises:
            DirectoryError: ``not-found``.

        """
        if (record := self.find(dn)) is None:
            raise DirectoryError(Code.NOT_FOUND, "there is no such object", where=Location(dn=str(dn)))
        return record

    def name(self, identifier: str) -> DN | None:
        """The name of a record that another points at."""
        for endpoint in NAMING:
            if identifier and not self.is_named(identifier) and not self._is_known[endpoint]:
                resource = self._link.get(endpoint, identifier)
                if resource is not None:
                    self.take(endpoint, resource)
        return next((found for each in self._names.values() if (found := each.get(identifier)) is not None), None)

    def identifier(self, dn: DN) -> str:
        """The identifier of a record; empty where there is none of this name."""
        record = self.find(dn)
        return record.identifier if record is not None else ""

    # --- keeping

    def take(self, endpoint: str, resource: mapping.Resource, dn: DN | None = None) -> Record:
        """Keep a record as it was read; of two groups of one name, the second is told apart by its identifier."""
        identifier = mapping.text(resource.get("id"))
        named = dn or mapping.name_of(resource, self._base)
        records, names = self._records[endpoint], self._names[endpoint]
        holder = records.get(named.key)
        if holder is not None and holder.identifier != identifier:
            named = self._base.child(named.naming_attribute, f"{named.name} ({identifier})")
        if (before := names.get(identifier)) is not None and before != named:
            records.pop(before.key, None)
        record = Record(endpoint, msgspec.json.encode(resource), named, identifier, version_of(resource))
        records[named.key] = record
        names[identifier] = named
        return record

    def drop(self, record: Record) -> None:
        """Let go of a record that is gone, or is to be read anew."""
        self._records[record.endpoint].pop(record.dn.key, None)
        self._names[record.endpoint].pop(record.identifier, None)

    def forget(self, dn: DN) -> None:
        """Let go of what was read under a name, which may have changed."""
        self._records[endpoint_of(dn)].pop(dn.key, None)


def endpoint_of(dn: DN) -> str:
    """Where a record of this name stands."""
    return PEOPLE if dn.naming_attribute.lower() == NAMING[PEOPLE] else GROUPS


def version_of(resource: mapping.Resource) -> str:
    """The version of a record; empty where the service keeps none."""
    meta = resource.get("meta")
    return mapping.text(meta.get("version")) if isinstance(meta, dict) else ""


def quoted(value: str) -> str:
    """A value of a filter (RFC 7644, 3.4.2.2): a JSON string."""
    return json.dumps(value)
