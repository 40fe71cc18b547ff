"""How the embedded directory keeps passwords: salted hashes with the scheme in braces (RFC 2307, section 5.3).

A password that somebody thought of is kept under scrypt (RFC 7914), which is slow on purpose. A generated one
carries enough entropy for one round of salted SHA-512, so that many accounts can be made in one go.
"""

from __future__ import annotations

import base64
import os
import re

from vandrel.secret import Secret

# About 50 ms and 16 MiB for one check: N = 2^14, r = 8, p = 1 (RFC 7914, section 2).
_LOG_N, _R, _P = 14, 8, 1
_SALT = 16
_SCHEME = re.compile(rb"\{[A-Za-z0-9/.-]+\}")


def _scrypt(password: bytes, salt: bytes, log_n: int) -> bytes:
    import hashlib

    return hashlib.scrypt(password, salt=salt, n=1 << log_n, r=_R, p=_P, maxmem=1 << 26, dklen=32)


def protect(secret: Secret) -> bytes:
    """The value to keep for a password."""
    import hashlib

    password, salt = secret.reveal().encode(), os.urandom(_SALT)
    if secret.generated:
        digest = hashlib.sha512(password + salt).digest()
        return b"{SSHA512}" + base64.b64encode(digest + salt)
    derived = _scrypt(password, salt, _LOG_N)
    return b"{SCRYPT}%d$" % _LOG_N + base64.b64encode(salt + derived)


def is_hash(value: str | bytes) -> bool:
    """Whether a value of ``userPassword`` is a hash with its scheme, and no password itself."""
    text = value if isinstance(value, bytes) else value.encode()
    return _SCHEME.match(text) is not None


def fits(secret: Secret, stored: bytes) -> bool:
    """Whether `stored`, as `protect` made it, belongs to this password; False for a scheme not known here."""
    import hashlib
    import hmac

    password = secret.reveal().encode()
    scheme, _, rest = stored.partition(b"}")
    if scheme == b"{SSHA512":
        raw = base64.b64decode(rest)
        return hmac.compare_digest(hashlib.sha512(password + raw[64:]).digest(), raw[:64])
    if scheme == b"{SCRYPT":
        log_n, _, body = rest.partition(b"$")
        raw = base64.b64decode(body)
        return hmac.compare_digest(_scrypt(password, raw[:_SALT], int(log_n)), raw[_SALT:])
    return False
