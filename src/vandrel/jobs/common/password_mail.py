"""The message that takes a first password to somebody, as the charter says."""

from __future__ import annotations

from collections.abc import Callable
from secrets import token_hex

from msgspec import Struct

from vandrel.charter.pattern import parse
from vandrel.directory import dn as names
from vandrel.errors import Code, Location, VandrelError
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import computed_values
from vandrel.secret import Secret


class PasswordMessage(Struct, frozen=True):
    """Whom it goes to, its subject and its text, which has a password in it: it is never printed or kept."""

    to: str
    subject: str
    text: str


def password_message(context: Context, value: Callable[[str], str], secret: Secret) -> PasswordMessage:
    """Write the message for one account, of which `value` gives the fields.

    Raises:
        VandrelError: ``required`` where nobody has an address that it could go to, or a field that it needs is empty.

    """
    rules, charter = context.charter.document.password_mail, context.charter
    patterns = (rules.subject, *rules.text.splitlines())
    used = {name for pattern in patterns for name in parse(pattern).fields()}
    values = {name: value(name) for name in used if name in context.fields}
    values |= computed_values(charter, value("kind"), value("principal"))
    # A word holds the place of the password: what is built by a pattern loses signs at its ends.
    boundary = token_hex(8)
    values |= {"organization": charter.document.organization, "password": boundary}
    # An indented line stays indented: patterns know no space before the first word.
    lines = [line[: len(line) - len(line.lstrip())] + charter.fill(line, values) if line.strip() else ""
             for line in rules.text.splitlines()]  # fmt: skip
    text = "\n".join(lines).replace(boundary, secret.reveal())
    return PasswordMessage(_address(context, value), charter.fill(rules.subject, values), text)


def _address(context: Context, value: Callable[[str], str]) -> str:
    to = context.charter.document.password_mail.to
    address = value(to)
    if to != "recovery-mail" and address:
        entry = context.directory.get(names.parse(address))
        address = context.one(entry, "mail") if entry is not None else ""
    if not address:
        what = f"{value('full') or value('login')} has no {to} with an address"
        raise VandrelError(Code.REQUIRED, what, where=Location(field=to), remedy="the password stands on the hand-out")
    return address
