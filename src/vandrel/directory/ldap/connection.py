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
        urls: ``ldap://``, ``ldaps://`` or ``ldapi://`` (RFC 4516); a host that is down is passed over.
        bind_dn: the identity of a simple bind; empty for none.
        secret: its password.
        external: bind as whom the connection itself is known for (SASL EXTERNAL, RFC 4422, appendix A).
        start_tls: encrypt an ``ldap://`` connection before anything else is sent.
        ca_file: certificates to trust, instead of the system's.
        unchecked: do not check the server's certificate; whoever sets it is told so each time.
        plain: send a password over a connection that is not encrypted.
        seconds: how long to wait for one answer.
        patience: how long to go on trying when no host answers, or all are busy.

    """

    urls: tuple[str, ...]
    bind_dn: str = ""
    secret: Secret | None = None
    external: bool = False
    start_tls: bool = False
    ca_file: str = ""
    unchecked: bool = False
    plain: bool = False
    seconds: float = 10.0
    patience: float = 30.0


def encrypted(settings: Settings, url: str) -> bool:
    """Whether nobody on the way can read along: TLS, or a socket of this machine."""
    return settings.start_tls or url.lower().startswith(("ldaps:", "ldapi:"))


def connect(settings: Settings) -> tuple[Any, str]:
    """A bound connection (``ldap.ldapobject.LDAPObject``) to the first host that answers, and its URL.

    Raises:
        DirectoryError: ``out-of-reach``, or ``not-permitted`` where the identity is refused or its password would
            be sent unencrypted.

    """
    failed: DirectoryError | None = None
    for url in settings.urls:
        try:
            return _connect(settings, url), url
        except DirectoryError as error:
            if error.code != "out-of-reach":
                raise
            failed = failed or error
    raise failed or DirectoryError("out-of-reach", "no server is named")


def _connect(settings: Settings, url: str) -> Any:
    if settings.secret is not None and not encrypted(settings, url) and not settings.plain:
        raise DirectoryError(
            "not-permitted", "the password would go over the network unencrypted", where=url,
            remedy="use ldaps:// or StartTLS, or say in so many words that it may",
        )  # fmt: skip
    try:
        connection = ldap.initialize(url, bytes_mode=False)
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
        raise in_words(error, url) from None
    return connection
