"""``vandrel rename``: new names for a person, with everything that follows from them."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal

NAME = "rename"
HELP = "give a person new names, with everything that follows from them"
DESCRIPTION = """\
Give a person new names, after a marriage or a correction: full name, display name, logon and principal name, mail and
the name of the entry follow by the charter, each shown old and new. The old mail address stays as a further one. What
else still carries the old name is listed. Other objects get a new name by `vandrel edit NAME name=...`."""
EXAMPLES = """\
  vandrel rename alund surname=Brekke
  vandrel rename alund "Anna Sofie Brekke" --keep login,principal
  vandrel rename jmueller surname=Schmidt login=jschmidt --no-alias
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    words = parser.add_argument(
        "words", nargs="+", metavar="NAME|NEW NAME|FIELD=VALUE", help="who; then the new full name, or its parts"
    )
    complete.attach(words, complete.assignments)
    parser.add_argument("--keep", metavar="FIELD,...", default="", help="names that stay as they are: login, mail ...")
    parser.add_argument("--no-alias", action="store_true", help="do not keep the old mail address")
    parser.set_defaults(names_first=True)


def run(session: Session) -> Proposal:
    """Hand the request on."""
    from vandrel.errors import Code, VandrelError
    from vandrel.jobs.accounts.rename import RenameRequest, rename

    args = session.args
    plain, typed = options.split(session, args.words)
    if not plain or len(plain) > 2:
        remedy = 'vandrel rename alund surname=Brekke, or "Anna Brekke"'
        raise VandrelError(Code.USAGE, "who gets which name?", remedy=remedy)
    fields = {assignment.field: next(iter(assignment.values), "") for assignment in typed}
    keep = [name.strip() for name in args.keep.split(",") if name.strip()]
    request = RenameRequest(plain[0], "".join(plain[1:]), fields, keep, not args.no_alias)
    return rename(session.context, request)
