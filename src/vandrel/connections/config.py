"""The file of connections, read; and what a word, a URL or an identity on the command line means."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from urllib.parse import urlsplit

from msgspec import Struct, structs

from vandrel import trusted_file
from vandrel.connections.document import Connection, Document, Identity, Mail, json_schema
from vandrel.directory import dn as names
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.text.nearest import did_you_mean, listed

_SCHEMES = ("ldap", "ldaps", "ldapi")
_SERVICE = "https://"


class ConnectionFaults(VandrelError):
    """A file of connections with faults: one finding for each, in the order of the file."""


class Target(Struct, frozen=True):
    """One connection with one identity, chosen. ``name`` is empty for a URL, ``identity`` for nobody."""

    name: str
    connection: Connection
    word: str
    identity: Identity | None

    @property
    def is_service(self) -> bool:
        """Whether it is a service of SCIM 2.0, and no LDAP server."""
        return self.connection.hosts[0].startswith(_SERVICE)

    @property
    def others(self) -> tuple[str, ...]:
        """The words for the other identities of the connection."""
        return tuple(word for word in self.connection.identities if word != self.word)


def is_url(text: str) -> bool:
    """Whether a text is an LDAP URL."""
    return "://" in text


def _address(url: str) -> str:
    """Scheme, host and port of an LDAP URL (RFC 4516); empty where it is none. What stands behind is for searches."""
    try:
        parts = urlsplit(url)
        port = parts.port if parts.scheme != "ldapi" else None
    except ValueError:
        return ""
    sound = parts.scheme in _SCHEMES and (parts.scheme == "ldapi" or bool(parts.hostname)) and port != 0
    return f"{parts.scheme}://{parts.netloc}" if sound and not re.search(r"\s", parts.netloc) else ""


def load(paths: Iterable[Path], skipped: list[Finding] | None = None) -> dict[str, Connection]:
    """The connections of these files; of two with one name the first counts. A file that is not there is none.

    Args:
        paths: the files, the first to count first.
        skipped: takes a note on each file that somebody else could have written, which then does not count; without
            it, such a file is an error.

    Raises:
        ConnectionFaults: code ``connections``, every fault with file, line and column.
        VandrelError: ``not-permitted``.

    """
    connections: dict[str, Connection] = {}
    for folder, document in _documents(paths, skipped):
        for name, connection in document.connections.items():
            connections.setdefault(name, _from_folder(folder, connection))
    return connections


def load_mail(paths: Iterable[Path]) -> Mail | None:
    """How messages are sent: as the first of these files says that says anything. Raises as `load` does."""
    for folder, document in _documents(paths, []):
        if (mail := document.mail) is not None:
            files = {name: _visible(folder, getattr(mail, name)) for name in ("password_file", "ca_file")}
            return structs.replace(mail, **files)
    return None


def _documents(paths: Iterable[Path], skipped: list[Finding] | None) -> Iterator[tuple[Path, Document]]:
    """What the files say, each with the folder that it stands in."""
    for path in paths:
        try:
            text = trusted_file.read_text(path, "file of connections")
        except FileNotFoundError:
            continue
        except VandrelError as error:
            if skipped is None:
                raise
            skipped += (structs.replace(finding, severity=NOTE) for finding in error.findings)
            continue
        yield path.parent, _read(path, text)


def _visible(folder: Path, name: str) -> str:
    """A file as seen from the folder of the file that names it."""
    try:
        return str(folder / Path(name).expanduser()) if name else ""
    except RuntimeError:  # ~ and the name of nobody
        return str(folder / name)


def _from_folder(folder: Path, connection: Connection) -> Connection:
    """The connection with the files that it names as seen from the folder of the file that names them."""
    identities = {
        word: structs.replace(identity, password_file=_visible(folder, identity.password_file))
        for word, identity in connection.identities.items()
    }
    return structs.replace(connection, identities=identities, ca_file=_visible(folder, connection.ca_file))


def _read(path: Path, text: str) -> Document:
    from vandrel.text.schema_errors import convert
    from vandrel.text.yaml_source import read

    source = read(str(path), text, Code.CONNECTIONS)
    document = convert(source, Document, json_schema()) if source.data is not None else Document()
    for name, connection in document.connections.items():
        is_service = any(url.startswith(_SERVICE) for url in connection.hosts)
        for number, url in enumerate(connection.hosts):
            if is_service and not (url.startswith(_SERVICE) and urlsplit(url).hostname and number == 0):
                what = "a service has one address, its base URL, and it is encrypted"
                source.fault(("connections", name, "hosts", number), what, "write https://HOST/scim/v2")
            elif not is_service and not _address(url):
                source.fault(("connections", name, "hosts", number), f"{url!r} is no LDAP URL", "write ldaps://HOST")
        if connection.journal:
            from vandrel.record.shared_database import fault_of

            if fault := fault_of(connection.journal):
                source.fault(("connections", name, "journal"), fault, "write postgresql://HOST/NAME")
        try:
            names.parse(connection.base)
        except VandrelError as error:
            source.fault(("connections", name, "base"), error.findings[0].what, "write dc=example,dc=org")
        for word, identity in connection.identities.items():
            where = ("connections", name, "identities", word)
            if is_service and (identity.bind or identity.sasl):
                what = "a service knows an identity by its token, which comes from where passwords come from"
                source.fault(where, what, "password-file: FILE", key=True)
            elif not is_service and bool(identity.bind) == bool(identity.sasl):
                source.fault(where, "an identity has either bind or sasl", "bind: cn=...; or sasl: external", key=True)
            if identity.password_file and identity.password_command:
                source.fault(where, "the password comes from a file or from a command, not both", key=True)
    if (mail := document.mail) is not None:
        if bool(mail.server) == bool(mail.command):
            source.fault(("mail",), "messages go by a server or by a command", "server: smtps://HOST", key=True)
        if mail.server and urlsplit(mail.server).scheme not in ("smtp", "smtps"):
            source.fault(("mail", "server"), f"{mail.server!r} is no mail server", "write smtps://HOST")
    if source.faults:
        faults = ConnectionFaults(Code.CONNECTIONS, source.faults[0].what)
        faults.findings = tuple(source.faults)
        raise faults
    return document


def choose(named: str, book: dict[str, Connection], who: str) -> Target:
    """What `target` (a name of the book, or a URL) and `who` (a word, a name to bind with, or nothing) mean.

    Raises:
        VandrelError: ``not-found``, ``bad-value``.

    """
    if is_url(named):
        bare = _address(named)
        if not bare:
            what = f"{named!r} is no LDAP URL"
            raise VandrelError(Code.BAD_VALUE, what, where=Location(option="--directory"), remedy="write ldaps://HOST")
        local = Identity(sasl="external") if bare.startswith("ldapi:") else None
        return Target("", Connection([bare]), who, _typed(who) if who else local)
    connection = book.get(named)
    if connection is None:
        remedy = f"there are: {listed(book, 'and')}" if book else "there is no connections.yaml that names any"
        hint = did_you_mean(named, book) or f"{remedy}; a file has a / or a . in its name"
        raise VandrelError(
            Code.NOT_FOUND, f"there is no connection {named!r}", where=Location(option="--directory"), remedy=hint
        )
    if not who:
        word, identity = next(iter(connection.identities.items()), ("", None))
        return Target(named, connection, word, identity)
    if who in connection.identities:
        return Target(named, connection, who, connection.identities[who])
    if typed := _typed(who):
        return Target(named, connection, who, typed)
    have = f"it has: {listed(connection.identities, 'and')}" if connection.identities else "it names none"
    hint = did_you_mean(who, connection.identities) or have
    raise VandrelError(
        Code.NOT_FOUND, f"the connection {named} has no identity {who!r}", where=Location(option="--who"), remedy=hint
    )


def _typed(who: str) -> Identity | None:
    """An identity that was typed: a name to bind with, or a SASL mechanism."""
    if who == "external":
        return Identity(sasl="external")
    if who == "gssapi":
        return Identity(sasl="gssapi")
    if "=" in who or "@" in who or "\\" in who:
        return Identity(bind=who)
    return None
