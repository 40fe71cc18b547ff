"""Flags of accounts and groups: userAccountControl ([MS-ADTS] 2.2.16) and groupType ([MS-ADTS] 2.2.12)."""

from __future__ import annotations

DISABLED = 0x0002
PASSWORD_NOT_REQUIRED = 0x0020
REVERSIBLE = 0x0080  # ENCRYPTED_TEXT_PWD_ALLOWED
NORMAL_ACCOUNT = 0x0200
WORKSTATION = 0x1000
PASSWORD_LASTS = 0x10000

#: In msDS-User-Account-Control-Computed ([MS-ADTS] 3.1.1.4.5.17).
LOCKED = 0x0010

_SCOPES = {"global": 0x2, "domain-local": 0x4, "universal": 0x8}
SECURITY = 0x80000000


def with_flag(value: int, flag: int, is_set: bool) -> int:
    """The flags with one bit set or cleared."""
    return value | flag if is_set else value & ~flag


def group_type(purpose: str, scope: str) -> str:
    """The number for a purpose (``security``, ``distribution``) and a scope: signed, in 32 bits."""
    bits = _SCOPES[scope] | (SECURITY if purpose == "security" else 0)
    return str(bits - (1 << 32) if bits & SECURITY else bits)


def purpose_of(group_type: str) -> str:
    """``security`` or ``distribution``."""
    return "security" if int(group_type) & SECURITY else "distribution"


def scope_of(group_type: str) -> str:
    """The scope; an empty string for groups that the server builds itself."""
    return next((name for name, bit in _SCOPES.items() if int(group_type) & bit), "")
