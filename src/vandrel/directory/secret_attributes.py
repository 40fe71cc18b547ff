"""Which attributes hold secrets: passwords, their hashes, keys. Their values are never shown, recorded or exported.

>>> [is_secret(name) for name in ("userPassword", "sambaNTPassword", "ntPwdHistory", "krbPrincipalKey", "authPassword")]
[True, True, True, True, True]
>>> [is_secret(name) for name in ("pwdReset", "pwdLastSet", "badPasswordTime", "pwdChangedTime", "title", "maxPwdAge")]
[False, False, False, False, False, False]
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

#: A name that ends so: what it holds is the secret itself, and no time, age or mark of it.
_ENDS = re.compile(
    r"(password|passwd|pwd|passphrase)(s|hash|hashes|history)?$|(private|secret|principal)key$", re.IGNORECASE
)
#: Others, by name: RFC 2798 2.8, [MS-ADA3], and schemas of several programs.
_NAMED = frozenset({
    "userpkcs12", "supplementalcredentials", "ms-mcs-admpwd", "mslaps-password", "mslaps-encryptedpassword",
    "msds-managedpassword", "krbextradata", "krbmkey", "olcrootpw", "sambapasswordhistory", "oathsecret",
})  # fmt: skip


#: Those that charters name, in lower case. Whatever one charter calls secret is so for the whole run.
_declared: set[str] = set()


def declare(names: Iterable[str]) -> None:
    """Take note of attributes that an organization keeps secrets in, whatever they are called."""
    _declared.update(name.lower() for name in names)
    is_secret.cache_clear()


@lru_cache(maxsize=4096)
def is_secret(attribute: str) -> bool:
    """Whether the values of an attribute are secret, by its name; options and case do not count."""
    name = attribute.partition(";")[0]
    return name.lower() in _NAMED or name.lower() in _declared or _ENDS.search(name) is not None
