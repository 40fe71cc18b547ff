"""Everything about one object: its fields by topic, whether it can log on, what it is in and what it holds."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from functools import partial

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.entry import Entry
from vandrel.directory.port import Scope
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, GROUP, OBJECT_TYPES, UNIT, Field, Shape, Topic
from vandrel.jobs.accounts.logon import logon_state
from vandrel.jobs.accounts.password_age import ages
from vandrel.jobs.common.report import ObjectDetail, Report, Table, count
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context
from vandrel.objects.delegation import delegation_rows, inherited_rows
from vandrel.objects.membership import convertible, effective, with_primary
from vandrel.objects.view import ObjectView
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare

#: Members and groups of one object that are listed.
_LISTED = 20
#: Said above the fields, by the title, the sentence and the marks.
_SAID_ABOVE = ("enabled", "change", "locked", "protected", "password", "delegation")
_PLAIN_STYLE = "%Y-%m-%d %H:%M"


class ShowRequest(Struct, frozen=True):
    """Which objects to show, and what of them.

    Attributes:
        names: what people typed.
        only: a fragment of the names of fields and attributes; empty for all.
        bare: one field whose values alone are put out; empty for all.
        raw: whether attributes are shown by their names in the schema.
        full: whether what is allowed and empty, and what the directory keeps itself, is shown as well.
        effective: whether every group that counts is shown, and inherited policies.
        password_rules: whether the password rules in force are shown.

    """

    names: Sequence[str]
    only: str = ""
    bare: str = ""
    raw: bool = False
    full: bool = False
    effective: bool = False
    password_rules: bool = False


def show(context: Context, request: ShowRequest) -> Report:
    """Show objects.

    Raises:
        VandrelError: ``not-found``, ``ambiguous``, ``unknown-field``.

    """
    views = [ObjectView(context, resolve(context, name)) for name in request.names]
    if request.bare:
        lines = [value for view in views for value in bare_values(view, request.bare)]
        rows = [[value] for value in lines]
        return Report("show", columns=[request.bare], rows=rows, has_header=False, text=_as_lines(lines))
    if request.only:
        return Report("show", objects=[_only(view, request.only) for view in views])
    if request.raw:
        return Report("show", objects=[_raw(view) for view in views])
    details = []
    for view in views:
        context.ask_ahead(partial(_describe, view.entry))
        detail = describe(view)
        detail.tables += _rest(view) if request.full else []
        detail.tables += _effective(view) if request.effective else []
        detail.tables += _rules(view) if request.password_rules else []
        details.append(detail)
    return Report("show", objects=details)


def _describe(entry: Entry, context: Context) -> ObjectDetail:
    return describe(ObjectView(context, entry))


def _as_lines(lines: Sequence[str]) -> str:
    return "".join(f"{line}\n" for line in lines)


def object_data(view: ObjectView) -> dict[str, object]:
    """The object for programs: our fields, and the attributes behind them."""
    fields = {field.name: view.shown(field.name) for field in view.fields()}
    return {
        "dn": str(view.entry.dn),
        "place": view.place,
        "type": view.object_type,
        "state": view.states,
        "fields": {name: values for name, values in fields.items() if values},
        "attributes": {name: view.attribute(name) for name in view.entry.attributes},
    }


def describe(view: ObjectView) -> ObjectDetail:
    """The object in full: first what the reader wants to know, then the fields by topic."""
    context, entry = view.context, view.entry
    is_account = view.object_type == ACCOUNT
    detail = ObjectDetail(
        context.title(entry), partial(object_data, view), str(entry.dn),
        view.states, topics=list(_topics(view)),
    )  # fmt: skip
    if is_account:
        detail.sentence = logon_state(context, entry, context.charter.today()).sentence
    if hours := context.one(entry, "hours"):
        from vandrel.text import week

        detail.week = [f"Hours of the week ({context.charter.document.time_zone})", *week.drawn(week.parse(hours))]
    if view.object_type in (UNIT, ""):
        detail.lines += _below(view)
        detail.tables += _delegated(view)
    return detail


def _topics(view: ObjectView) -> Iterator[tuple[str, str, str]]:
    context, entry = view.context, view.entry
    heading = context.title(entry)
    for topic in Topic:
        title = topic.value
        for field in view.fields():
            if field.topic is not topic or field.name in _SAID_ABOVE:
                continue
            values = view.shown(field.name)
            rows = [(field.name, _marked(context, values) if field.name == "groups" else values)]
            rows += [("as primary", _primary_members(view))] if field.name == "members" else []
            for label, text in rows:
                if text and not (label in ("name", "full") and text == [heading]):
                    yield title, label, _listed(text)
                    title = ""
    yield "Kept", "place", view.place
    for name, instant in context.dialect.instants(entry):
        yield "", name, instant.astimezone(context.charter.zone).strftime(_PLAIN_STYLE)


def _primary_members(view: ObjectView) -> list[str]:
    """Members that have the group as their primary one, and stand in no list of members."""
    context = view.context
    if not (others := with_primary(context, view.entry)):
        return []
    listed = {names.parse(member).key for member in context.dialect.members(view.entry)}
    return sorted((entry.dn.name for entry in others if entry.dn.key not in listed), key=prepare)


def _marked(context: Context, groups: Sequence[str]) -> list[str]:
    """Names of groups, those first that carry power by the charter, and marked so."""
    power = {prepare(name) for name in context.charter.power}
    strong = [f"{name} (carries power)" for name in groups if prepare(name) in power]
    return strong + [name for name in groups if prepare(name) not in power]


def _listed(values: Sequence[str]) -> str:
    more = f" and {len(values) - _LISTED} more" if len(values) > _LISTED else ""
    return ", ".join(values[:_LISTED]) + more


def _below(view: ObjectView) -> list[str]:
    """What stands directly in a unit, counted, and what the charter means it for."""
    context = view.context
    counts = Counter(context.object_type(child) for child in context.directory.search(view.entry.dn, Scope.ONE))
    counted = [count(counts[kind], kind) for kind in OBJECT_TYPES if counts[kind]]
    lines = [f"Directly in it: {', '.join(counted) or 'nothing'}."]
    place = context.place(view.entry.dn)
    unit = context.charter.designed(places.parse(place)) if place.startswith("/") else None
    if unit is not None and unit.holds:
        lines.append(f"Designed for: {', '.join(unit.holds)}.")
    return lines


def _delegated(view: ObjectView) -> list[Table]:
    """What is delegated on a unit, and what reaches it from above: tasks and policies."""
    context, entry = view.context, view.entry
    rows = [*delegation_rows(context, entry), *inherited_rows(context, entry)]
    tables = [Table("delegation", "Delegated here and below", ("team", "task", "state"), rows)]
    from vandrel.jobs.hierarchy.policies import reaching

    policies = [(p.name, p.unit, "enforced" if p.enforced else "") for p in reaching(context, entry.dn)]
    return [*tables, Table("policies", "Policies that reach it, the last wins", ("policy", "from", "how"), policies)]


# --- parts on demand


def _effective(view: ObjectView) -> list[Table]:
    """Every group that membership amounts to, with the path that gives it; scopes and policies."""
    context, entry = view.context, view.entry
    power = context.charter.power
    rows = [
        (
            membership.group.dn.name,
            " in ".join(membership.through) or "directly",
            power.get(membership.group.dn.name, ""),
        )
        for membership in effective(context, entry)
    ]
    tables = [Table("groups", "Groups that count", ("group", "through", "power"), rows, empty="none")]
    if view.object_type == GROUP and context.one(entry, "scope"):
        scopes = [(scope, why or "yes") for scope, why in convertible(context, entry)]
        tables.append(Table("scopes", "What its scope could become", ("scope", "why"), scopes))
    from vandrel.jobs.hierarchy.policies import reaching

    unit = entry.dn if view.object_type in (UNIT, "") else entry.dn.parent
    policies = [(p.name, p.unit, "enforced" if p.enforced else "") for p in reaching(context, unit)]
    title = "Policies that reach it, the last wins"
    return [*tables, Table("policies", title, ("policy", "from", "how"), policies)]


def _rules(view: ObjectView) -> list[Table]:
    """The rules in force for an account, each with its source, and what they mean for the password it has."""
    if view.object_type != ACCOUNT:
        return []
    context = view.context
    rules = context.rules_for(view.entry)
    in_force = [(str(rule), rule.source) for rule in rules.shown()]
    age = ages(context, view.entry, rules)
    rule_rows = [
        ("set", age.set, ""),
        ("its owner may change it from", age.changeable, rules.rules["minimum-age"].source),
    ]
    rule_rows.append(("too old from", age.expires, age.source))
    zone = context.charter.zone
    rows = [(label, when.astimezone(zone).strftime(_PLAIN_STYLE) if when else "never", source)
            for label, when, source in rule_rows]  # fmt: skip
    return [
        Table("password_rules", "Password rules in force", ("rule", "from"), in_force),
        Table("password_age", "The password that it has", ("what", "when", "from"), rows if age.set else (),
              empty="when it was set is not known"),
    ]  # fmt: skip


def _rest(view: ObjectView) -> list[Table]:
    """What the directory keeps of its own accord, and what is allowed and empty."""
    schema, entry = view.context.directory.schema, view.entry
    operational = [
        (name, value)
        for name in entry.attributes
        if (definition := schema.attribute(name)) is not None and definition.operational
        for value in view.attribute(name)
    ]
    _, may = schema.shape(tuple(entry.texts("objectClass")))
    empty = [(", ".join(sorted(name for name in may if not entry.values_of(name))),)]
    return [
        Table("operational", "Kept by the directory", ("attribute", "value"), operational),
        Table("empty", "Allowed and empty", ("attributes",), empty),
    ]


def _raw(view: ObjectView) -> ObjectDetail:
    rows = [("dn", str(view.entry.dn))]
    rows += [(name, value) for name in view.entry.attributes for value in view.attribute(name)]
    return ObjectDetail(
        view.label, partial(object_data, view), is_brief=True, tables=[Table("raw", "", ("attribute", "value"), rows)]
    )


def _only(view: ObjectView, fragment: str) -> ObjectDetail:
    """Fields and attributes with `fragment` in their name, empty ones too.

    Raises:
        VandrelError: ``unknown-field`` where there is none.

    """
    context, low = view.context, fragment.casefold()
    attributes = {field.name: context.dialect.attribute(field.name, view.object_type) for field in view.fields()}
    rows = [
        (field.name, ", ".join(view.shown(field.name)) or "(empty)", f"{field.about}{_limit(view, field)}")
        for field in view.fields()
        if low in field.name or low in attributes[field.name].casefold()
    ]
    _, may = context.directory.schema.shape(tuple(view.entry.texts("objectClass")))
    for name in sorted({*may, *view.entry.attributes}):
        if low in name.casefold() and name not in attributes.values():
            rows.append((f"@{name}", ", ".join(view.attribute(name)) or "(empty)", ""))
    if not rows:
        what = f"no field or attribute has {fragment!r} in its name"
        raise VandrelError(Code.UNKNOWN_FIELD, what, where=Location(dn=str(view.entry.dn)))
    table = Table("fields", "", ("field", "value", "about"), rows)
    return ObjectDetail(view.label, partial(object_data, view), is_brief=True, tables=[table])


def _limit(view: ObjectView, field: Field) -> str:
    """What a field takes at most, as the live schema has it."""
    context = view.context
    if field.shape is Shape.OCTETS:
        return f"; {context.charter.document.photo_limit:,} {field.unit} at most"
    attribute = context.directory.schema.attribute(context.dialect.attribute(field.name, view.object_type))
    unit = f", in {field.unit}" if field.unit else ""
    most = attribute.limit if attribute and field.shape is Shape.TEXT else 0
    return f"{unit}; {most} characters at most" if most else unit


def bare_values(view: ObjectView, name: str) -> Iterator[str]:
    """The values of a field of ours, of ``dn``, ``place`` or of a raw ``@attribute``.

    Other objects are named in full: the values are to be pasted elsewhere.

    Raises:
        VandrelError: ``unknown-field``.

    """
    context = view.context
    if name == "dn":
        yield str(view.entry.dn)
    elif name == "place":
        yield context.place(view.entry.dn)
    elif name.startswith("@"):
        yield from view.attribute(attribute_called(context, name))
    else:
        field = context.fields.named(name, view.object_type or None)
        yield from view.raw(name) if field.shape is Shape.REFERENCE else view.shown(name)


def attribute_called(context: Context, name: str) -> str:
    """The schema's name of an attribute that is written ``@name``.

    Raises:
        VandrelError: ``unknown-field``, with near spellings.

    """
    schema = context.directory.schema
    attribute = schema.attribute_name(name[1:])
    if not attribute:
        hint = did_you_mean(name[1:], schema.attribute_names())
        what = f"the schema has no attribute {name[1:]!r}"
        raise VandrelError(Code.UNKNOWN_FIELD, what, where=Location(field=name), remedy=hint)
    return attribute


def hours_of(context: Context, name: str) -> tuple[str, str]:
    """The hours of one account for a picture, and its title.

    Raises:
        VandrelError: ``not-found`` where there are no hours.

    """
    view = ObjectView(context, resolve(context, name))
    hours = context.one(view.entry, "hours")
    if not hours:
        what, remedy = f"{view.label} has no hours: it may log on at any time", 'give it some: hours="Mon-Fri 06-18"'
        raise VandrelError(Code.NOT_FOUND, what, where=Location(field="hours"), remedy=remedy)
    return f"{view.label}: hours of the week ({context.charter.document.time_zone})", hours
