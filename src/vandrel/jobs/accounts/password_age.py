"""How old a password is, when its owner may change it, and when it must be changed."""

from __future__ import annotations

from datetime import datetime, timedelta

from msgspec import Struct

from vandrel.charter.passwords import PasswordRules
from vandrel.directory.entry import Entry
from vandrel.jobs.common.context import Context


class PasswordAge(Struct, frozen=True):
    """When a password was set, from when on its owner may change it, and from when on it is too old.

    None where the directory does not tell, or no rule sets a limit; ``source`` is where the greatest age comes from.
    """

    set: datetime | None = None
    rests: datetime | None = None
    old: datetime | None = None
    source: str = ""


def ages(context: Context, entry: Entry, rules: PasswordRules) -> PasswordAge:
    """What the rules in force mean for the password that an account has now; its own setting overrides them."""
    was_set = dict(context.dialect.instants(entry)).get("password set")
    if was_set is None:
        return PasswordAge()
    rests, lasts = rules.number("rests"), rules.number("lasts")
    lasting = context.dialect.read(entry, "password-lasting") == ["yes"]
    return PasswordAge(
        was_set,
        was_set + timedelta(days=rests) if rests else None,
        was_set + timedelta(days=lasts) if lasts and not lasting else None,
        "the account's own setting" if lasting else rules.rules["lasts"].source,
    )
