"""How old a password is, when its owner may change it, and when it must be changed."""

from __future__ import annotations

from datetime import datetime, timedelta

from msgspec import Struct

from vandrel.charter.passwords import PasswordRules
from vandrel.directory.entry import Entry
from vandrel.objects.context import Context


class PasswordAge(Struct, frozen=True):
    """When a password was set, from when on its owner may change it, and from when on it is too old.

    None where the directory does not tell, or no rule sets a limit; ``source`` is where the greatest age comes from.
    """

    set: datetime | None = None
    changeable: datetime | None = None
    expires: datetime | None = None
    source: str = ""


def ages(context: Context, entry: Entry, rules: PasswordRules) -> PasswordAge:
    """What the rules in force mean for the password that an account has now; its own setting overrides them."""
    was_set = dict(context.dialect.instants(entry)).get("password set")
    if was_set is None:
        return PasswordAge()
    minimum_age, maximum_age = rules.number("minimum-age"), rules.number("maximum-age")
    lasting = context.dialect.read(entry, "password-never-expires") == ["yes"]
    return PasswordAge(
        was_set,
        was_set + timedelta(days=minimum_age) if minimum_age else None,
        was_set + timedelta(days=maximum_age) if maximum_age and not lasting else None,
        "the account's own setting" if lasting else rules.rules["maximum-age"].source,
    )
