"""New accounts, worked out by a job: shown, given their passwords, made, and told of. What create and copy share."""

from __future__ import annotations

from typing import TYPE_CHECKING

from vandrel.cli.session import Session, exit_code, steps_as_json

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from vandrel.cli.passwords import HandOut
    from vandrel.errors import Finding
    from vandrel.jobs.common.draft import Draft
    from vandrel.secret import Secret
    from vandrel.steps.runner import Plan


def make(session: Session, drafts: Sequence[Draft], choice: str, title: str, command: str) -> int:
    """Make these accounts: question, passwords, steps, report; returns the exit code. They were shown before.

    Args:
        session: where.
        drafts: what a job worked out.
        choice: where passwords come from, if that was typed; else the rules of each account say.
        title: of the job in the journal.
        command: for --json.

    Raises:
        Refused: a finding stops it; nothing was written.

    """
    from vandrel.cli.passwords import HandOut
    from vandrel.errors import Refused, are_fatal
    from vandrel.jobs.accounts.create import steps
    from vandrel.steps.runner import Plan

    findings = list(dict.fromkeys(finding for draft in drafts for finding in draft.findings))
    if are_fatal(findings):
        raise Refused(findings)
    hand_out = HandOut(session, session.args.hand_out)
    made = [(draft, _password(session, draft, choice, hand_out)) for draft in drafts]
    plan = Plan(title, steps(session.context, made, hand_out.name), findings)
    names = drafts[0].value("full") if len(drafts) == 1 else f"{len(drafts)} accounts"
    report = hand_out.carry_out(plan, f"Create {names}?")
    if report is not None and report.made and not session.out.as_json:
        hand_out.deliver()
        for draft in drafts:
            _result(session, draft)
    if session.out.as_json:
        _json(session, drafts, plan, command, report.job if report else None)
    return exit_code(report)


def preview(session: Session, draft: Draft, title: str) -> None:
    """Every value with the rule that gave it."""
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


def full_name(session: Session, words: Sequence[str]) -> dict[str, str]:
    """The parts of a full name that was typed; empty where none was."""
    from vandrel.text.people import split_full_name

    if not words:
        return {}
    name = split_full_name(" ".join(words), session.charter.particles)
    parts = {"given": name.given, "middle": name.middle, "surname": name.surname, "generation": name.generation}
    return {field: value for field, value in parts.items() if value}


def _password(session: Session, draft: Draft, typed: str, hand_out: HandOut) -> Secret | None:
    from vandrel.charter.passwords import check
    from vandrel.cli.passwords import obtain, show_rules

    rules = draft.rules
    assert rules is not None
    choice = typed or str(rules.rules["first"].value)
    if session.args.dry_run and choice in ("ask", "generate"):
        if not session.out.quiet and not session.out.as_json:
            show_rules(session, rules)
            session.out.line(f"The password would be {'asked for' if choice == 'ask' else 'generated'} now.")
        from vandrel.charter.passwords import generate

        return generate(rules)  # stands in for the one to come; it is neither shown nor set
    if choice == "ask" and not session.out.as_json:
        show_rules(session, rules)
    own = [draft.value(name) for name in ("given", "surname", "login")]
    words = [session.charter.document.organization, *draft.place]

    def broken(secret: Secret) -> list[Finding]:
        return check(secret, rules, login=draft.value("login"), full=draft.value("full"), words=words)

    secret = obtain(session, choice, rules, broken, own)
    if secret is not None and choice == "generate":
        assert draft.dn is not None
        hand_out.add(draft.dn, draft.value, secret)
    return secret


def _result(session: Session, draft: Draft) -> None:
    """What the directory says now, in one sentence."""
    from vandrel.jobs.accounts.logon import logon_state

    assert draft.dn is not None
    entry = session.context.directory.get(draft.dn)
    if entry is not None:
        session.out.line(logon_state(session.context, entry, session.charter.today()).sentence)


def _json(session: Session, drafts: Sequence[Draft], plan: Plan, command: str, job: int | None) -> None:
    accounts: list[Mapping[str, object]] = [
        {
            "kind": draft.kind,
            "dn": str(draft.dn),
            "fields": [
                {"field": d.field, "values": list(d.values), "rule": d.rule, "passed": list(d.passed)}
                for d in draft.derived.values()
            ],
        }
        for draft in drafts
    ]
    more = dict(accounts[0]) if command == "create" else {"accounts": accounts}
    session.out.json({"command": command, **more, "steps": steps_as_json(plan), "job": job})
