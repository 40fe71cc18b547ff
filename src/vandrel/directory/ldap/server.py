"""What servers of one schema need on the wire, beside RFC 4511."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Any, Protocol

from vandrel.directory.dn import DN
from vandrel.directory.operations import Change, SetPassword
from vandrel.directory.port import Changes, Directory

Octets = dict[str, list[bytes]]


class Server(Protocol):
    """Where servers differ.

    ``window`` is how many requests may be on their way at a time; ``virtual`` the attributes that are kept inside of
    another, so that no filter of the server's finds them; ``bounds_bind`` whether it keeps to lengths; ``entry_name``
    the attribute that has an entry's whole name, for filters.
    """

    name: str
    subschema: tuple[str, ...]
    window: int
    mends_references: bool
    bounds_bind: bool
    virtual: frozenset[str]
    entry_name: str

    def schema_stamp(self, subschema: str, container: str) -> tuple[str, str]:
        """Which entry tells by which attribute when the schema was changed: the subentry, or what holds the schema."""

    def definitions(self, subschema: Mapping[str, Sequence[str]]) -> Iterable[tuple[str, str]]:
        """The schema's definitions from the values of the subschema subentry."""

    def changes(
        self, connection: Any, directory: Directory, base: DN, since: str, identifiers_before: Collection[str]
    ) -> Changes:  # fmt: skip
        """See `vandrel.directory.port.Directory.changes`. Raises `ldap.LDAPError`, so where the stamp is too old."""

    def wanted(self, attributes: Iterable[str]) -> list[str]:
        """What to ask for so that these attributes come, or all of them."""

    def reading(self) -> list[Any]:
        """Controls that every search carries."""

    def shown(self, attributes: Octets) -> Octets:
        """What came, as it is to be shown; names are as the server spells them."""

    def inside(self, connection: Any, dn: DN, changes: Sequence[Change]) -> tuple[list[Any], list[Any]]:
        """What to modify so that virtual attributes change, and the controls to send along."""

    def identifier_control(self, was: str) -> tuple[tuple[str, list[bytes]], Any] | None:
        """The attribute and the control with which one addition gives an entry its old identifier.

        None where that takes more than an addition. A server may refuse it all the same: see `add_again`.
        """

    def add_again(self, connection: Any, dn: str, attributes: list[tuple[str, list[bytes]]], was: str) -> None:
        """Add an entry as the deleted object with this identifier, where the server can; else as a new one."""

    def password(self, connection: Any, operation: SetPassword, so_far: set[str]) -> None:
        """Set a password. `so_far` outlives a lost connection: what was found and done is noted in it.

        With ``set`` in it the password itself is there already, and only what belongs to it is left to do.
        """
