"""The names that patterns build, and what each may be whatever a charter says: length and characters.

Sources: [MS-SAMR] 3.1.1.6 and [MS-ADTS] 3.1.1.5.1.3 for the short logon name and the principal name; RFC 5321,
section 4.5.3.1, and RFC 5322, section 3.2.3, for mail addresses; X.520 (1988) upper bounds for common names.
"""

from __future__ import annotations

import re
from functools import lru_cache

from msgspec import Struct

_ATOM = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789!#$%&'*+/=?^_`{|}~-."
_HOST = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-"
#: Characters of an address in all: RFC 5321, 4.5.3.1.3, less the angle brackets of a path.
LONGEST_ADDRESS = 254
_LOGON_FORBIDDEN = frozenset('"/\\[]:;|=,+*?<>@ ')


class NameLimits(Struct, frozen=True):
    """The limits of one kind of name.

    ``longest`` counts characters; for an address (``at``) it counts those before the ``@``. ``scope`` says, in
    words, among what the name must be unique; empty: anywhere, it need not be.
    """

    name: str
    longest: int
    scope: str = ""
    forbidden: frozenset[str] = frozenset()
    only: frozenset[str] = frozenset()
    at: bool = False
    edges: str = ""

    def fault(self, value: str) -> str:
        """Why `value` is no legal name of this kind; empty if it is one. Reads after the name of the field."""
        local, at, domain = value.rpartition("@") if self.at else (value, "", "")
        if self.at and not (at and local and _is_domain(domain)):
            return "must be a name, an @ and a domain"
        if not local.strip():
            return "must not be empty"
        if len(local) > self.longest:
            part = " before the @" if self.at else ""
            return f"takes {self.longest} characters{part} at most, and this has {len(local)}"
        # ASCII letters and digits are legal in every kind of name.
        plain = (local.isascii() and local.isalnum()) or (
            self.only.issuperset(local) if self.only else local.isprintable() and self.forbidden.isdisjoint(local)
        )
        bad = [] if plain else sorted({char for char in local if not self.allows(char)})
        if bad:
            return f"may not have {' '.join('a space' if char == ' ' else repr(char)[1:-1] for char in bad)}"
        if self.edges and (local[0] in self.edges or local[-1] in self.edges):
            edge = local[0] if local[0] in self.edges else local[-1]
            return f"may not begin or end with {edge!r}"
        if self.at and ".." in local:
            return "may not have two dots side by side"
        if self.at and len(value) > LONGEST_ADDRESS:
            return f"takes {LONGEST_ADDRESS} characters in all at most, and this has {len(value)}"
        return ""

    def allows(self, char: str) -> bool:
        """Whether a character may stand in such a name."""
        if self.only:
            return char in self.only
        return char not in self.forbidden and char.isprintable()


_DOMAIN = re.compile(r"(?!-)[A-Za-z0-9-]{1,63}(?<!-)(?:\.(?!-)[A-Za-z0-9-]{1,63}(?<!-))*")


@lru_cache(maxsize=256)
def _is_domain(text: str) -> bool:
    return len(text) <= 253 and _DOMAIN.fullmatch(text) is not None


def is_suffix(text: str) -> bool:
    """Whether `text` can be the suffix of a principal name or a mail domain (RFC 1123, section 2.1)."""
    return _is_domain(text)


NAME_LIMITS: dict[str, NameLimits] = {
    target.name: target
    for target in (
        NameLimits("login", 20, "in the domain", _LOGON_FORBIDDEN, edges="."),
        NameLimits("principal", 64, "in the forest", _LOGON_FORBIDDEN, at=True, edges="."),
        NameLimits("mail", 64, "everywhere", only=frozenset(_ATOM), at=True, edges="."),
        NameLimits("full", 64, edges=" "),
        NameLimits("display", 256, edges=" "),
        NameLimits("name", 64, "among its siblings", edges=" "),
        NameLimits("group", 64, "among its siblings", frozenset('"/\\[]:;|=,+*?<>@'), edges=". "),
        # [MS-NBTE] 2.2.1: fifteen octets; RFC 1123, section 2.1, for what stands in them.
        NameLimits("computer", 15, "in the domain", only=frozenset(_HOST), edges="-"),
        NameLimits("unit", 64, "among its siblings", edges=" "),
    )
}
