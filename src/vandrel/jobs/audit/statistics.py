"""Figures of a directory, counted from one reading of it: what charts and the report of an audit show."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, date, datetime
from enum import Enum

from msgspec import Struct

from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, Shape
from vandrel.jobs.audit.rule import Fault
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common.report import Cell, Report
from vandrel.text.nearest import did_you_mean

#: Rows of a chart; the others are one row together.
_MOST_ROWS = 30
_OTHERS = "all others"
#: The youngest age first: days below which an instant is of it, and its name.
_AGES = ((7, "a week"), (30, "a month"), (90, "three months"), (365, "a year"), (1095, "three years"))
#: The largest number of members of each size of groups.
_SIZES = ((0, "none"), (1, "1"), (5, "2 to 5"), (20, "6 to 20"), (100, "21 to 100"), (1000, "101 to 1000"))
#: Months that are looked ahead, and back.
_AHEAD, _BACK = 12, 24


class Form(Enum):
    """How a chart is drawn."""

    BARS = "bars"
    COLUMNS = "columns"
    LINE = "line"


class Statistic(Struct, frozen=True):
    """One figure as a table: a label a row, and a number for each series.

    Attributes:
        name: by which it is asked for.
        title: what it shows.
        label: what the rows are.
        series: what is counted, each in accounts, groups or units as it says.
        rows: label, and a number for each series.
        form: how it is drawn.
        note: what must be known to read it.

    """

    name: str
    title: str
    label: str
    series: tuple[str, ...]
    rows: tuple[tuple[str, tuple[int, ...]], ...]
    form: Form = Form.BARS
    note: str = ""

    @property
    def is_empty(self) -> bool:
        """Whether nothing is counted."""
        return not any(any(numbers) for _, numbers in self.rows)


Count = Callable[[Survey, Sequence[Fault]], Statistic]
#: The figures by name, in the order in which they are shown.
STATISTICS: dict[str, tuple[str, Count]] = {}


def _statistic(name: str) -> Callable[[Count], Count]:
    def register(count: Count) -> Count:
        STATISTICS[name] = ((count.__doc__ or "").splitlines()[0].rstrip("."), count)
        return count

    return register


def list_statistics() -> Report:
    """What can be counted."""
    return Report("chart", ("chart", "shows"), [(name, about) for name, (about, _) in STATISTICS.items()])


def statistic(survey: Survey, name: str, faults: Sequence[Fault]) -> Statistic:
    """Count one figure.

    Args:
        survey: the directory.
        name: which one.
        faults: what an audit finds, for those that show what conforms.

    Raises:
        VandrelError: ``usage`` for one that there is not.

    """
    if name not in STATISTICS:
        remedy = did_you_mean(name, STATISTICS) or f"there are: {', '.join(STATISTICS)}"
        raise VandrelError(Code.USAGE, f"there is no chart {name!r}", where=Location(text=name), remedy=remedy)
    return STATISTICS[name][1](survey, faults)


def as_report(chosen: Statistic) -> Report:
    """A figure as numbers."""
    rows: list[Sequence[Cell]] = [(label, *numbers) for label, numbers in chosen.rows]
    summary = [chosen.note] if chosen.note else []
    return Report("chart", (chosen.label, *chosen.series), rows, title=chosen.title, summary=summary)


# --- what is counted


@_statistic("kinds")
def _kinds(survey: Survey, faults: Sequence[Fault]) -> Statistic:
    """Accounts by unit and kind."""
    by_unit: dict[str, Counter[str]] = {}
    kinds = list(survey.context.charter.document.kinds)
    for entry in survey.accounts:
        kind = survey.kind(entry)
        by_unit.setdefault(_unit(survey, entry.dn.parent_key), Counter())[kind or "of no kind"] += 1
    used = Counter[str]()
    for counted in by_unit.values():
        used.update(counted)
    series = tuple(name for name in (*kinds, "of no kind") if used[name])
    rows = {unit: tuple(counted[name] for name in series) for unit, counted in by_unit.items()}
    return Statistic("kinds", "Accounts by unit and kind", "unit", series, _largest(rows))


@_statistic("conformity")
def _conformity(survey: Survey, faults: Sequence[Fault]) -> Statistic:
    """Accounts that the audit finds nothing against, by unit."""
    faulty = {fault.entry.dn.key for fault in faults}
    counted: dict[str, list[int]] = {}
    for entry in survey.accounts:
        numbers = counted.setdefault(_unit(survey, entry.dn.parent_key), [0, 0])
        numbers[entry.dn.key in faulty] += 1
    rows = {unit: tuple(numbers) for unit, numbers in counted.items()}
    series = ("nothing found", "something found")
    return Statistic("conformity", "Accounts by unit, as the audit finds them", "unit", series, _largest(rows))


@_statistic("fields")
def _fields(survey: Survey, faults: Sequence[Fault]) -> Statistic:
    """How many accounts have each field."""
    context, rows = survey.context, []
    for name, field in context.fields.items():
        if ACCOUNT not in field.on or field.shape in (Shape.MEMBERSHIPS, Shape.ROLES, Shape.SECRET, Shape.FLAG):
            continue
        number = sum(bool(context.dialect.read(entry, name)) for entry in survey.accounts)
        if number:
            rows.append((name, (number, len(survey.accounts) - number)))
    rows.sort(key=lambda row: -row[1][0])
    title = "How many accounts have each field"
    return Statistic(
        "fields", title, "field", ("filled", "empty"), tuple(rows), note="Fields that nobody has are left out."
    )


@_statistic("logons")
def _logons(survey: Survey, faults: Sequence[Fault]) -> Statistic:
    """Accounts by the age of their last logon."""
    return _ages(survey, "logons", "last logon", "Accounts by the age of their last logon", "never, or not shown here")


@_statistic("passwords")
def _passwords(survey: Survey, faults: Sequence[Fault]) -> Statistic:
    """Accounts by the age of their password."""
    title = "Accounts by the age of their password"
    return _ages(survey, "passwords", "password set", title, "none, or not shown here")


@_statistic("growth")
def _growth(survey: Survey, faults: Sequence[Fault]) -> Statistic:
    """Accounts that are there today, by the month in which they were created."""
    span = months(survey.today, -_BACK, 1)
    created = Counter[str]()
    unknown = 0
    for entry in survey.accounts:
        instant = dict(survey.context.dialect.instants(entry)).get("created")
        unknown += instant is None
        created[instant.date().isoformat()[:7] if instant is not None else ""] += 1
    before = sum(number for month, number in created.items() if month and month < span[0])
    rows = []
    for month in span:
        before += created[month]
        rows.append((month, (before,)))
    note = f"Of {unknown} accounts the day of creation is not shown." if unknown else ""
    title = "Accounts that are there today, by the month in which they were created, summed up"
    return Statistic("growth", title, "month", ("accounts",), tuple(rows), Form.LINE, note)


@_statistic("ahead")
def _ahead(survey: Survey, faults: Sequence[Fault]) -> Statistic:
    """Accounts that start, come back and end in the coming twelve months."""
    span = months(survey.today, 0, _AHEAD)
    fields = ("starts", "back", "ends")
    days = {field: Counter(survey.one(entry, field)[:7] for entry in survey.accounts) for field in fields}
    rows = tuple((month, tuple(days[field][month] for field in fields)) for month in span)
    series = ("start", "come back", "end")
    title = "Accounts that start, come back and end, by month"
    return Statistic("ahead", title, "month", series, rows, Form.COLUMNS)


@_statistic("groups")
def _groups(survey: Survey, faults: Sequence[Fault]) -> Statistic:
    """Groups by their number of direct members."""
    sizes = Counter(_size(len(survey.members[group.dn.key])) for group in survey.groups)
    labels = [*(name for _, name in _SIZES), "more"]
    rows = tuple((label, (sizes[label],)) for label in labels)
    title = "Groups by their number of direct members"
    return Statistic("groups", title, "members", ("groups",), rows, Form.COLUMNS)


@_statistic("nesting")
def _nesting(survey: Survey, faults: Sequence[Fault]) -> Statistic:
    """Groups by how many levels of groups stand above them."""
    levels = Counter(_levels_above(survey, group.dn.key) for group in survey.groups)
    rows = tuple((str(level), (levels[level],)) for level in range(max(levels, default=0) + 1))
    title = "Groups by how many levels of groups stand above them"
    return Statistic("nesting", title, "levels above", ("groups",), rows, Form.COLUMNS)


# --- helpers


def _unit(survey: Survey, key: str) -> str:
    holder = survey.entries.get(key)
    return survey.context.place(holder.dn) if holder is not None else "elsewhere"


def _largest(rows: Mapping[str, tuple[int, ...]]) -> tuple[tuple[str, tuple[int, ...]], ...]:
    """The largest rows in the order of their labels; all others as one."""
    by_size = sorted(rows, key=lambda label: -sum(rows[label]))
    largest = sorted(by_size[:_MOST_ROWS])
    rest = by_size[_MOST_ROWS:]
    table = [(label, rows[label]) for label in largest]
    if rest:
        table.append(
            (f"{_OTHERS}, {len(rest)} units", tuple(map(sum, zip(*(rows[label] for label in rest), strict=True))))
        )
    return tuple(table)


def _ages(survey: Survey, name: str, instant: str, title: str, without: str) -> Statistic:
    now, counted = datetime.now(UTC), Counter[str]()
    oldest = f"{_AGES[-1][1]} or more"
    for entry in survey.accounts:
        then = dict(survey.context.dialect.instants(entry)).get(instant)
        if then is None:
            counted[without] += 1
        else:
            days = (now - then).days
            counted[next((f"less than {label}" for limit, label in _AGES if days < limit), oldest)] += 1
    labels = [*(f"less than {label}" for _, label in _AGES), oldest, without]
    rows = tuple((label, (counted[label],)) for label in labels)
    return Statistic(name, title, "age", ("accounts",), rows)


def months(today: date, begin: int, end: int) -> list[str]:
    """Months as 2026-11: from so many before or after the one of a day, up to another and without that.

    >>> months(date(2026, 11, 29), -1, 3)
    ['2026-10', '2026-11', '2026-12', '2027-01']
    """
    this = today.year * 12 + today.month - 1
    return [f"{month // 12}-{month % 12 + 1:02d}" for month in range(this + begin, this + end)]


def _size(members: int) -> str:
    return next((label for limit, label in _SIZES if members <= limit), "more")


def _levels_above(survey: Survey, key: str) -> int:
    """How many levels of groups an object is in; a circle counts once."""
    visited, level, depth = {key}, [key], 0
    while level := [
        above.dn.key for each in level for above in survey.groups_of.get(each, ()) if above.dn.key not in visited
    ]:
        visited.update(level)
        depth += 1
    return depth
