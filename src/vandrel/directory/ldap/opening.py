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
    kept = schema_cache.find(link.settings.urls)
    guess = kept.stamped if kept is not None else (_SUBSCHEMA, _STAMP)
    root, stamp = link.persist(partial(root_and_stamp, link, guess))
    contexts = [names.parse(text) for text in texts(root, "namingContexts")]
    default = [names.parse(text) for text in texts(root, "defaultNamingContext")]
    about = RootDse(
        " ".join([*texts(root, "vendorName"), *texts(root, "vendorVersion")]),
        frozenset(texts(root, "supportedControl")), frozenset(texts(root, "supportedExtension")),
        tuple(texts(root, "supportedSASLMechanisms")),
    )  # fmt: skip
    is_active = CAPABILITY in texts(root, "supportedCapabilities")
    server: Server = ActiveServer() if is_active else StandardServer(about.controls)
    definitions = server.definitions(_definitions(link, root, (guess, stamp), server, about.vendor, kept))
    schema = Schema(definitions, bounds_bind=server.bounds_bind)
    return Opening(tuple(dict.fromkeys([*default, *contexts])), about, server, schema)


def root_and_stamp(link: Link, guess: tuple[str, str]) -> tuple[Octets, Octets]:
    """The root DSE; and, on its way with it, the stamp of the schema, if that is where it is thought to be."""
    connection, everything = link.connection, ldap.SCOPE_BASE
    requests = [connection.search_ext(dn, everything, _EVERYTHING, attributes)
             for dn, attributes in (("", ["*", "+"]), (guess[0], [guess[1]]))]  # fmt: skip
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
    link: Link, root: Octets, guessed: tuple[tuple[str, str], Octets], server: Server, vendor: str,
    kept: schema_cache.KeptSchema | None,
) -> schema_cache.Definitions:  # fmt: skip
    """What the subschema subentry says: as it was kept, if it has not changed since (RFC 4512, 4.2 and 3.4.4)."""
    where = next(iter(texts(root, "subschemaSubentry")), _SUBSCHEMA)
    stamped, attribute = server.schema_stamp(where, next(iter(texts(root, "schemaNamingContext")), ""))
    (guess, guessed_attribute), answer = guessed
    if not answer or (stamped.lower(), attribute) != (guess.lower(), guessed_attribute):
        answer = link.persist(lambda: read(link, stamped, [attribute]))
    stamp = next(iter(texts(answer, attribute)), "")
    known_as = " ".join([*link.settings.urls, where, vendor])
    if stamp and kept is not None and (kept.server, kept.stamp) == (known_as, stamp):
        return kept.definitions
    subschema = link.persist(lambda: read(link, where, list(server.subschema)))
    definitions = {name: texts(subschema, name) for name in server.subschema}
    if stamp:
        schema_cache.keep(link.settings.urls, known_as, (stamped, attribute), stamp, definitions)
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
