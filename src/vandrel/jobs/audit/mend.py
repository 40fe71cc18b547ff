"""What an audit finds, mended: the commands of its faults that need nobody's answer, as one proposal."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from msgspec import structs

from vandrel.directory.entry import Entry
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.jobs.audit.audit import AuditRequest, broken_rules
from vandrel.jobs.audit.rule import Command, Fault
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common.assignments import Assignment, parse
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.proposal import Proposal
from vandrel.jobs.hierarchy.move import Mover
from vandrel.objects.context import Context

#: Commands that set a field, in the words of `vandrel edit`.
_AS_EDIT = {"disable": "enabled=no", "enable": "enabled=yes", "protect": "protected=yes"}


def mend(context: Context, request: AuditRequest) -> Proposal:
    """Propose to mend what some rules find; what takes an answer, or more than a change of fields, is told and left.

    Raises:
        VandrelError: ``usage`` where no rule is named, or for one that there is not.

    """
    if not request.rules:
        what, remedy = "which rules?", "vandrel audit tells what is wrong; vandrel audit --mend misplaced spelling"
        raise VandrelError(Code.USAGE, what, remedy=remedy)
    faults = (each.fault for each in broken_rules(Survey(context), request))
    return mend_faults(context, faults, "audit", f"mend what the audit finds: {', '.join(request.rules)}")


def mend_faults(context: Context, faults: Iterable[Fault], verb: str, title: str) -> Proposal:
    """Propose to carry out the commands of faults as one change; what takes an answer is told and left.

    Args:
        context: the charter and the directory.
        faults: what is wrong.
        verb: the command, for titles.
        title: what the journal calls the job.

    """
    assignments: dict[str, tuple[Entry, list[Assignment]]] = {}
    moves: dict[str, str] = {}
    unmended: list[Fault] = []
    for fault in faults:
        assignments_of_fault = list(_assignments(fault.mended_by))
        if not fault.mended_by or any(each is None for each in assignments_of_fault):
            unmended.append(fault)
            continue
        entry, collected = assignments.setdefault(fault.entry.dn.key, (fault.entry, []))
        for each in assignments_of_fault:
            if isinstance(each, str):
                moves[entry.dn.key] = each
            elif each is not None and each not in collected:
                collected.append(each)
    editor, movers = Editor(context), dict[str, Mover]()
    edits: list[Edit] = []
    for key, (entry, given_to) in assignments.items():
        edit = editor.edit(entry, given_to) if given_to else None
        if (place := moves.get(key)) is not None:
            mover = movers.get(place) or movers.setdefault(place, Mover(context, place))
            move = mover.move(entry, fields_follow=False)
            edit = move if edit is None else _both(edit, move)
        if edit is not None and edit.steps:
            edits.append(edit)
    proposal = propose(context, edits, (), verb)
    notes = [*proposal.findings, *map(_not_mended, unmended)]
    return structs.replace(
        proposal, title=title, findings=notes, is_atomic=False, nothing="Nothing that can be mended so."
    )


def _assignments(commands: Sequence[Command]) -> Iterator[Assignment | str | None]:
    """What commands set; the place of a move as text; None for what is not done here."""
    for verb, _, *rest in commands:
        if any("..." in word for word in rest):
            yield None
        elif verb == "edit":
            yield from map(parse, rest)
        elif verb in _AS_EDIT:
            yield parse(_AS_EDIT[verb])
        elif verb == "move":
            yield rest[-1]
        else:
            yield None


def _both(edit: Edit, move: Edit) -> Edit:
    """Two edits of one object as one."""
    return structs.replace(
        edit, differences=[*edit.differences, *move.differences], steps=[*edit.steps, *move.steps],
        findings=[*edit.findings, *move.findings],
    )  # fmt: skip


def _not_mended(fault: Fault) -> Finding:
    what = f"left as it is: {fault.what}"
    return Finding(Code.FAULTS_FOUND, what, Location(dn=str(fault.entry.dn)), fault.remedy, NOTE)
