"""A connection that is made anew when it is lost."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from typing import TypeVar

import ldap

from vandrel.directory.ldap.connection import Connection, Settings, connect, encrypted
from vandrel.directory.ldap.error_mapping import in_words
from vandrel.directory.port import DescriptionChangedError
from vandrel.errors import Code, DirectoryError, Location

#: The server may or may not have done what it was asked.
NO_ANSWER = (ldap.SERVER_DOWN, ldap.CONNECT_ERROR, ldap.TIMEOUT, ldap.BUSY, ldap.UNAVAILABLE)
#: Bits of a key that count as encryption ([MS-ADTS] 3.1.1.3.1.5 asks for as many).
_STRONG = 128
_PASSING = ("out-of-reach", "busy")

_T = TypeVar("_T")


class Link:
    """The connection in use. ``reconnected`` counts how often it was lost and made anew, to any host."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.connection, self.url = connect(settings)
        self.reconnected = 0
        self._ask: Callable[[Connection], Callable[[], bool]] | None = None
        self._is_outdated = False

    def expect(self, ask: Callable[[Connection], Callable[[], bool]]) -> None:
        """Take something on trust until the first answer comes, which raises `DescriptionChangedError` if it was wrong.

        Args:
            ask: sends the questions on a connection, and gives back what looks whether the answers are as expected.

        """
        self._ask = ask
        self._expect()

    def _expect(self) -> None:
        if self._ask is None:
            return
        is_as_expected = self._ask(self.connection)

        def look() -> None:
            self._is_outdated = not is_as_expected()
            self._ask = None
            self._must_be_current()

        self.connection.before_answer = look

    def _must_be_current(self) -> None:
        if self._is_outdated:
            raise DescriptionChangedError

    def confirm(self) -> None:
        """See to it that nothing is taken on trust any more.

        Raises:
            DescriptionChangedError: it was wrong.
            DirectoryError: ``out-of-reach`` and the like, where that cannot be seen.

        """
        try:
            self.connection.look_first()
        except NO_ANSWER as error:
            raise in_words(error, Location(server=self.settings.name or self.url)) from None
        self._must_be_current()

    def persist(self, attempt: Callable[[], _T]) -> _T:
        """Try until a server answers, with growing pauses, as long as the settings have patience.

        Raises:
            DirectoryError: ``out-of-reach`` or ``busy`` in the end.

        """
        deadline, pause = time.monotonic() + self.settings.patience, 0.05
        while True:
            try:
                return attempt()
            except NO_ANSWER as error:
                failure = in_words(error, Location(server=self.settings.name or self.url))
            except DirectoryError as error:
                if error.code not in _PASSING:
                    raise
                failure = error
            if time.monotonic() + pause > deadline:
                raise failure
            time.sleep(pause)
            pause = min(2 * pause, 2.0)
            if failure.code == Code.OUT_OF_REACH:
                self._again()

    def _again(self) -> None:
        with suppress(DirectoryError):
            self.anew()

    def anew(self) -> None:
        """Connect once more. Raises `DirectoryError`."""
        self.connection, self.url = connect(self.settings, self.url)
        self.reconnected += 1
        self._expect()

    @property
    def private(self) -> bool:
        """Whether nobody on the way can read along: TLS, a socket of this machine, or what SASL agreed upon."""
        if encrypted(self.settings, self.url):
            return True
        return bool(self.settings.sasl) and int(self.connection.get_option(ldap.OPT_X_SASL_SSF) or 0) >= _STRONG

    def close(self) -> None:
        """Close the connection."""
        with suppress(ldap.LDAPError):
            self.connection.unbind_s()
