"""Lists of objects by fragments, conditions and filters, with chosen columns."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import islice

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare, Filter, Not, Or, Present, Substring, attributes_of
from vandrel.directory.filter import parse as parse_filter
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import GROUP, OBJECT_TYPES, UNIT, Shape
from vandrel.intake.description import BETWEEN, join_values
from vandrel.jobs.common import field_values
from vandrel.jobs.common.assignments import Assignment, flag, split
from vandrel.jobs.common.report import Report, count
from vandrel.jobs.common.resolve import find_fragments, resolve
from vandrel.jobs.inspect import comparisons
from vandrel.jobs.inspect.show import attribute_called
from vandrel.objects.context import Context
from vandrel.objects.groups_of_many import GroupsOfMany
from vandrel.objects.member_counts import MemberCounts
from vandrel.objects.membership import members_by_primary
from vandrel.objects.namesakes import Namesakes
from vandrel.objects.reference_labels import ReferenceLabels
from vandrel.objects.view import ObjectView
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare

#: What can be listed, and the columns where none are chosen.
LISTS = {
    "accounts": ("account",), "groups": ("group",), "units": ("unit",), "computers": ("computer",),
    "all": OBJECT_TYPES,
}  # fmt: skip
_COLUMNS = {
    "accounts": "login,full,title,place,state", "groups": "name,purpose,scope,members,place,state",
    "units": "name,notes,place,state", "computers": "name,notes,groups,place,state",
    "all": "name,login,type,place,state",
}  # fmt: skip
#: Columns that are no fields.
EXTRA_COLUMNS = ("dn", "place", "state", "type")
#: Objects of which it is looked at once whom they name.
_WINDOW = 500


class FindRequest(Struct, frozen=True):
    """What to list.

    Attributes:
        words: fragments of names, and conditions on fields, as typed.
        of: a key of `LISTS`; empty for accounts, or with a filter for whatever it finds.
        where: a filter of RFC 4515; empty for none.
        under: a unit, as typed; empty for the whole directory.
        columns: fields, ``@attributes`` and `EXTRA_COLUMNS`; empty for those of the list.
        by: the column to sort by; empty for place and name, or for a file the order of the directory.
        is_reversed: whether the order is turned round.
        is_portable: whether cells are read back by `vandrel import`, and not for people.

    """

    words: Sequence[str] = ()
    of: str = ""
    where: str = ""
    under: str = ""
    columns: Sequence[str] = ()
    by: str = ""
    is_reversed: bool = False
    is_portable: bool = False


def find(context: Context, request: FindRequest) -> Report:
    """List objects; the rows come one after the other.

    Raises:
        VandrelError: ``unknown-field``, ``bad-filter``, ``usage``, or what resolving names raises.

    """
    what = request.of or ("all" if request.where else "accounts")  # a filter says itself what is to be listed
    columns = list(request.columns or _COLUMNS[what].split(","))
    _check_columns(context, [*columns, *([request.by] if request.by else [])])
    findings: list[Finding] = []
    # Names of groups alone, without their members, and of very many objects in one go.
    groups = GroupsOfMany(context) if {"groups", "roles"} & {*columns, request.by} else None
    entries = _entries(context, request, what, findings)
    views: Iterable[ObjectView] = _views(context, entries, [*columns, request.by], groups)
    counts = MemberCounts(context)
    if request.by:
        views = _sorted(views, request.by, counts, is_reversed=request.is_reversed)
    if request.is_portable:
        labels = ReferenceLabels(context)
        return Report("find", columns, ([_portable(v, n, columns, labels, counts) for n in columns] for v in views))
    keyed = [(v.entry.dn.key, [", ".join(cell(v, name, counts)) for name in columns]) for v in views]
    if not request.by:  # by place and name, whatever order a server has
        keyed.sort(key=lambda pair: pair[0])
    rows = [row for _, row in keyed]
    noun = what.rstrip("s") if what != "all" else "object"
    return Report("find", columns, rows, summary=[count(len(rows), noun)], findings=findings)


def _views(
    context: Context, entries: Iterator[Entry], columns: Sequence[str], groups: GroupsOfMany | None
) -> Iterator[ObjectView]:
    """The objects through their fields; who shares a name with others that are named is asked for many at once."""
    naming = [name for name in columns if name in context.fields and context.fields[name].shape is Shape.REFERENCE]
    namesakes = Namesakes(context)
    while window := list(islice(entries, _WINDOW)):
        if naming:
            values = (value for entry in window for name in naming for value in context.dialect.read(entry, name))
            namesakes.learn(names.parse(value) for value in values if value)
        yield from (ObjectView(context, entry, groups, namesakes) for entry in window)


def find_deleted(context: Context, request: FindRequest) -> Report:
    """List deleted objects that the words fit, the latest first.

    Raises:
        VandrelError: ``refused`` where the directory keeps none.

    """
    if not context.directory.capabilities.keeps_deleted:
        what = "this directory keeps nothing of what is deleted"
        raise VandrelError(Code.REFUSED, what, where=Location(server=context.directory.location))
    rows = []
    for entry in context.directory.deleted():
        row = deleted_row(context, entry)
        fits = all(word.casefold() in f"{row[1]} {row[2]}".casefold() for word in request.words)
        if row[3] in LISTS[request.of or "all"] and fits:
            rows.append(row)
    rows.sort(reverse=True)
    return Report("find", DELETED_COLUMNS, rows, summary=[count(len(rows), "deleted object")])


#: What is told of an object that the directory keeps of what was deleted.
DELETED_COLUMNS = ("deleted", "name", "login", "type", "place", "dn")


def deleted_row(context: Context, entry: Entry) -> tuple[str, str, str, str, str, str]:
    """When it was deleted, what it was called, of which type it is, where it was, and its name now."""
    name, above = context.dialect.before_deletion(entry)
    when = dict(context.dialect.instants(entry)).get("changed")
    moment = when.astimezone(context.charter.zone).strftime("%Y-%m-%d %H:%M") if when else ""
    place = context.place(names.parse(above)) if above else ""
    return moment, name, context.one(entry, "login"), context.object_type(entry), place, str(entry.dn)


# --- which objects


def _entries(context: Context, request: FindRequest, what: str, findings: list[Finding]) -> Iterator[Entry]:
    compared = {word: comparisons.parse(word, context.fields) for word in request.words}
    plain, conditions = split([word for word, comparison in compared.items() if comparison is None], context.fields)
    looked_at = [comparison for comparison in compared.values() if comparison is not None]
    looked_at += [_looked_at(context, a) for a in conditions if _is_looked_at(context, a)]
    conditions = [assignment for assignment in conditions if not _is_looked_at(context, assignment)]
    tests = [comparisons.test_of(context, comparison) for comparison in looked_at]
    object_types = LISTS[what]
    parts: list[Filter] = [Or(tuple(context.dialect.filter_for(each) for each in object_types))]
    if plain:
        parts.append(find_fragments(context, plain, object_types))
    memberships = [assignment for assignment in conditions if assignment.field == "groups"]
    parts += [_condition(context, each, object_types) for each in conditions if each not in memberships]
    if request.where:
        where = parse_filter(request.where)
        findings += _unknown_attributes(context, where)
        # Somebody who writes a filter says in it what to list.
        parts = [where, *parts[1:]] if not request.of else [where, *parts]
    base = resolve(context, request.under, (UNIT,)).dn if request.under else context.charter.base
    matches = context.directory.search(base, where=And(tuple(parts)))
    entries = (entry for entry in matches if all(test(entry) for test in tests)) if tests else matches
    if not memberships:
        return entries
    # No filter of RFC 4515 asks for the members of a group: they are looked up there.
    groups = [resolve(context, name, (GROUP,)) for assignment in memberships for name in assignment.values]
    members = {names.parse(member).key for group in groups for member in context.dialect.members(group)}
    for group in groups:  # a primary membership stands in no list
        members |= {entry.dn.key for entry in members_by_primary(context, group)}
    return (entry for entry in entries if entry.dn.key in members)


def _is_looked_at(context: Context, condition: Assignment) -> bool:
    """Whether no filter asks for a condition: a part of a day, a mark that the server works out."""
    field = context.fields.get(condition.field)
    if field is None or condition.operator != "=" or not condition.values:
        return False
    if field.shape is Shape.FLAG:
        return context.dialect.condition(field.name, flag(field.name, condition.values[0])) is None
    return field.shape is Shape.DATE and "*" in condition.values[0] and condition.values[0] != "*"


def _looked_at(context: Context, condition: Assignment) -> comparisons.Comparison:
    value = condition.values[0]
    is_flag = context.fields[condition.field].shape is Shape.FLAG
    return comparisons.Comparison(condition.field, "=", flag(condition.field, value) if is_flag else value)


def _condition(context: Context, condition: Assignment, object_types: Sequence[str]) -> Filter:
    """``field=value`` as a filter; an empty value asks for objects without any.

    Raises:
        VandrelError: ``usage`` for what is no condition, ``unknown-field``, ``bad-value``.

    """
    name, values = condition.field, list(condition.values)
    if condition.operator != "=":
        what, remedy = f"{condition.operator} is no condition", f"write {name}=VALUE"
        raise VandrelError(Code.USAGE, what, where=Location(field=name), remedy=remedy)
    field, dialect = context.fields.named(name), context.dialect
    attributes = list(
        dict.fromkeys(a for each in object_types if each in field.on and (a := dialect.attribute(name, each)))
    )
    if field.shape is Shape.FLAG:
        built_in = dialect.condition(name, flag(name, values[0] if values else "no"))
        if built_in is None:
            raise VandrelError(Code.USAGE, f"{name} is no condition", where=Location(field=name))
        return built_in
    if not values:
        return Not(Or(tuple(Present(attribute) for attribute in attributes)))
    if field.shape in (Shape.REFERENCE, Shape.DATE) and values != ["*"]:
        typed = field_values.read(context, field, values, object_types[0])
        values = [str(value) for value in dialect.stored(name, typed)]
    parts = [_compared(context, name, attribute, value) for value in values for attribute in attributes]
    return Or(tuple(parts)) if len(parts) != 1 else And((parts[0],))


def _compared(context: Context, name: str, attribute: str, value: str) -> Filter:
    chunks = value.split("*")
    if value == "*":
        return Present(attribute)
    if len(chunks) > 1:
        return Substring(attribute, chunks[0], tuple(c for c in chunks[1:-1] if c), chunks[-1])
    return context.dialect.condition(name, value) or Compare(attribute, "=", value)


def _unknown_attributes(context: Context, where: Filter) -> list[Finding]:
    """The attributes of a filter that the schema does not have: such a part finds nothing."""
    schema = context.directory.schema
    return [
        Finding(
            Code.UNKNOWN_FIELD, f"the schema has no attribute {name!r}, so that part finds nothing",
            Location(option="--where"), did_you_mean(name, schema.attribute_names()), NOTE,
        )
        for name in attributes_of(where)
        if not schema.attribute_name(name)
    ]  # fmt: skip


# --- columns


def _check_columns(context: Context, columns: Sequence[str]) -> None:
    for name in columns:
        if name.startswith("@"):
            attribute_called(context, name)
        elif name not in EXTRA_COLUMNS:
            context.fields.named(name)


def portable_rows(context: Context, report: Report) -> Iterator[list[str]]:
    """The rows of a portable list, each cell as one text that `import` reads."""
    fields = context.fields
    together = [join_values if name in fields and fields[name].many else f" {BETWEEN} ".join for name in report.columns]
    for row in report.rows:
        yield [join(cell) for join, cell in zip(together, row, strict=True)]  # type: ignore[arg-type]


def cell(view: ObjectView, name: str, counts: MemberCounts) -> list[str]:
    """What stands in one column of a list for people."""
    match name:
        case "dn":
            return [str(view.entry.dn)]
        case "place":
            return [view.place]
        case "state":
            return view.states
        case "type":
            return [view.object_type]
        case "members":
            return [str(counts.of(view.entry))]
    if name.startswith("@"):
        return view.attribute(attribute_called(view.context, name))
    return view.shown(name) if view.object_type in view.context.fields[name].on else []


def _portable(
    view: ObjectView, name: str, columns: Sequence[str], labels: ReferenceLabels, counts: MemberCounts
) -> list[str]:
    """What stands in one column of a file, so that `vandrel import` takes it for the same."""
    if name == "place" and view.object_type == UNIT and "name" not in columns:
        return [view.context.place(view.entry.dn)]
    field = view.context.fields.get(name)
    if field is None or view.object_type not in field.on:
        return cell(view, name, counts)
    if name in ("members",) or field.shape is Shape.REFERENCE or field.unit:
        return view.portable(name, labels)
    return cell(view, name, counts)


def _sorted(views: Iterable[ObjectView], by: str, counts: MemberCounts, *, is_reversed: bool) -> list[ObjectView]:
    """Sort by a column; what is empty there comes last, either way."""
    keyed = [(prepare(", ".join(cell(view, by, counts))), view) for view in views]
    filled = sorted((pair for pair in keyed if pair[0]), key=lambda pair: pair[0], reverse=is_reversed)
    return [view for _, view in [*filled, *(pair for pair in keyed if not pair[0])]]
