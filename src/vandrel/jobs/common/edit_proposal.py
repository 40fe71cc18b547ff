"""From edits that were worked out to the proposal that makes them, passwords included."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from msgspec import structs

from vandrel.charter.passwords import check
from vandrel.directory.entry import Entry
from vandrel.errors import Code, Finding, VandrelError
from vandrel.fields import GROUP
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.edit_order import in_order
from vandrel.jobs.common.proposal import (
    Action,
    Credential,
    FieldChange,
    ObjectChange,
    Passwords,
    Proposal,
    Work,
    listed_names,
    unique,
    work_out_proposal,
)
from vandrel.jobs.common.report import count
from vandrel.jobs.common.same_person import told_of_others
from vandrel.jobs.common.selection import Selection, select
from vandrel.lazy_list import LazyMap
from vandrel.objects.context import Context
from vandrel.secret import Secret
from vandrel.steps.step import Password, Rename, Set

_NEW_PASSWORD = {"ask": "asked for", "generate": "generated", "-": "from standard input", "none": "(none)"}


def edit_selected(context: Context, selection: Selection, assignments: Sequence[Assignment], verb: str) -> Proposal:
    """Propose the same assignments for the objects that are meant.

    Raises:
        VandrelError: as `vandrel.jobs.common.selection.select` and `edit_all`.

    """
    joins_or_leaves = all(each.field == "members" and each.operator in ("+=", "-=") for each in assignments)
    is_one = len(selection.names) == 1 and not selection.where
    # Of a group that somebody joins or leaves, the list of members need not come.
    only = context.dialect.attributes_read(GROUP) if is_one and joins_or_leaves else ()
    return edit_all(context, select(context, selection, only=only), assignments, verb)


def edit_all(context: Context, entries: Sequence[Entry], assignments: Sequence[Assignment], verb: str) -> Proposal:
    """Propose the same assignments for several objects.

    Raises:
        VandrelError: as `vandrel.jobs.common.edit.Editor.edit` and `propose`.

    """

    def worked_out(here: Context) -> Proposal:
        editor = Editor(here, of_one=len(entries) == 1)
        others = told_of_others(here, entries, "disable") if Assignment("enabled", "=", ("no",)) in assignments else []
        proposal = propose(here, [editor.edit(entry, assignments) for entry in entries], assignments, verb)
        return structs.replace(proposal, findings=[*proposal.findings, *others])

    return work_out_proposal(context, worked_out, len(entries))


def propose(
    context: Context, edits: Sequence[Edit], assignments: Sequence[Assignment], verb: str,
    passwords_for: Sequence[Edit] | None = None, about: Sequence[Entry] = (),
) -> Proposal:  # fmt: skip
    """The proposal that makes these edits.

    Args:
        context: the charter and the directory.
        edits: what changes on each object.
        assignments: assignments that may speak of passwords, which stand in no edit.
        verb: the command, for titles and questions.
        passwords_for: those of the edits whose objects get the password that `assignments` speaks of; None: all.
        about: whom the title names, where others change because of them; else all that change.

    Raises:
        VandrelError: ``usage`` where one password would go to several people.

    """
    source = next((a.values[0] if a.values else "none" for a in reversed(assignments) if a.field == "password"), "")
    owners = edits if passwords_for is None else passwords_for
    if source in ("ask", "-") and len(owners) > 1:
        what, remedy = "one password is not given to several people", "write password=generate"
        raise VandrelError(Code.USAGE, what, remedy=remedy)
    change = next((a.values for a in assignments if a.field == "change"), None)
    findings = [finding for edit in edits for finding in edit.findings]
    if source not in ("", "none") and change is None and any(_must_change(context, edit, None) for edit in owners):
        findings += context.not_kept("account", {"change": ("yes",)}, ())

    def work(passwords: Passwords) -> Work:
        steps = []
        for edit in owners if source else ():
            secret = passwords.secrets.get(edit.entry.dn)
            must = _must_change(context, edit, change) and secret is not None
            hand_out = passwords.hand_out if source == "generate" else ""
            steps.append(Password(edit.entry.dn, secret, must, hand_out))
        ordered = in_order(context, edits, steps)
        new = [step.new for step in ordered if isinstance(step, Rename)]
        changed = (step.dn for step in ordered if isinstance(step, Set))  # groups, and who points at it, beside it
        read = {dn.key for dn in changed if not any(dn.is_within(name) for name in new)}
        return Work(ordered, read=read | {edit.entry.dn.key for edit in edits})

    named = about or LazyMap(edits, lambda edit: edit.entry)
    return Proposal(
        verb,
        f"{verb} {listed_names(LazyMap(named, context.label))}{_sensitive(context, edits)}",
        f"{verb.capitalize()} {count(len(edits), 'object')}?",
        work,
        changes=[_change(context, edit, source if edit in owners else "") for edit in edits],
        findings=unique(findings),
        credentials=[_credential(context, edit, source) for edit in owners] if source else (),
        is_atomic=len(edits) == 1 and not edits[0].is_apart,
        left_out=sum(edit.left_out for edit in edits),
    )


def _must_change(context: Context, edit: Edit, change: Sequence[str] | None) -> bool:
    return bool(context.rules_for(edit.entry).rules["change"].value) if change is None else change[0] == "yes"


def _change(context: Context, edit: Edit, source: str) -> ObjectChange:
    fields = list(edit.differences)
    if source:
        state = {True: "set", False: "(none)", None: "(not shown)"}[context.dialect.has_password(edit.entry)]
        fields.append(FieldChange("password", (state,), (_NEW_PASSWORD[source],)))
    new = next((step.new for step in edit.steps if isinstance(step, Rename)), None)
    entry = edit.entry
    place, label = context.place(entry.dn.parent), context.label(entry)
    return ObjectChange(Action.CHANGE, edit.object_type, entry.dn, label, place, tuple(fields), new_dn=new)


def _credential(context: Context, edit: Edit, source: str) -> Credential:
    rules = context.rules_for(edit.entry)

    def find(secret: Secret) -> list[Finding]:
        return check(
            secret, rules, login=edit.value(context, "login"), full=edit.value(context, "full"),
            words=[context.charter.document.organization],
            used=lambda last: context.directory.password_used(edit.entry.dn, secret, last),
        )  # fmt: skip

    return Credential(edit.entry.dn, rules, source, partial(edit.value, context), find, is_first=False)


def _sensitive(context: Context, edits: Sequence[Edit]) -> str:
    """The mark in the record of a change to what recovers a password."""
    changed = dict.fromkeys(d.field for edit in edits for d in edit.differences)
    sensitive = [name for name in changed if name in context.fields and context.fields[name].sensitive]
    return f" (recovers a password: {', '.join(sensitive)})" if sensitive else ""
