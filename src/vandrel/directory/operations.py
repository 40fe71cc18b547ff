"""The write requests of LDAP (RFC 4511, sections 4.6 to 4.9; RFC 3062 for passwords), as a port takes them."""

from __future__ import annotations

from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.directory.entry import Value
from vandrel.secret import Secret


class Change(Struct, frozen=True, omit_defaults=True):
    """What happens to one attribute: these values go, these come. Canonical attribute name.

    With `is_exclusive`, no other value may be there when the change is made: whoever worked it out has seen none.
    """

    attribute: str
    removed: tuple[Value, ...] = ()
    added: tuple[Value, ...] = ()
    is_exclusive: bool = False

    def reverse(self) -> Change:
        """The change that takes this one back."""
        return Change(self.attribute, self.added, self.removed, self.is_exclusive)


class AddEntry(Struct, frozen=True):
    """A new entry (RFC 4511, 4.7).

    ``was`` is the identifier, ``entryUUID`` or ``objectGUID``, of the deleted object that it is to be again: a
    directory that can brings that one back, with its identity; else the entry is a new one. With ``as_held`` it is what
    a directory has held before: a file takes it as it is, whatever its schema demands of new entries.
    """

    dn: DN
    attributes: dict[str, list[Value]]
    was: str = ""
    as_held: bool = False


#: What the embedded directory sets by itself, and takes from an addition of what was deleted.
TAKEN_BACK = frozenset({"pwdChangedTime", "pwdHistory"})


class ModifyEntry(Struct, frozen=True):
    """Changes to the attributes of an entry (RFC 4511, 4.6)."""

    dn: DN
    changes: tuple[Change, ...]


class RenameEntry(Struct, frozen=True):
    """New name, new superior, or both; descendants come along and the old naming value goes."""

    dn: DN
    new: DN


class DeleteEntry(Struct, frozen=True):
    """An entry that goes (RFC 4511, 4.8)."""

    dn: DN


class SetPassword(Struct, frozen=True):
    """``secret`` is None to take the password away. ``must_change`` demands a new one at the next logon."""

    dn: DN
    secret: Secret | None
    must_change: bool


Operation = AddEntry | ModifyEntry | RenameEntry | DeleteEntry | SetPassword
