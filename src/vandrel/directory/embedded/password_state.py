"""What an entry keeps of its passwords, by draft-behera-ldap-password-policy-10, section 5.3."""

from __future__ import annotations

from datetime import UTC, datetime

from vandrel.directory import gentime
from vandrel.directory.active import filetime
from vandrel.directory.embedded.row_codec import Data

#: How many earlier passwords are kept, hashed, so that a rule about them can be checked.
HISTORY_KEPT = 64
#: pwdHistory: time#syntax#length#value (draft-behera-ldap-password-policy-10, section 5.3.7).
_OCTETS = "1.3.6.1.4.1.1466.115.121.1.40"


def with_password(before: Data, new: bytes | None, *, must_change: bool, as_filetime: bool) -> Data:
    """The attributes of an entry with another password, or none; the old one is in its history.

    Args:
        before: the attributes.
        new: the password as it is kept; None for none.
        must_change: whether another one is demanded at the next logon.
        as_filetime: whether the time of the change stands in ``pwdLastSet`` as well, in a copy of a server with that.

    """
    after, now = {name: list(values) for name, values in before.items()}, gentime.now()
    for old in after.pop("userPassword", ()):
        octets = old if isinstance(old, bytes) else old.encode()
        history_value = f"{now}#{_OCTETS}#{len(octets)}#".encode() + octets
        after["pwdHistory"] = [history_value, *after.get("pwdHistory", [])][:HISTORY_KEPT]
    after.pop("pwdReset", None)
    if as_filetime:
        after["pwdLastSet"] = ["0" if must_change else filetime.to_text(datetime.now(UTC))]
    if new is not None:
        after["userPassword"] = [new]
        after["pwdChangedTime"] = [now]
        if must_change:
            after["pwdReset"] = ["TRUE"]
    return after
