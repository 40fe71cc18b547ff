"""The records of a service, as they were read last by this connection: what they are called, and where each stands."""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterator

import msgspec
from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.directory.service import mapping
from vandrel.directory.service.link import ServiceLink
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
        resource: mapping.Resource = msgspec.json.decode(zlib.decompress(self.packed))
        return resource


class Records:
    """What was read. Whoever reads through it finds later what has been read before."""

    def __init__(self, link: ServiceLink, base: DN) -> None:
        """Begin with nothing; `base` is the top below which everything stands."""
        self._link, self._base = link, base
        #: By the key of a name.
        self._records: dict[str, Record] = {}
        #: By identifier.
        self._names: dict[str, DN] = {}
        #: Identifiers that names had in another run, and the versions that it left.
        self._remembered: dict[str, tuple[str, str]] = {}
        #: Whether everything was read once by this connection, by endpoint; own changes are followed.
        self._is_known = {PEOPLE: False, GROUPS: False}

    def is_known(self, endpoint: str) -> bool:
        """Whether everything there was read once; own changes are followed."""
        return self._is_known[endpoint]

    def known(self, dn: DN) -> Record | None:
        """A record by its name, as it was read last; None where it was not."""
        return self._records.get(dn.key)

    def is_named(self, identifier: str) -> bool:
        """Whether the name of the record with this identifier is known."""
        return identifier in self._names

    def remember(self, dn: DN, identifier: str, version: str = "") -> None:
        """Take note of the identifier that a name had in another run, and of the version, if that may be counted on."""
        self._remembered[dn.key] = (identifier, version)

    def remembered(self, dn: DN) -> tuple[str, str]:
        """The identifier and version that were noted; empty for none."""
        return self._remembered.get(dn.key, ("", ""))

    def version(self, dn: DN) -> str:
        """The version of a record that was seen last, or noted; empty for none."""
        record = self._records.get(dn.key)
        return record.version if record is not None else self.remembered(dn)[1]

    # --- reading

    def read(self, endpoint: str, where: str = "") -> Iterator[Record]:
        """The records that a filter of RFC 7644, 3.4.2.2, finds, or all of them."""
        for resource in self._link.read(endpoint, where):
            yield self.take(endpoint, resource)
        if not where:
            self._is_known[endpoint] = True

    def all(self, endpoint: str) -> Iterator[Record]:
        """All records, as they were read last where all were."""
        if self._is_known[endpoint]:
            return iter([record for record in self._records.values() if record.endpoint == endpoint])
        return self.read(endpoint)

    def fresh(self, dn: DN) -> Record | None:
        """One record by its name, read anew."""
        cached = self._records.get(dn.key)
        if cached is not None:
            resource = self._link.get(cached.endpoint, cached.identifier)
            self.drop(cached)
            is_named_so = {mapping.name_of(each, self._base) for each in (resource or {}, cached.resource)}
            if resource is not None and len(is_named_so) == 1:
                return self.take(cached.endpoint, resource, dn)
        if dn.parent != self._base or dn.naming_attribute.lower() not in NAMING.values():
            return None
        endpoint, path = (PEOPLE, "userName") if dn.naming_attribute.lower() == "uid" else (GROUPS, "displayName")
        if identifier := self._remembered.pop(dn.key, ("", ""))[0]:
            resource = self._link.get(endpoint, identifier)
            if resource is not None and mapping.name_of(resource, self._base) == dn:
                return self.take(endpoint, resource)
        resources = self.read(endpoint, f"{path} eq {quoted(dn.name)}")
        return next((record for record in resources if record.dn == dn), None)

    def find(self, dn: DN) -> Record | None:
        """One record by its name, read if it was not yet."""
        return self._records.get(dn.key) or self.fresh(dn)

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
        for endpoint in (PEOPLE, GROUPS):
            if identifier and identifier not in self._names and not self._is_known[endpoint]:
                resource = self._link.get(endpoint, identifier)
                if resource is not None:
                    self.take(endpoint, resource)
        return self._names.get(identifier)

    def identifier(self, dn: DN) -> str:
        """The identifier of a record; empty where there is none of this name."""
        record = self.find(dn)
        return record.identifier if record is not None else ""

    # --- keeping

    def take(self, endpoint: str, resource: mapping.Resource, dn: DN | None = None) -> Record:
        """Keep a record as it was read; of two groups of one name, the second is told apart by its identifier."""
        identifier = mapping.text(resource.get("id"))
        named = dn or mapping.name_of(resource, self._base)
        holder = self._records.get(named.key)
        if holder is not None and holder.identifier != identifier:
            named = self._base.child(named.naming_attribute, f"{named.name} ({identifier})")
        if (before := self._names.get(identifier)) is not None and before != named:
            self._records.pop(before.key, None)
        packed = zlib.compress(msgspec.json.encode(resource), 1)  # very many may be kept
        record = Record(endpoint, packed, named, identifier, version_of(resource))
        self._records[named.key] = record
        self._names[identifier] = named
        return record

    def drop(self, record: Record) -> None:
        """Let go of a record that is gone, or is to be read anew."""
        self._records.pop(record.dn.key, None)
        self._names.pop(record.identifier, None)

    def forget(self, dn: DN) -> None:
        """Let go of what was read under a name, which may have changed."""
        self._records.pop(dn.key, None)


def version_of(resource: mapping.Resource) -> str:
    """The version of a record; empty where the service keeps none."""
    meta = resource.get("meta")
    return mapping.text(meta.get("version")) if isinstance(meta, dict) else ""


def quoted(value: str) -> str:
    """A value of a filter (RFC 7644, 3.4.2.2): a JSON string."""
    return json.dumps(value)
