"""Places: units written from the top down, ``/Ferries/Northquay/Deck``."""

from __future__ import annotations

import re
import shlex

from vandrel.directory.dn import DN
from vandrel.errors import Code, VandrelError
from vandrel.text.string_prep import prepare

_SLASH = re.compile(r"(?<!\\)/")
_ESCAPED = re.compile(r"\\(/)")

Place = tuple[str, ...]


def parse(text: str) -> Place:
    """The names of the units from the top down; ``\\/`` is a slash inside of a name.

    Raises:
        VandrelError: code ``bad-name``.

    """
    if not text.startswith("/"):
        raise VandrelError(
            Code.BAD_NAME, f"{text!r} is no place: it does not begin with '/'",
            remedy="write the units from the top down: /Ferries/Northquay",
        )  # fmt: skip
    steps = tuple(_ESCAPED.sub(r"\1", step).strip() for step in _SLASH.split(text)[1:])
    if steps and not steps[-1]:  # /Ferries/ is /Ferries, and / the top
        steps = steps[:-1]
    if "" in steps:
        raise VandrelError(
            Code.BAD_NAME,
            f"{text!r} is no place: a unit without a name",
            remedy="write /Ferries/Northquay, or / for the top",
        )
    return steps


def key(place: Place) -> tuple[str, ...]:
    """What two ways of writing the same place have in common."""
    return tuple(map(prepare, place))


def to_text(place: Place) -> str:
    """The place as text; the top is ``/``."""
    return "/" + "/".join(step.replace("/", "\\/") for step in place)


def to_dn(place: Place, base: DN) -> DN:
    """The distinguished name of a place below a base."""
    dn = base
    for step in place:
        dn = dn.child("ou", step)
    return dn


def of(dn: DN, base: DN) -> str:
    """Where a name stands below `base`, as text; a name outside of it is given in full."""
    if not dn.is_within(base):
        return str(dn)
    above = dn.rdns[: len(dn.rdns) - len(base.rdns)]
    return to_text(tuple(str(rdn[0][1]) for rdn in reversed(above)))


def typed(dn: DN, base: DN) -> str:
    """A name as a command takes it: by its place, in quotes where a shell wants them.

    >>> from vandrel.directory.dn import parse as dn
    >>> typed(dn("cn=Anna Lund,ou=Deck,dc=x"), dn("dc=x"))
    "'/Deck/Anna Lund'"
    """
    return shlex.quote(of(dn, base))
