"""What an LDAP server says of itself and of whom it takes us for."""

from __future__ import annotations

from vandrel.directory.ldap.connection import encrypted
from vandrel.directory.ldap.store import LdapDirectory

#: Controls and extensions that matter here: OID -> what it is for.
CONTROLS = {
    "1.2.840.113556.1.4.319": "results in pages (RFC 2696)",
    "1.3.6.1.1.12": "changes only where nothing changed (RFC 4528)",
    "1.2.840.113556.1.4.801": "parts of security descriptors",
    "1.2.840.113556.1.4.417": "deleted objects can be seen",
}
EXTENSIONS = {
    "1.3.6.1.4.1.1466.20037": "StartTLS (RFC 4511)",
    "1.3.6.1.4.1.4203.1.11.1": "passwords hashed by the server (RFC 3062)",
    "1.3.6.1.4.1.4203.1.11.3": "who am I (RFC 4532)",
}


def connection(server: LdapDirectory) -> list[tuple[str, str]]:
    """How the server is reached and as whom: name and value, for people."""
    settings = server.settings
    rows = [("host", server.url)]
    down = settings.urls[: settings.urls.index(server.url)]
    if down:
        rows.append(("passed over", ", ".join(down)))
    how = "encrypted" if encrypted(settings, server.url) else "not encrypted"
    if server.url.startswith("ldapi:"):
        how = "over a socket of this machine"
    elif settings.unchecked:
        how += ", certificate not checked"
    elif encrypted(settings, server.url):
        how += ", certificate checked"
    bound, groups = server.whoami()
    rows.append(("bound as", f"{bound or settings.who}, {how}"))
    if groups:
        rows.append(("member of", ", ".join(groups)))
    others = [f"--who {word}" for word in settings.others]
    if settings.identity or others:
        rows.append(
            ("identity", (settings.identity or "typed") + (f"  (others: {', '.join(others)})" if others else ""))
        )
    if server.about.vendor:
        rows.append(("server", server.about.vendor))
    return rows


def offers(server: LdapDirectory) -> list[tuple[str, str]]:
    """The controls and extensions that matter here, and whether the server has them."""
    about = server.about
    rows = [(what, "yes" if oid in about.controls else "no") for oid, what in CONTROLS.items()]
    rows += [(what, "yes" if oid in about.extensions else "no") for oid, what in EXTENSIONS.items()]
    rows.append(("SASL", ", ".join(about.mechanisms) or "none offered on this connection"))
    return rows
