"""Searches over the protocol, whatever limits the server has: in pages, several at a time, or in parts."""

from __future__ import annotations

import math
import time
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from typing import Any, NamedTuple

import ldap
import ldap.controls

from vandrel.directory import filter as filters
from vandrel.directory.dn import DN
from vandrel.directory.filter import And, Compare, Filter, Not
from vandrel.directory.ldap.error_mapping import NoPagesError, SizeLimitError, in_words
from vandrel.directory.ldap.reconnect import Link
from vandrel.directory.ldap.server import Octets
from vandrel.directory.port import Scope
from vandrel.errors import DirectoryError, Location

#: An entry as the protocol library gives it.
Found = tuple[str, Octets]
#: A base, how far below it, and what is looked for.
Question = tuple[DN, Scope, Filter]

_SCOPES = {Scope.BASE: ldap.SCOPE_BASE, Scope.ONE: ldap.SCOPE_ONELEVEL, Scope.SUBTREE: ldap.SCOPE_SUBTREE}
_PAGE = 1000
#: Searches on their way at a time, of many that find little each.
_AT_A_TIME = 16
#: Every entry has one of its own, and they have an order (RFC 4530, section 2.4): a search is parted by them.
_IDENTIFIER = "entryUUID"
#: Objects of one search that are remembered, so that none of them is given out again by its parts.
_REMEMBERED = 50_000
#: Questions that may be on their way ahead at a time, results of one that are waited for, and for how many seconds an
#: answer is as good as a new one.
_MOST_AHEAD, _PAGE_AHEAD, _FRESH = 32, 100, 2.0


class _GivenAnswer(NamedTuple):
    """What was found, whether that is all of it, and until when it is as good as a new answer."""

    found: list[Found]
    is_whole: bool
    until: float


class _PendingAnswer(NamedTuple):
    """A question that was sent ahead: on which connection, its request, and until when the answer is good."""

    connection: Any
    request: int
    until: float


class Searches:
    """Searches on the connections to one server; the first of them is the one for everything else."""

    def __init__(self, link: Link) -> None:
        self._link = link
        self._links, self._idle = [link], [link]
        self._gives_pages = True
        self._requests: dict[tuple[object, ...], _PendingAnswer] = {}
        #: Answers to what was asked ahead, which may be given once more; and whether such answers are put by.
        self._given: dict[tuple[object, ...], _GivenAnswer] = {}
        self._again: dict[tuple[object, ...], _GivenAnswer] = {}
        self._keeps = False

    def ask_ahead(
        self, question: Question, attributes: list[str], controls: Sequence[Any], seconds: float = _FRESH
    ) -> None:  # fmt: skip
        """Send a question whose answer will be wanted soon; what cannot be sent is asked when its time comes.

        Of the monotonic clock, the answer is good for so many seconds.
        """
        key, now = _key(question, attributes, controls), time.monotonic()
        if any(key in some and some[key].until > now for some in (self._requests, self._again)):
            return
        for old in [key for key, pending in self._requests.items() if pending.until <= now]:
            self._drop(self._requests.pop(old))
        if len(self._requests) >= _MOST_AHEAD:
            return
        all_controls = [*controls]
        if self._gives_pages and question[1] is not Scope.BASE:
            all_controls.append(ldap.controls.SimplePagedResultsControl(True, size=_PAGE_AHEAD, cookie=""))
        with suppress(DirectoryError):
            request = _ask(self._link, question, attributes, all_controls)
            self._requests[key] = _PendingAnswer(self._link.connection, request, now + seconds)

    def begin_ahead(self, *, again: bool) -> None:
        """Begin a piece of work that asks ahead; with `again`, with what answers the one before has been given.

        They are given once more and not a third time: who looks again later wants to know what is there by then.
        """
        if again and not self._keeps:
            self.forget_ahead()
        self._again, self._given, self._keeps = (self._given if again else {}), {}, not again

    def forget_ahead(self) -> None:
        """Let go of answers that nobody has asked for since: by what happens now they may be wrong."""
        for key in [key for key, request in self._requests.items() if request.until < math.inf]:
            self._drop(self._requests.pop(key))
        self._given, self._again = {}, {}

    def _drop(self, pending: _PendingAnswer) -> None:
        if pending.connection is self._link.connection:
            with suppress(ldap.LDAPError):
                pending.connection.abandon(pending.request)

    def _answer_ahead(
        self, question: Question, attributes: list[str], controls: Sequence[Any]
    ) -> tuple[list[Found], bool] | None:  # fmt: skip
        """The answer to a question that was sent ahead, and whether that is all of it; None where it must be asked."""
        if not (self._requests or self._again):
            return None
        key = _key(question, attributes, controls)
        given = self._again.pop(key, None)
        if given is not None and time.monotonic() <= given.until:
            return given.found, given.is_whole
        request = self._requests.pop(key, None)
        if request is None or request.connection is not self._link.connection:
            return None
        if time.monotonic() > request.until:
            self._drop(request)
            return None
        answer = self._awaited(request)
        if answer is not None and self._keeps:
            self._given[key] = _GivenAnswer(*answer, request.until)
        return answer

    @staticmethod
    def _awaited(request: _PendingAnswer) -> tuple[list[Found], bool] | None:
        try:
            _, results, _, answered = request.connection.result3(request.request)
        except (ldap.NO_SUCH_OBJECT, ldap.REFERRAL):
            return [], True
        except ldap.LDAPError:
            return None
        cookies = [c.cookie for c in answered if isinstance(c, ldap.controls.SimplePagedResultsControl)]
        return [result for result in results if result[0] is not None], not any(cookies)

    def close(self) -> None:
        """Close all connections."""
        for link in self._links:
            link.close()

    def one(self, question: Question, attributes: list[str], controls: Sequence[Any]) -> Iterator[Found]:
        """What one search finds, page by page; in parts, where the server gives out only so much of it.

        Raises:
            DirectoryError: ``limit`` where it cannot be parted, and what the server refuses.

        """
        base, scope, where = question
        if (answer := self._answer_ahead(question, attributes, controls)) is not None:
            found_ahead, is_whole = answer
            yield from found_ahead
            if not is_whole:
                names = {dn for dn, _ in found_ahead}
                yield from (result for result in self.one(question, attributes, controls) if result[0] not in names)
            return
        referrals: list[str] = []
        parts: tuple[Filter, ...] = (where,)
        try:
            yield from self._pages(question, attributes, controls, referrals)
        except NoPagesError:
            if not self._gives_pages:
                raise
            self._gives_pages = False
        except SizeLimitError:
            if len(referrals) >= _REMEMBERED or not (middle := self._middle(question)):
                raise
            beyond = Compare(_IDENTIFIER, ">=", middle)
            parts = (And((where, Not(beyond))), And((where, beyond)))
        else:
            return
        names = set(referrals)
        for part in parts:
            for result in self.one((base, scope, part), attributes, controls):
                if result[0] not in names:
                    yield result

    def few(self, question: Question, attributes: list[str]) -> list[Found]:
        """The first of what a search finds, in no order; nothing where the server does not stop there."""
        if not self._gives_pages:
            return []
        self.ask_ahead(question, attributes, [])
        answer = self._answer_ahead(question, attributes, [])
        return answer[0] if answer is not None else []

    def many(self, questions: Iterable[Question], attributes: list[str]) -> Iterator[Found]:
        """What many searches find that find little each, some of them on their way at a time."""
        waiting: deque[tuple[int, DN]] = deque()
        for question in questions:
            answer = self._answer_ahead(question, attributes, [])
            if answer is not None and answer[1]:
                yield from answer[0]
                continue
            if len(waiting) >= _AT_A_TIME:
                yield from self._answer(*waiting.popleft())
            waiting.append((_ask(self._link, question, attributes, []), question[0]))
        while waiting:
            yield from self._answer(*waiting.popleft())

    def _answer(self, request: int, base: DN) -> Iterator[Found]:
        try:
            _, results, _, _ = self._link.connection.result3(request)
        except (ldap.NO_SUCH_OBJECT, ldap.INVALID_DN_SYNTAX, ldap.REFERRAL):
            return
        except ldap.LDAPError as error:
            raise in_words(error, Location(dn=str(base))) from None
        yield from ((dn, attributes) for dn, attributes in results if dn is not None)

    def _pages(
        self, question: Question, attributes: list[str], controls: Sequence[Any], referrals: list[str]
    ) -> Iterator[Found]:  # fmt: skip
        """What one search gives out, page by page; the first names among them are put down in `referrals`."""
        is_one = question[1] is Scope.BASE
        page = ldap.controls.SimplePagedResultsControl(True, size=_PAGE, cookie="")
        all_controls = [*([page] if self._gives_pages and not is_one else []), *controls]
        link = self._link if is_one else self._take()
        request = 0

        def begin() -> tuple[list[Any], list[Any]] | None:
            return _page(link, _ask(link, question, attributes, all_controls), question[0])

        try:
            # As long as nothing was given out, a search can begin anew on another connection, or another host.
            answer = link.persist(begin)
            while answer is not None:
                results, answered = answer
                page.cookie = next((c.cookie for c in answered if c.controlType == page.controlType), b"")
                if page.cookie:  # the next page is on its way while this one is read
                    request = _ask(link, question, attributes, all_controls)
                for result in results:
                    if result[0] is not None:  # a referral to another server is left alone
                        yield result
                referrals += [dn for dn, _ in results[: max(0, _REMEMBERED - len(referrals))] if dn is not None]
                answer = _page(link, request, question[0]) if page.cookie else None
                request = 0
        finally:
            if request:  # nobody reads on
                with suppress(ldap.LDAPError):
                    link.connection.abandon(request)
            if not is_one:
                self._idle.append(link)

    def _take(self) -> Link:
        """A connection on which no other search is being read page by page.

        RFC 2696 leaves open whether a server can tell the cookies of several searches apart; some keep one to a
        connection, and end the others early without a word.
        """
        if not self._idle:
            self._links.append(Link(self._link.settings))
            return self._links[-1]
        return self._idle.pop()

    def _middle(self, question: Question) -> str:
        """The identifier in the middle of those that the server does give out; empty where they cannot be parted."""
        link = self._take()
        identifiers: list[str] = []
        try:
            request = _ask(link, question, [_IDENTIFIER], [])
            with suppress(ldap.LDAPError):  # the limit again: what came before it is what was asked for
                while results := link.connection.result(request, all=0)[1]:
                    values = (attributes.get(_IDENTIFIER, ()) for dn, attributes in results if dn is not None)
                    identifiers += [value.decode() for own in values for value in own]
        finally:
            self._idle.append(link)
        return sorted(identifiers)[len(identifiers) // 2] if len(set(identifiers)) > 1 else ""


class SearchesAhead:
    """The same searches, sent ahead: they find nothing yet."""

    def __init__(self, searches: Searches) -> None:
        self._searches = searches

    def one(self, question: Question, attributes: list[str], controls: Sequence[Any]) -> Iterator[Found]:
        """See `Searches.one`."""
        self._searches.ask_ahead(question, attributes, controls)
        return iter(())

    def few(self, question: Question, attributes: list[str]) -> list[Found]:
        """See `Searches.few`."""
        self._searches.ask_ahead(question, attributes, [])
        return []

    def many(self, questions: Iterable[Question], attributes: list[str]) -> Iterator[Found]:
        """See `Searches.many`."""
        for question in questions:
            self._searches.ask_ahead(question, attributes, [])
        return iter(())

    def ask_ahead(self, question: Question, attributes: list[str], controls: Sequence[Any]) -> None:
        """See `Searches.ask_ahead`."""
        self._searches.ask_ahead(question, attributes, controls)

    def close(self) -> None:
        """The connections are those of the others."""


def _key(question: Question, attributes: Sequence[str], controls: Sequence[Any]) -> tuple[object, ...]:
    base, scope, where = question
    return (
        base.key,
        scope,
        filters.to_text(where),
        tuple(attributes),
        tuple((control.controlType, getattr(control, "filterstr", "")) for control in controls),
    )


def _ask(link: Link, question: Question, attributes: list[str], controls: Sequence[Any]) -> int:
    base, scope, where = question
    text = filters.to_text(where)
    try:
        return int(link.connection.search_ext(str(base), _SCOPES[scope], text, attributes, serverctrls=[*controls]))
    except ldap.LDAPError as error:
        raise in_words(error, Location(dn=str(base))) from None


def _page(link: Link, request: int, base: DN) -> tuple[list[Any], list[Any]] | None:
    """What one search request found, and the controls with it; None where there is no such base."""
    try:
        _, results, _, answered = link.connection.result3(request)
    except (ldap.NO_SUCH_OBJECT, ldap.REFERRAL):
        return None
    except ldap.LDAPError as error:
        raise in_words(error, Location(dn=str(base))) from None
    return results, answered
