"""What an LDAP server answers (RFC 4511, appendix A), in our words."""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import unquote, urlsplit

import ldap

from vandrel.errors import Code, DirectoryError, Location

# Result -> (code, what it means, what to do). The server's own diagnostic message is added where there is one.
_MEANINGS: dict[type[Exception], tuple[Code, str, str]] = {
    ldap.ALREADY_EXISTS: (Code.TAKEN, "there is an object of this name already", "take another name"),
    ldap.NO_SUCH_OBJECT: (Code.NOT_FOUND, "there is no such object any more", ""),
    ldap.NOT_ALLOWED_ON_NONLEAF: (Code.REFUSED, "objects stand below it", "remove or move those first"),
    ldap.NO_SUCH_ATTRIBUTE: (
        Code.CHANGED,
        "a value that was to be replaced is no longer there",
        "look again, and repeat",
    ),
    ldap.TYPE_OR_VALUE_EXISTS: (
        Code.CHANGED,
        "a value that was to be added is there already",
        "look again, and repeat",
    ),
    ldap.ASSERTION_FAILED: (
        Code.CHANGED,
        "somebody else has changed the object in the meantime",
        "look again, and repeat",
    ),
    ldap.OBJECT_CLASS_VIOLATION: (Code.SCHEMA, "the schema does not allow such an object", ""),
    ldap.UNDEFINED_TYPE: (Code.UNKNOWN_FIELD, "the server's schema does not have the attribute", ""),
    ldap.INVALID_SYNTAX: (Code.SCHEMA, "a value has the wrong syntax", ""),
    ldap.INVALID_DN_SYNTAX: (Code.BAD_NAME, "the server cannot read the name", ""),
    ldap.CONSTRAINT_VIOLATION: (Code.SCHEMA, "a value breaks a constraint of the server", ""),
    ldap.NAMING_VIOLATION: (Code.SCHEMA, "the name does not go with the object", ""),
    ldap.NOT_ALLOWED_ON_RDN: (Code.SCHEMA, "the object's name cannot go", "rename it"),
    ldap.INSUFFICIENT_ACCESS: (Code.NOT_PERMITTED, "this identity may not do that", "use another identity"),
    ldap.INVALID_CREDENTIALS: (Code.NOT_PERMITTED, "the name or password of the identity is wrong", ""),
    ldap.STRONG_AUTH_REQUIRED: (Code.NOT_PERMITTED, "the server wants an identity or an encrypted connection", ""),
    ldap.CONFIDENTIALITY_REQUIRED: (Code.NOT_PERMITTED, "the server wants an encrypted connection", ""),
    ldap.LOCAL_ERROR: (Code.NOT_PERMITTED, "the identity cannot be proved", "is there a valid ticket? klist shows it"),
    ldap.UNWILLING_TO_PERFORM: (Code.REFUSED, "the server will not do that", ""),
    ldap.BUSY: (Code.BUSY, "the server is busy", "try again"),
    ldap.UNAVAILABLE: (Code.BUSY, "the server is shutting down or starting", "try again"),
    ldap.SERVER_DOWN: (Code.OUT_OF_REACH, "the server cannot be reached", "is it running, and is the address right?"),
    ldap.CONNECT_ERROR: (Code.OUT_OF_REACH, "the connection cannot be made", "check the address and the certificates"),
    ldap.TIMEOUT: (Code.OUT_OF_REACH, "the server does not answer", "try again"),
    ldap.SIZELIMIT_EXCEEDED: (
        Code.LIMIT,
        "the server gives this identity no more objects in one search",
        "ask whoever runs the server for a higher limit, or for fewer objects: --under, --where",
    ),
    ldap.TIMELIMIT_EXCEEDED: (Code.LIMIT, "the search takes longer than the server allows", "ask for fewer"),
    ldap.ADMINLIMIT_EXCEEDED: (Code.LIMIT, "a limit of the server is reached", "ask for fewer"),
}

#: [MS-ERREF] 2.2: a Windows error code in hexadecimal begins the message -> (code, what it means, what to do).
_WINDOWS: dict[int, tuple[Code, str, str]] = {
    0x052D: (Code.PASSWORD, "the password breaks a rule of the server", "choose another"),
    0x21C8: (Code.TAKEN, "a value that must be unique is taken", "take another"),
    0x2071: (Code.TAKEN, "a value that must be unique is taken", "take another"),
    0x20B5: (Code.DANGLING, "a name points at an object that does not exist", ""),
    0x200A: (Code.UNKNOWN_FIELD, "the server's schema does not have the attribute", ""),
    0x2095: (Code.NO_PARENT, "there is no object to hold it", ""),
    0x200D: (Code.CHANGED, "the attribute takes one value, and has one already", "look again, and repeat"),
}
_CODE = re.compile(r"([0-9A-F]{8}): ")
#: What the overlay for password policies says when a rule is broken (draft-behera-ldap-password-policy-10, 6.2).
_PASSWORD = re.compile(r"password|pwd", re.IGNORECASE)


class LogonRefused(DirectoryError):
    """The server has looked at a name and a password, and refuses them.

    Attributes:
        why: a word of `vandrel.directory.port.Directory.try_logon`.

    """

    def __init__(self, code: Code, what: str, why: str, *, where: Location) -> None:
        """Carry one finding, and the word."""
        super().__init__(code, what, where=where)
        self.why = why


class SizeLimitError(DirectoryError):
    """The server gives this identity no more objects in one search."""


class NoPagesError(DirectoryError):
    """The server gives this identity no results in pages (RFC 2696), or none of this size."""


def diagnostic(error: ldap.LDAPError) -> str:
    """The message that came with a result, or an empty string."""
    details: Any = error.args[0] if error.args else {}
    return " ".join(str(details.get("info", "")).split()) if isinstance(details, dict) else ""


def in_words(error: ldap.LDAPError, where: Location) -> DirectoryError:
    """A server's refusal as an error of ours."""
    code: Code
    code, what, remedy = _MEANINGS.get(type(error), (Code.REFUSED, f"the server refuses: {type(error).__name__}", ""))
    info = diagnostic(error)
    numbered = _CODE.match(info)
    if numbered and int(numbered[1], 16) in _WINDOWS:
        code, what, remedy = _WINDOWS[int(numbered[1], 16)]
    elif isinstance(error, ldap.CONSTRAINT_VIOLATION) and ("unique" in info or "already in use" in info):
        code, what, remedy = Code.TAKEN, "a value that must be unique is taken", "take another"
    elif isinstance(error, ldap.CONSTRAINT_VIOLATION) and _PASSWORD.search(info):
        code, what, remedy = Code.PASSWORD, "the password breaks a rule of the server", "choose another"
    elif isinstance(error, ldap.OTHER) and _is_full(info):
        code, what, remedy = (
            Code.DISK_FULL,
            "the server can store no more",
            "tell whoever runs it: disk or database is full",
        )
    message = f"{what} ({info})" if info else what
    if isinstance(error, ldap.INVALID_CREDENTIALS):
        return LogonRefused(code, message, _why(info), where=where)
    if isinstance(error, ldap.SIZELIMIT_EXCEEDED):
        return SizeLimitError(code, message, where=where, remedy=remedy)
    if isinstance(error, ldap.ADMINLIMIT_EXCEEDED) and "pagedResults" in info:
        return NoPagesError(code, message, where=where, remedy=remedy)
    return DirectoryError(code, message, where=where, remedy=remedy)


#: [MS-ERREF] 2.2, the numbers behind "data" in the answer to a bind: why a logon failed.
_LOGON = {
    "530": "hours", "531": "machine", "532": "expired", "533": "disabled", "701": "ended", "773": "change",
    "775": "locked",
}  # fmt: skip


def _why(info: str) -> str:
    match = re.search(r"data (\w+)", info)
    return _LOGON.get(match[1], "wrong") if match else "wrong"


def _is_full(info: str) -> bool:
    return any(
        word in info.lower() for word in ("full", "no space", "mdb_map", "txn_commit failed", "index generation failed")
    )


def why_untrusted(url: str, ca_file: str, *, start_tls: bool) -> str:
    """Why a server's certificate is not trusted; empty where that is not what is wrong.

    The protocol library says only that no connection came about; the handshake is made once more to hear why.
    """
    import socket
    import ssl

    parts = urlsplit(url)
    if parts.scheme == "ldapi" or (parts.scheme == "ldap" and not start_tls) or not parts.hostname:
        return ""
    host = unquote(parts.hostname)
    try:
        context = ssl.create_default_context(cafile=ca_file or None)
    except OSError as error:
        return f"{ca_file} cannot be read: {error.strerror or error}"
    try:
        with socket.create_connection((host, parts.port or (389 if start_tls else 636)), timeout=5) as connection:
            if start_tls and parts.scheme == "ldap":
                connection.sendall(_START_TLS)
                connection.recv(4096)
            with context.wrap_socket(connection, server_hostname=host):
                return ""
    except ssl.SSLCertVerificationError as error:
        return str(error.verify_message)
    except (OSError, ValueError):
        return ""


#: The extended request of RFC 4511, section 4.14.1, as message 1.
_START_TLS = b"\x30\x1d\x02\x01\x01\x77\x18\x80\x161.3.6.1.4.1.1466.20037"
