"""From a connection and an identity to an open directory."""

from __future__ import annotations

from typing import TYPE_CHECKING

from vandrel.connections.config import Target
from vandrel.connections.passwords import Ask, obtain
from vandrel.errors import Code, Location, VandrelError

if TYPE_CHECKING:
    from vandrel.directory.ldap.store import LdapDirectory


def connect(target: Target, ask: Ask) -> LdapDirectory:
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
        )
    )  # fmt: skip
