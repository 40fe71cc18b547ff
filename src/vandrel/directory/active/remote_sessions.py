"""Settings of remote sessions that older programs left inside ``userParameters``: [MS-TSTS] 2.3.1 and 2.3.2.

Newer ones have attributes of their own (``msTS...``, [MS-ADA2]), which is what is written here; this is read only where
those are empty. The attribute is a string of 16-bit characters: 48 that others use, the signature ``P``, the number of
properties, and the properties, each with the lengths of its name and of its value in octets, a type, the name, and the
value in hexadecimal digits, two of them in a character.
"""

from __future__ import annotations

import struct

_RESERVED, _SIGNATURE = 48, "P"
_LOGON_DISABLED = 0x00010000  # in CtxCfgFlags1
_MINUTE = 60_000  # times are kept in thousandths of a second

_TEXTS = {"remote-home": "CtxWFHomeDir", "remote-drive": "CtxWFHomeDirDrive", "remote-profile": "CtxWFProfilePath"}
_TIMES = {
    "remote-session-limit": "CtxMaxConnectionTime", "remote-disconnect-limit": "CtxMaxDisconnectionTime",
    "remote-idle-limit": "CtxMaxIdleTime",
}  # fmt: skip

#: field -> the attribute that newer programs keep it in.
ATTRIBUTES = {
    "remote-logon": "msTSAllowLogon", "remote-home": "msTSHomeDirectory", "remote-drive": "msTSHomeDrive",
    "remote-profile": "msTSProfilePath", "remote-session-limit": "msTSMaxConnectionTime",
    "remote-idle-limit": "msTSMaxIdleTime", "remote-disconnect-limit": "msTSMaxDisconnectionTime",
}  # fmt: skip


def read(raw: str, field: str) -> str:
    """The value of one field of ours, as text; empty where the list does not have it, or cannot be read."""
    try:
        properties = decode(raw)
    except ValueError:
        return ""
    if field == "remote-logon":
        flags = properties.get("CtxCfgFlags1")
        return "" if not flags else "no" if int.from_bytes(flags[:4], "little") & _LOGON_DISABLED else "yes"
    if field in _TIMES:
        time = properties.get(_TIMES[field])
        return "" if not time else str(int.from_bytes(time[:4], "little") // _MINUTE)
    wide = properties.get(f"{_TEXTS[field]}W", b"").decode("utf-16-le", "replace")
    return (wide or properties.get(_TEXTS[field], b"").decode("latin-1")).rstrip("\0")


def decode(raw: str) -> dict[str, bytes]:
    """The properties of a list by their names; none where there is no list.

    Raises:
        ValueError: what follows the signature is cut off, or no list.

    """
    if len(raw) < _RESERVED + 2 or raw[_RESERVED] != _SIGNATURE:
        return {}
    octets, values, at = raw[_RESERVED + 2 :].encode("utf-16-le", "surrogatepass"), {}, 0
    try:
        for _ in range(ord(raw[_RESERVED + 1])):
            name, value, _ = struct.unpack_from("<HHH", octets, at)
            at += 6
            if at + name + value > len(octets):
                raise ValueError("it is cut off")
            digits = octets[at + name : at + name + value]
            values[octets[at : at + name].decode("utf-16-le")] = bytes.fromhex(digits.decode("ascii"))
            at += name + value
    except (struct.error, ValueError) as error:
        raise ValueError(f"the settings of remote sessions cannot be read: {error}") from None
    return values
