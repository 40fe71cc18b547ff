"""``vandrel handover``: an account passes to a successor."""

from __future__ import annotations

import argparse

from vandrel.cli import complete
from vandrel.cli.session import Session

NAME = "handover"
HELP = "pass an account to a successor: new names and password, same groups and rights"
DESCRIPTION = """\
Pass an account to a successor: it keeps its identity, groups and rights, and gets new names by the charter and a
new password. What still carries the old name is listed, with a command to mend each. Replaced at once: hand over;
replaced later: disable until then; the post abolished: delete."""
EXAMPLES = """\
  vandrel handover hbrekke "Tuva Solberg" number=2099 --hand-out tuva.csv
  vandrel handover hbrekke given=Tuva surname=Solberg number=2099 --password ask --keep-alias
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    words = parser.add_argument(
        "words", nargs="+", metavar="NAME|NEW NAME|FIELD=VALUE", help="whose; the successor's name; other fields"
    )
    complete.attach(words, complete.assignments)
    parser.add_argument("--keep-alias", action="store_true", help="mail to the predecessor's address arrives as well")
    parser.add_argument(
        "--password", choices=("generate", "ask", "-"), default="generate",
        help="where it comes from (default: generate; - reads it from standard input)",
    )  # fmt: skip
    parser.add_argument("--hand-out", metavar="FILE", help="write a generated password to this file, for you alone")
    parser.set_defaults(names_first=True)


def run(session: Session) -> int:
    from vandrel.cli.change import carry_out
    from vandrel.cli.new_accounts import full_name
    from vandrel.errors import Code, VandrelError
    from vandrel.fields import NAMED
    from vandrel.jobs.accounts.rename import PARTS, Renamer
    from vandrel.jobs.common import assignments
    from vandrel.jobs.common.assignments import Assignment
    from vandrel.jobs.common.resolve import resolve

    args = session.args
    plain, typed = assignments.split(args.words)
    names = {a.field: a.values[0] if a.values else "" for a in typed if a.field in (*PARTS, *NAMED)}
    if not plain or len(plain) > 2 or (len(plain) == 1 and "surname" not in names):
        remedy = 'vandrel handover hbrekke "Tuva Solberg" number=2099'
        raise VandrelError(Code.USAGE, "whose account passes to whom?", remedy=remedy)
    entry = resolve(session.context, plain[0], ("account",))
    given = dict.fromkeys(PARTS, "") | full_name(session, plain[1:]) | names
    others = [assignment for assignment in typed if assignment.field not in names]
    edit = Renamer(session.context).rename(entry, given, alias=args.keep_alias, others=others)
    new = [Assignment("password", "=", (args.password,)), Assignment("change", "=", ("yes",))]
    return carry_out(session, [edit], new, NAME)
