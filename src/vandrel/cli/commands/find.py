"""``vandrel find``: lists by fragments, conditions and filters, with chosen columns, kept, sorted, exported."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session, count

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from vandrel.directory.entry import Entry
    from vandrel.directory.filter import Filter
    from vandrel.jobs.common.reference_labels import ReferenceLabels

NAME = "find"
HELP = "list accounts, groups, units and computers"
DESCRIPTION = """\
List objects in which every word occurs, that fulfil conditions FIELD=VALUE (* stands for anything), or that a filter
of RFC 4515 finds. Columns are fields of ours or @attributes."""
EXAMPLES = """\
  vandrel find mül                                       by a fragment of any name
  vandrel find site=Northquay title="*mate*" --by surname
  vandrel find --of groups gg-
  vandrel find --where "(&(objectClass=person)(!(manager=*)))" --columns login,full,department
  vandrel find department=Deck --columns full,phone --keep deck-phones
  vandrel find --deleted lund --directory harbour        what was deleted, where the server still tells
  vandrel find --list deck-phones --as csv --to deck.csv
"""
WRITES = False

OBJECT_TYPES = {
    "accounts": ("account",), "groups": ("group",), "units": ("unit",), "computers": ("computer",),
    "all": ("account", "group", "unit", "computer"),
}  # fmt: skip
_COLUMNS = {
    "accounts": "login,full,title,place,state", "groups": "name,purpose,scope,members,place,state",
    "units": "name,notes,place,state", "computers": "name,notes,groups,place,state",
    "all": "name,login,sort,place,state",
}  # fmt: skip
_EXTRA = ("dn", "place", "state", "sort")


def configure(parser: argparse.ArgumentParser) -> None:
    words = parser.add_argument(
        "words", nargs="*", metavar="WORD|FIELD=VALUE", help="fragments of names, conditions on fields"
    )
    complete.attach(words, complete.assignments)
    parser.add_argument("--of", choices=list(OBJECT_TYPES), help="what to list (default: accounts)")
    parser.add_argument("--where", metavar="FILTER", help="a filter of RFC 4515, raw attribute names")
    under = parser.add_argument("--under", metavar="PLACE", help="only in this unit and below")
    complete.attach(under, complete.places)
    columns = parser.add_argument("--columns", metavar="FIELD,...", help="fields, @attributes, dn, place, state, sort")
    complete.attach(columns, complete.columns)
    by = parser.add_argument("--by", metavar="FIELD", help="sort by this column")
    complete.attach(by, complete.columns)
    parser.add_argument("--reverse", action="store_true", help="sort the other way round")
    parser.add_argument(
        "--deleted",
        action="store_true",
        help="what was deleted, by anybody, where the server still tells",
    )
    parser.add_argument("--keep", metavar="NAME", help="keep this list under a name")
    kept = parser.add_argument("--list", metavar="NAME", help="run a kept list again")
    complete.attach(kept, complete.kept_lists)
    parser.add_argument(
        "--as", dest="form", choices=("table", "csv"), default="table", help="how to write it (default: table)"
    )
    parser.add_argument("--to", metavar="FILE", help="write it to a file, which must not exist")


def run(session: Session) -> int:
    from vandrel.cli import lists

    args = session.args
    if args.list:
        for key, value in lists.kept(session, args.list).items():
            if not getattr(args, key, None):
                setattr(args, key, value)
    if args.deleted:
        return _deleted(session)
    what = args.of or "accounts"
    columns = [name.strip() for name in (args.columns or _COLUMNS[what]).split(",") if name.strip()]
    _check_columns(session, [*columns, *([args.by] if args.by else [])])
    entries = _entries(session, what)
    if args.keep:
        lists.keep(session, args.keep, vars(args))
    if args.by:
        entries = iter(_sorted(session, entries, args.by))
    if args.form == "csv" or args.to:
        return _write(session, columns, entries)
    rows = ([", ".join(cell(session, entry, name)) for name in columns] for entry in entries)
    if session.out.as_json:
        found = list(rows)
        session.out.json(
            {"command": "find", "columns": columns, "rows": [dict(zip(columns, row, strict=True)) for row in found]}
        )
        return 0
    found = list(rows)
    if found:
        session.out.table(columns, found)
    session.out.note(
        f"{'' if not found else chr(10)}{count(len(found), what.rstrip('s') if what != 'all' else 'object')}"
    )
    return 0


def _deleted(session: Session) -> int:
    """Deleted objects that the words fit, the latest first.

    Raises:
        VandrelError: ``refused`` where the directory keeps none.

    """
    from vandrel.directory import dn as names
    from vandrel.errors import Code, Location, VandrelError

    context = session.context
    if not context.directory.capabilities.keeps_deleted:
        what = "this directory keeps nothing of what is deleted"
        raise VandrelError(Code.REFUSED, what, where=Location(server=context.directory.location))
    object_types = OBJECT_TYPES[session.args.of or "all"]
    rows = []
    for entry in context.directory.deleted():
        name, above = context.dialect.before_deletion(entry)
        login, object_type = context.one(entry, "login"), context.dialect.object_type_of(entry)
        if object_type not in object_types or any(
            w.casefold() not in f"{name} {login}".casefold() for w in session.args.words
        ):
            continue
        when = dict(context.dialect.instants(entry)).get("changed")
        said = when.astimezone(session.charter.zone).strftime("%Y-%m-%d %H:%M") if when else ""
        rows.append((said, name, login, object_type, context.place(names.parse(above)) if above else "", str(entry.dn)))
    rows.sort(reverse=True)
    columns = ("deleted", "name", "login", "sort", "place")
    if session.out.as_json:
        found = [dict(zip((*columns, "dn"), row, strict=True)) for row in rows]
        session.out.json({"command": "find", "columns": [*columns, "dn"], "rows": found})
        return 0
    if rows:
        session.out.table(columns, [row[:-1] for row in rows])
    session.out.note(f"{'' if not rows else chr(10)}{count(len(rows), 'deleted object')}")
    return 0


def _entries(session: Session, what: str) -> Iterator[Entry]:
    from vandrel.directory import dn as names
    from vandrel.directory.filter import And, Or
    from vandrel.directory.filter import parse as parse_filter
    from vandrel.jobs.common import assignments
    from vandrel.jobs.common.resolve import find_fragments, resolve

    context, args = session.context, session.args
    plain, given = assignments.split(args.words)
    object_types = OBJECT_TYPES[what]
    parts: list[Filter] = [Or(tuple(context.dialect.filter_for(object_type) for object_type in object_types))]
    if plain:
        parts.append(find_fragments(context, plain, object_types))
    memberships = [assignment for assignment in given if assignment.field == "groups"]
    parts += [_condition(session, a.field, a.operator, a.values, object_types) for a in given if a not in memberships]
    if args.where:
        where = parse_filter(args.where)
        _warn_of_unknown(session, where)
        # Somebody who writes a filter says in it what to list.
        parts = [where, *parts[1:]] if args.of is None else [where, *parts]
    base = resolve(context, args.under, ("unit",)).dn if args.under else context.charter.base
    found = context.directory.search(base, where=And(tuple(parts)))
    if not memberships:
        return found
    # No filter of RFC 4515 asks for the members of a group: they are looked up there.
    groups = [resolve(context, name, ("group",)) for assignment in memberships for name in assignment.values]
    members = {names.parse(member).key for group in groups for member in context.dialect.members(group)}
    for group in groups:  # a primary membership stands in no list
        primary = context.dialect.primary_members(group)
        if primary is not None:
            members |= {e.dn.key for e in context.directory.search(context.charter.base, where=primary, only=["cn"])}
    return (entry for entry in found if entry.dn.key in members)


def _condition(
    session: Session, name: str, operator: str, values: Sequence[str], object_types: Sequence[str]
) -> Filter:
    """``field=value`` as a filter; an empty value asks for objects without any."""
    from vandrel.directory.filter import And, Compare, Not, Or, Present, Substring
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.fields import Shape, field
    from vandrel.jobs.common import field_values as given_values

    if operator != "=":
        raise VandrelError(
            Code.USAGE, f"{operator} is no condition", where=Location(field=name), remedy=f"write {name}=VALUE"
        )
    context = session.context
    known = field(name)
    attributes = list(
        dict.fromkeys(
            a
            for object_type in object_types
            if object_type in known.on and (a := context.dialect.attribute(name, object_type))
        )
    )
    if known.shape is Shape.FLAG:
        return _flag(session, known.name, values)
    if not values:
        return Not(Or(tuple(Present(attribute) for attribute in attributes)))
    if known.shape in (Shape.REFERENCE, Shape.DATE) and list(values) != ["*"]:
        typed = given_values.read(context, known, values, object_types[0])
        values = [str(value) for value in context.dialect.stored(name, typed)]
    parts: list[Filter] = []
    for value in values:
        chunks = value.split("*")
        for attribute in attributes:
            if value == "*":
                parts.append(Present(attribute))
            elif len(chunks) > 1:
                parts.append(Substring(attribute, chunks[0], tuple(c for c in chunks[1:-1] if c), chunks[-1]))
            else:
                parts.append(context.dialect.condition(name, value) or Compare(attribute, "=", value))
    return Or(tuple(parts)) if len(parts) != 1 else And((parts[0],))


def _flag(session: Session, name: str, values: Sequence[str]) -> Filter:
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.assignments import flag

    found = session.context.dialect.condition(name, flag(name, values[0] if values else "no"))
    if found is None:
        raise VandrelError(Code.USAGE, f"{name} is no condition", where=Location(field=name))
    return found


def _warn_of_unknown(session: Session, where: Filter) -> None:
    """Name the attributes of a filter that the schema does not have: such a part finds nothing."""
    from vandrel.directory.filter import attributes_of
    from vandrel.errors import NOTE, Code, Finding, Location
    from vandrel.text.nearest import did_you_mean

    schema = session.context.directory.schema
    session.out.findings(
        Finding(
            Code.UNKNOWN_FIELD,
            f"the schema has no attribute {name!r}, so that part finds nothing",
            Location(option="--where"),
            did_you_mean(name, schema.attribute_names()),
            severity=NOTE,
        )
        for name in attributes_of(where)
        if not schema.attribute_name(name)
    )


def _check_columns(session: Session, names: Sequence[str]) -> None:
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.fields import field
    from vandrel.text.nearest import did_you_mean

    schema = session.context.directory.schema
    for name in names:
        if name.startswith("@"):
            if not schema.attribute_name(name[1:]):
                hint = did_you_mean(name[1:], schema.attribute_names())
                raise VandrelError(
                    Code.UNKNOWN_FIELD,
                    f"the schema has no attribute {name[1:]!r}",
                    where=Location(field=name),
                    remedy=hint,
                )
        elif name not in _EXTRA:
            field(name)


def cell(session: Session, entry: Entry, name: str) -> list[str]:
    """What stands in one column of a list."""
    from vandrel.cli.commands.show import bare_values, states, values_of
    from vandrel.fields import FIELDS

    context = session.context
    match name:
        case "dn":
            return [str(entry.dn)]
        case "place":
            return [context.place(entry.dn.parent)]
        case "state":
            return states(session, entry)
        case "sort":
            return [context.dialect.object_type_of(entry)]
        case "members":
            return [str(len(context.dialect.members(entry)))]
    if name.startswith("@"):
        return list(bare_values(session, entry, name))
    return values_of(session, entry, name) if context.dialect.object_type_of(entry) in FIELDS[name].on else []


def _sorted(session: Session, entries: Iterator[Entry], by: str) -> list[Entry]:
    from vandrel.text.string_prep import prepare

    keyed = [(prepare(", ".join(cell(session, entry, by))), entry) for entry in entries]
    filled = sorted((pair for pair in keyed if pair[0]), key=lambda pair: pair[0], reverse=session.args.reverse)
    return [
        entry for _, entry in [*filled, *(pair for pair in keyed if not pair[0])]
    ]  # the empty ones last, either way


def _told_again(
    session: Session, entry: Entry, name: str, columns: Sequence[str], called: ReferenceLabels
) -> list[str]:
    """What stands in one column of a file, so that `import` takes it for the same."""
    from vandrel.fields import FIELDS, UNIT, Shape

    context = session.context
    object_type = context.dialect.object_type_of(entry)
    if name == "place" and object_type == UNIT and "name" not in columns:
        return [context.place(entry.dn)]
    if name not in FIELDS or object_type not in FIELDS[name].on:
        return cell(session, entry, name)
    if name == "members":
        return sorted(called.of(dn) for dn in context.dialect.members(entry))
    values = context.dialect.read(entry, name)
    if FIELDS[name].shape is Shape.REFERENCE:
        return [called.of(dn) for dn in values]
    return values if FIELDS[name].unit else cell(session, entry, name)


def _write(session: Session, columns: Sequence[str], entries: Iterator[Entry]) -> int:
    """A table by the suffix of its file (.csv, .xlsx, .ods); RFC 4180 to standard output."""
    import csv
    import sys
    from pathlib import Path

    from vandrel.intake.annotate import write_rows
    from vandrel.intake.description import BETWEEN
    from vandrel.intake.hand_out import harmless
    from vandrel.jobs.common.reference_labels import ReferenceLabels

    called, between = ReferenceLabels(session.context), f" {BETWEEN} "
    rows = ([between.join(_told_again(session, entry, name, columns, called)) for name in columns] for entry in entries)
    if session.args.to:
        written = write_rows(Path(session.args.to), columns, rows)
        session.out.note(f"{count(written, 'row')} in {session.args.to}")
        return 0
    writer = csv.writer(sys.stdout)
    writer.writerow(columns)
    for row in rows:
        writer.writerow([harmless(text) for text in row])
    return 0
