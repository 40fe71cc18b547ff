"""Which attributes hold secrets: passwords, their hashes, keys. Their values are never shown, recorded or exported.

>>> [is_secret(name) for name in ("userPassword", "sambaNTPassword", "ntPwdHistory", "krbPrincipalKey", "authPassword")]
[True, True, True, True, True]
>>> [is_secret(name) for name in ("pwdReset", "pwdLastSet", "badPasswordTime", "pwdChangedTime", "title", "maxPwdAge")]
[False, False, False, False, False, False]
"""

from __future__ import annotations

import re
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


@lru_cache(maxsize=4096)
def is_secret(attribute: str) -> bool:
    """Whether the values of an attribute are secret, by its name; options and case do not count."""
    name = attribute.partition(";")[0]
    return name.lower() in _NAMED or _ENDS.search(name) is not None
