"""Links of policies to units: [MS-GPOL] 2.2.2, the attributes gPLink and gPOptions."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

_LINK = re.compile(r"\[LDAP://([^;\]]+);(\d+)\]", re.IGNORECASE)
_OFF, _ENFORCED = 1, 2
_BLOCKS = "1"


class Link(Struct, frozen=True):
    """One policy that is linked to a unit: its name, and whether it holds below whatever is said there."""

    policy: str
    enforced: bool


def parse(text: str) -> list[Link]:
    """The links of a ``gPLink`` that are not switched off, in the order in which they come to hold: the last first."""
    links = [(name, int(options)) for name, options in _LINK.findall(text)]
    return [Link(name, bool(options & _ENFORCED)) for name, options in reversed(links) if not options & _OFF]


def in_force(levels: list[tuple[str, str, str]]) -> Iterator[tuple[str, Link]]:
    """What reaches an object from units given from the top down, each (name, ``gPLink``, ``gPOptions``).

    [MS-GPOL] 3.2.5.1.5: a unit that blocks keeps out what comes from above, except what is enforced there; enforced
    policies come last, the ones from furthest above at the very end, so that they win.
    """
    plain: list[tuple[str, Link]] = []
    enforced: list[tuple[str, Link]] = []
    for name, links, options in levels:
        if options == _BLOCKS:
            plain = []
        for link in parse(links):
            (enforced if link.enforced else plain).append((name, link))
    yield from plain
    yield from reversed(enforced)
