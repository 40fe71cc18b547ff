"""``vandrel suffixes``: suffixes of principal names, who uses them, and whether they are proven to be ours."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "suffixes"
HELP = "suffixes of principal names: who uses them, whether they are routable and ours"
DESCRIPTION = """\
List the suffixes of the charter, of the server and of everybody's principal name: how many use it, who registers it,
whether the internet can route it, and since when it is recorded as ours. `prove` says what to publish in the zone of
a domain, and what to write into the charter once it is seen there."""
EXAMPLES = """\
  vandrel suffixes
  vandrel suffixes prove marrowick.example
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("action", nargs="?", choices=("list", "prove"), default="list", help="list (default), or prove")
    parser.add_argument("suffix", nargs="?", metavar="SUFFIX", help="with prove: the domain")


def run(session: Session) -> Report:
    """Hand the request on.

    Raises:
        VandrelError: ``usage`` where no domain is named.

    """
    from vandrel.errors import Code, VandrelError
    from vandrel.jobs.services.suffixes import list_suffixes, proof_of

    args = session.args
    if args.action == "list":
        return list_suffixes(session.context)
    if not args.suffix:
        raise VandrelError(Code.USAGE, "which domain?", remedy="vandrel suffixes prove marrowick.example")
    return proof_of(session.context, args.suffix)
