"""Objects from a tabular file: the whole file worked out and checked, as one proposal."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from itertools import chain

from msgspec import Struct

from vandrel.charter.charter import Charter
from vandrel.errors import Code, Finding, Location, Refused, VandrelError
from vandrel.fields import ACCOUNT, GROUP, FieldCatalog
from vandrel.intake.convert import Converter
from vandrel.intake.description import Description
from vandrel.intake.item import Item
from vandrel.intake.propose import looks_like_header
from vandrel.intake.table import Row, Table, text
from vandrel.jobs.bulk.planner import Planner, Recognize
from vandrel.jobs.bulk.propose import BulkOptions, propose_roster
from vandrel.jobs.bulk.roster import Roster
from vandrel.jobs.common.proposal import Proposal
from vandrel.jobs.common.report import Report, count
from vandrel.objects.context import Context
from vandrel.secret import Secret
from vandrel.text.nearest import did_you_mean


class ImportRequest(Struct, frozen=True):
    """A file to import.

    Attributes:
        table: the rows.
        description: what the columns mean.
        expected: how many rows there should be; 0 where nobody said.
        secret: one password for all who have none of their own; None: each gets one of their own.
        options: how far to go.

    """

    table: Table
    description: Description
    expected: int = 0
    secret: Secret | None = None
    options: BulkOptions = BulkOptions()


def import_file(context: Context, request: ImportRequest) -> Proposal:
    """Propose what a file asks for.

    Raises:
        Refused: the description is not one of this file.
        VandrelError: ``unknown-kind``, or what reading the file raises.

    """
    roster, findings = work_out(context, request)
    name = request.table.path.name
    return propose_roster(
        context, roster, request.description.object_type, request.options, "import", name, findings
    )  # fmt: skip


def missing_from(context: Context, request: ImportRequest, since: Mapping[str, str]) -> Report:
    """List who exists and stands in no row.

    Args:
        context: the charter and the directory.
        request: the file.
        since: the day on which it was noticed, by key.

    """
    roster, _ = work_out(context, request)
    rows = [
        (" ".join(item.key), item.dn.name, context.place(item.dn.parent), since.get(" ".join(item.key), ""))
        for item in roster.missing
    ]
    rows.sort(key=lambda row: (row[3], row[0]))
    summary = [] if rows else ["Nobody is missing."]
    return Report("import", ("key", "name", "place", "since"), rows, summary=summary)


def check_kind(charter: Charter, description: Description, name: str) -> None:
    """See to it that the kind of accounts or groups is known, where no column gives it.

    Raises:
        VandrelError: ``unknown-kind``.

    """
    fields = {description.column(header).field for header in description.columns}
    set_fields = fields | {*description.constants, *description.built}
    if description.object_type not in (ACCOUNT, GROUP) or "kind" in set_fields:
        return
    if description.kind:
        (charter.kind if description.object_type == ACCOUNT else charter.group_kind)(description.kind)
    elif description.object_type == ACCOUNT and description.mode != "update":
        kinds = ", ".join(charter.document.kinds)
        what = "no column says of which kind the accounts are, and the description does not either"
        remedy = f"--kind, or kind: with one of {kinds}"
        raise VandrelError(Code.UNKNOWN_KIND, what, where=Location(file=name), remedy=remedy)


def work_out(
    context: Context, request: ImportRequest, recognize: Recognize | None = None
) -> tuple[Roster, list[Finding]]:  # fmt: skip
    """The rows worked out, and what is wrong with the file as a whole.

    Args:
        context: the charter and the directory.
        request: the file.
        recognize: says who a row is that nobody is found for by its key.

    Raises:
        Refused: a column of the key is not in the file: the description is of another one.

    """
    table, description = request.table, request.description
    header = table.header()
    findings = _columns(table, description, header)
    converter = Converter(description, header, context.charter.words, context.fields, table.layout.quote)
    rows, header_rows = _without_header(table, header, context.fields)
    findings += header_rows
    planner = Planner(context, description, context.charter.today(), recognize)
    roster = planner.plan(_with_password(converter.items(rows), request.secret))
    if request.expected and request.expected != len(roster.lines):
        what = f"{len(roster.lines)} rows were read, and {request.expected} are expected"
        remedy = "is the file whole, and does it have lines of its own?"
        findings.append(Finding(Code.ROWS, what, remedy=remedy))
    return roster, findings


def _columns(table: Table, description: Description, header: list[str]) -> list[Finding]:
    findings = []
    lacking = [name for name in description.columns if name not in header and description.columns[name] != ""]
    for name in lacking:
        hint = did_you_mean(name, header) or f"the file has: {', '.join(header)}"
        findings.append(Finding(Code.HEADER, f"there is no column {name!r}", Location(header=name), hint))
    if any(description.column(name).field in description.key for name in lacking):
        what = (
            f"{count(len(lacking), 'column')} of the description {'is' if len(lacking) == 1 else 'are'} not in the file"
        )
        remedy = "is it the description of another file? a new one: --propose --dry-run"
        raise Refused([Finding(Code.INTAKE, what, Location(file=str(table.path)), remedy), *findings])
    twice = [n for index, n in enumerate(header) if n in header[:index] and description.column(n).field]
    findings += [Finding(Code.HEADER, f"two columns are called {n!r}", Location(header=n), "rename one") for n in twice]
    return findings


def _without_header(table: Table, header: list[str], fields: FieldCatalog) -> tuple[Iterator[Row], list[Finding]]:
    """The rows; a header that is taken for data is found, and left out."""
    rows = table.rows()
    if table.layout.header or (first := next(rows, None)) is None:
        return rows, []
    if not looks_like_header(first.cells, fields):
        return chain([first], rows), []
    where = Location(row=first.number, header=header[0])
    value = text(first.cells[0])
    return rows, [Finding(Code.HEADER, "the header is taken for data", where, "write header: 1", value=value)]


def _with_password(items: Iterable[Item], secret: Secret | None) -> Iterator[Item]:
    """The rows, those that have no password with this one."""
    for item in items:
        item.secret = item.secret or secret
        yield item
