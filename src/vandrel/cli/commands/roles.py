"""``vandrel roles``: the administrative roles of the charter, and who holds which."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

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
    """Add its options."""
    parser.add_argument("roles", nargs="*", metavar="ROLE", help="only these roles")


def run(session: Session) -> Report:
    """Hand the request on."""
    from vandrel.jobs.accounts.roles import RolesRequest, list_roles

    return list_roles(session.context, RolesRequest(session.args.roles))
