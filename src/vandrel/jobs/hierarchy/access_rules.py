"""What the charter delegates, as access rules of a standard server: slapd.access(5), in LDIF for its configuration.

Rules are read from the first on, so these belong before all others; ``by * break`` lets the others speak for everybody
else. To add an object, RFC 4511 (4.7) servers want a right on the unit and on the new entry; ``=acrsx`` gives additions
and keeps deletions out.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from vandrel.dialects.standard import DISABLED
from vandrel.directory import place as places
from vandrel.directory.filter import And, Compare, Not, to_text
from vandrel.fields import ACCOUNT, COMPUTER, FIELDS, GROUP, Topic
from vandrel.objects.context import Context
from vandrel.objects.delegation import TAKES_OVER
from vandrel.objects.power_reach import holders_of_power, powerful_within

#: The part of slapd's configuration that holds the database; where it is another, the first line is to be changed.
DATABASE = "olcDatabase={1}mdb,cn=config"


def rules(context: Context) -> Iterator[tuple[str, str]]:
    """Each rule with what it is for, those of the deepest units first."""
    powers = holders_of_power(context)
    for unit in sorted(context.charter.design, key=lambda unit: -len(unit.place)):
        dn = places.to_dn(unit.place, context.charter.base)
        powerful = (
            powerful_within(context, dn, powers) if any(task in TAKES_OVER for _, task in unit.delegation) else []
        )
        for team, task in unit.delegation:
            group = _group(context, team)
            for account, power in powerful if task in TAKES_OVER else ():
                # Who holds power is out of reach, but for others who hold it.
                about = f"{places.to_text(unit.place)}: {team} may not {task} of {context.label(account)}, in {power}"
                holders = f'by group.exact="{_group(context, power)}" break by group.exact="{group}" none by * break'
                yield about, f'to dn.exact="{account.dn}"{_secrets(context)} {holders}'
            for target in _targets(context, task):
                about = f"{places.to_text(unit.place)}: {team} may {task}"
                yield about, f'to dn.subtree="{dn}"{target[0]} by group.exact="{group}" {target[1]} by * break'


def _secrets(context: Context) -> str:
    names = dict.fromkeys(
        filter(None, (context.dialect.attribute(f, ACCOUNT) for f in ("password", "change", "locked")))
    )
    return f" attrs={','.join(names)}"


def _group(context: Context, team: str) -> str:
    dialect = context.dialect
    where = And((dialect.filter_for(GROUP), Compare(dialect.attribute("name", GROUP), "=", team)))
    entry = next(context.directory.search(context.charter.base, where=where, only=["cn"]), None)
    if entry is not None:
        return str(entry.dn)
    kinds = context.charter.document.groups
    place = next((kind.place for kind in kinds.values()), "/")
    return str(places.to_dn(places.parse(place), context.charter.base).child("cn", team))


def _targets(context: Context, task: str) -> list[tuple[str, str]]:
    """What a task is about, and the right on it."""

    def of(object_type: str) -> str:
        return f' filter="{to_text(context.dialect.filter_for(object_type))}"'

    def kept(fields: Sequence[str]) -> str:
        names = dict.fromkeys(filter(None, (context.dialect.attribute(field, ACCOUNT) for field in fields)))
        return f" attrs={','.join(names)}"

    # A disabled account bears a lock that never ends, and a server with a password policy lifts any lock with a new
    # password: who may do the one or the other would enable it.
    marked = Compare(context.dialect.attribute("locked", ACCOUNT), "=", DISABLED)
    enabled = f' filter="{to_text(And((context.dialect.filter_for(ACCOUNT), Not(marked))))}"'
    add = (" attrs=children", "=acrsx")
    created = "=wacrsx"
    match task:
        case "create-accounts":
            return [add, (of(ACCOUNT), created)]
        case "fill-groups":
            return [add, (of(GROUP), created)]
        case "join-computers":
            return [add, (of(COMPUTER), created)]
        case "reset-passwords":  # a right to write alone: hashes are not to be read
            return [(enabled + kept(("password",)), "=wd"), (enabled + kept(("change",)), "write")]
        case "unlock":  # locks may go, and none may come: that would disable
            return [(enabled + kept(("locked",)), "=zcrsxd")]
    # Addresses are names that must be unique: who may set them could take somebody else's mail.
    named = set(context.dialect.unique_attributes().values())
    contacts = [
        name for name, field in FIELDS.items()
        if field.topic is Topic.REACH and not (field.named or field.sensitive or name in named)
    ]  # fmt: skip
    return [(of(ACCOUNT) + kept(contacts), "write")]


def as_ldif(context: Context) -> str:
    """A change to slapd's configuration that puts the rules before those that it has."""
    all_rules = list(rules(context))
    lines = ["# Before all other rules. Another database? Change the next line.", f"dn: {DATABASE}"]
    lines += ["changetype: modify", "add: olcAccess"]
    for number, (about, rule) in enumerate(all_rules):
        lines += [f"# {about}", f"olcAccess: {{{number}}}{rule}"]
    return "\n".join(lines) + "\n" if all_rules else ""
