"""The password rules of a server with the Active Directory schema: of the domain, and finer ones of some accounts."""

from __future__ import annotations

from collections.abc import Sequence

from vandrel.charter.document import Passwords
from vandrel.directory import dn as names
from vandrel.directory.entry import Entry
from vandrel.directory.port import Directory, Scope

_NEVER = "-9223372036854775808"
_DOMAIN = ("minPwdLength", "pwdHistoryLength", "maxPwdAge", "minPwdAge", "pwdProperties")
_FINER = (
    "msDS-MinimumPasswordLength", "msDS-PasswordHistoryLength", "msDS-MaximumPasswordAge",
    "msDS-MinimumPasswordAge", "msDS-PasswordComplexityEnabled",
)  # fmt: skip


def layers(directory: Directory, domain: Entry | None, entry: Entry | None) -> list[tuple[str, Passwords]]:
    """The rules for an account, or a new one, each with where it comes from; a later one overrides.

    [MS-SAMR] 3.1.1.7.2 for the domain; [MS-ADTS] 3.1.1.4.5.36 for a finer policy that reaches the account.
    """
    policies = []
    if domain is not None and domain.text("minPwdLength"):
        policies.append((f"domain {domain.dn.name}", _rules(domain, _DOMAIN)))
    policy = _finer(directory, entry) if entry is not None else None
    if policy is not None:
        policies.append((f"policy {policy.dn.name}", _rules(policy, _FINER)))
    return policies


def _finer(directory: Directory, entry: Entry) -> Entry | None:
    """The finer password policy that reaches an account; worked out by the server for those who ask by name."""
    answers = directory.search(entry.dn, Scope.BASE, only=["msDS-ResultantPSO"])
    name = next((result.text("msDS-ResultantPSO") for result in answers), "")
    return directory.get(names.parse(name)) if name else None


def _rules(entry: Entry, attributes: Sequence[str]) -> Passwords:
    length, history, maximum_age, minimum_age, complexity = (entry.text(name) for name in attributes)
    complex_ = complexity == "TRUE" or (complexity.isdecimal() and int(complexity) & 1)  # DOMAIN_PASSWORD_COMPLEX
    return Passwords(
        length=int(length or 0),
        history=int(history or 0),
        maximum_age=_days(maximum_age),
        minimum_age=_days(minimum_age),
        classes=3 if complex_ else 0,
        own_names="refuse" if complex_ else None,
    )


def _days(interval: str) -> int:
    """A negative number of 100 ns ([MS-ADTS] 3.1.1.3.4.2 calls it an interval) in days; 0 for never."""
    return 0 if not interval or interval == _NEVER else -(int(interval) // 864_000_000_000)
