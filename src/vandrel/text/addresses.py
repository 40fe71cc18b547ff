"""Further addresses of an account or group: mail, or of another type that stands before a colon.

Of each type one is the primary, and its type is written in capitals, as [MS-OXOABK] 2.2.3.23 has it: ``SIP:a@b`` beside
``sip:c@d``. An address without a type is for mail, whose primary is a field of its own.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from vandrel.errors import Code, Location, VandrelError

_TYPED = re.compile(r"([A-Za-z][A-Za-z0-9]{0,15}):(.+)", re.DOTALL)


def split(value: str) -> tuple[str, str]:
    """The type and the address; an empty type stands for mail."""
    match = _TYPED.fullmatch(value)
    return (match[1], match[2]) if match else ("", value)


def normal(values: Sequence[str]) -> list[str]:
    """The addresses with exactly one primary of each type: the one in capitals, or else the first.

    Raises:
        VandrelError: ``bad-value`` for two primaries of a type, and for the primary of mail.

    """
    split_ = [split(value) for value in values]
    primary: dict[str, str] = {}
    for kind, address in split_:
        if kind == "SMTP":
            remedy = f"set it there: mail={address}"
            raise VandrelError(
                Code.BAD_VALUE,
                "the primary mail address is the field mail",
                where=Location(field="alias"),
                remedy=remedy,
            )
        if kind.isupper() and primary.setdefault(kind, address) != address:
            what = f"{kind} can have one primary address, and there are two: {primary[kind]} and {address}"
            remedy = f"write the other one as {kind.lower()}:{address}"
            raise VandrelError(Code.BAD_VALUE, what, where=Location(field="alias"), remedy=remedy)
    addresses = []
    for kind, address in split_:
        if kind.lower() in ("", "smtp"):
            addresses.append(address)
        else:
            first = primary.setdefault(kind.upper(), address) == address
            addresses.append(f"{kind.upper() if first else kind.lower()}:{address}")
    return list(dict.fromkeys(addresses))
