"""From a connection and an identity to an open directory."""

from __future__ import annotations

from typing import TYPE_CHECKING

from vandrel.connections.config import Target
from vandrel.connections.passwords import Ask, obtain
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError

if TYPE_CHECKING:
    from vandrel.directory.ldap.store import LdapDirectory
    from vandrel.directory.service.store import ServiceDirectory


def connect(target: Target, ask: Ask, *, trusting: bool = False) -> LdapDirectory | ServiceDirectory:
    """Connect and bind; or prepare to speak to a service.

    With `trusting`, a server is taken to say of itself what it said a short while ago, until its first answer: see
    `vandrel.directory.ldap.opening`.

    Raises:
        VandrelError: whatever stands in the way of the password, the library, the host or the identity.

    """
    if target.is_service:
        return _service(target, ask)
    try:
        from vandrel.directory.ldap.connection import Settings
        from vandrel.directory.ldap.store import LdapDirectory
    except ImportError:
        raise VandrelError(
            Code.OUT_OF_REACH,
            "the library that speaks LDAP is not installed",
            where=Location(server=target.name or target.connection.hosts[0]),
            remedy="pip install vandrel[ldap]",
        ) from None
    connection, identity = target.connection, target.identity
    return LdapDirectory(
        Settings(
            tuple(connection.hosts), name=target.name, bind_dn=identity.bind if identity else "",
            secret=obtain(target, ask), sasl=(identity.sasl or "") if identity else "", identity=target.word,
            others=target.others, start_tls=connection.start_tls, ca_file=connection.ca_file,
            unchecked=connection.unchecked, plain=connection.unencrypted, policy=connection.policy,
            seconds=connection.seconds, patience=connection.patience,
        ),
        trusting=trusting,
    )  # fmt: skip


def not_checked(location: str) -> Finding:
    """What is to be said of a server whose certificate nobody checks, since its connection says so."""
    what = "the certificate of the server is not checked: it could be another server"
    remedy = "name the file of the authority that signed it: ca-file"
    return Finding(Code.CERTIFICATE, what, Location(server=location), remedy, severity=NOTE)


def service_base(target: Target) -> str:
    """The top of a service, which has none of its own."""
    from vandrel.directory.dn import DN

    return str(DN(()).child("o", target.name))


def _service(target: Target, ask: Ask) -> ServiceDirectory:
    from vandrel.directory import dn as names

    where = Location(server=target.name)
    try:
        from vandrel.directory.service.link import ServiceSettings
        from vandrel.directory.service.store import ServiceDirectory
    except ImportError:
        what = "the library that speaks SCIM is not installed"
        raise VandrelError(Code.OUT_OF_REACH, what, where=where, remedy="pip install vandrel[services]") from None
    token = obtain(target, ask)
    if token is None:
        what, remedy = "a service wants a token", "give the connection an identity with a password-file"
        raise VandrelError(Code.NOT_PERMITTED, what, where=where, remedy=remedy)
    connection = target.connection
    settings = ServiceSettings(
        connection.hosts[0], target.name, token, connection.ca_file, connection.seconds, connection.patience
    )
    return ServiceDirectory(settings, names.parse(connection.base or service_base(target)))
