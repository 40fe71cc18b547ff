"""What a server says of itself when a connection is opened: its root DSE, and its schema."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import ldap
from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.ldap import schema_cache
from vandrel.directory.ldap.active import CAPABILITY, ActiveServer
from vandrel.directory.ldap.connection import Connection, Settings
from vandrel.directory.ldap.error_mapping import in_words
from vandrel.directory.ldap.reconnect import NO_ANSWER, Link
from vandrel.directory.ldap.server import Octets, Server
from vandrel.directory.ldap.standard import StandardServer
from vandrel.directory.schema import Schema
from vandrel.errors import Location

_EVERYTHING = "(objectClass=*)"
#: Where most standard servers have their schema, and what tells of its last change there (RFC 4512, 4.2 and 3.4.4).
_SUBSCHEMA, _STAMP = "cn=Subschema", "modifyTimestamp"
#: What is kept of the root DSE, and what of it servers name in no order.
_UNORDERED = ("supportedControl", "supportedExtension", "supportedSASLMechanisms", "supportedCapabilities")
_TOLD = (
    "namingContexts", "defaultNamingContext", "vendorName", "vendorVersion", "subschemaSubentry", "schemaNamingContext",
    *_UNORDERED,
)  # fmt: skip


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


def read_opening(link: Link, *, trusting: bool) -> Opening:
    """Read the root DSE and the schema; the schema from this machine's cache, where it has not changed since.

    With `trusting`, the server is taken to say what it said a short while ago; that it does is seen with the first
    answer to anything, which raises `DescriptionChangedError` if it does not.

    Raises:
        DirectoryError: ``out-of-reach``, ``busy``, what reading raises.

    """
    kept = schema_cache.find(link.settings)
    if trusting and kept is not None:
        link.expect(partial(_look_later, link.settings, kept))
        return _opening(kept.told, kept.definitions)
    guess = kept.stamped if kept is not None else (_SUBSCHEMA, _STAMP)
    root, stamp = link.persist(lambda: _answers(link.connection, _ask(link.connection, guess), link.settings))
    told = _told(root)
    return _opening(told, _definitions(link, told, (guess, stamp), kept))


def _opening(told: schema_cache.Told, definitions: schema_cache.Definitions) -> Opening:
    contexts = [names.parse(text) for name in ("defaultNamingContext", "namingContexts") for text in told[name]]
    about = RootDse(
        " ".join([*told["vendorName"], *told["vendorVersion"]]), frozenset(told["supportedControl"]),
        frozenset(told["supportedExtension"]), tuple(told["supportedSASLMechanisms"]),
    )  # fmt: skip
    server = _server(told)
    schema = Schema(server.definitions(definitions), bounds_bind=server.bounds_bind)
    return Opening(tuple(dict.fromkeys(contexts)), about, server, schema)


def _server(told: schema_cache.Told) -> Server:
    return ActiveServer() if CAPABILITY in told["supportedCapabilities"] else StandardServer(told["supportedControl"])


def _told(root: Octets) -> schema_cache.Told:
    return {name: sorted(texts(root, name)) if name in _UNORDERED else texts(root, name) for name in _TOLD}


def _look_later(settings: Settings, kept: schema_cache.KeptSchema, connection: Connection) -> Callable[[], bool]:
    """Ask a server what it says of itself, and give back what tells whether that is what was kept."""
    requests = _ask(connection, kept.stamped)

    def is_as_kept() -> bool:
        root, stamp = _answers(connection, requests, settings)
        return _told(root) == kept.told and texts(stamp, kept.stamped[1])[:1] == [kept.stamp]

    return is_as_kept


def _ask(connection: Connection, guess: tuple[str, str]) -> list[int]:
    """Ask for the root DSE; and, on its way with it, the stamp of the schema, where it is thought to be."""
    return [
        connection.search_ext(dn, ldap.SCOPE_BASE, _EVERYTHING, attributes)
        for dn, attributes in (("", ["*", "+"]), (guess[0], [guess[1]]))
    ]


def _answers(connection: Connection, requests: list[int], settings: Settings) -> tuple[Octets, Octets]:
    """The root DSE, and the stamp, if that is where it was thought to be."""
    answers: list[Octets] = []
    for request, is_guess in zip(requests, (False, True), strict=True):
        try:
            results = connection.result(request)[1]
        except NO_ANSWER:
            raise
        except ldap.LDAPError as error:
            if not is_guess:
                raise in_words(error, _here(settings)) from None
            results = []
        answers.append({name.lower(): values for name, values in results[0][1].items()} if results else {})
    return answers[0], answers[1]


def _definitions(
    link: Link, told: schema_cache.Told, guessed: tuple[tuple[str, str], Octets], kept: schema_cache.KeptSchema | None
) -> schema_cache.Definitions:  # fmt: skip
    """What the subschema subentry says: as it was kept, if it has not changed since (RFC 4512, 4.2 and 3.4.4)."""
    where, server = next(iter(told["subschemaSubentry"]), _SUBSCHEMA), _server(told)
    stamped, attribute = server.schema_stamp(where, next(iter(told["schemaNamingContext"]), ""))
    (guess, guessed_attribute), answer = guessed
    if not answer or (stamped.lower(), attribute) != (guess.lower(), guessed_attribute):
        answer = link.persist(lambda: read(link, stamped, [attribute]))
    stamp = next(iter(texts(answer, attribute)), "")
    if stamp and kept is not None and (kept.told, kept.stamp) == (told, stamp):
        return kept.definitions
    subschema = link.persist(lambda: read(link, where, list(server.subschema)))
    definitions = {name: texts(subschema, name) for name in server.subschema}
    if stamp:
        schema_cache.keep(link.settings, told, (stamped, attribute), stamp, definitions)
    return definitions


def read(link: Link, dn: str, attributes: list[str]) -> Octets:
    """The attributes of one entry, their names in lower case. Raises `DirectoryError`."""
    try:
        results = link.connection.search_s(dn, ldap.SCOPE_BASE, _EVERYTHING, attributes)
    except ldap.LDAPError as error:
        raise in_words(error, Location(dn=dn) if dn else _here(link.settings)) from None
    return {name.lower(): values for name, values in results[0][1].items()} if results else {}


def texts(attributes: Octets, name: str) -> list[str]:
    """The values of an attribute as text; the empty list for none."""
    return [value.decode("utf-8", "replace") for value in attributes.get(name.lower(), [])]


def _here(settings: Settings) -> Location:
    return Location(server=settings.name or settings.urls[0])
