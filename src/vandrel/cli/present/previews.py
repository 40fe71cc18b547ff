"""What a proposal will do, on the terminal: in full for a few objects, as samples and figures for many."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from msgspec import structs

from vandrel.cli.present.reports import show_table
from vandrel.directory import member_lists
from vandrel.errors import Finding
from vandrel.jobs.common.proposal import Action, FieldChange, LazyChanges, ObjectChange, Proposal
from vandrel.jobs.common.report import count

if TYPE_CHECKING:
    from vandrel.cli.session import Session
    from vandrel.cli.terminal import Terminal

#: Objects up to which every one is shown in full; new ones that are listed; samples of very many.
_IN_FULL, _LISTED, _SAMPLES = 10, 60, 3
#: Findings about rows that are shown, and the width of the values in them.
_FINDINGS, _WIDTH = 60, 28
#: Rows up to which the same fault is told of each.
_FEW_ALIKE = 3

_POINTING = {
    **dict.fromkeys(member_lists.ALL, "is a member of"),
    "manager": "is the manager of",
    "owner": "is the owner of",
}
#: The columns of a list of new objects, and what gives them.
_COLUMNS = ("login", "name", "place", "groups", "protected", "notes")
#: New objects that have nothing beside these are listed.
_OF_A_LIST = frozenset({"protected", "notes"})


def show_proposal(session: Session, proposal: Proposal) -> None:
    """Show what changes, with its tables and figures."""
    out = session.terminal
    if out.as_json or out.quiet:
        return
    changes = proposal.changes
    if proposal.is_fatal:  # of what nothing is left beside a refusal, it is not said that nothing differs
        changes = [change for change in changes if change.fields or change.action is not Action.CHANGE]
    of_action = by_action(changes)
    if proposal.is_many:
        _samples(out, of_action[Action.CREATE])
        _changed(out, of_action[Action.CHANGE], 2 * _SAMPLES, " to be changed")
    else:
        _created(session, of_action[Action.CREATE], "New")
        _created(session, of_action[Action.RESTORE], "Back")
        _changed(out, of_action[Action.CHANGE], _IN_FULL)
        _deleted(out, of_action[Action.DELETE])
    for table in proposal.tables:
        if show_table(out, table, is_below=False):
            out.line()
    for line in proposal.summary:
        out.note(line)


def by_action(changes: Sequence[ObjectChange]) -> dict[Action, Sequence[ObjectChange]]:
    """The changes of each action, in their order."""
    if isinstance(changes, LazyChanges):
        return {action: changes.of_action(action) for action in Action}
    return {action: [change for change in changes if change.action is action] for action in Action}


# --- new objects


def _created(session: Session, changes: Sequence[ObjectChange], word: str) -> None:
    is_plain = len(changes) > 1 and all(field.field in _OF_A_LIST for change in changes for field in change.fields)
    if len(changes) > _IN_FULL or is_plain:
        session.terminal.heading(f"{word}: {_figures(changes)}")
        _listed(session.terminal, changes[:_LISTED])
        if len(changes) > _LISTED:
            session.terminal.line(f"  and {len(changes) - _LISTED} more")
        session.terminal.line()
        return
    order = ["place", *session.context.fields]
    for change in changes:
        what = f"{change.kind} account".strip() if change.object_type == "account" else change.object_type or "object"
        session.terminal.heading(f"{word}: {what} {change.label}" if word != "New" else f"New {what}: {change.label}")
        fields = sorted(change.fields, key=lambda f: order.index(f.field) if f.field in order else len(order))
        rows: list[tuple[str, str, str]] = []
        for field in fields:
            rows.append((f"  {field.field}", ", ".join(field.after), field.rule))
            rows += [("", "", f"  {passed}") for passed in field.passed]
        session.terminal.table(("  field", "value", "rule"), rows)
        session.terminal.line()


def _samples(out: Terminal, changes: Sequence[ObjectChange]) -> None:
    """The first and the last of very many."""
    if not changes:
        return
    samples = changes if len(changes) <= 2 * _SAMPLES else [*changes[:_SAMPLES], *changes[-_SAMPLES:]]
    is_all = len(samples) == len(changes)
    out.heading("New" if is_all else f"New, the first and the last of {len(changes)}")
    _listed(out, samples)
    out.line()


def _listed(out: Terminal, changes: Sequence[ObjectChange]) -> None:
    rows = [
        (f"  {change.row or ''}", change.after("login"), _name(change), change.place, change.after("groups"),
         change.after("protected"), change.after("notes"))
        for change in changes
    ]  # fmt: skip
    columns = zip(("  row", *_COLUMNS), *rows, strict=True)
    filled = [column for column in columns if any(cell.strip() for cell in column[1:])]
    if filled and filled[0][0] != "  row":
        filled[0] = tuple(f"  {cell}" for cell in filled[0])
    out.table([column[0] for column in filled], list(zip(*(column[1:] for column in filled), strict=True)))


def _name(change: ObjectChange) -> str:
    return change.after("full") or change.dn.name


# --- changed objects


def _changed(out: Terminal, changes: Sequence[ObjectChange], most: int, what: str = "") -> None:
    for change in changes[:most]:
        row = f"Row {change.row}: " if change.row else ""
        where = "" if change.row else f" in {change.place}"
        out.heading(f"{row}{change.label}{where}")
        rows = [row for field in change.fields for row in _before_and_after(field)]
        if rows:
            out.table(("field", "before", "", "after"), rows, header=False)
        else:
            out.line("  as it is already")
    if len(changes) > most:
        unchanged = sum(not change.fields for change in changes)
        same = f", {unchanged} of all as they are already" if unchanged else ""
        more = f"and {count(len(changes) - most, 'more object')}{what}, {len(changes)} in all{same}"
        out.line(f"{more}: {_in_common(changes)}" if _in_common(changes) else more)
    if changes:
        out.line()


def _in_common(changes: Sequence[ObjectChange]) -> str:
    """Which fields change on how many of very many objects."""
    fields = Counter(field.field for change in changes for field in change.fields)
    return ", ".join(f"{name} of {number}" for name, number in fields.most_common())


def _before_and_after(field: FieldChange) -> list[tuple[str, str, str, str]]:
    """One field; of a list that stays for the most part, what comes and what goes."""
    before, after = field.before, field.after
    before_set, has = set(before), set(after)
    stay = [value for value in before if value in has]
    is_whole = not field.is_partial or len(before) == len(after) == 1
    if is_whole and (not stay or len(before) + len(after) <= 2):
        return [(f"  {field.field}", ", ".join(before) or "(empty)", "->", ", ".join(after) or "(empty)")]
    come = [f"+ {value}" for value in after if value not in before_set]
    go = [f"- {value}" for value in before if value not in has]
    unchanged = f"({len(stay)} as before)" if len(stay) > 2 else ", ".join(stay)
    return [(f"  {field.field}", unchanged, "", ", ".join(come + go) or "in another order")]


# --- objects that go


def _deleted(out: Terminal, changes: Sequence[ObjectChange]) -> None:
    if len(changes) > _IN_FULL:
        out.heading("To be deleted")
        out.line(f"  {_figures(changes)}")
        _losses(out, changes)
        out.line()
        return
    for change in changes:
        if change.pointed_at is None:
            out.heading(f"To be deleted: {change.label} in {change.place}")
            continue
        out.heading(f"{change.label} in {change.place}")
        losses: dict[str, list[str]] = {}
        for pointing in change.pointed_at:
            meaning = _POINTING.get(pointing.attribute, f"is the {pointing.attribute} of")
            losses.setdefault(meaning, []).append(pointing.label)
        rows = [(f"  {meaning}", _some(sorted(holders))) for meaning, holders in losses.items()]
        out.table(("what", "whom"), rows or [("  nothing points at it", "")], header=False)
    if changes:
        out.line()


def _losses(out: Terminal, changes: Sequence[ObjectChange]) -> None:
    pointing = [each for change in changes for each in change.pointed_at or ()]
    for attribute, number in Counter(each.attribute for each in pointing).items():
        holders = len({each.holder.key for each in pointing if each.attribute == attribute})
        if attribute in member_lists.ALL:
            out.line(f"  {count(number, 'membership')} in {count(holders, 'group')}")
        else:
            out.line(f"  {count(holders, 'object')} that stay{'s' if holders == 1 else ''} with no {attribute}")


def _figures(changes: Iterable[ObjectChange]) -> str:
    types = Counter(change.object_type or "object" for change in changes)
    return ", ".join(count(number, object_type) for object_type, number in types.items())


def _some(words: Sequence[str]) -> str:
    more = f" and {len(words) - _IN_FULL} more" if len(words) > _IN_FULL else ""
    return ", ".join(words[:_IN_FULL]) + more


# --- findings about rows


def show_row_findings(out: Terminal, findings: Sequence[Finding]) -> None:
    """Print findings about rows as a table, those that stop first; notes that say the same as one."""
    if out.as_json or not findings:
        return
    fatal, notes = ([f for f in findings if f.is_fatal is is_fatal] for is_fatal in (True, False))
    findings = [*_together(fatal, _FEW_ALIKE), *_together(notes, 1)]
    rows = [
        (
            str(finding.where.row or "-"), finding.where.header or "-", _short(finding.value),
            finding.what if finding.is_fatal else f"note: {finding.what}", finding.remedy,
        )
        for finding in findings[:_FINDINGS]
    ]  # fmt: skip
    out.table(("row", "column", "value", "what is wrong", "what to do"), rows)
    if len(findings) > _FINDINGS:
        out.line(f"and {len(findings) - _FINDINGS} more: --findings FILE writes all of them beside the rows")
    out.line()


def _together(findings: Sequence[Finding], few: int) -> list[Finding]:
    """The findings; of more than a few that say the same, the first, with the number of the others."""
    same = Counter((each.where.header, each.what) for each in findings)
    by_text: dict[object, Finding] = {}
    for number, each in enumerate(findings):
        key = (each.where.header, each.what)
        if same[key] <= few:
            by_text[number] = each
        elif key not in by_text:
            by_text[key] = structs.replace(each, what=f"{each.what}; the same in {count(same[key] - 1, 'more row')}")
    return list(by_text.values())


def _short(value: str) -> str:
    one_line = " ".join(value.split())
    return one_line if len(one_line) <= _WIDTH else f"{one_line[: _WIDTH - 1]}…"
