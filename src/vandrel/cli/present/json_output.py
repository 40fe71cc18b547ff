"""The one shape of what ``--json`` puts out, for every command; `json_schema` describes it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any, Literal

import msgspec
from msgspec import Struct

from vandrel.errors import Finding, Location, VandrelError
from vandrel.jobs.common.proposal import Action, FieldChange, ObjectChange, RowOutcome
from vandrel.jobs.common.report import Cell, Report, Table

if TYPE_CHECKING:
    from vandrel.steps.plan import RunResult
    from vandrel.steps.step import Step

Outcome = Literal["reported", "done", "done in part", "dry run", "unchanged", "refused", "failed"]


class FindingData(Struct):
    """One finding: a word of docs/exit-codes.md, what is wrong, where, and what to do about it."""

    code: str
    severity: Literal["stop", "note"]
    what: str
    where: Location
    remedy: str
    value: str


class FieldData(Struct):
    """One field of an object before and after, the rule that gave the value, and what it passed over.

    Where it is partial, only the values that go and come are given, which may stand among others.
    """

    field: str
    before: list[str]
    after: list[str]
    rule: str
    passed: list[str]
    partial: bool


class HolderData(Struct):
    """An object that stays and loses another one that it points at."""

    dn: str
    attribute: str


class ChangeData(Struct):
    """What happens to one object."""

    action: Action
    object_type: str = msgspec.field(name="type")
    dn: str
    new_dn: str | None
    label: str
    place: str
    kind: str
    row: int
    fields: list[FieldData]
    pointed_at: list[HolderData] | None


class RefusedData(Struct):
    """A step that was refused."""

    dn: str
    code: str
    why: str


class ResultData(Struct):
    """What a command puts out. Every key is always there; what a command has nothing for is empty.

    ``rows`` are those of a report, by column, or what became of the rows of a file. ``tables`` are further ones by
    name. ``steps`` are empty for very many objects: the journal has them.
    """

    command: str
    outcome: Outcome
    exit: int
    job: int | None = None
    undoes: int | None = None
    facts: dict[str, Any] = {}
    columns: list[str] = []
    rows: list[dict[str, Any]] = []
    tables: dict[str, list[dict[str, Any]]] = {}
    objects: list[dict[str, Any]] = []
    changes: list[ChangeData] = []
    steps: list[dict[str, Any]] = []
    refused: list[RefusedData] = []
    findings: list[FindingData] = []
    text: str = ""


def json_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of what every command puts out."""
    schema = msgspec.json.schema(ResultData)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Vandrel result", **schema}


def encode(data: ResultData) -> str:
    """The result as text, indented, in UTF-8."""
    return msgspec.json.format(msgspec.json.encode(data), indent=2).decode() + "\n"


def of_report(report: Report) -> ResultData:
    """The result of a report."""
    columns, rows = list(report.columns), [*report.rows]
    return ResultData(
        report.command,
        "reported",
        report.exit_code,
        facts={name: _plain(cell) for name, cell in report.facts},
        columns=columns,
        rows=_rows(columns, rows),
        tables={} if report.is_for_programs else {table.name: of_table(table) for table in report.tables},
        objects=[detail.data() for detail in report.objects],
        findings=findings_of(report.findings),
        text=report.text,
    )


def of_error(command: str, error: VandrelError) -> ResultData:
    """The result of a command that was stopped."""
    return ResultData(command, "failed", error.exit_code, findings=findings_of(error.findings))


def findings_of(findings: Iterable[Finding]) -> list[FindingData]:
    """Findings for programs."""
    return [
        FindingData(
            str(finding.code), finding.severity.value, finding.what,
            finding.where,
            finding.remedy, finding.value,
        )
        for finding in findings
    ]  # fmt: skip


def _field(field: FieldChange) -> FieldData:
    before, after = list(field.before), list(field.after)
    return FieldData(field.field, before, after, field.rule, list(field.passed), field.is_partial)


def changes_of(changes: Iterable[ObjectChange]) -> list[ChangeData]:
    """What happens to objects, for programs."""
    return [
        ChangeData(
            change.action, change.object_type, str(change.dn),
            str(change.new_dn) if change.new_dn is not None else None, change.label, change.place, change.kind,
            change.row,
            [_field(field) for field in change.fields],
            None if change.pointed_at is None
            else [HolderData(str(p.holder), p.attribute) for p in change.pointed_at],
        )
        for change in changes
    ]  # fmt: skip


def rows_of(outcomes: Iterable[RowOutcome]) -> list[dict[str, Any]]:
    """What became of rows, for programs."""
    return [{name: getattr(outcome, name) for name in RowOutcome.__struct_fields__} for outcome in outcomes]


def refusals_of(result: RunResult | None) -> list[RefusedData]:
    """The steps that were refused, for programs."""
    refused = result.refused if result is not None else []
    return [RefusedData(dn, str(error.code), str(error)) for dn, error in refused]


def steps_of(steps: Sequence[Step]) -> list[dict[str, Any]]:
    """Steps as the journal records them; octets are given by their number."""
    return [{key: _described(item) for key, item in step.record().items()} for step in steps]


def _described(value: Any) -> Any:
    if isinstance(value, bytes):
        return f"{len(value)} octets"
    if isinstance(value, dict):
        return {key: _described(item) for key, item in value.items()}
    return [_described(item) for item in value] if isinstance(value, list) else value


def _plain(cell: Cell) -> Any:
    return cell if cell is None or isinstance(cell, str | int | bool) else list(cell)


def _rows(columns: Sequence[str], rows: Iterable[Sequence[Cell]]) -> list[dict[str, Any]]:
    return [dict(zip(columns, map(_plain, row), strict=True)) for row in rows]


def of_table(table: Table) -> list[dict[str, Any]]:
    """A table for programs."""
    return _rows(table.columns, table.rows)
