"""``vandrel show``: everything about one object or several."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session, count

if TYPE_CHECKING:
    from vandrel.directory.entry import Entry, Value

NAME = "show"
HELP = "show everything about an account, a group or a unit"
DESCRIPTION = """\
Show accounts, groups and units, named by a logon name, a mail address, an employee number, a place, a
distinguished name, or fragments of a name. What is shown is what the directory has now."""
EXAMPLES = """\
  vandrel show alund                          by logon name
  vandrel show "jör mül" /Ferries/Northquay   by fragments, and a unit by its place
  vandrel show alund --only phone             the fields and attributes with this in their name, empty ones too
  vandrel show alund --bare dn                the distinguished name alone, ready to paste
  vandrel show alund --effective              every group that counts, and by which way
  vandrel show alund --hours-picture week.png  the hours of the week, as a picture (png, svg, pdf)
  vandrel show alund --password-rules         the rules in force for the password, and its age
  vandrel show alund --raw                    every attribute as the directory has it
"""
WRITES = False

_SECRET = frozenset({"userPassword", "pwdHistory"})
_SHOWN_MEMBERS = 20


def configure(parser: argparse.ArgumentParser) -> None:
    names = parser.add_argument("names", nargs="*", metavar="NAME", help="account, group or unit")
    complete.attach(names, complete.objects)
    only = parser.add_argument(
        "--only", metavar="FRAGMENT", help="fields and attributes with this in their name, empty ones too"
    )
    complete.attach(only, complete.columns)
    bare = parser.add_argument(
        "--bare", metavar="FIELD", help="the values of one field alone: dn, mail, web, @attribute ..."
    )
    complete.attach(bare, complete.columns)
    parser.add_argument(
        "--all", action="store_true", help="also what is allowed and empty, and what the directory keeps itself"
    )
    parser.add_argument(
        "--effective",
        action="store_true",
        help="every group that counts, by way of which others; and inherited policies",
    )
    parser.add_argument(
        "--password-rules", action="store_true", help="the password rules in force, where each comes from, and ages"
    )
    parser.add_argument("--hours-picture", metavar="FILE", help="draw the hours of the week into this file")
    parser.add_argument(
        "--raw", action="store_true", help="attributes by their names in the schema, with their raw values"
    )


def run(session: Session) -> int:
    from vandrel.cli.views import groups_that_count, hours_picture, rules_in_force
    from vandrel.jobs.common.resolve import resolve

    args = session.args
    names = args.names or [_ask_name(session)]
    entries = [resolve(session.context, name) for name in names]
    if args.hours_picture:
        return hours_picture(session, entries)
    if session.out.as_json:
        session.out.json({"command": "show", "objects": [as_json(session, entry) for entry in entries]})
        return 0
    for number, entry in enumerate(entries):
        if number and not args.bare:
            session.out.line()
        if args.bare:
            for value in bare_values(session, entry, args.bare):
                session.out.console.print(value, soft_wrap=True)
        elif args.only:
            _show_only(session, entry, args.only)
        elif args.raw:
            _show_raw(session, entry)
        else:
            show_entry(session, entry, full=args.all)
            if args.effective:
                groups_that_count(session, entry)
            if args.password_rules:
                rules_in_force(session, entry)
    return 0


def _ask_name(session: Session) -> str:
    from vandrel.errors import Code, VandrelError

    if not session.out.interactive:
        raise VandrelError(Code.USAGE, "whom or what?", remedy="vandrel show NAME")
    return input("Whom or what? ")


# --- values


def values_of(session: Session, entry: Entry, name: str) -> list[str]:
    """The values of one field as people read them: references by name, memberships looked up."""
    from vandrel.directory import dn as names
    from vandrel.fields import FIELDS, Shape
    from vandrel.text import octets
    from vandrel.text.string_prep import prepare

    context = session.context
    shape = FIELDS[name].shape
    if shape is Shape.MEMBERSHIPS:
        found = context.directory.search(context.charter.base, where=context.dialect.groups_filter(entry))
        return sorted((group.dn.name for group in found), key=prepare)
    if shape is Shape.ROLES:
        from vandrel.jobs.accounts import roles

        return roles.held(context, values_of(session, entry, "groups")) if context.charter.document.roles else []
    values = context.dialect.read(entry, name)
    if shape is Shape.OCTETS:
        return [octets.told(value) for value in values]
    if FIELDS[name].unit:
        return [f"{value} {FIELDS[name].unit}" for value in values]
    # Servers give names out in any order.
    return sorted((names.parse(value).name for value in values), key=prepare) if shape is Shape.REFERENCE else values


def bare_values(session: Session, entry: Entry, name: str) -> Iterator[str]:
    """The values of a field of ours, of ``dn``, ``place`` or of a raw ``@attribute``, one a line.

    Raises:
        VandrelError: ``unknown-field``.

    """
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.fields import FIELDS, Shape, field
    from vandrel.text.nearest import did_you_mean

    if name == "dn":
        yield str(entry.dn)
    elif name == "place":
        yield session.context.place(entry.dn)
    elif name.startswith("@"):
        schema = session.context.directory.schema
        attribute = schema.attribute_name(name[1:])
        if not attribute:
            hint = did_you_mean(name[1:], schema.attribute_names())
            raise VandrelError(
                Code.UNKNOWN_FIELD, f"the schema has no attribute {name[1:]!r}", where=Location(field=name), remedy=hint
            )
        yield from (_say(attribute, value) for value in entry.values_of(attribute))
    else:
        known = field(name, session.context.dialect.object_type_of(entry) or None)
        if FIELDS[known.name].shape is Shape.REFERENCE:  # to be pasted elsewhere: in full
            yield from session.context.dialect.read(entry, name)
        else:
            yield from values_of(session, entry, name)


def _say(attribute: str, value: Value) -> str:
    if attribute in _SECRET:
        return "(kept, never shown)"
    return f"({len(value)} octets)" if isinstance(value, bytes) else value


def states(session: Session, entry: Entry) -> list[str]:
    """What must be seen at a glance: disabled, protected."""
    read = session.context.dialect.read
    marks = ["disabled"] if read(entry, "enabled") == ["no"] else []
    return marks + (["protected"] if read(entry, "protected") == ["yes"] else [])


def as_json(session: Session, entry: Entry) -> dict[str, object]:
    """The object for --json: our fields, and the attributes behind them."""
    from vandrel.fields import FIELDS

    object_type = session.context.dialect.object_type_of(entry)
    fields = {name: values_of(session, entry, name) for name, field in FIELDS.items() if object_type in field.on}
    return {
        "dn": str(entry.dn),
        "place": session.context.place(entry.dn.parent),
        "sort": object_type,
        "state": states(session, entry),
        "fields": {name: values for name, values in fields.items() if values},
        "attributes": {name: [_say(name, value) for value in values] for name, values in entry.attributes.items()},
    }


# --- views


def show_entry(session: Session, entry: Entry, *, full: bool = False) -> None:
    """The detail view: first what the reader wants to know, then the fields by topic."""
    from rich.text import Text

    from vandrel.cli.terminal import clean, style_of
    from vandrel.jobs.accounts.logon import logon_state

    context = session.context
    object_type = context.dialect.object_type_of(entry)
    marks = states(session, entry)
    title = Text(clean(context.one(entry, "full") if object_type == "account" else entry.dn.name), style="bold")
    for mark in marks:
        title.append(f"  {mark}", style=style_of(mark))
    session.out.line(title)
    if object_type == "account":
        session.out.line(logon_state(context, entry, session.charter.today()).sentence)
    session.out.line(Text(clean(str(entry.dn)), style="dim"))
    rows = [(Text(topic, style="bold"), name, value) for topic, name, value in _topics(session, entry, object_type)]
    session.out.line()
    session.out.table(("topic", "field", "value"), rows, header=False)
    if hours := context.one(entry, "hours"):
        from vandrel.cli.views import week_of

        week_of(session, hours)
    if object_type in ("unit", ""):
        session.out.line()
        _below(session, entry)
    if full:
        _show_rest(session, entry)


def _topics(session: Session, entry: Entry, object_type: str) -> Iterator[tuple[str, str, str]]:
    from vandrel.fields import FIELDS, Topic

    context = session.context
    for topic in Topic:
        title = topic.value
        for name, field in FIELDS.items():
            # Said above, by the title, the sentence and the marks.
            if (
                field.topic is not topic
                or object_type not in field.on
                or name in ("enabled", "change", "locked", "protected", "password", "delegation")
            ):
                continue
            values = values_of(session, entry, name)
            said = entry.dn.name if object_type != "account" else context.one(entry, "full")
            rows = [(name, _marked(session, values) if name == "groups" else values)]
            rows += [("as primary", _primary(session, entry))] if name == "members" else []
            for label, shown in rows:
                if shown and not (label in ("name", "full") and shown == [said]):
                    yield title, label, _listed(shown)
                    title = ""
    yield "Kept", "place", context.place(entry.dn.parent)
    for name, instant in context.dialect.instants(entry):
        yield "", name, instant.astimezone(session.charter.zone).strftime("%Y-%m-%d %H:%M")


def _primary(session: Session, group: Entry) -> list[str]:
    """Members that have the group as their primary one, and stand in no list of members."""
    from vandrel.text.string_prep import prepare

    context = session.context
    where = context.dialect.primary_members(group)
    found = context.directory.search(context.charter.base, where=where, only=["cn"]) if where is not None else ()
    return sorted((entry.dn.name for entry in found), key=prepare)


def _marked(session: Session, groups: Sequence[str]) -> list[str]:
    """Names of groups, those first that carry power by the charter, and marked so."""
    from vandrel.text.string_prep import prepare

    power = {prepare(name) for name in session.charter.power}
    return sorted(
        (f"{name} (carries power)" if prepare(name) in power else name for name in groups),
        key=lambda name: not name.endswith("(carries power)"),
    )


def _listed(values: Sequence[str]) -> str:
    more = f" and {len(values) - _SHOWN_MEMBERS} more" if len(values) > _SHOWN_MEMBERS else ""
    return ", ".join(values[:_SHOWN_MEMBERS]) + more


def _below(session: Session, entry: Entry) -> None:
    """What stands directly in a unit, counted, and where the charter has something to say about it."""
    from collections import Counter

    from vandrel.directory import place as places
    from vandrel.directory.port import Scope

    context = session.context
    found = Counter(context.dialect.object_type_of(child) for child in context.directory.search(entry.dn, Scope.ONE))
    said = [
        count(found[object_type], object_type) for object_type in ("unit", "account", "group") if found[object_type]
    ]
    session.out.line(f"Directly in it: {', '.join(said) or 'nothing'}.")
    place = context.place(entry.dn)
    unit = context.charter.designed(places.parse(place)) if place.startswith("/") else None
    if unit is not None and unit.holds:
        session.out.line(f"Designed for: {', '.join(unit.holds)}.")
    if rows := [(f"  {team}", task, state) for team, task, state in delegations(session, entry)]:
        session.out.line()
        session.out.heading("Delegated here and below")
        session.out.table(("team", "task", "state"), rows, header=False)


def delegations(session: Session, unit: Entry) -> list[tuple[str, str, str]]:
    """Team, tasks and how the charter and the directory stand to each other on a unit."""
    from vandrel.fields import UNIT
    from vandrel.jobs.hierarchy.delegation import on_unit

    kept = not session.context.dialect.why_not_kept("delegation", UNIT)
    found: dict[tuple[str, str], list[str]] = {}
    for item in on_unit(session.context, unit):
        state = "" if item.designed and item.in_force else "not in the charter"
        if not item.in_force:
            state = "not in force yet" if kept else "by the charter"
        found.setdefault((item.team, state), []).append(item.task)
    return [(team, ", ".join(tasks), state) for (team, state), tasks in found.items()]


def _show_rest(session: Session, entry: Entry) -> None:
    """What the directory keeps of its own accord, and what is allowed and empty."""
    context = session.context
    schema = context.directory.schema
    own = [
        (name, _say(name, v))
        for name, values in entry.attributes.items()
        for v in values
        if _operational(session, name)
    ]
    session.out.line()
    session.out.heading("Kept by the directory")
    session.out.table(("attribute", "value"), own, header=False)
    _, may = schema.shape(tuple(entry.texts("objectClass")))
    session.out.line()
    session.out.heading("Allowed and empty")
    session.out.line(", ".join(sorted(name for name in may if not entry.values_of(name))))


def _operational(session: Session, name: str) -> bool:
    attribute = session.context.directory.schema.attribute(name)
    return attribute is not None and attribute.operational


def _show_raw(session: Session, entry: Entry) -> None:
    rows = [("dn", str(entry.dn))]
    rows += [(name, _say(name, value)) for name, values in entry.attributes.items() for value in values]
    session.out.table(("attribute", "value"), rows, header=False)


def _limit(session: Session, name: str, object_type: str) -> str:
    """What a field takes at most, as the live schema has it."""
    from vandrel.fields import FIELDS, Shape

    field, context = FIELDS[name], session.context
    if field.shape is Shape.OCTETS:
        return f"; {session.charter.document.photo_limit:,} {field.unit} at most"
    attribute = context.directory.schema.attribute(context.dialect.attribute(name, object_type))
    unit = f", in {field.unit}" if field.unit else ""
    most = attribute.limit if attribute and field.shape is Shape.TEXT else 0
    return f"{unit}; {most} characters at most" if most else unit


def _show_only(session: Session, entry: Entry, fragment: str) -> None:
    """Fields and attributes with `fragment` in their name, empty ones too.

    Raises:
        VandrelError: ``unknown-field`` where there is none.

    """
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.fields import FIELDS

    context, low = session.context, fragment.casefold()
    object_type = context.dialect.object_type_of(entry)
    rows = []
    for name, field in FIELDS.items():
        if object_type in field.on and (low in name or low in context.dialect.attribute(name, object_type).casefold()):
            about = f"{field.about}{_limit(session, name, object_type)}"
            rows.append((name, ", ".join(values_of(session, entry, name)) or "(empty)", about))
    covered = {
        context.dialect.attribute(name, object_type) for name, field in FIELDS.items() if object_type in field.on
    }
    _, may = context.directory.schema.shape(tuple(entry.texts("objectClass")))
    for name in sorted({*may, *entry.attributes}):
        if low in name.casefold() and name not in covered:
            rows.append((f"@{name}", ", ".join(_say(name, v) for v in entry.values_of(name)) or "(empty)", ""))
    if not rows:
        raise VandrelError(
            Code.UNKNOWN_FIELD, f"no field or attribute has {fragment!r} in its name", where=Location(dn=str(entry.dn))
        )
    session.out.heading(context.label(entry))
    session.out.table(("field", "value", "about"), rows, header=False)
