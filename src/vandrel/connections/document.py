"""The file of connections as it is written: one class per mapping."""

from typing import Annotated, Literal

import msgspec
from msgspec import Meta, Struct

Text = Annotated[str, Meta(min_length=1)]


class _Part(Struct, frozen=True, forbid_unknown_fields=True, rename="kebab", omit_defaults=True):
    """A mapping of the file: immutable; a key that is not known is a fault."""


class Identity(_Part, frozen=True):
    """As whom a server is spoken to, and where the password comes from; it never stands in the file itself."""

    bind: Annotated[str, Meta(description="Distinguished name, or principal name, to bind with.")] = ""
    sasl: Annotated[Literal["external", "gssapi"] | None, Meta(description="How else to prove who one is.")] = None
    password: Annotated[
        Literal["ask", "keyring"], Meta(description="Ask for it, or take it from the system's keyring.")
    ] = "ask"
    password_file: Annotated[str, Meta(description="A file for you alone (mode 0600) that holds it.")] = ""
    password_command: Annotated[str, Meta(description="A command whose first line of output is it.")] = ""


class Connection(_Part, frozen=True):
    """One directory."""

    hosts: Annotated[
        list[Text],
        Meta(
            description="ldaps://, ldap:// or ldapi:// URLs, of which one that is down is passed over; or the https:// "
            "base URL of a service of SCIM 2.0.",
            min_length=1,
        ),
    ]
    base: Annotated[
        str, Meta(description="Distinguished name of the top, where it is another than the charter's: for copies.")
    ] = ""
    identities: Annotated[
        dict[str, Identity], Meta(description="As whom, by a word each; the first is the everyday one.")
    ] = {}
    start_tls: Annotated[bool, Meta(description="Encrypt ldap:// before anything else is sent.")] = False
    ca_file: Annotated[str, Meta(description="Certificates to trust, in place of the system's.")] = ""
    unchecked: Annotated[bool, Meta(description="Do not check the certificate; said each time.")] = False
    unencrypted: Annotated[bool, Meta(description="Let passwords go over the network unencrypted.")] = False
    policy: Annotated[str, Meta(description="Name of the password policy where an account has none of its own.")] = ""
    journal: Annotated[
        str, Meta(description="A database for the journal of all who work on it, as postgresql://HOST/NAME.")
    ] = ""
    seconds: Annotated[int, Meta(description="How long to wait for one answer.", ge=1, le=600)] = 10
    patience: Annotated[int, Meta(description="How long to go on trying when no host answers.", ge=0, le=86400)] = 30


class Mail(_Part, frozen=True):
    """How messages are sent."""

    sender: Annotated[Text, Meta(description="The address that they come from.")]
    server: Annotated[str, Meta(description="smtps://HOST, or smtp://HOST, which is encrypted before anything.")] = ""
    command: Annotated[str, Meta(description="Or a command that takes a message, as /usr/sbin/sendmail -t -i.")] = ""
    user: Annotated[str, Meta(description="Whom the server knows us as; empty for nobody.")] = ""
    password_file: Annotated[str, Meta(description="A file for you alone (mode 0600) that holds the password.")] = ""
    ca_file: Annotated[str, Meta(description="Certificates to trust, in place of the system's.")] = ""
    seconds: Annotated[int, Meta(description="How long to wait for one answer.", ge=1, le=600)] = 20


class Document(_Part, frozen=True):
    """The whole file."""

    connections: Annotated[dict[str, Connection], Meta(description="Directories by name.")] = {}
    mail: Annotated[Mail | None, Meta(description="How messages are sent: reports and first passwords.")] = None


def json_schema() -> dict[str, object]:
    """The JSON Schema (2020-12) of the file."""
    return msgspec.json.schema(Document)
