"""``vandrel create``: an account of any kind, a group, a unit."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.new_accounts import preview
from vandrel.cli.session import Session, exit_code, steps_as_json

if TYPE_CHECKING:
    from collections.abc import Sequence

    from vandrel.jobs.common.assignments import Assignment
    from vandrel.jobs.common.draft import Draft

NAME = "create"
HELP = "create an account of any kind, a group, a unit or a computer"
DESCRIPTION = """\
Create an account, a group or a unit. Everything that the charter says about it is worked out and shown with
the rule that gave it; any field given as an assignment goes first. What is required and missing is asked for."""
EXAMPLES = """\
  vandrel create crew "Anna Lund" number=2041 site=Northquay department=Deck category=Hands
  vandrel create staff given=Jörg surname=Müller language=de number=3107 department=IT password=ask
  vandrel create administrator "Anna Lund" number=2041 --hand-out adm.csv
  vandrel create group "Night watch" kind=team members=alund,jmueller
  vandrel create unit /Ferries/Northquay/Stores
  vandrel create computer NQ-DESK-07 notes="Ticket desk" groups=gg-desks
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    kind = parser.add_argument(
        "kind", metavar="KIND", help="a kind of account in the charter, or: group, unit, computer"
    )
    complete.attach(kind, complete.kinds)
    words = parser.add_argument(
        "words",
        nargs="*",
        metavar="NAME|FIELD=VALUE",
        help="the full name, the unit's place or the computer's name, and fields",
    )
    complete.attach(words, complete.assignments)
    parser.add_argument("--hand-out", metavar="FILE", help="write a generated password to this file, for you alone")


def run(session: Session) -> int:
    from vandrel.jobs.common import assignments

    args = session.args
    plain, given = assignments.split(args.words)
    fields = _fields(given)
    if args.kind == "unit":
        return _units(session, plain, fields)
    if args.kind == "group":
        return _group(session, plain, fields)
    if args.kind == "computer":
        return _computers(session, plain, fields)
    return _account(session, args.kind, plain, fields)


def _fields(given: Sequence[Assignment]) -> dict[str, tuple[str, ...]]:
    from vandrel.cli.passwords import choice_of
    from vandrel.errors import Code, Location, VandrelError

    fields: dict[str, tuple[str, ...]] = {}
    for assignment in given:
        if assignment.raw:
            raise VandrelError(
                Code.UNKNOWN_FIELD,
                "raw attributes are set on what exists",
                where=Location(field=assignment.field),
                remedy="create first, then edit",
            )
        if assignment.field == "password":
            choice_of(assignment.values[0] if assignment.values else "none")
        fields[assignment.field] = (*fields.get(assignment.field, ()), *assignment.values)
    return fields


# --- groups and units


def _units(session: Session, plain: Sequence[str], fields: dict[str, tuple[str, ...]]) -> int:
    from vandrel.errors import Code, VandrelError
    from vandrel.fields import UNIT
    from vandrel.jobs.groups import create_object

    if not plain:
        raise VandrelError(Code.USAGE, "which unit?", remedy="write its place: vandrel create unit /Ferries/Stores")
    drafts = [create_object.unit(session.context, place, fields) for place in plain]
    return _objects(session, drafts, UNIT)


def _computers(session: Session, plain: Sequence[str], fields: dict[str, tuple[str, ...]]) -> int:
    from vandrel.errors import Code, VandrelError
    from vandrel.fields import COMPUTER
    from vandrel.jobs.groups import create_object

    if not plain:
        raise VandrelError(Code.USAGE, "which computer?", remedy="write its name: vandrel create computer NQ-DESK-07")
    drafts = [create_object.computer(session.context, name, fields) for name in plain]
    return _objects(session, drafts, COMPUTER, fields.get("groups", ()))


def _group(session: Session, plain: Sequence[str], fields: dict[str, tuple[str, ...]]) -> int:
    from vandrel.errors import Code, VandrelError
    from vandrel.fields import GROUP
    from vandrel.jobs.groups import create_object

    if not plain and "name" not in fields:
        raise VandrelError(
            Code.USAGE, "which group?", remedy='write the word that it is made from: vandrel create group "Night watch"'
        )
    return _objects(session, [create_object.group(session.context, " ".join(plain), fields)], GROUP)


def _objects(session: Session, drafts: Sequence[Draft], object_type: str, groups: Sequence[str] = ()) -> int:
    from vandrel.cli.commands.show import show_entry
    from vandrel.errors import Refused, are_fatal
    from vandrel.jobs.groups import create_object
    from vandrel.steps.runner import Plan

    findings = [finding for draft in drafts for finding in draft.findings]
    for draft in drafts:
        if draft.dn is not None:
            preview(session, draft, f"New {object_type} {draft.dn.name}")
    if are_fatal(findings):
        raise Refused(findings)
    names = ", ".join(draft.dn.name for draft in drafts if draft.dn is not None)
    plan = Plan(
        f"create {object_type} {names}",
        [
            step
            for draft in drafts
            for step in (
                *create_object.steps(session.context, draft, object_type),
                *create_object.join_groups(session.context, draft, groups),
            )
        ],
        findings,
    )
    report = session.carry_out(plan, f"Create {names}?")
    if session.out.as_json:
        session.out.json({"command": "create", "steps": steps_as_json(plan), "job": report.job if report else None})
    elif report is not None:
        for draft in drafts:
            entry = session.context.directory.get(draft.dn) if draft.dn else None
            if entry is not None and not session.out.quiet:
                session.out.line()
                show_entry(session, entry)
    return exit_code(report)


# --- accounts


def _account(session: Session, kind: str, plain: Sequence[str], fields: dict[str, tuple[str, ...]]) -> int:
    from vandrel.cli.new_accounts import full_name, make
    from vandrel.jobs.accounts.create import Creator

    context = session.context
    today = context.charter.today()
    for name, value in full_name(session, plain).items():
        fields.setdefault(name, (value,))
    draft = Creator(context, today).draft(kind, fields)
    if draft.missing and session.out.interactive and not session.out.as_json:
        fields |= {name: (_ask(session, name),) for name in draft.missing}
        draft = Creator(context, today).draft(kind, fields)
    preview(session, draft, f"New {kind} account" + (f": {draft.value('full')}" if draft.value("full") else ""))
    choice = fields["password"][0] if "password" in fields else ""
    return make(session, [draft], choice, f"create {kind} {draft.value('login')}", NAME)


def _ask(session: Session, name: str) -> str:
    from vandrel.fields import FIELDS

    words = session.charter.document.lists.get(name, [])
    hint = f" ({', '.join(words)})" if words else f" ({FIELDS[name].about})" if name in FIELDS else ""
    answer = ""
    while not answer:
        answer = input(f"{name}{hint}: ").strip()
    return answer
