"""The write requests of LDAP (RFC 4511, sections 4.6 to 4.9; RFC 3062 for passwords), as a port takes them."""

from __future__ import annotations

from dataclasses import dataclass

from vandrel.directory.dn import DN
from vandrel.directory.entry import Value
from vandrel.secret import Secret


@dataclass(frozen=True, slots=True)
class Change:
    """What happens to one attribute: these values go, these come. Canonical attribute name."""

    attribute: str
    removed: tuple[Value, ...] = ()
    added: tuple[Value, ...] = ()


@dataclass(frozen=True, slots=True)
class AddEntry:
    dn: DN
    attributes: dict[str, list[Value]]


@dataclass(frozen=True, slots=True)
class ModifyEntry:
    dn: DN
    changes: tuple[Change, ...]


@dataclass(frozen=True, slots=True)
class RenameEntry:
    """New name, new superior, or both; descendants come along and the old naming value goes."""

    dn: DN
    new: DN


@dataclass(frozen=True, slots=True)
class DeleteEntry:
    dn: DN


@dataclass(frozen=True, slots=True)
class SetPassword:
    """``secret`` is None to take the password away. ``must_change`` demands a new one at the next logon."""

    dn: DN
    secret: Secret | None
    must_change: bool


Operation = AddEntry | ModifyEntry | RenameEntry | DeleteEntry | SetPassword
