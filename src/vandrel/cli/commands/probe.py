"""``vandrel probe``: who is bound to which directory, what it can do, and what Vandrel does in its place."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session
from vandrel.errors import NOTE

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report
    from vandrel.objects.context import Context

NAME = "probe"
HELP = "who is bound to the directory, what it can do, and what it leaves to Vandrel"
DESCRIPTION = """\
Say how the directory is reached and as whom, what it supports, which schema it has, what the bound identity may do at a
place, and what Vandrel does itself where the directory does not. Nothing is changed."""
EXAMPLES = """\
  vandrel probe                                  the directory beside the charter
  vandrel probe --directory harbour              a connection of connections.yaml
  vandrel probe /Ferries --directory harbour --who admin
  vandrel probe --schema > vandrel-schema.ldif   our schema and access rule, for a standard LDAP server
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    name = parser.add_argument("name", nargs="?", metavar="NAME", help="an object or place: what may be done there?")
    complete.attach(name, complete.places)
    parser.add_argument(
        "--schema", action="store_true", help="print our schema and access rule as LDIF for the server's configuration"
    )
    parser.add_argument(
        "--keep-password", action="store_true", help="ask for the password of the identity and keep it in the keyring"
    )


def run(session: Session) -> Report:
    """Look at the connection, and hand the request on."""
    from vandrel.directory.schema.shipped import configuration
    from vandrel.jobs.common.report import Report
    from vandrel.jobs.inspect.probe import ProbeRequest, probe

    args = session.args
    if args.schema:
        return Report("probe", text=configuration())
    if args.keep_password:
        return _keep_password(session)
    directory = session.server if session.target else session.directory
    context = _context(session)
    return probe(directory, context, ProbeRequest(args.name or ""))


def _context(session: Session) -> Context | None:
    """The house rules with the directory; None where there is no charter yet, and a note says so."""
    from msgspec import structs

    from vandrel.errors import Code, VandrelError

    try:
        return session.context
    except VandrelError as error:
        if error.code not in (Code.NOT_FOUND, Code.FOREIGN) or session.target is None:
            raise
        session.terminal.findings([structs.replace(error.findings[0], severity=NOTE)])
        return None


def _keep_password(session: Session) -> Report:
    from vandrel.connections.passwords import keep
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.report import Report

    target = session.target
    if target is None or not target.name or target.identity is None or not target.identity.bind:
        raise VandrelError(
            Code.USAGE,
            "only an identity of a named connection has a password to keep",
            where=Location(option="--keep-password"),
            remedy="vandrel probe --directory NAME --who WORD --keep-password",
        )
    keep(target, session.ask(f"Password of {target.identity.bind}"))
    return Report("probe", summary=[f"Kept in the keyring for {target.name}, {target.word}."])
