"""From a connection and an identity to an open directory."""

from __future__ import annotations

from typing import TYPE_CHECKING

from vandrel.connections.config import Target
from vandrel.connections.passwords import Ask, obtain
from vandrel.errors import Code, Location, VandrelError

if TYPE_CHECKING:
    from vandrel.directory.ldap.store import LdapDirectory


def connect(way: Target, ask: Ask) -> LdapDirectory:
    """Connect and bind.

    Raises:
        VandrelError: whatever stands in the way of the password, the library, the host or the identity.

    """
    try:
        from vandrel.directory.ldap.connection import Settings
        from vandrel.directory.ldap.store import LdapDirectory
    except ImportError:
        raise VandrelError(
            Code.OUT_OF_REACH,
            "the library that speaks LDAP is not installed",
            where=Location(server=way.name or way.connection.hosts[0]),
            remedy="pip install vandrel[ldap]",
        ) from None
    connection, identity = way.connection, way.identity
    return LdapDirectory(
        Settings(
            tuple(connection.hosts), name=way.name, bind_dn=identity.bind if identity else "",
            secret=obtain(way, ask), sasl=(identity.sasl or "") if identity else "", identity=way.word,
            others=way.others, start_tls=connection.start_tls, ca_file=connection.ca_file,
            unchecked=connection.unchecked, plain=connection.unencrypted, policy=connection.policy,
            seconds=connection.seconds, patience=connection.patience,
        )
    )  # fmt: skip
