"""What steps do to objects, field by field: each as the object has it now, and as the steps leave it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import partial

from vandrel.directory import dn as names
from vandrel.directory.applied import applied
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.member_lists import BY_NAME
from vandrel.directory.operations import Change
from vandrel.directory.port import Scope
from vandrel.errors import VandrelError
from vandrel.fields import ACCOUNT, OBJECT_TYPES, Field, Shape
from vandrel.jobs.common.proposal import Action, FieldChange, ObjectChange
from vandrel.jobs.common.step_changes import changes_of_steps
from vandrel.objects.context import Context
from vandrel.objects.namesakes import Namesakes
from vandrel.objects.view import ObjectView
from vandrel.steps.step import Add, Password, Remove, Rename, Set, Step

#: Objects up to which each is read to tell what its fields are.
_FEW = 20
#: What other objects make of an object is told of these.
_OF_OTHERS = (Shape.MEMBERSHIPS, Shape.ROLES)


def changes_in_fields(context: Context, steps: Sequence[Step]) -> list[ObjectChange]:
    """What happens to each object; where it is more than a few, as `changes_of_steps` tells it."""
    if len({step.dn.key for step in steps if not isinstance(step, Remove)}) > _FEW:
        return changes_of_steps(context, steps)
    wanted = _wanted(context, steps)
    context.ask_ahead(partial(_read_all, wanted))  # no more questions than may be on their way at a time
    told: list[ObjectChange | _Added | _Changed] = []
    standing: dict[str, _Changed] = {}
    for step in steps:
        if isinstance(step, Add):
            told.append(_Added(context, step))
            continue
        if isinstance(step, Remove):
            told += changes_of_steps(context, [step])
            continue
        changed = standing.pop(step.dn.key, None)
        if changed is None:
            changed = _Changed(context, step.dn, _read(wanted.get(step.dn, ()), step.dn, context))
            told.append(changed)
        changed.take(step)
        standing[changed.dn.key] = changed
    namesakes = Namesakes(context)
    namesakes.learn(dn for each in told if not isinstance(each, ObjectChange) for dn in each.named())
    return [each if isinstance(each, ObjectChange) else each.told(namesakes) for each in told]


class _Added:
    """An object that is made, or comes back."""

    def __init__(self, context: Context, step: Add) -> None:
        self._context, self._step = context, step
        self._entry = Entry(step.dn, step.attributes)

    def named(self) -> Iterator[DN]:
        """The objects that it names in its fields."""
        return _named(ObjectView(self._context, self._entry))

    def told(self, namesakes: Namesakes) -> ObjectChange:
        """Its fields, and then attributes of which no field tells."""
        context, step, entry = self._context, self._step, self._entry
        view = ObjectView(context, entry, namesakes=namesakes)
        place, kind = context.place(step.dn.parent), context.one(entry, "kind") if view.object_type == ACCOUNT else ""
        fields = [FieldChange("place", after=(place,))]
        for field in _own(view):
            if (raw := view.raw(field.name)) and not (field.shape is Shape.FLAG and raw == ["no"]):
                fields.append(FieldChange(field.name, after=_shown(view, field)))
        if members := [str(value) for value in context.dialect.members(entry) if value]:
            called = [dn.name if (dn := names.name_in(value)) else value for value in members]
            called = called if len(called) <= _FEW else [f"{len(called)} in all"]
            fields.append(FieldChange("members", after=tuple(called)))
        of_fields = {*context.dialect.attributes_read(view.object_type), *BY_NAME}
        rest = {name: values for name, values in step.attributes.items() if name not in of_fields}
        (others,) = changes_of_steps(context, [Add(step.dn, {"objectClass": entry.values_of("objectClass"), **rest})])
        action = Action.RESTORE if step.was or step.restores else Action.CREATE
        return ObjectChange(
            action, view.object_type, step.dn, context.label(entry), place, (*fields, *others.fields), kind
        )  # fmt: skip


def _named(view: ObjectView) -> Iterator[DN]:
    """The objects that the fields of one name."""
    for field in _own(view):
        if field.shape is Shape.REFERENCE:
            yield from filter(None, map(names.name_in, view.raw(field.name)))


def _of_somebody(change: Change) -> Change | None:
    """Who comes into a list of members and who leaves it, but for the empty name, which takes a place."""
    removed, added = (tuple(value for value in values if value) for values in (change.removed, change.added))
    return Change(change.attribute, removed, added) if removed or added else None


def _shown(view: ObjectView, field: Field) -> tuple[str, ...]:
    """The values of a field for people; as they are, where one should name an object and names none."""
    try:
        return tuple(view.shown(field.name))
    except VandrelError:
        return tuple(view.raw(field.name))


def _own(view: ObjectView) -> Iterator[Field]:
    """The fields that stand in an object itself; its name and its members are told in another way."""
    yield from (f for f in view.fields() if f.shape not in _OF_OTHERS and f.name not in ("members", "name"))


def _wanted(context: Context, steps: Iterable[Step]) -> dict[DN, list[str]]:
    """The objects to be read, and which attributes of each: those of fields, and what changes; no list of members."""
    of_fields = {name for each in OBJECT_TYPES for name in context.dialect.attributes_read(each)}
    changed: dict[DN, set[str]] = {}
    for step in steps:
        if isinstance(step, Set | Rename):
            changes = step.changes if isinstance(step, Set) else ()
            changed.setdefault(step.dn, set()).update(change.attribute for change in changes)
    return {dn: sorted((of_fields | own) - {*BY_NAME}) for dn, own in changed.items()}


def _read_all(wanted: Mapping[DN, Sequence[str]], context: Context) -> None:
    for dn, only in wanted.items():
        _read(only, dn, context)


def _read(only: Sequence[str], dn: DN, context: Context) -> Entry | None:
    return next(context.directory.search(dn, Scope.BASE, only=only), None) if only else None


class _Changed:
    """One object, as it is now and as the steps so far leave it."""

    def __init__(self, context: Context, dn: DN, entry: Entry | None) -> None:
        self._context = context
        self._was = dn
        self.dn = dn
        self._before = self._after = entry
        self._changes: list[Change] = []
        #: Of lists of members, who comes and goes.
        self._lists: list[Change] = []
        self._others: list[FieldChange] = []

    def take(self, step: Step) -> None:
        """Take note of one step."""
        match step:
            case Rename(old, new):
                self.dn = new
                if self._after is not None and new.rdn != old.rdn:
                    name_of = self._context.directory.schema.attribute_name
                    values = [Change(name_of(kind) or kind, (value,)) for kind, value in old.rdn]
                    values += [Change(name_of(kind) or kind, (), (value,)) for kind, value in new.rdn]
                    self._after = applied(self._after, values)
            case Set(_, changes) if self._after is not None:
                lists = [change for change in changes if change.attribute in BY_NAME and not change.is_exclusive]
                rest = [change for change in changes if change not in lists]
                self._changes += rest
                self._after = applied(self._after, rest)
                self._lists += filter(None, map(_of_somebody, lists))
            case Set() | Password():
                self._others += (field for each in changes_of_steps(self._context, [step]) for field in each.fields)

    def named(self) -> Iterator[DN]:
        """The objects that are named by what changes."""
        if self._before is not None and self._after is not None:
            before, after = (_named(ObjectView(self._context, entry)) for entry in (self._before, self._after))
            yield from {*before} ^ {*after}
        for change in self._lists:
            values = (*change.removed, *change.added)
            yield from filter(None, map(names.name_in, values)) if len(values) <= _FEW else ()

    def told(self, namesakes: Namesakes) -> ObjectChange:
        """What happens to the object."""
        context, before = self._context, self._before
        label = context.label(before) if before is not None else self._was.name
        lists = (self._members(change, namesakes) for change in self._lists)
        fields = (*self._moved(), *self._fields(namesakes), *lists, *self._others)
        new = self.dn if self.dn != self._was else None
        object_type = context.object_type(before) if before is not None else ""
        return ObjectChange(
            Action.CHANGE, object_type, self._was, label, context.place(self._was.parent), fields, new_dn=new
        )  # fmt: skip

    def _moved(self) -> Iterator[FieldChange]:
        place = self._context.place
        if self.dn.parent != self._was.parent:
            yield FieldChange("place", (place(self._was.parent),), (place(self.dn.parent),))
        if self.dn.rdn_text != self._was.rdn_text:
            yield FieldChange("name", (self._was.name,), (self.dn.name,))

    def _fields(self, namesakes: Namesakes) -> Iterator[FieldChange]:
        """The fields that change; then attributes of which no field tells."""
        if self._before is None or self._after is None:
            return
        before, after = (ObjectView(self._context, entry, namesakes=namesakes) for entry in (self._before, self._after))
        of_fields = {self.dn.naming_attribute} if self.dn != self._was else set[str]()
        for field in _own(before):
            if before.raw(field.name) != after.raw(field.name):
                of_fields.add(self._context.dialect.attribute(field.name, before.object_type))
                now, later = (_shown(view, field) for view in (before, after))
                yield FieldChange(field.name, now, later, is_partial=field.many)
        rest = tuple(change for change in self._changes if change.attribute not in of_fields)
        for each in changes_of_steps(self._context, [Set(self.dn, rest)]) if rest else ():
            yield from each.fields

    def _members(self, change: Change, namesakes: Namesakes) -> FieldChange:
        """Who comes into a list of members, and who leaves it."""
        (row,) = changes_of_steps(self._context, [Set(self.dn, (change,))])[0].fields
        try:
            before, after = (tuple(namesakes.shown(list(map(str, each)))) for each in (change.removed, change.added))
        except VandrelError:  # a value that is no name
            return row
        return FieldChange("members", before, after, is_partial=True, concerned=row.concerned)
