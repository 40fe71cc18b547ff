"""What an LDAP server answers (RFC 4511, appendix A), in our words."""

from __future__ import annotations

from typing import Any

import ldap

from vandrel.errors import DirectoryError

# Result -> (code, what it means, what to do). The server's own diagnostic message is added where there is one.
_MEANINGS: dict[type[Exception], tuple[str, str, str]] = {
    ldap.ALREADY_EXISTS: ("taken", "there is an object of this name already", "take another name"),
    ldap.NO_SUCH_OBJECT: ("not-found", "there is no such object any more", ""),
    ldap.NOT_ALLOWED_ON_NONLEAF: ("refused", "objects stand below it", "remove or move those first"),
    ldap.NO_SUCH_ATTRIBUTE: ("changed", "a value that was to be replaced is no longer there", "look again, and repeat"),
    ldap.TYPE_OR_VALUE_EXISTS: ("changed", "a value that was to be added is there already", "look again, and repeat"),
    ldap.OBJECT_CLASS_VIOLATION: ("schema", "the schema does not allow such an object", ""),
    ldap.UNDEFINED_TYPE: ("unknown-field", "the server's schema does not have the attribute", ""),
    ldap.INVALID_SYNTAX: ("schema", "a value has the wrong syntax", ""),
    ldap.INVALID_DN_SYNTAX: ("bad-name", "the server cannot read the name", ""),
    ldap.CONSTRAINT_VIOLATION: ("schema", "a value breaks a constraint of the server", ""),
    ldap.NAMING_VIOLATION: ("schema", "the name does not go with the object", ""),
    ldap.NOT_ALLOWED_ON_RDN: ("schema", "the object's name cannot go", "rename it"),
    ldap.INSUFFICIENT_ACCESS: ("not-permitted", "this identity may not do that", "use another identity"),
    ldap.INVALID_CREDENTIALS: ("not-permitted", "the name or password of the identity is wrong", ""),
    ldap.STRONG_AUTH_REQUIRED: ("not-permitted", "the server wants an identity or an encrypted connection", ""),
    ldap.CONFIDENTIALITY_REQUIRED: ("not-permitted", "the server wants an encrypted connection", ""),
    ldap.UNWILLING_TO_PERFORM: ("refused", "the server will not do that", ""),
    ldap.BUSY: ("busy", "the server is busy", "try again"),
    ldap.UNAVAILABLE: ("busy", "the server is shutting down or starting", "try again"),
    ldap.SERVER_DOWN: ("out-of-reach", "the server cannot be reached", "is it running, and is the address right?"),
    ldap.CONNECT_ERROR: ("out-of-reach", "the connection cannot be made", "check the address and the certificates"),
    ldap.TIMEOUT: ("out-of-reach", "the server does not answer", "try again"),
    ldap.SIZELIMIT_EXCEEDED: ("refused", "the server gives out no more objects at once", "ask for fewer"),
    ldap.TIMELIMIT_EXCEEDED: ("refused", "the server takes too long", "ask for fewer"),
    ldap.ADMINLIMIT_EXCEEDED: ("refused", "a limit of the server is reached", "ask for fewer"),
}


def diagnostic(error: ldap.LDAPError) -> str:
    """The message that came with a result, or an empty string."""
    details: Any = error.args[0] if error.args else {}
    return str(details.get("info", "")) if isinstance(details, dict) else ""


def in_words(error: ldap.LDAPError, where: str) -> DirectoryError:
    """A server's refusal as an error of ours."""
    code, what, remedy = _MEANINGS.get(type(error), ("refused", f"the server refuses: {type(error).__name__}", ""))
    info = diagnostic(error)
    if isinstance(error, ldap.CONSTRAINT_VIOLATION) and "unique" in info:
        code, what = "taken", "a value that must be unique is taken"
    if isinstance(error, ldap.OTHER) and "full" in info.lower():
        code, what = "disk-full", "no room left on the server's disk"
    return DirectoryError(code, f"{what} ({info})" if info else what, where=where, remedy=remedy)
