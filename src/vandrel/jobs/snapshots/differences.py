"""What differs between two snapshots, or between one and now: whoever changed it, and with whatever program."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from enum import StrEnum

from msgspec import Struct

from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.packing import unpack
from vandrel.directory.secret_attributes import is_secret
from vandrel.fields import Field, Shape
from vandrel.jobs.common.report import Report, Table, count
from vandrel.objects.context import Context
from vandrel.objects.view import shown_attribute, shown_values
from vandrel.record.snapshot_writer import state_of
from vandrel.record.snapshots import Held, Snapshot, Snapshots


class What(StrEnum):
    """What has happened to an object."""

    CREATED = "created"
    DELETED = "deleted"
    RENAMED = "renamed"
    MOVED = "moved"
    CHANGED = "changed"


class Difference(Struct, frozen=True):
    """One object that differs.

    Attributes:
        what: what has happened to it, the most telling first.
        before: the object as it was; None where it was not there.
        after: as it is; None where it is gone.
        changes: the attributes that differ: name, values before, values after; without what only the directory sets.
        stamps: attributes that only the directory sets, and that differ.

    """

    what: tuple[What, ...]
    before: Entry | None
    after: Entry | None
    changes: tuple[tuple[str, tuple[Value, ...], tuple[Value, ...]], ...] = ()
    stamps: tuple[str, ...] = ()

    @property
    def entry(self) -> Entry:
        """The object as it is, or else as it was."""
        entry = self.after if self.after is not None else self.before
        assert entry is not None
        return entry


class DiffersRequest(Struct, frozen=True):
    """Which two states, and which of the objects.

    Attributes:
        before: the number of the one snapshot.
        after: the number of the other; 0 for the directory as it is now.
        under: the place in or below which they are or were; empty for any.
        kind: their kind or type; empty for any.
        what: what has happened to them; empty for anything.
        field: a field, or ``@attribute``, that differs; empty for any.

    """

    before: int
    after: int = 0
    under: str = ""
    kind: str = ""
    what: str = ""
    field: str = ""


def differences(context: Context, snapshots: Snapshots, request: DiffersRequest) -> Iterator[Difference]:
    """The objects that differ, recognized by the directory's own identifier, in the order of their names.

    Raises:
        VandrelError: ``not-found`` for a snapshot that is not there; ``damaged``.

    """
    before = snapshots.one(request.before)
    pairs: Iterable[tuple[Entry | None, Entry | None]]
    if request.after:
        pairs = _between(snapshots, before, snapshots.one(request.after))
    else:
        pairs = _until_now(context, snapshots, before)
    pairs = list(pairs)
    # A name that points at what was renamed points at the same object.
    renamed = {old.dn.key: new.dn.key for old, new in pairs if old is not None and new is not None}
    differing = [_difference(context, renamed, *pair) for pair in pairs]
    for each in sorted(differing, key=lambda each: each.entry.dn.key):
        if (each.what or each.stamps) and _fits(context, each, request):
            yield each


def _between(
    snapshots: Snapshots, before: Snapshot, after: Snapshot
) -> Iterator[tuple[Entry | None, Entry | None]]:  # fmt: skip
    if before.base != after.base:  # of another branch: all of both
        old = {each.object: each for each in snapshots.held(before) if each.dn.is_within(after.base)}
        new = {each.object: each for each in snapshots.held(after) if each.dn.is_within(before.base)}
        pairs = [(old.get(name), new.get(name)) for name in old.keys() | new.keys()]
        differing = [(was, is_now) for was, is_now in pairs if was is None or not was.is_like(is_now)]
    else:
        differing = list(snapshots.differing(before, after))
    for was, is_now in differing:
        yield _entry(snapshots, was), _entry(snapshots, is_now)


def _entry(snapshots: Snapshots, each: Held | None) -> Entry | None:
    return snapshots.entry(each) if each is not None else None


def _until_now(
    context: Context, snapshots: Snapshots, before: Snapshot
) -> Iterator[tuple[Entry | None, Entry | None]]:  # fmt: skip
    old = {each.object: each for each in snapshots.held(before)}
    for packed in context.directory.packed(before.base):
        name, dn, data = packed
        each = old.pop(name, None)
        if each is None or each.state != state_of(packed):
            yield _entry(snapshots, each), Entry(DN.read(dn), unpack(data))
    for each in old.values():
        yield snapshots.entry(each), None


def _difference(
    context: Context, renamed: Mapping[str, str], before: Entry | None, after: Entry | None
) -> Difference:  # fmt: skip
    if before is None or after is None:
        return Difference((What.CREATED if before is None else What.DELETED,), before, after)
    schema = context.directory.schema
    naming = {schema.attribute_name(kind) or kind for dn in (before.dn, after.dn) for kind, _ in dn.rdn}
    what = [What.RENAMED] if before.dn.rdn_text != after.dn.rdn_text else []
    what += [What.MOVED] if before.dn.parent != after.dn.parent else []
    changes, stamps = [], []
    for name in sorted(before.attributes.keys() | after.attributes.keys()):
        old, new = before.values_of(name), after.values_of(name)
        keys = [{schema.value_key(name, value): value for value in values} for values in (old, new)]
        if schema.is_reference(name):
            followed = ((renamed.get(str(key)), key, value) for key, value in keys[0].items())
            keys[0] = {new or key: keys[1].get(new, value) if new else value for new, key, value in followed}
        removed = tuple(value for key, value in keys[0].items() if keys[1].get(key) != value)
        come = tuple(value for key, value in keys[1].items() if keys[0].get(key) != value)
        if (not removed and not come) or (name in naming and What.RENAMED in what):
            continue
        definition = schema.attribute(name)
        if definition is not None and definition.read_only:
            stamps.append(name)
        else:
            changes.append((name, removed, come))
    what += [What.CHANGED] if changes else []
    return Difference(tuple(what), before, after, tuple(changes), tuple(stamps))


def _fits(context: Context, each: Difference, request: DiffersRequest) -> bool:
    entries = [entry for entry in (each.before, each.after) if entry is not None]
    if request.under:
        place = places.to_dn(places.parse(request.under), context.charter.base)
        if not any(entry.dn.is_within(place) for entry in entries):
            return False
    if request.kind and not any(
        request.kind in (context.one(entry, "kind"), context.object_type(entry)) for entry in entries
    ):
        return False
    if request.what and request.what not in each.what:
        return False
    return not request.field or request.field.lower() in {
        name.lower() for attribute, _, _ in each.changes
        for name in (f"@{attribute}", *(field.name for field in _fields_of(context, each, attribute)))
    }  # fmt: skip


def _fields_of(context: Context, each: Difference, attribute: str) -> Sequence[Field]:
    """The fields of the object that differ with an attribute; where several share it, by what they read."""
    fields = context.fields_kept_in(attribute, context.object_type(each.entry))
    if len(fields) < 2:
        return fields
    read, none = context.dialect.read, Entry(each.entry.dn, {})
    before, after = each.before or none, each.after or none
    return [field for field in fields if read(before, field.name) != read(after, field.name)]


def report_differences(context: Context, differing: Iterable[Difference], request: DiffersRequest) -> Report:
    """List what differs, object by object and field by field."""
    rows, display_rows, stamped = [], [], dict[str, None]()
    only_stamps = 0
    figures = dict.fromkeys(What, 0)
    for each in differing:
        if not each.what:
            only_stamps += 1
            stamped |= dict.fromkeys(each.stamps)
            continue
        entry = each.entry
        for what in each.what:
            figures[what] += 1
        object_type, label = context.object_type(entry) or "object", context.label(entry)
        changes = list(_in_words(context, each))
        rows.append(
            (list(each.what), object_type, label, str(each.before.dn) if each.before else None,
             str(each.after.dn) if each.after else None, [": ".join(filter(None, change)) for change in changes])
        )  # fmt: skip
        display_rows.append((", ".join(each.what), object_type, label, context.place(entry.dn.parent)))
        display_rows += [("", "", f"  {field}", value) for field, value in changes]
    counted = ", ".join(f"{number} {what}" for what, number in figures.items() if number)
    since = f"since snapshot {request.before}" if not request.after else f"from {request.before} to {request.after}"
    summary = [f"{counted or 'Nothing differs'} {since}."]
    if only_stamps:
        names = ", ".join(stamped)
        summary.append(f"{count(only_stamps, 'object')} with other marks of the directory alone: {names}.")
    columns = ("what", "type", "label", "before", "after", "changes")
    table = Table("listed", "", ("what", "", "object", "place, and what differs"), display_rows, has_header=True)
    return Report("snapshot differences", columns, rows, tables=[table] if display_rows else [], is_for_programs=True,
                  summary=summary)  # fmt: skip


def _in_words(context: Context, each: Difference) -> Iterator[tuple[str, str]]:
    """What has changed of one object: the field, and its values."""
    if each.before is not None and each.after is not None:
        if What.RENAMED in each.what:
            yield "name", f"{each.before.dn.name} -> {each.after.dn.name}"
        if What.MOVED in each.what:
            yield "place", f"{context.place(each.before.dn.parent)} -> {context.place(each.after.dn.parent)}"
    order = [*context.fields]
    told = [pair for change in each.changes for pair in _told(context, each, *change)]
    yield from sorted(told, key=lambda pair: order.index(pair[0]) if pair[0] in order else len(order))


def _told(
    context: Context, each: Difference, attribute: str, removed: tuple[Value, ...], come: tuple[Value, ...]
) -> Iterator[tuple[str, str]]:  # fmt: skip
    """What an attribute that differs says: by the fields that it keeps, or else by itself."""
    fields = _fields_of(context, each, attribute)
    before, after = each.before, each.after
    is_plain = before is not None and after is not None and not is_secret(attribute)
    told = [
        (field.name, difference) for field in fields
        if is_plain and field.shape is not Shape.REFERENCE and (difference := _of_field(context, each, field))
    ]  # fmt: skip
    name = fields[0].name if len(fields) == 1 else f"@{attribute}"
    yield from told or [(name, _values(context, each, attribute, removed, come))]


def _of_field(context: Context, each: Difference, field: Field) -> str:
    """How the values of a field differ; empty where they read the same."""
    entries = (entry for entry in (each.before, each.after) if entry is not None)
    before, after = (shown_values(field, context.dialect.read(entry, field.name)) for entry in entries)
    if before == after:
        return ""
    if len(before) <= 1 and len(after) <= 1:
        return f"{''.join(before) or '(empty)'} -> {''.join(after) or '(empty)'}"
    return ", ".join([*(f"- {v}" for v in before if v not in after), *(f"+ {v}" for v in after if v not in before)])


def _values(
    context: Context, each: Difference, attribute: str, removed: tuple[Value, ...], come: tuple[Value, ...]
) -> str:  # fmt: skip
    if is_secret(attribute):
        return "another one" if removed and come else "set" if come else "taken away"

    def shown(value: Value) -> str:
        if context.directory.schema.is_reference(attribute) and value:
            return DN.read(str(value)).name
        return shown_attribute(attribute, value)

    stays = len(each.before.values_of(attribute)) - len(removed) if each.before is not None else 0
    if not stays and len(removed) <= 1 and len(come) <= 1:
        return f"{''.join(map(shown, removed)) or '(empty)'} -> {''.join(map(shown, come)) or '(empty)'}"
    return ", ".join([*(f"- {shown(value)}" for value in removed), *(f"+ {shown(value)}" for value in come)])
