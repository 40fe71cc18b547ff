"""``vandrel rename``: new names for a person, with everything that follows from them."""

from __future__ import annotations

import argparse

from vandrel.cli import complete
from vandrel.cli.session import Session

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
    words = parser.add_argument(
        "words", nargs="+", metavar="NAME|NEW NAME|FIELD=VALUE", help="who; then the new full name, or its parts"
    )
    complete.attach(words, complete.assignments)
    parser.add_argument("--keep", metavar="FIELD,...", default="", help="names that stay as they are: login, mail ...")
    parser.add_argument("--no-alias", action="store_true", help="do not keep the old mail address")
    parser.set_defaults(names_first=True)


def run(session: Session) -> int:
    from vandrel.cli.change import carry_out
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.fields import NAMED
    from vandrel.jobs.accounts.rename import PARTS, Renamer
    from vandrel.jobs.common import assignments
    from vandrel.jobs.common.resolve import resolve
    from vandrel.text.people import split_full_name

    plain, typed = assignments.split(session.args.words)
    keep = [name.strip() for name in session.args.keep.split(",") if name.strip()]
    known = (*PARTS, *NAMED)
    strange = [name for name in (*keep, *(a.field for a in typed)) if name not in known]
    if strange:
        raise VandrelError(
            Code.USAGE,
            f"{strange[0]} is no name of a person",
            where=Location(field=strange[0]),
            remedy=f"the names are: {', '.join(known)}",
        )
    if not plain or len(plain) > 2 or (len(plain) == 1 and not typed):
        raise VandrelError(
            Code.USAGE, "who gets which name?", remedy='vandrel rename alund surname=Brekke, or "Anna Brekke"'
        )
    entry = resolve(session.context, plain[0], ("account",))
    given = {}
    if len(plain) == 2:
        name = split_full_name(plain[1], session.charter.particles)
        given = {"given": name.given, "middle": name.middle, "surname": name.surname, "generation": name.generation}
    given |= {a.field: a.values[0] if a.values else "" for a in typed}
    edit = Renamer(session.context).rename(entry, given, keep, alias=not session.args.no_alias)
    return carry_out(session, [edit], verb=NAME)
