"""``vandrel copy``: new accounts like one that is there."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from vandrel.jobs.accounts.copy import Copy

NAME = "copy"
HELP = "make new accounts like one that is there"
DESCRIPTION = """\
Make an account like another: a person's, or a template's. The charter says what comes along; names, place and whatever
follows from them are worked out anew; what stays behind is listed with the reason. Memberships that carry power come
along only if asked for. Several copies are made from lines on standard input."""
EXAMPLES = """\
  vandrel copy alund "Berit Dahl" number=2077
  vandrel copy alund "Berit Dahl" number=2077 title="Third mate" password=none
  vandrel copy alund - --hand-out crew.csv < new.txt      lines as: "Berit Dahl" number=2077
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    source = parser.add_argument("source", metavar="SOURCE", help="the account to copy")
    complete.attach(source, complete.objects)
    words = parser.add_argument(
        "words", nargs="+", metavar="NAME|FIELD=VALUE", help="the new full name, and fields; or - to read lines"
    )
    complete.attach(words, complete.assignments)
    parser.add_argument("--privileged", action="store_true", help="take along memberships that carry power")
    parser.add_argument("--hand-out", metavar="FILE", help="write generated passwords to this file, for you alone")


def run(session: Session) -> int:
    from vandrel.cli.new_accounts import make, preview
    from vandrel.jobs.accounts.copy import Copier
    from vandrel.jobs.common.resolve import resolve

    source = resolve(session.context, session.args.source, ("account",))
    copier = Copier(session.context, source, privileged=session.args.privileged)
    requests = list(_requests(session))
    copies = [copier.copy({name: values for name, values in one.items() if name != "password"}) for one in requests]
    if not session.out.as_json and not session.out.quiet:
        for copy in copies:
            preview(session, copy.draft, f"Copy of {session.context.label(source)}: {copy.draft.value('full')}")
        _left_out(session, copies)
    choice = next((one["password"][0] for one in requests if "password" in one), "")
    names = ", ".join(copy.draft.value("login") for copy in copies)
    title = f"copy {session.context.one(source, 'login')} to {names}"
    return make(session, [copy.draft for copy in copies], choice, title, NAME)


def _requests(session: Session) -> Iterator[dict[str, tuple[str, ...]]]:
    """The fields of each copy: of the command line, or of each line of standard input.

    Raises:
        VandrelError: ``usage`` where a line cannot be read.

    """
    import shlex

    from vandrel.errors import Code, Location, VandrelError

    if session.args.words[:1] != ["-"]:
        yield _fields(session, session.args.words)
        return
    for number, line in enumerate(sys.stdin, 1):
        try:
            words = shlex.split(line, comments=True)
        except ValueError as error:
            raise VandrelError(Code.USAGE, f"the line cannot be read: {error}", where=Location(line=number)) from None
        if words:
            yield _fields(session, [*words, *session.args.words[1:]])


def _fields(session: Session, words: Sequence[str]) -> dict[str, tuple[str, ...]]:
    from vandrel.cli.new_accounts import full_name
    from vandrel.cli.passwords import choice_of
    from vandrel.jobs.common import assignments

    plain, given = assignments.split(words)
    fields: dict[str, tuple[str, ...]] = {name: (value,) for name, value in full_name(session, plain).items()}
    for assignment in given:
        if assignment.field == "password":
            choice_of(assignment.values[0] if assignment.values else "none")
        fields[assignment.field] = assignment.values
    return fields


def _left_out(session: Session, copies: Sequence[Copy]) -> None:
    rows = dict.fromkeys(
        (f"  {item.field}", ", ".join(item.values), item.why) for copy in copies for item in copy.left_out
    )
    if rows:
        session.out.heading("Stays behind")
        session.out.table(("  field", "value", "why"), list(rows), header=False)
        session.out.line()
