"""What a server says of itself when a connection is opened: its root DSE, and its schema."""

from __future__ import annotations

from functools import partial

import ldap
from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.ldap import schema_cache
from vandrel.directory.ldap.active import CAPABILITY, ActiveServer
from vandrel.directory.ldap.error_mapping import in_words
from vandrel.directory.ldap.reconnect import NO_ANSWER, Link
from vandrel.directory.ldap.server import Octets, Server
from vandrel.directory.ldap.standard import StandardServer
from vandrel.directory.schema import Schema
from vandrel.errors import Location

_EVERYTHING = "(objectClass=*)"
#: Where most standard servers have their schema, and what tells of its last change there (RFC 4512, 4.2 and 3.4.4).
_SUBSCHEMA, _STAMP = "cn=Subschema", "modifyTimestamp"


class RootDse(Struct, frozen=True):
    """What a server says of itself (RFC 4512, section 5.1)."""

    vendor: str
    controls: frozenset[str]
    extensions: frozenset[str]
    mechanisms: tuple[str, ...]


class Opening(Struct, frozen=True):
    """What is known of a server once its connection is open; the default context is the first."""

    contexts: tuple[DN, ...]
    about: RootDse
    server: Server
    schema: Schema


def read_opening(link: Link) -> Opening:
    """Read the root DSE and the schema; the schema from this machine's cache, where it has not changed since.

    Raises:
        DirectoryError: ``out-of-reach``, ``busy``, what reading raises.

    """
    root, stamped = link.persist(partial(root_and_stamp, link))
    contexts = [names.parse(text) for text in texts(root, "namingContexts")]
    default = [names.parse(text) for text in texts(root, "defaultNamingContext")]
    about = RootDse(
        " ".join([*texts(root, "vendorName"), *texts(root, "vendorVersion")]),
        frozenset(texts(root, "supportedControl")), frozenset(texts(root, "supportedExtension")),
        tuple(texts(root, "supportedSASLMechanisms")),
    )  # fmt: skip
    is_active = CAPABILITY in texts(root, "supportedCapabilities")
    server: Server = ActiveServer() if is_active else StandardServer(about.controls)
    definitions = server.definitions(_definitions(link, root, stamped, server, about.vendor))
    schema = Schema(definitions, bounds_bind=server.bounds_bind)
    return Opening(tuple(dict.fromkeys([*default, *contexts])), about, server, schema)


def root_and_stamp(link: Link) -> tuple[Octets, Octets]:
    """The root DSE; and, on its way with it, the stamp of the schema where most standard servers have it."""
    connection, everything = link.connection, ldap.SCOPE_BASE
    requests = [connection.search_ext(dn, everything, _EVERYTHING, attributes)
             for dn, attributes in (("", ["*", "+"]), (_SUBSCHEMA, [_STAMP]))]  # fmt: skip
    answers: list[Octets] = []
    for request, is_guess in zip(requests, (False, True), strict=True):
        try:
            results = connection.result(request)[1]
        except NO_ANSWER:
            raise
        except ldap.LDAPError as error:
            if not is_guess:
                raise in_words(error, _here(link)) from None
            results = []
        answers.append({name.lower(): values for name, values in results[0][1].items()} if results else {})
    return answers[0], answers[1]


def _definitions(
    link: Link, root: Octets, guessed: Octets, server: Server, vendor: str
) -> schema_cache.Definitions:  # fmt: skip
    """What the subschema subentry says: as it was kept, if it has not changed since (RFC 4512, 4.2 and 3.4.4)."""
    where = next(iter(texts(root, "subschemaSubentry")), _SUBSCHEMA)
    stamped, attribute = server.schema_stamp(where, next(iter(texts(root, "schemaNamingContext")), ""))
    is_guessed = (stamped.lower(), attribute) == (_SUBSCHEMA.lower(), _STAMP) and bool(guessed)
    definition_texts = guessed if is_guessed else link.persist(lambda: read(link, stamped, [attribute]))
    stamp = next(iter(texts(definition_texts, attribute)), "")
    known_as = " ".join([*link.settings.urls, where, vendor])
    if stamp and (cached := schema_cache.find(known_as, stamp)) is not None:
        return cached
    subschema = link.persist(lambda: read(link, where, list(server.subschema)))
    definitions = {name: texts(subschema, name) for name in server.subschema}
    if stamp:
        schema_cache.keep(known_as, stamp, definitions)
    return definitions


def read(link: Link, dn: str, attributes: list[str]) -> Octets:
    """The attributes of one entry, their names in lower case. Raises `DirectoryError`."""
    try:
        results = link.connection.search_s(dn, ldap.SCOPE_BASE, _EVERYTHING, attributes)
    except ldap.LDAPError as error:
        raise in_words(error, Location(dn=dn) if dn else _here(link)) from None
    return {name.lower(): values for name, values in results[0][1].items()} if results else {}


def texts(attributes: Octets, name: str) -> list[str]:
    """The values of an attribute as text; the empty list for none."""
    return [value.decode("utf-8", "replace") for value in attributes.get(name.lower(), [])]


def _here(link: Link) -> Location:
    return Location(server=link.settings.name or link.settings.urls[0])
