"""Opening a connection: address, encryption, identity."""

from __future__ import annotations

from typing import Any

import ldap
import ldap.sasl
from msgspec import Struct

from vandrel.directory.ldap.faults import in_words
from vandrel.errors import DirectoryError
from vandrel.secret import Secret


class Settings(Struct, frozen=True):
    """How to reach a server and as whom.

    Attributes:
        url: ``ldap://``, ``ldaps://`` or ``ldapi://`` (RFC 4516).
        bind_dn: the identity of a simple bind; empty for none.
        secret: its password.
        external: bind as whom the connection itself is known for (SASL EXTERNAL, RFC 4422, appendix A).
        start_tls: encrypt an ``ldap://`` connection before anything else is sent.
        ca_file: certificates to trust, instead of the system's.
        unchecked: do not check the server's certificate; whoever sets it is told so each time.
        plain: send a password over a connection that is not encrypted.
        seconds: how long to wait for the server.

    """

    url: str
    bind_dn: str = ""
    secret: Secret | None = None
    external: bool = False
    start_tls: bool = False
    ca_file: str = ""
    unchecked: bool = False
    plain: bool = False
    seconds: float = 10.0


def encrypted(settings: Settings) -> bool:
    """Whether nobody on the way can read along: TLS, or a socket of this machine."""
    return settings.start_tls or settings.url.lower().startswith(("ldaps:", "ldapi:"))


def connect(settings: Settings) -> Any:
    """A bound connection (``ldap.ldapobject.LDAPObject``).

    Raises:
        DirectoryError: ``out-of-reach``, or ``not-permitted`` where the identity is refused or its password would
            be sent unencrypted.

    """
    if settings.secret is not None and not encrypted(settings) and not settings.plain:
        raise DirectoryError(
            "not-permitted", "the password would go over the network unencrypted", where=settings.url,
            remedy="use ldaps:// or StartTLS, or say in so many words that it may",
        )  # fmt: skip
    try:
        connection = ldap.initialize(settings.url, bytes_mode=False)
        connection.protocol_version = ldap.VERSION3
        connection.set_option(ldap.OPT_REFERRALS, 0)
        connection.set_option(ldap.OPT_NETWORK_TIMEOUT, settings.seconds)
        connection.timeout = settings.seconds
        if settings.ca_file:
            connection.set_option(ldap.OPT_X_TLS_CACERTFILE, settings.ca_file)
        demand = ldap.OPT_X_TLS_NEVER if settings.unchecked else ldap.OPT_X_TLS_DEMAND
        connection.set_option(ldap.OPT_X_TLS_REQUIRE_CERT, demand)
        connection.set_option(ldap.OPT_X_TLS_NEWCTX, 0)
        if settings.start_tls:
            connection.start_tls_s()
        if settings.external:
            connection.sasl_interactive_bind_s("", ldap.sasl.external())
        elif settings.bind_dn:
            connection.simple_bind_s(settings.bind_dn, settings.secret.reveal() if settings.secret else "")
    except ldap.LDAPError as error:
        raise in_words(error, settings.url) from None
    return connection
