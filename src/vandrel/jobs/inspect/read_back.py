"""What the directory has of objects that were just made or changed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import partial

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.port import Scope
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.accounts.logon import logon_state
from vandrel.jobs.common.proposal import Action, FieldChange, ObjectChange
from vandrel.jobs.common.report import ObjectDetail, Table
from vandrel.jobs.inspect.show import describe
from vandrel.objects.context import Context
from vandrel.objects.long_lists import with_some_members
from vandrel.objects.view import ObjectView

#: Lists of no more values than this are shown whole.
_WHOLE = 2
#: What happened to objects that were not there before.
_NEW = (Action.CREATE, Action.RESTORE)


def read_back(context: Context, changes: Sequence[ObjectChange]) -> Iterator[ObjectDetail]:
    """What the directory has now of objects that were made or changed.

    Of a new account that is whether it can log on; of several other new objects one table, and of one all that it has.
    """
    last = {change.new_dn or change.dn: change for change in changes}
    context.ask_ahead(partial(_ask_for, last), len(last))
    new = sum(change.action in _NEW and change.object_type != ACCOUNT for change in changes)
    rows: list[tuple[str, ...]] = []
    for dn, change in last.items():
        if (entry := _read(context, dn, change)) is None:
            continue
        view = ObjectView(context, entry)
        if change.action in _NEW and view.object_type == ACCOUNT:
            yield ObjectDetail("", sentence=logon_state(context, entry, context.charter.today()).sentence)
        elif change.action in _NEW and new > 1:
            rows.append((f"  {context.label(entry)}", view.object_type or "object", view.place, ", ".join(view.states)))
        elif change.action in _NEW:
            yield describe(view)
        elif (now := list(_now(view, change))) or any(field.field == "password" for field in change.fields):
            yield _changed(view, now)
    if rows:
        table = Table("now", "", ("  object", "type", "place", "state"), rows)
        yield ObjectDetail("There now", is_brief=True, tables=[table])


def _read(context: Context, dn: DN, change: ObjectChange) -> Entry | None:
    """An object; of a group with a very long list, without that."""
    if not any(field.concerned for field in change.fields):
        return context.directory.get(dn)
    others = [
        field.field.removeprefix("@") for field in change.fields if field.field.startswith("@") and not field.concerned
    ]
    only = [*context.dialect.attributes_read(change.object_type or GROUP), *others]
    return next(context.directory.search(dn, Scope.BASE, only=only), None)


def _ask_for(last: Mapping[DN, ObjectChange], context: Context) -> None:
    """Ask for objects, and for what is told of them."""
    for dn, change in last.items():
        view = ObjectView(context, _read(context, dn, change) or Entry(dn, {}))
        if change.action not in _NEW:
            list(_now(view, change))
        if change.object_type == ACCOUNT:
            logon_state(context, view.entry, context.charter.today())
        elif change.action in _NEW:
            classes = list[Value](context.dialect.classes(change.object_type))
            describe(ObjectView(context, Entry(dn, {"objectClass": classes})))


def _changed(view: ObjectView, rows: Sequence[tuple[str, str]]) -> ObjectDetail:
    context = view.context
    detail = ObjectDetail(f"{view.label} now", is_brief=True, tables=[Table("now", "", ("field", "value"), rows)])
    if view.object_type == ACCOUNT:
        detail.sentence = logon_state(context, view.entry, context.charter.today()).sentence
    return detail


def _now(view: ObjectView, change: ObjectChange) -> Iterator[tuple[str, str]]:
    for field in change.fields:
        if field.field == "password":
            continue
        if field.concerned:
            yield f"  {field.field}", _of_long_list(view, field)
            continue
        if field.field == "place":
            values: Sequence[str] = [view.place]
        elif (spec := view.context.fields.get(field.field)) is not None:
            if view.object_type and view.object_type not in spec.on:
                continue  # what follows from its place
            values = view.shown(field.field)
        elif field.field.startswith("@"):
            values = view.attribute(field.field[1:])
        else:
            continue
        yield f"  {field.field}", _listed(values, field) or "(empty)"


def _of_long_list(view: ObjectView, field: FieldChange) -> str:
    """Who of those that were to come into a list or to leave it is there now, and who is not."""
    concerned = list(map(names.parse, field.concerned))
    group = with_some_members(view.context, view.entry, concerned, leaving=False)
    there = {names.parse(member).key for member in view.context.dialect.members(group)}
    called = zip((*field.after, *field.before), concerned, strict=True)
    return ", ".join(f"{'+' if dn.key in there else '-'} {label}" for label, dn in called)


def _listed(now: Sequence[str], field: FieldChange) -> str:
    """The values that a field has now; of a long list, what came and what went."""
    if len(now) <= _WHOLE:
        return ", ".join(now)
    have, before, after = set(map(str.casefold, now)), set(field.before), set(field.after)
    came = [f"+ {value}" for value in field.after if value not in before and value.casefold() in have]
    went = [f"- {value}" for value in field.before if value not in after and value.casefold() not in have]
    return ", ".join([*came, *went, f"{len(now)} in all"])
