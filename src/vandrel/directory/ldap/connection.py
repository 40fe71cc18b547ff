"""Opening a connection: address, encryption, identity."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import ldap
import ldap.sasl
from ldap.ldapobject import SimpleLDAPObject
from msgspec import Struct

from vandrel.directory.ldap.error_mapping import in_words, why_untrusted
from vandrel.errors import Code, DirectoryError, Location
from vandrel.secret import Secret


class Settings(Struct, frozen=True):
    """How to reach a server and as whom.

    Attributes:
        urls: ``ldap://``, ``ldaps://`` or ``ldapi://`` (RFC 4516); a host that is down is passed over.
        name: what the user calls this connection; empty where it was given as a URL.
        bind_dn: the identity of a simple bind; empty for none. Servers with the Active Directory schema take a
            principal name as well.
        secret: its password.
        sasl: ``external`` to bind as whom the connection itself is known for (RFC 4422, appendix A), ``gssapi`` for
            the ticket of RFC 4752; empty for a simple bind.
        identity: the word for this identity among those of the connection.
        others: the words for its other identities.
        start_tls: encrypt an ``ldap://`` connection before anything else is sent.
        ca_file: certificates to trust, instead of the system's.
        unchecked: do not check the server's certificate; whoever sets it is told so each time.
        plain: send a password over a connection that is not encrypted.
        policy: the name of the password policy that holds where an account has none of its own.
        seconds: how long to wait for one answer.
        patience: how long to go on trying when no host answers, or all are busy.

    """

    urls: tuple[str, ...]
    name: str = ""
    bind_dn: str = ""
    secret: Secret | None = None
    sasl: str = ""
    identity: str = ""
    others: tuple[str, ...] = ()
    start_tls: bool = False
    ca_file: str = ""
    unchecked: bool = False
    plain: bool = False
    policy: str = ""
    seconds: float = 10.0
    patience: float = 30.0

    @property
    def who(self) -> str:
        """The identity as people call it."""
        if self.sasl:
            return f"the identity of SASL {self.sasl.upper()}"
        return self.bind_dn or "nobody (anonymous)"


class Connection(SimpleLDAPObject):  # type: ignore[misc]
    """A connection on which something may have to be looked at before the first answer is given out."""

    before_answer: Callable[[], None] | None = None

    def result4(self, *arguments: Any, **more: Any) -> Any:
        """What every method that waits for an answer goes through."""
        self.look_first()
        return super().result4(*arguments, **more)

    def look_first(self) -> None:
        """Look at it now. Raises what that raises."""
        if (look := self.before_answer) is not None:
            self.before_answer = None
            look()


def encrypted(settings: Settings, url: str) -> bool:
    """Whether nobody on the way can read along: TLS, or a socket of this machine."""
    return settings.start_tls or url.lower().startswith(("ldaps:", "ldapi:"))


def connect(settings: Settings, last: str = "") -> tuple[Connection, str]:
    """A bound connection to the first host that answers, and its URL.

    Args:
        settings: hosts and identity.
        last: the host that was used until now, which is tried first: what was just written is there for sure.

    Raises:
        DirectoryError: ``out-of-reach``, ``certificate``, or ``not-permitted`` where the identity is refused or its
            password would be sent unencrypted.

    """
    failed: DirectoryError | None = None
    for url in sorted(settings.urls, key=lambda url: url != last):
        try:
            return _connect(settings, url), url
        except DirectoryError as error:
            if error.code not in (Code.OUT_OF_REACH, Code.BUSY):
                raise
            failed = failed or error
    raise failed or DirectoryError(Code.OUT_OF_REACH, "no server is named")


def _connect(settings: Settings, url: str) -> Connection:
    if settings.secret is not None and not encrypted(settings, url) and not settings.plain:
        raise DirectoryError(
            Code.NOT_PERMITTED, "the password would go over the network unencrypted", where=Location(server=url),
            remedy="use ldaps://, or write start-tls: true or unencrypted: true into the connection",
        )  # fmt: skip
    try:
        connection = Connection(url, bytes_mode=False)
        connection.protocol_version = ldap.VERSION3
        connection.set_option(ldap.OPT_REFERRALS, 0)
        connection.set_option(ldap.OPT_NETWORK_TIMEOUT, settings.seconds)
        connection.timeout = settings.seconds
        if settings.ca_file:
            connection.set_option(ldap.OPT_X_TLS_CACERTFILE, settings.ca_file)
        demand = ldap.OPT_X_TLS_NEVER if settings.unchecked else ldap.OPT_X_TLS_DEMAND
        connection.set_option(ldap.OPT_X_TLS_REQUIRE_CERT, demand)
        connection.set_option(ldap.OPT_X_TLS_NEWCTX, 0)
        if settings.start_tls and url.lower().startswith("ldap:"):
            connection.start_tls_s()
        _bind(connection, settings)
    except (ldap.SERVER_DOWN, ldap.CONNECT_ERROR, ValueError) as error:  # ValueError: TLS itself cannot be set up
        why = "" if settings.unchecked else why_untrusted(url, settings.ca_file, start_tls=settings.start_tls)
        if why:
            raise DirectoryError(
                Code.CERTIFICATE, f"the server's certificate is not trusted: {why}", where=Location(server=url),
                remedy="name the file of the authority that signed it (ca-file), or call the server by the name that "
                "stands in the certificate",
            ) from None  # fmt: skip
        if isinstance(error, ValueError):
            raise DirectoryError(
                Code.CERTIFICATE, f"TLS cannot be set up: {error}", where=Location(server=url)
            ) from None
        raise in_words(error, Location(server=url)) from None
    except ldap.LDAPError as error:
        raise in_words(error, Location(server=url)) from None
    return connection


def _bind(connection: Connection, settings: Settings) -> None:
    try:
        if settings.sasl == "external":
            connection.sasl_interactive_bind_s("", ldap.sasl.external())
        elif settings.sasl == "gssapi":
            connection.sasl_interactive_bind_s("", ldap.sasl.gssapi())
        elif settings.bind_dn:
            connection.simple_bind_s(settings.bind_dn, settings.secret.reveal() if settings.secret else "")
    except (ldap.AUTH_UNKNOWN, ldap.AUTH_METHOD_NOT_SUPPORTED):
        raise DirectoryError(
            Code.NOT_PERMITTED,
            f"SASL {settings.sasl.upper()} is not to be had, here or on the server",
            where=Location(server=settings.name),
            remedy="install the library's module for it, or bind with a name and a password",
        ) from None
    except (ldap.LOCAL_ERROR, ldap.INAPPROPRIATE_AUTH) as error:
        raise in_words(error, Location(server=settings.name or settings.urls[0])) from None
