"""``vandrel roles``: the administrative roles of the charter, and who holds which."""

from __future__ import annotations

import argparse

from vandrel.cli.session import Session

NAME = "roles"
HELP = "administrative roles, and who holds which"
DESCRIPTION = """\
List the administrative roles of the charter, the groups that make each up, and who holds it. Nobody holds a role by
default: it is given and taken like any field of an account."""
EXAMPLES = """\
  vandrel roles
  vandrel edit alund roles+=helpdesk
  vandrel edit alund roles-=helpdesk
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("roles", nargs="*", metavar="ROLE", help="only these roles")


def run(session: Session) -> int:
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.accounts.roles import find_owners
    from vandrel.text.nearest import did_you_mean

    context, roles = session.context, session.charter.document.roles
    for name in session.args.roles:
        if name not in roles:
            remedy = did_you_mean(name, roles) or f"there are: {', '.join(roles) or 'none'}"
            raise VandrelError(
                Code.NOT_FOUND, f"the charter has no role {name!r}", where=Location(text=name), remedy=remedy
            )
    chosen = {name: roles[name] for name in session.args.roles or roles}
    held = {name: [context.label(entry) for entry in find_owners(context, name)] for name in chosen}
    if session.out.as_json:
        found = [{"role": n, "about": r.about, "groups": r.groups, "held": held[n]} for n, r in chosen.items()]
        session.out.json({"command": NAME, "roles": found})
        return 0
    rows = [(name, ", ".join(held[name]) or "nobody", ", ".join(r.groups), r.about) for name, r in chosen.items()]
    if rows:
        session.out.table(("role", "held by", "groups", "about"), rows)
    else:
        session.out.note("The charter has no roles: write some under the key roles.")
    return 0
