"""``vandrel create``: an account of any kind, a group, a unit."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session, exit_code, steps_as_json

if TYPE_CHECKING:
    from collections.abc import Sequence

    from vandrel.cli.passwords import HandOut
    from vandrel.errors import Finding
    from vandrel.jobs.assignments import Assignment
    from vandrel.jobs.create import Draft
    from vandrel.secret import Secret
    from vandrel.steps.runner import Plan

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
    from vandrel.jobs import assignments

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
    from vandrel.errors import VandrelError

    fields: dict[str, tuple[str, ...]] = {}
    for assignment in given:
        if assignment.raw:
            raise VandrelError(
                "unknown-field",
                "raw attributes are set on what exists",
                where=assignment.field,
                remedy="create first, then edit",
            )
        if assignment.field == "password":
            choice_of(assignment.values[0] if assignment.values else "none")
        fields[assignment.field] = (*fields.get(assignment.field, ()), *assignment.values)
    return fields


# --- groups and units


def _units(session: Session, plain: Sequence[str], fields: dict[str, tuple[str, ...]]) -> int:
    from vandrel.errors import VandrelError
    from vandrel.fields import UNIT
    from vandrel.jobs import create_object

    if not plain:
        raise VandrelError("usage", "which unit?", remedy="write its place: vandrel create unit /Ferries/Stores")
    drafts = [create_object.unit(session.house, place, fields) for place in plain]
    return _objects(session, drafts, UNIT)


def _computers(session: Session, plain: Sequence[str], fields: dict[str, tuple[str, ...]]) -> int:
    from vandrel.errors import VandrelError
    from vandrel.fields import COMPUTER
    from vandrel.jobs import create_object

    if not plain:
        raise VandrelError("usage", "which computer?", remedy="write its name: vandrel create computer NQ-DESK-07")
    drafts = [create_object.computer(session.house, name, fields) for name in plain]
    return _objects(session, drafts, COMPUTER, fields.get("groups", ()))


def _group(session: Session, plain: Sequence[str], fields: dict[str, tuple[str, ...]]) -> int:
    from vandrel.errors import VandrelError
    from vandrel.fields import GROUP
    from vandrel.jobs import create_object

    if not plain and "name" not in fields:
        raise VandrelError(
            "usage", "which group?", remedy='write the word that it is made from: vandrel create group "Night watch"'
        )
    return _objects(session, [create_object.group(session.house, " ".join(plain), fields)], GROUP)


def _objects(session: Session, drafts: Sequence[Draft], sort: str, groups: Sequence[str] = ()) -> int:
    from vandrel.cli.show import show_entry
    from vandrel.errors import Refused
    from vandrel.jobs import create_object
    from vandrel.steps.runner import Plan

    findings = [finding for draft in drafts for finding in draft.findings]
    for draft in drafts:
        if draft.dn is not None:
            _preview(session, draft, f"New {sort} {draft.dn.name}")
    if any(finding.fatal for finding in findings):
        raise Refused(findings)
    names = ", ".join(draft.dn.name for draft in drafts if draft.dn is not None)
    plan = Plan(
        f"create {sort} {names}",
        [
            step
            for draft in drafts
            for step in (
                *create_object.steps(session.house, draft, sort),
                *create_object.join_groups(session.house, draft, groups),
            )
        ],
        findings,
    )
    report = session.carry_out(plan, f"Create {names}?")
    if session.out.as_json:
        session.out.json({"command": "create", "steps": steps_as_json(plan), "job": report.job if report else None})
    elif report is not None:
        for draft in drafts:
            entry = session.house.directory.get(draft.dn) if draft.dn else None
            if entry is not None and not session.out.quiet:
                session.out.line()
                show_entry(session, entry)
    return exit_code(report)


def _preview(session: Session, draft: Draft, title: str) -> None:
    from vandrel.fields import FIELDS

    if session.out.as_json or session.out.quiet:
        return
    order = ["place", *FIELDS]
    session.out.heading(title)
    rows = []
    for name in order:
        derived = draft.derived.get(name)
        if derived is not None:
            rows.append((f"  {name}", ", ".join(_short(value) for value in derived.values), derived.rule))
            rows += [("", "", f"  {passed}") for passed in derived.passed]
    session.out.table(("  field", "value", "rule"), rows)
    session.out.line()


def _short(value: str) -> str:
    """A reference by its name alone; other values as they are."""
    from vandrel.directory import dn as names
    from vandrel.errors import VandrelError

    if "=" not in value or "," not in value:
        return value
    try:
        return names.parse(value).name
    except VandrelError:
        return value


# --- accounts


def _account(session: Session, kind: str, plain: Sequence[str], fields: dict[str, tuple[str, ...]]) -> int:
    from vandrel.errors import Refused
    from vandrel.jobs.create import Creator, steps
    from vandrel.steps.runner import Plan

    house = session.house
    today = house.charter.today()
    for name, value in _from_full_name(session, plain).items():
        fields.setdefault(name, (value,))
    draft = Creator(house, today).draft(kind, fields)
    if draft.missing and session.out.interactive and not session.out.as_json:
        fields |= {name: (_ask(session, name),) for name in draft.missing}
        draft = Creator(house, today).draft(kind, fields)
    title = f"New {kind} account" + (f": {draft.value('full')}" if draft.value("full") else "")
    _preview(session, draft, title)
    if any(finding.fatal for finding in draft.findings):
        raise Refused(draft.findings)
    secret, hand_out = _password(session, draft, fields)
    plan = Plan(f"create {kind} {draft.value('login')}", steps(house, [(draft, secret)]), draft.findings)
    report = hand_out.carry_out(plan, f"Create {draft.value('full')}?")
    if report is not None and report.made:
        _result(session, draft, hand_out)
    if session.out.as_json:
        _json(session, draft, plan, report.job if report else None)
    return exit_code(report)


def _from_full_name(session: Session, plain: Sequence[str]) -> dict[str, str]:
    from vandrel.text.people import split_full_name

    if not plain:
        return {}
    name = split_full_name(" ".join(plain), session.charter.particles)
    parts = {"given": name.given, "middle": name.middle, "surname": name.surname, "generation": name.generation}
    return {field: value for field, value in parts.items() if value}


def _ask(session: Session, name: str) -> str:
    from vandrel.fields import FIELDS

    words = session.charter.document.lists.get(name, [])
    hint = f" ({', '.join(words)})" if words else f" ({FIELDS[name].about})" if name in FIELDS else ""
    answer = ""
    while not answer:
        answer = input(f"{name}{hint}: ").strip()
    return answer


def _password(session: Session, draft: Draft, fields: dict[str, tuple[str, ...]]) -> tuple[Secret | None, HandOut]:
    from vandrel.charter.passwords import check
    from vandrel.cli.passwords import HandOut, obtain, show_rules

    rules = draft.rules
    assert rules is not None
    choice = fields["password"][0] if "password" in fields else str(rules.rules["first"].value)
    hand_out = HandOut(session, session.args.hand_out)
    if session.args.dry_run and choice in ("ask", "generate"):
        if not session.out.quiet and not session.out.as_json:
            show_rules(session, rules)
            session.out.line(f"The password would be {'asked for' if choice == 'ask' else 'generated'} now.")
        from vandrel.charter.passwords import generate

        return generate(rules), hand_out  # stands in for the one to come; it is neither shown nor set
    if choice == "ask" and not session.out.as_json:
        show_rules(session, rules)
    own = [draft.value(name) for name in ("given", "surname", "login")]
    words = [session.charter.document.organization, *draft.place]

    def broken(secret: Secret) -> list[Finding]:
        return check(secret, rules, login=draft.value("login"), full=draft.value("full"), words=words)

    secret = obtain(session, choice, rules, broken, own)
    if secret is not None and choice == "generate":
        hand_out.add(draft.value("full"), draft.value("login"), draft.value("principal"), draft.value("mail"), secret)
    return secret, hand_out


def _result(session: Session, draft: Draft, hand_out: HandOut) -> None:
    """What the directory says now, in one sentence; and the password, where it was generated."""
    from vandrel.jobs.logon import logon_state

    assert draft.dn is not None
    if not session.out.as_json:
        hand_out.deliver()
        entry = session.house.directory.get(draft.dn)
        if entry is not None:
            session.out.line(logon_state(session.house, entry, session.charter.today()).sentence)


def _json(session: Session, draft: Draft, plan: Plan, job: int | None) -> None:
    session.out.json(
        {
            "command": "create",
            "kind": draft.kind,
            "dn": str(draft.dn),
            "fields": [
                {"field": d.field, "values": list(d.values), "rule": d.rule, "passed": list(d.passed)}
                for d in draft.derived.values()
            ],
            "steps": steps_as_json(plan),
            "job": job,
        }
    )
