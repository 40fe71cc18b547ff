"""``vandrel series``: numbered accounts, groups or computers."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete, many
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from collections.abc import Iterator

    from vandrel.intake.item import Item
    from vandrel.jobs.common.name_allocator import NameAllocator

NAME = "series"
HELP = "make numbered accounts, groups or computers"
DESCRIPTION = """\
Make a series: a stem, and a number behind it, or where a # stands in it. The first and the last are shown before.
Numbers that are taken are skipped, or refused with --taken refuse. A field may have a # in its value as well."""
EXAMPLES = """\
  vandrel series seasonal kiosk site=Kelness surname="Kiosk #" --count 12 --digits 2 --hand-out kiosk.csv
  vandrel series computer KN-DESK- groups=gg-desks --count 20 --first-number 5 --digits 2
  vandrel series group "Watch #" kind=team --count 4
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    words = parser.add_argument(
        "words", nargs="+", metavar="KIND STEM FIELD=VALUE",
        help="a kind of account, or group, or computer; what the number is put behind, or in place of its #; fields",
    )  # fmt: skip
    complete.attach(words, complete.assignments)
    parser.add_argument("--count", type=many.positive, required=True, metavar="N", help="how many")
    parser.add_argument("--first-number", type=many.positive, default=1, metavar="N", help="(default: 1)")
    parser.add_argument("--digits", type=many.positive, default=1, metavar="N", help="with leading zeros up to these")
    parser.add_argument("--taken", choices=("skip", "refuse"), default="skip", help="numbers in use (default: skip)")
    many.configure(parser)


def run(session: Session) -> int:
    from vandrel.errors import Code, Finding, Location, Refused, VandrelError, are_fatal
    from vandrel.intake.description import Description, Sort
    from vandrel.jobs.bulk.roster import Planner
    from vandrel.jobs.common import assignments

    args = session.args
    many.must_be_possible(session)
    plain, given = assignments.split(args.words)
    if len(plain) != 2 or any(assignment.raw or assignment.operator != "=" for assignment in given):
        raise VandrelError(
            Code.USAGE,
            "a kind, a stem and fields are needed",
            remedy="vandrel series crew kiosk site=Kelness --count 3",
        )
    args.kind, args.stem = plain
    object_type: Sort = args.kind if args.kind in ("group", "computer") else "account"
    kind = args.kind if object_type == "account" else ""
    if kind:
        session.charter.kind(kind)
    fields = {assignment.field: assignment.values for assignment in given}
    roster = Planner(session.context, Description(object_type=object_type, kind=kind), session.charter.today()).plan(
        many.with_password(_items(session, object_type, fields), many.one_for_all(session, kind) if kind else None)
    )
    findings = sorted(roster.findings(), key=lambda f: (not f.is_fatal, f.row))
    many.show_findings(session, findings)
    many.show_roster(session, roster, object_type, "number")
    if not session.out.as_json:
        session.out.note(f"{args.stem}: {many.summary(roster)}.")
    if are_fatal(findings):
        fatal = [f for f in findings if f.is_fatal]
        raise Refused(
            [
                Finding(
                    _code(fatal[0].code),
                    f"{fatal[0].value or args.stem}: {fatal[0].what}",
                    Location(text=args.stem),
                    fatal[0].remedy,
                )
            ]
        )
    return many.make(session, roster, object_type, f"series {args.kind} {args.stem}")


def _code(trap: str) -> str:
    from vandrel.errors import CODES

    return trap if trap in CODES else "intake"


def _items(session: Session, object_type: str, fields: dict[str, tuple[str, ...]]) -> Iterator[Item]:
    """One item for each number that is free, or for each number where those that are taken are refused."""
    from vandrel.intake.item import Item
    from vandrel.jobs.common.directory_index import DirectoryIndex
    from vandrel.jobs.common.name_allocator import NameAllocator

    args = session.args
    register = NameAllocator(session.context, DirectoryIndex(session.context))
    number, made = args.first_number, 0
    while made < args.count:
        digits = str(number).zfill(args.digits)
        number += 1
        called = args.stem.replace("#", digits) if "#" in args.stem else f"{args.stem}{digits}"
        own = {name: tuple(value.replace("#", digits) for value in values) for name, values in fields.items()}
        if args.taken == "skip" and _is_taken(session, register, object_type, called, own):
            continue
        made += 1
        own.setdefault("login" if object_type == "account" else "name", (called,))
        if object_type == "account":
            own.setdefault("surname", (called,))
        yield Item(int(digits), own)


def _is_taken(
    session: Session, register: NameAllocator, object_type: str, called: str, fields: dict[str, tuple[str, ...]]
) -> bool:
    """Whether somebody is called so already."""
    from vandrel.jobs.groups.create_object import first_name

    if object_type == "account":
        return not register.is_free("login", called)
    if object_type == "computer":
        return not register.is_free("login", f"{called.upper()}$") or register.is_held_anywhere(called)
    kind = fields.get("kind") or (next(iter(session.charter.document.groups), ""),)
    return register.is_held_anywhere(first_name(session.context, kind[0], called))
