"""An entry: a name and its attributes."""

from __future__ import annotations

from msgspec import Struct

from vandrel.directory.dn import DN

Value = str | bytes


#: The attributes in which directories keep an object's identifier.
IDENTIFIERS = ("entryUUID", "objectGUID")


def new_identifier() -> str:
    """Make the identifier of a new object: a UUID of random numbers (RFC 9562, 5.4)."""
    from uuid import uuid4  # whoever only reads has no use for it

    return str(uuid4())


class Entry(Struct):
    """One object of a directory.

    ``attributes`` has canonical attribute names as keys (the schema's first name) and never an empty list as
    a value. Text is ``str``; values of octet syntaxes are ``bytes``.
    """

    dn: DN
    attributes: dict[str, list[Value]]

    @property
    def identifier(self) -> str:
        """The directory's own identifier of the object, which outlives its name; empty where none was read.

        ``objectGUID`` ([MS-ADA3]) or ``entryUUID`` (RFC 4530): ask for `IDENTIFIERS`.
        """
        return self.text("objectGUID" if "objectGUID" in self.attributes else "entryUUID")

    def values_of(self, attribute: str) -> list[Value]:
        """The values of an attribute; an empty list for none."""
        return self.attributes.get(attribute, [])

    def texts(self, attribute: str) -> list[str]:
        """The values that are text."""
        values = self.attributes.get(attribute)
        return [value for value in values if isinstance(value, str)] if values else []

    def text(self, attribute: str) -> str:
        """The first value that is text, or an empty string."""
        values = self.texts(attribute)
        return values[0] if values else ""

    def dn_values(self) -> list[tuple[str, str]]:
        """Attribute and value of each part of the name."""
        return [(kind, value) for rdn in self.dn.rdns for kind, value in rdn if isinstance(value, str)]

    def has_class(self, name: str) -> bool:
        """Whether the entry has an object class, in whichever case."""
        classes = self.attributes.get("objectClass", ())
        return name in classes or name.lower() in (str(value).lower() for value in classes)
