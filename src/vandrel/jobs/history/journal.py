"""What was done, when, by whom, to what: reports on the journal."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct

from vandrel.directory import member_lists
from vandrel.errors import Code, VandrelError
from vandrel.fields import Shape
from vandrel.jobs.common.report import Report, Table, count
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.lifecycle.attic import AtticSelection, chosen_items
from vandrel.objects.context import Context
from vandrel.record.attic import Attic, Item
from vandrel.record.journal import Job, JobQuery, Journal, JournalStep
from vandrel.steps.runner import Runner

_STYLE = "%Y-%m-%d %H:%M:%S"
_COLUMNS = (
    "number", "begun", "ended", "who", "bound_as", "host", "command", "title", "directory", "planned", "made",
    "refused", "undoes", "state",
)  # fmt: skip


class JournalRequest(Struct, frozen=True):
    """Which jobs to list.

    Attributes:
        job: the number of one job; 0 for a list.
        last: how many jobs to list; 0 for all.
        query: what must fit.

    """

    job: int = 0
    last: int = 20
    query: JobQuery = JobQuery()


def names_about(context: Context, journal: Journal, attic: Attic, typed: str) -> tuple[str, ...]:
    """The names in full of the object that somebody means: that is there, or is gone, with its earlier names.

    Raises:
        VandrelError: ``not-found``, ``ambiguous``.

    """
    try:
        return journal.names_of(str(resolve(context, typed).dn))
    except VandrelError as error:
        if error.code not in (Code.NOT_FOUND, Code.AMBIGUOUS):
            raise
        in_attic = [str(item.entry.dn) for item in _in_attic(context, attic, typed)]
        in_attic = in_attic or (journal.names_with(typed) if error.code is Code.NOT_FOUND else [])
        if not in_attic:
            raise
        names = {name for dn in in_attic for name in journal.names_of(dn)}
        return tuple(sorted(names))


def _in_attic(context: Context, attic: Attic, typed: str) -> list[Item]:
    try:
        return chosen_items(context, attic, AtticSelection(names=(typed,)))
    except VandrelError:
        return []


def attributes_of(context: Context, field: str) -> tuple[str, ...]:
    """The attributes in which a field is kept, of whatever type of object.

    Raises:
        VandrelError: ``unknown-field``.

    """
    if field.startswith("@"):
        return (field[1:],)
    spec = context.fields.named(field)
    attributes = {context.dialect.attribute(spec.name, each) for each in spec.on}
    if spec.shape in (Shape.MEMBERSHIPS, Shape.ROLES):
        attributes = set(member_lists.ALL)
    elif spec.shape is Shape.SECRET:
        attributes = {"userPassword", "unicodePwd"}
    return tuple(sorted(filter(None, attributes)))


def list_jobs(journal: Journal, request: JournalRequest, zone: ZoneInfo) -> Report:
    """List jobs, the newest first, or one of them step by step.

    Raises:
        VandrelError: ``not-found`` where there is no such job.

    """
    if request.job:
        return _one_job(journal.job(request.job), list(journal.steps(request.job)), zone)
    jobs = list(journal.jobs(request.last, request.query))
    display_rows = [
        (job.number, _when(job.begun, zone), job.who, job.title, f"{job.made} of {job.planned}", job.state)
        for job in jobs
    ]
    table = Table("listed", "", ("job", "when", "who", "what", "steps", "state"), display_rows, has_header=True)
    summary = [] if jobs else ["No job fits."]
    reaches_back = not request.last or len(jobs) < request.last
    if reaches_back and (first := journal.first()) > 1:
        summary.append(f"What was before job {first} is forgotten: journal-days in the charter.")
    return Report("journal", _COLUMNS, map(_row, jobs), tables=[table], is_for_programs=True, summary=summary)


def _row(job: Job) -> list[str | int]:
    return [getattr(job, name) for name in _COLUMNS]


def _one_job(job: Job, steps: list[JournalStep], zone: ZoneInfo) -> Report:
    ended = f" to {_when(job.ended, zone)[11:]}" if job.ended else ""
    facts = [
        ("state", f"{job.state}: {job.made} of {count(job.planned, 'step')} made, {job.refused} refused"),
        ("when", _when(job.begun, zone) + ended),
        ("who", f"{job.who} on {job.host}{f', bound as {job.bound_as}' if job.bound_as else ''}"),
        ("command", job.command),
        ("directory", job.directory),
    ]
    display_rows: list[tuple[str, str, str, str]] = []
    for step in steps:
        state = step.state + (f": {step.why}" if step.why else "")
        display_rows.append((str(step.number), step.record["step"], step.record["dn"], state))
        display_rows += [("", "", f"  {line}", "") for line in described(step.record)]
    rows = [(s.number, s.record["step"], s.record["dn"], list(described(s.record)), s.state, s.why) for s in steps]
    return Report(
        "journal", ("number", "step", "dn", "changes", "state", "why"), rows,
        title=f"Job {job.number}: {job.title}", facts=facts, is_for_programs=True,
        tables=[Table("steps", "", ("step", "", "object and change", "state"), display_rows, has_header=True)],
    )  # fmt: skip


def verify(runner: Runner, number: int) -> Report:
    """Put each step of a job beside what the directory has now; the exit code tells whether all of it is still so.

    Raises:
        VandrelError: ``usage`` without a job; ``foreign`` for one of another directory.

    """
    if not number:
        raise VandrelError(Code.USAGE, "which job?", remedy="vandrel journal JOB --verify")
    steps = list(runner.standing(runner.own_job(number).number))
    words = {True: "as the job left it", False: "no longer so", None: "cannot be told"}
    number_undone = sum(stands is False for _, stands in steps)
    rows = [(item.number, item.record["step"], item.record["dn"], stands) for item, stands in steps]
    display_rows = [(*row[:3], words[row[3]]) for row in rows]
    table = Table("listed", "", ("step", "", "object", "now"), display_rows, has_header=True)
    summary = [
        f"{count(len(steps), 'step')}: {len(steps) - number_undone} as the job left them, {number_undone} no longer."
    ]
    return Report(
        "journal", ("number", "step", "dn", "stands"), rows, tables=[table], is_for_programs=True, summary=summary,
        exit_code=Code.CHANGED.exit_code if number_undone else 0,
    )  # fmt: skip


def _when(stamp: str, zone: ZoneInfo) -> str:
    return datetime.fromisoformat(stamp).astimezone(zone).strftime(_STYLE) if stamp else ""


def described(record: dict[str, Any]) -> Iterator[str]:
    """What a step does, attribute by attribute, from its record."""
    match record["step"]:
        case "add" | "remove":
            sign = "+" if record["step"] == "add" else "-"
            for name, values in record["attributes"].items():
                yield from (f"{name} {sign} {_say(value)}" for value in values)
        case "set":
            for name, before, after, *_ in record["changes"]:
                yield from (f"{name} - {_say(value)}" for value in before)
                yield from (f"{name} + {_say(value)}" for value in after)
        case "rename":
            yield f"-> {record['new']}"
        case _ if not record["set"]:
            yield "the password was taken away"
        case _:
            origin = "generated" if record["generated"] else "typed"
            must = ", to be changed at the next logon" if record["must-change"] else ""
            yield f"a new password, {origin}{must}"


def _say(value: object) -> str:
    if isinstance(value, bytes):
        return f"({len(value)} octets)"
    return str(value) or "(the empty name)"
