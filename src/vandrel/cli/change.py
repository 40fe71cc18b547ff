"""Changes to objects that exist: shown before and after, made, and read back. What edit and its kin share."""

from __future__ import annotations

from typing import TYPE_CHECKING

from vandrel.cli.session import Session, count, exit_code, steps_as_json

if TYPE_CHECKING:
    from collections.abc import Sequence

    from vandrel.cli.passwords import HandOut
    from vandrel.directory.entry import Entry
    from vandrel.errors import Finding
    from vandrel.jobs.common.assignments import Assignment
    from vandrel.jobs.common.edit import Edit
    from vandrel.secret import Secret
    from vandrel.steps.step import Step

_NEW_PASSWORD = {"ask": "asked for", "generate": "generated", "-": "from standard input", "none": "(none)"}

#: Objects up to which every one is shown before and after a change; beyond, a summary must do.
_SHOWN = 10
_READ_BACK = 5


def change(session: Session, entries: Sequence[Entry], given: Sequence[Assignment], verb: str = "change") -> int:
    """Make the same assignments to these objects: preview, checks, question, steps, report; returns the exit code."""
    from vandrel.jobs.common.edit import Editor

    editor = Editor(session.context)
    return carry_out(session, [editor.edit(entry, given) for entry in entries], given, verb)


def carry_out(session: Session, edits: Sequence[Edit], given: Sequence[Assignment] = (), verb: str = "change") -> int:
    """The same for edits that a job has worked out; `given` tells of passwords, which stand in no edit.

    Raises:
        Refused: a finding stops it; nothing was written.

    """
    from vandrel.cli.passwords import HandOut
    from vandrel.errors import DONE_IN_PART, Refused, are_fatal
    from vandrel.jobs.common.edit import in_order
    from vandrel.steps.runner import Plan

    findings = list(dict.fromkeys(finding for edit in edits for finding in edit.findings))
    preview(session, edits, given)
    if are_fatal(findings):
        raise Refused(findings)
    hand_out = HandOut(session, getattr(session.args, "hand_out", None))
    passwords = _passwords(session, edits, given, hand_out)
    names = ", ".join(edit.entry.dn.name for edit in edits[:_SHOWN])
    more = f" and {len(edits) - _SHOWN} more" if len(edits) > _SHOWN else ""
    whole = len(edits) == 1 and not edits[0].apart
    title = f"{verb} {names}{more}{_sensitive(edits)}"
    read = {edit.entry.dn.key for edit in edits}
    plan = Plan(title, in_order(session.context, edits, passwords), findings, whole=whole, read=read)
    report = hand_out.carry_out(plan, f"{verb.capitalize()} {count(len(edits), 'object')}?")
    if report is not None and not session.out.as_json:
        hand_out.deliver()
        if report.made and not session.out.quiet and len(edits) <= _READ_BACK:
            _read_back(session, edits)
    if session.out.as_json:
        changed = [_as_json(edit) for edit in edits]
        job = report.job if report else None
        session.out.json({"command": verb, "objects": changed, "steps": steps_as_json(plan), "job": job})
    left_out = report is not None and any(edit.left_out for edit in edits)
    return DONE_IN_PART if left_out else exit_code(report)


def _sensitive(edits: Sequence[Edit]) -> str:
    """The mark in the record of a change to what recovers a password."""
    from vandrel.fields import FIELDS

    changed = dict.fromkeys(d.field for edit in edits for d in edit.differences if d.field in FIELDS)
    found = [name for name in changed if FIELDS[name].sensitive]
    return f" (recovers a password: {', '.join(found)})" if found else ""


def preview(session: Session, edits: Sequence[Edit], given: Sequence[Assignment]) -> None:
    """What changes on each object; of many, on the first few, and how many there are."""
    if session.out.as_json or session.out.quiet:
        return
    for edit in edits[:_SHOWN]:
        session.out.heading(f"{session.context.label(edit.entry)} in {session.context.place(edit.entry.dn.parent)}")
        rows = [
            (f"  {d.field}", ", ".join(d.before) or "(empty)", "->", ", ".join(d.after) or "(empty)")
            for d in edit.differences
        ]
        for assignment in given:
            if assignment.field == "password":
                had = "set" if session.context.dialect.has_password(edit.entry) else "(none)"
                rows.append(
                    ("  password", had, "->", _NEW_PASSWORD[assignment.values[0] if assignment.values else "none"])
                )
        if rows:
            session.out.table(("field", "before", "", "after"), rows, header=False)
        else:
            session.out.line("  as it is already")
    if len(edits) > _SHOWN:
        unchanged = sum(not edit.steps for edit in edits)
        same = f", {unchanged} of all as they are already" if unchanged else ""
        session.out.line(f"and {len(edits) - _SHOWN} more objects, {len(edits)} in all{same}")
    session.out.line()


def _passwords(session: Session, edits: Sequence[Edit], given: Sequence[Assignment], hand_out: HandOut) -> list[Step]:
    """The password steps, each password checked against the rules in force for its account."""
    from functools import partial

    from vandrel.cli.passwords import obtain, show_rules
    from vandrel.errors import Code, VandrelError
    from vandrel.jobs.common.edit import password_rules
    from vandrel.steps.step import Password

    typed = [a.values[0] if a.values else "none" for a in given if a.field == "password"]
    if not typed:
        return []
    choice = typed[-1]
    if choice in ("ask", "-") and len(edits) > 1:
        raise VandrelError(Code.USAGE, "one password is not given to several people", remedy="write password=generate")
    change = next((a.values for a in given if a.field == "change"), None)
    context, steps = session.context, []
    for edit in edits:
        rules = password_rules(context, edit.entry)
        if choice == "ask" and not session.args.dry_run:
            show_rules(session, rules)
        own = [edit.value(context, name) for name in ("given", "surname", "login")]
        if session.args.dry_run and choice in ("ask", "-"):
            choice = "generate"  # stands in for the one to come
        secret = obtain(session, choice, rules, partial(_check, session, edit), own)
        must = bool(rules.rules["change"].value) if change is None else change[0] == "yes"
        if must and change is None:
            session.out.findings(context.not_kept("account", {"change": ("yes",)}, ()))
        kept = hand_out.name if choice == "generate" else ""
        steps.append(Password(edit.entry.dn, secret, must and secret is not None, kept))
        if secret is not None and choice == "generate":
            hand_out.add(edit.entry.dn, partial(edit.value, context), secret)
    return list(steps)


def _check(session: Session, edit: Edit, secret: Secret) -> list[Finding]:
    from vandrel.charter.passwords import check
    from vandrel.jobs.common.edit import password_rules

    context, entry = session.context, edit.entry
    return check(
        secret, password_rules(context, entry), login=edit.value(context, "login"), full=edit.value(context, "full"),
        words=[context.charter.document.organization],
        used=lambda last: context.directory.password_used(entry.dn, secret, last),
    )  # fmt: skip


def _read_back(session: Session, edits: Sequence[Edit]) -> None:
    """What the directory has now, field by field, for everything that was to change."""
    from vandrel.cli.commands.show import bare_values, values_of
    from vandrel.fields import FIELDS
    from vandrel.jobs.accounts.logon import logon_state
    from vandrel.steps.step import Rename

    for edit in edits:
        renamed = [step.new for step in edit.steps if isinstance(step, Rename)]
        entry = session.context.directory.get(renamed[0] if renamed else edit.entry.dn)
        if entry is None:
            continue
        rows = []
        for name in (d.field for d in edit.differences if d.field in FIELDS or d.field == "place" or d.field[0] == "@"):
            values = (
                values_of(session, entry, name)
                if name in FIELDS
                else [session.context.place(entry.dn.parent)]
                if name == "place"
                else list(bare_values(session, entry, name))
            )
            rows.append((f"  {name}", ", ".join(values) or "(empty)"))
        session.out.line()
        session.out.heading(f"{session.context.label(entry)} now")
        session.out.table(("field", "value"), rows, header=False)
        if edit.object_type == "account":
            session.out.line("  " + logon_state(session.context, entry, session.charter.today()).sentence)


def _as_json(edit: Edit) -> dict[str, object]:
    return {
        "dn": str(edit.entry.dn),
        "differences": [{"field": d.field, "before": list(d.before), "after": list(d.after)} for d in edit.differences],
    }
