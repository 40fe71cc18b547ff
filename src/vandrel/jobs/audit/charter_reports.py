"""Reports on a charter: what it holds, its kinds, what its patterns make of a name, which conventions are followed."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import islice

from msgspec import Struct

from vandrel.charter.charter import Charter
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, NAMED
from vandrel.jobs.audit.infer import InferredConvention, infer
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.report import Report, Table, count
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import charter_values
from vandrel.text.nearest import did_you_mean
from vandrel.text.people import initials, split_full_name

_USUAL = ("login", "principal", "mail", "full", "display")
#: Exceptions that people see; candidates of a name that are worked out, and the highest count among them.
_SHOWN, _CANDIDATES, _COUNT = 8, 12, 3


class NamesRequest(Struct, frozen=True):
    """A kind of account, a full name, and fields as typed."""

    kind: str
    name: str
    fields: Sequence[Assignment] = ()


def contents(charter: Charter) -> Report:
    """Say what a charter without faults holds."""
    document = charter.document
    parts = [
        count(len(document.kinds), "kind") + " of account", count(len(document.groups), "kind") + " of group",
        count(len(charter.design), "unit"), count(len(document.suffixes), "suffix"),
    ]  # fmt: skip
    message = f"{charter.source}: no faults. {', '.join(parts)}."
    row = (str(charter.source), len(document.kinds), len(document.groups), len(charter.design), document.suffixes)
    columns = ("charter", "kinds", "groups", "units", "suffixes")
    return Report("charter check", columns, [row], is_for_programs=True, text=f"{message}\n")


def kinds(charter: Charter) -> Report:
    """List every kind with what it requires, so that nobody finds out by being refused."""
    rows = [(name, kind.requires, kind.place, kind.about) for name, kind in charter.document.kinds.items()]
    return Report("charter kinds", ("kind", "requires", "place", "about"), rows)


def names(charter: Charter, request: NamesRequest) -> Report:
    """Show every name of every rung for one person; nothing is looked up but the charter.

    Raises:
        VandrelError: ``usage`` where no kind is named, ``unknown-kind``.

    """
    if not request.kind:
        raise VandrelError(Code.USAGE, "which kind?", remedy='vandrel charter names KIND "Anna Lund" FIELD=VALUE')
    charter.kind(request.kind)
    person = split_full_name(request.name, charter.particles)
    parts = {"given": person.given, "middle": person.middle, "surname": person.surname, "generation": person.generation}
    typed = {each.field: each.values[0] for each in request.fields if each.values}
    values = charter_values(charter, {"language": charter.document.language, **parts, **typed}, request.kind)
    values["initials"] = values["initials"] or initials(values["given"], values["middle"], values["surname"])
    rules = {target: charter.naming(target, request.kind) for target in NAMED}
    rows: dict[str, list[tuple[str, str, str]]] = {}
    todo = list(NAMED)
    while todo:
        target = next((t for t in todo if not rules[t].fields() & (set(todo) - {t})), todo[0])
        todo.remove(target)
        candidates = islice(rules[target].candidates(values), _CANDIDATES)
        candidates_shown = [each for each in candidates if each.count is None or each.count <= _COUNT]
        values[target] = candidates_shown[0].value if candidates_shown else ""
        rows[target] = [(c.value, f"{c.rung}", c.pattern) for c in candidates_shown] or [("(nothing is left)", "", "")]
    data_rows = [(target, *row) for target in NAMED for row in rows[target]]
    display_rows = [(target if n == 0 else "", *row) for target in NAMED for n, row in enumerate(rows[target])]
    columns = ("field", "name", "rung", "pattern")
    table = Table("listed", "", columns, display_rows, has_header=True)
    return Report("charter names", columns, data_rows, tables=[table], is_for_programs=True)


def conventions(context: Context, targets: Sequence[str] = ()) -> Report:
    """Say which patterns the names of the directory's accounts follow, and which are exceptions.

    Args:
        context: the charter and the directory.
        targets: the fields whose names are looked at; those that people have most, if none is named.

    Raises:
        VandrelError: ``unknown-field`` for what is no name that patterns build.

    """
    targets = targets or _USUAL
    for target in targets:
        if target not in NAMED:
            remedy = did_you_mean(target, NAMED) or f"there are: {', '.join(NAMED)}"
            what = f"{target!r} is no name that patterns build"
            raise VandrelError(Code.UNKNOWN_FIELD, what, where=Location(field=target), remedy=remedy)
    accounts = context.directory.search(context.charter.base, where=context.dialect.filter_for(ACCOUNT))
    survey = Survey(context, accounts)
    inferred = [infer(survey, survey.accounts, target) for target in targets]
    rows = [
        (item.target, item.accounts, item.conforming, [f"{rung.pattern}: {rung.accounts}" for rung in item.rungs],
         [f"{name}: {entry.dn}" for entry, name in item.exceptions])
        for item in inferred
    ]  # fmt: skip
    columns = ("field", "accounts", "conforming", "ladder", "exceptions")
    tables = [table for item in inferred for table in _tables(context, item)]
    return Report("charter infer", columns, rows, tables=tables, is_for_programs=True)


def _tables(context: Context, item: InferredConvention) -> list[Table]:
    share = f"{100 * item.conforming / item.accounts:.0f} %" if item.accounts else "none"
    title = f"{item.target}: {item.conforming} of {count(item.accounts, 'account')} conform ({share})"
    rungs = [(str(rung.accounts), rung.pattern) for rung in item.rungs]
    more = f", the first {_SHOWN}" if len(item.exceptions) > _SHOWN else ""
    rows = [(name, f"{entry.dn.name} in {context.place(entry.dn.parent)}") for entry, name in item.exceptions[:_SHOWN]]
    return [
        Table("ladder", title, ("accounts", "pattern"), rungs, empty="no pattern explains them"),
        Table("exceptions", f"  {count(len(item.exceptions), 'exception')}{more}", ("name", "of"), rows),
    ]
