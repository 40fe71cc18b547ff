"""A directory behind the LDAP protocol (RFC 4511), behind the port."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from copy import copy
from functools import cached_property
from typing import Any, TypeVar

import ldap
import ldap.controls
from msgspec import structs

from vandrel.directory import filter as filters
from vandrel.directory.active import sid
from vandrel.directory.by_search import FEW_NAMES, search_pointing, some_of
from vandrel.directory.dn import DN
from vandrel.directory.entry import IDENTIFIERS, Entry, Value
from vandrel.directory.filter import EVERYTHING, Filter
from vandrel.directory.ldap.active import SHOW_DELETED, ActiveServer
from vandrel.directory.ldap.connection import Settings, connect
from vandrel.directory.ldap.error_mapping import LogonRefused
from vandrel.directory.ldap.matched_values import MATCHED_VALUES, MatchedValues
from vandrel.directory.ldap.naming_turn import NamingTurn
from vandrel.directory.ldap.opening import read, read_opening, texts
from vandrel.directory.ldap.reconnect import Link
from vandrel.directory.ldap.searches import Found, Question, Searches, SearchesAhead
from vandrel.directory.ldap.server import Octets
from vandrel.directory.ldap.writer import ASSERTION, Writer
from vandrel.directory.operations import Operation
from vandrel.directory.packing import Packed, pack
from vandrel.directory.port import Capabilities, Changes, Directory, EffectiveRights, Form, Scope, WrittenAheadError
from vandrel.directory.schema import Schema
from vandrel.errors import DirectoryError
from vandrel.secret import Secret

#: Values asked for in one filter.
_AT_ONCE = 50
#: Names below one superior from which on they are asked for by filters and not one by one; values of one attribute
#: from which on all of it is read.
_MANY = 20
_EVERYTHING = "(objectClass=*)"

#: What tells of rights: [MS-ADTS] 3.1.1.4.5.13 to 3.1.1.4.5.15.
_RIGHTS = ("allowedAttributesEffective", "allowedChildClassesEffective", "sDRightsEffective")

_T = TypeVar("_T")


def _text_if_any(value: bytes) -> Value:
    """A value of an attribute of text; octets that are none stay as they are, so that they are not altered."""
    try:
        return value.decode()
    except UnicodeDecodeError:
        return value


class LdapDirectory:
    """A server; see `vandrel.directory.port.Directory` for what its methods promise."""

    def __init__(self, settings: Settings, *, trusting: bool = False) -> None:
        """Connect, bind, and read what the server says of itself; `trusting` is that of `read_opening`.

        Raises:
            DirectoryError: ``out-of-reach``, ``certificate``, ``not-permitted``.

        """
        self.settings = settings
        self._link = Link(settings)
        self._searches: Searches | SearchesAhead
        self._searches = searches = Searches(self._link)
        opening = read_opening(self._link, trusting=trusting)
        self._contexts, self.about, self.server, self._schema = (
            opening.contexts, opening.about, opening.server, opening.schema
        )  # fmt: skip
        self._descriptions: dict[str, tuple[str, bool]] = {}
        #: Some names below containers, for `MatchedValues`.
        self._held: dict[DN, list[DN]] = {}
        self._writer = Writer(self._link, self, self.server, self.about.controls)
        if self._contexts:  # which directory it is, almost every command asks
            searches.ask_ahead((self._contexts[0], Scope.BASE, EVERYTHING), list(IDENTIFIERS), [], math.inf)

    @property
    def location(self) -> str:
        """The URL of the server and the default base."""
        return self.settings.name or self.settings.urls[0]

    @cached_property
    def identity(self) -> str:
        """The identifier of the entry at the top, which all hosts share (RFC 4530; [MS-ADTS] 3.1.1.1.4)."""
        try:
            top = self._alone(self._contexts[0], IDENTIFIERS)
        except DirectoryError:  # hidden from this identity
            return self.location
        octets = next((values[0] for name in ("objectguid", "entryuuid") if (values := top.get(name))), b"")
        return f"{self._contexts[0]} {octets.hex()}" if octets else self.location

    def ahead(self, *, again: bool = False) -> Directory | None:
        """The same with searches that are only sent; nothing can be written to it."""
        if not isinstance(self._searches, Searches):
            return None  # it is one already
        self._searches.begin_ahead(again=again)
        other = copy(self)
        other._searches = SearchesAhead(self._searches)
        return other

    def _true_searches(self) -> Searches:
        """The searches of a directory that answers. Raises `WrittenAheadError`."""
        if not isinstance(self._searches, Searches):
            raise WrittenAheadError("nothing is written ahead")
        self.confirm()
        return self._searches

    def _matched(self) -> MatchedValues | None:
        """What finds values in long lists, where the server can."""
        if MATCHED_VALUES not in self.about.controls:
            return None
        return MatchedValues(self._searches, self._schema, self._contexts, self._entry, self._held)

    def confirm(self) -> None:
        """See to it that the server says of itself what it was taken to say. Raises as `Link.confirm` does."""
        self._link.confirm()

    @property
    def bound_as(self) -> str:
        """The identity of the settings."""
        return self.settings.who

    @property
    def url(self) -> str:
        """The host in use."""
        return self._link.url

    @property
    def reconnected(self) -> int:
        """How often the connection was lost and made anew, to any host."""
        return self._link.reconnected

    @property
    def capabilities(self) -> Capabilities:
        """What such a server does by itself."""
        active = isinstance(self.server, ActiveServer)
        return Capabilities(
            "ad" if active else "standard",
            self.server.mends_references,
            active,
            keeps_deleted=active,
            policy=self.settings.policy,
            answers=isinstance(self._searches, Searches),
        )

    @property
    def schema(self) -> Schema:
        """The schema, read once."""
        return self._schema

    @property
    def contexts(self) -> tuple[DN, ...]:
        """The naming contexts, the default first."""
        return self._contexts

    def close(self) -> None:
        """Close the connections."""
        self._searches.close()

    # --- reading

    def _alone(self, dn: DN, attributes: Collection[str]) -> Octets:
        """The attributes of one entry; nothing where there is none."""
        entries = self._link.persist(lambda: list(self._answers([(dn, Scope.BASE, EVERYTHING)], list(attributes))))
        return {name.lower(): values for name, values in entries[0][1].items()} if entries else {}

    def _entry(self, dn: str, attributes: Octets) -> Entry:
        data: dict[str, list[Value]] = {}
        attribute_names = self._descriptions
        for name, values in self.server.shown(attributes).items():
            if name not in attribute_names:
                bare = name.partition(";range=")[0]
                canonical = self._schema.attribute_name(bare) or bare
                attribute_names[name] = (canonical, self._schema.is_binary(canonical))
            canonical, binary = attribute_names[name]
            whole = self._rest(dn, name, values) if ";range=" in name else values
            if not whole:
                continue
            # An attribute may come twice: empty beside its first piece.
            data.setdefault(canonical, []).extend(whole if binary else map(_text_if_any, whole))
        return Entry(DN.read(dn), data)

    def _rest(self, dn: str, name: str, values: list[bytes]) -> list[bytes]:
        """All values of an attribute that comes in pieces: [MS-ADTS] 3.1.1.3.1.3.3."""
        bare, _, bounds = name.partition(";range=")
        whole = list(values)
        while not bounds.endswith("*"):
            answer = self._link.connection.search_s(dn, ldap.SCOPE_BASE, _EVERYTHING, [f"{bare};range={len(whole)}-*"])
            piece = next(((k, v) for k, v in answer[0][1].items() if k.lower().startswith(bare.lower())), None)
            if piece is None or not piece[1]:
                break
            bounds = piece[0]
            whole += piece[1]
        return whole

    def get(self, dn: DN) -> Entry | None:
        """The entry of this name; None where there is none."""
        return next(self._search(dn, Scope.BASE, EVERYTHING, ()), None)

    def search(
        self, base: DN, scope: Scope = Scope.SUBTREE, where: Filter = EVERYTHING, only: Collection[str] = ()
    ) -> Iterator[Entry]:
        """The entries that a filter finds, page by page."""
        virtual = [name for name in filters.attributes_of(where) if name in self.server.virtual]
        if not virtual:
            yield from self._search(base, scope, where, only)
            return
        # No filter of the server's finds what is kept inside of another attribute: looked through here.
        for entry in self._search(base, scope, EVERYTHING, [*only, *virtual] if only else ()):
            if filters.matches(where, entry, self._schema):
                yield entry

    def _search(
        self, base: DN, scope: Scope, where: Filter, only: Collection[str], more: Collection[Any] = ()
    ) -> Iterator[Entry]:
        requested, controls = self.server.wanted(only), [*self.server.reading(), *more]
        for dn, attributes in self._searches.one((base, scope, where), requested, controls):
            yield self._entry(dn, attributes)

    def packed(self, base: DN, scope: Scope = Scope.SUBTREE) -> Iterator[Packed]:
        """The entries in this scope, packed."""
        return map(pack, self.search(base, scope))

    def find_owners(self, forms: Mapping[str, Collection[str]]) -> dict[Form, DN]:
        """Which entries have these values of these attributes."""
        return self._link.persist(lambda: self._find_owners(forms))

    def _find_owners(self, forms: Mapping[str, Collection[str]]) -> dict[Form, DN]:
        named = {attribute: self._schema.attribute_name(attribute) or attribute for attribute in forms}
        wheres = [filters.Compare(named[attribute], "=", value) for attribute in forms for value in forms[attribute]]
        chunks = [filters.Or(tuple(chunk)) for chunk in _chunks(wheres)]
        questions = ((context, Scope.SUBTREE, where) for where in chunks for context in self._contexts)
        requested = sorted(set(named.values()))
        owners: dict[tuple[str, object], DN] = {}
        for dn, attributes in self._answers(questions, requested):
            entry = self._entry(dn, attributes)
            owners |= {(name, self._schema.key(name, value)): entry.dn for name in requested
                     for value in entry.values_of(name)}  # fmt: skip
        if not owners:  # as a rule: names are asked for to see that they are free
            return {}
        keys = {(attribute, value): (named[attribute], self._schema.key(named[attribute], value))
                for attribute in forms for value in forms[attribute]}  # fmt: skip
        return {form: owners[key] for form, key in keys.items() if key in owners}

    def versions(self, dns: Iterable[DN]) -> dict[str, str]:
        """None: what a server would have to be asked for, a search tells as well."""
        return {}

    def remember(self, dn: DN, identifier: str, version: str = "") -> None:
        """Objects are found by their names as fast."""

    def some_values(self, dn: DN, attribute: str, values: Collection[str], others: int = 0) -> list[Value]:
        """By the control for it, else by one filter for each value; others are known from the whole list alone then."""
        if others and 0 < len(values) <= _MANY and (matched := self._matched()) is not None:
            return matched.some_values(dn, attribute, values, others)
        if others or len(values) > _MANY:
            entry = next(self._search(dn, Scope.BASE, EVERYTHING, [attribute]), None)
            return some_of(self._schema, entry, attribute, values, others)
        questions = {value: (dn, Scope.BASE, filters.Compare(attribute, "=", value)) for value in values}
        for question in questions.values():
            self._searches.ask_ahead(question, ["1.1"], [])
        return [value for value, question in questions.items() if any(self._searches.one(question, ["1.1"], []))]

    def pointing(self, dns: Sequence[DN], attributes: Sequence[str], *, leaving: bool = False) -> Iterator[Entry]:
        """By searches, without the lists where the server can."""
        if len(dns) <= FEW_NAMES and (matched := self._matched()) is not None:
            return matched.pointing(dns, attributes, leaving=leaving)
        return search_pointing(self, dns, attributes)

    def identifiers(self, dns: Collection[DN]) -> dict[str, str]:
        """Several questions on their way at a time."""
        keys = {dn.key for dn in dns}
        answers = self._link.persist(lambda: list(self._named(dns, list(IDENTIFIERS))))
        entries = (self._entry(dn, attributes) for dn, attributes in answers)
        return {entry.dn.key: entry.identifier for entry in entries if entry.identifier and entry.dn.key in keys}

    def existing(self, dns: Collection[DN]) -> set[DN]:
        """Which of these names exist."""
        spelled = {str(dn): dn for dn in dns}  # as they were asked for, servers mostly answer
        # That the top is there is known once it has told which directory this is.
        top = {dn for dn in dns if dn == self._contexts[0] and self.identity != self.location}
        others = [dn for dn in dns if dn not in top]
        answers = self._link.persist(lambda: [dn for dn, _ in self._named(others, ["1.1"])])
        return ({spelled.get(text) or DN.read(text) for text in answers} & set(dns)) | top

    def _named(self, dns: Iterable[DN], attributes: list[str]) -> Iterator[Found]:
        """Which of these names exist, and perhaps what holds them; many are asked for with one filter."""
        below: dict[str, list[DN]] = {}
        for dn in dns:
            if dn and any(dn.is_within(context) for context in self._contexts):
                below.setdefault(dn.parent_key, []).append(dn)
        few = [dn for siblings in below.values() if len(siblings) < _MANY for dn in siblings]
        if len(few) >= _MANY and self._schema.attribute(self.server.entry_name) is not None:
            holders = {key: dn.parent for key, siblings in below.items() for dn in siblings[:1]}
            visible = set[str]()
            for found in self._answers(self._by_name({dn.key: dn for dn in few} | holders), attributes):
                visible.add(DN.read(found[0]).key)
                yield found
            # Nothing is shown of a name: that it does not exist is said where what is to hold it was shown.
            few = [dn for dn in few if self.capabilities.answers and not visible & {dn.key, dn.parent_key}]
        questions: list[Question] = [(dn, Scope.BASE, EVERYTHING) for dn in few]
        for siblings in below.values():
            for chunk in _chunks(siblings) if len(siblings) >= _MANY else ():
                questions.append((chunk[0].parent, Scope.ONE, filters.Or(tuple([_named(dn) for dn in chunk]))))
        yield from self._answers(questions, attributes)

    def _by_name(self, dns: Mapping[str, DN]) -> Iterator[Question]:
        """Searches for entries by the attribute that has their whole names."""
        by_context: dict[DN, list[DN]] = {}
        for dn in dns.values():
            holding = [context for context in self._contexts if dn.is_within(context)]
            if holding:
                by_context.setdefault(max(holding, key=len), []).append(dn)
        for context, some in by_context.items():
            for chunk in _chunks(some):
                wheres = tuple([filters.Compare(self.server.entry_name, "=", str(dn)) for dn in chunk])
                yield context, Scope.SUBTREE, filters.Or(wheres)

    def _answers(self, questions: Iterable[Question], attributes: list[str]) -> Iterator[Found]:
        return self._searches.many(questions, attributes)

    def changes(self, base: DN, since: str, identifiers_before: Collection[str]) -> Changes:
        """As the server counts changes, if it does; a stamp that it does not know any more is none."""
        try:
            return self.server.changes(self._link.connection, self, base, since, identifiers_before)
        except ldap.LDAPError:
            return self.changes(base, "", identifiers_before) if since else Changes()

    def deleted(self) -> Iterator[Entry]:
        """[MS-ADTS] 3.1.1.5.5.1: tombstones stand in a container of their own, seen by those who ask for them."""
        if not isinstance(self.server, ActiveServer):
            return
        base = self._contexts[0].child("cn", "Deleted Objects")
        yield from self._search(base, Scope.ONE, filters.Compare("isDeleted", "=", "TRUE"), (), [SHOW_DELETED])

    def forget(self, identifier: str) -> None:
        """No server lets anybody do it."""

    def allowed(self, dn: DN) -> EffectiveRights | None:
        """[MS-ADTS] 3.1.1.4.5.14 and 3.1.1.4.5.11; a standard server does not tell."""
        if not isinstance(self.server, ActiveServer):
            return None
        rights = self._alone(dn, _RIGHTS)
        attributes = set(texts(rights, "allowedAttributesEffective"))
        if int(next(iter(texts(rights, "sDRightsEffective")), "0")) & 4:  # may write the discretionary list
            attributes |= self.server.virtual
        classes = frozenset(texts(rights, "allowedChildClassesEffective"))
        return EffectiveRights(frozenset(attributes), classes, self.settings.who, self.settings.others)

    def whoami(self) -> tuple[str, list[str]]:
        """Who is bound, as the server says, and the groups that count for it, if it says so too; else empty.

        RFC 4532; or, [MS-ADTS] 3.1.1.3.2.27, the identifiers of the account and its groups at the root DSE.
        """
        if isinstance(self.server, ActiveServer):
            sids = [sid.to_text(value) for value in read(self._link, "", ["tokenGroups"]).get("tokengroups", [])]
            where = filters.Or(tuple(filters.Compare("objectSid", "=", text) for text in sids))
            people = {entry.text("objectSid"): entry.dn for entry in self.search(self._contexts[0], where=where)}
            names = [people[text] for text in sids if text in people]
            groups = [dn.name for dn in names[1:] if not dn.name.startswith("S-1-")]  # no stand-ins for strangers
            return (str(names[0]), groups) if names and sids[0] in people else ("", [])
        try:
            return str(self._link.connection.whoami_s()).removeprefix("dn:").removeprefix("u:"), []
        except ldap.LDAPError:
            return "", []

    # --- passwords

    def verify_password(self, dn: DN, secret: Secret) -> bool:
        """Whether a bind with the password succeeds."""
        return self.try_logon(dn, secret) in ("", "change")

    def try_logon(self, dn: DN, secret: Secret) -> str:
        """Why a bind fails, in a word; empty where it succeeds.

        Raises:
            DirectoryError: where the server has not looked at the password, as over a connection that is not encrypted.

        """
        if not secret.reveal():
            return "wrong"  # a bind without a password is anonymous, and succeeds (RFC 4513, section 5.1.2)
        try:
            connect(structs.replace(self.settings, bind_dn=str(dn), secret=secret, sasl=""))[0].unbind_s()
        except LogonRefused as error:
            return error.why
        return ""

    def password_used(self, dn: DN, secret: Secret, last: int) -> bool:
        """The server keeps its history to itself; only the current password can be told."""
        return last > 0 and self.verify_password(dn, secret)

    # --- writing

    def naming_turn(self) -> NamingTurn:
        """The turn to give unique names, by an entry at the top of the directory."""
        searches, stays = self._true_searches(), self.capabilities.keeps_deleted
        can_assert = ASSERTION in self.about.controls
        turn = NamingTurn(self._link, self._contexts[0], self._schema, stays=stays, can_assert=can_assert)
        searches.forget_ahead()  # who had the turn before may have given the very names that were free
        return turn

    def execute(
        self, operations: Sequence[Operation], *, atomic: bool, most_refused: int | None = None
    ) -> list[DirectoryError | None]:  # fmt: skip
        """Several on their way at a time, but none before what it builds upon.

        With `atomic` it stops at the first refusal, and takes back what was made before.
        """
        self._true_searches().forget_ahead()
        return self._writer.run(operations, atomic=atomic, most_refused=most_refused)


def _named(dn: DN) -> Filter:
    """What finds an object among its siblings."""
    parts = tuple([filters.Compare(kind, "=", str(value)) for kind, value in dn.rdn])
    return parts[0] if len(parts) == 1 else filters.And(parts)


def _chunks(values: Sequence[_T]) -> Iterator[Sequence[_T]]:
    for start in range(0, len(values), _AT_ONCE):
        yield values[start : start + _AT_ONCE]
