"""Objects and single fields put back as they were in a snapshot, whoever has changed or deleted them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property

from msgspec import Struct, structs

from vandrel.directory.dn import DN
from vandrel.directory.entry import IDENTIFIERS, Entry
from vandrel.directory.member_lists import BY_NAME
from vandrel.directory.packing import object_of
from vandrel.errors import NOTE, Code, DirectoryError, Finding, Location, VandrelError
from vandrel.fields import GROUP, Shape
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.proposal import Proposal
from vandrel.jobs.common.selection import Selection, select
from vandrel.objects.context import Context
from vandrel.record.attic import Item
from vandrel.record.snapshots import Held, Snapshot, Snapshots
from vandrel.steps.references import own_references, references_of


class SnapshotSource:
    """The objects of a snapshot that the directory does not have any more, as the attic would hold them.

    Attributes:
        damaged: what could not be read; the rest is there all the same.

    """

    def __init__(self, context: Context, snapshots: Snapshots, snapshot: Snapshot) -> None:
        self.damaged: list[Finding] = []
        self._context = context
        self._snapshots = snapshots
        self._snapshot = snapshot

    @cached_property
    def _missing(self) -> dict[str, Item]:
        """The objects by the keys of their names."""
        names_now = self._names_now
        objects = list(self._snapshots.held(self._snapshot))
        missing = {each.dn.key: each for each in objects if each.object not in names_now}
        pointed_at: dict[str, list[tuple[DN, str]]] = {}
        entries: dict[str, Entry] = {}
        for each in objects if missing else ():
            if (entry := self._entry(each)) is None:
                continue
            if each.dn.key in missing:
                entries[each.dn.key] = entry
            for attribute, target in self._pointing(entry):
                if target.key in missing:
                    holder = names_now.get(each.object, each.dn)
                    pointed_at.setdefault(target.key, []).append((holder, attribute))
        return {
            key: Item(0, 0, self._snapshot.taken, "", True, entry, tuple(pointed_at.get(key, ())), 0)
            for key, entry in entries.items()
        }

    @cached_property
    def _names_now(self) -> dict[str, DN]:
        """What each object is called by now."""
        entries = self._context.directory.search(self._snapshot.base, only=IDENTIFIERS)
        return {object_of(entry): entry.dn for entry in entries}

    @cached_property
    def _objects(self) -> dict[str, str]:
        """Which object was called so, by the keys of the names."""
        return {each.dn.key: each.object for each in self._snapshots.held(self._snapshot)}

    def later(self, dn: DN, job: int) -> DN:
        """The name by now of an object that was called so in the snapshot."""
        return self._names_now.get(self._objects.get(dn.key, ""), dn)

    def _pointing(self, entry: Entry) -> Iterator[tuple[str, DN]]:
        own = self._own
        return (each for each in references_of(entry.attributes, self._context.directory.schema) if each[0] in own)

    @cached_property
    def _own(self) -> frozenset[str]:
        return frozenset(own_references(self._context.directory))

    def _entry(self, each: Held) -> Entry | None:
        try:
            return self._snapshots.entry(each)
        except DirectoryError as error:
            self.damaged += [structs.replace(finding, severity=NOTE) for finding in error.findings]
            return None

    def items(self, *, job: int = 0, key: str = "") -> Iterator[Item]:
        """The objects, or the one of a name. A snapshot knows no jobs."""
        if key:
            yield from filter(None, [self._missing.get(key)])
        else:
            yield from self._missing.values()


class PutBackRequest(Struct, frozen=True):
    """Objects that are there, and the fields that are to be as they were in a snapshot."""

    selection: Selection
    fields: Sequence[str]


def put_back(context: Context, snapshots: Snapshots, snapshot: Snapshot, request: PutBackRequest) -> Proposal:
    """Propose to give fields the values that they had in a snapshot.

    Raises:
        VandrelError: ``not-found`` where an object was not in it; ``unknown-field``; ``damaged``;
            what selecting raises.

    """
    by_identifier = {each.object: each for each in snapshots.held(snapshot)}
    editor = Editor(context)
    edits: list[Edit] = []
    for entry in select(context, request.selection):
        each = by_identifier.get(object_of(entry))
        if each is None:
            what = f"{context.label(entry)} is not in snapshot {snapshot.number}"
            raise VandrelError(Code.NOT_FOUND, what, where=Location(dn=str(entry.dn)))
        before = snapshots.entry(each)
        object_type = context.object_type(entry)
        assignments = []
        for name in request.fields:
            field = context.fields.named(name, object_type)
            values = _groups(context, snapshots, snapshot, each.dn) if field.shape is Shape.MEMBERSHIPS else tuple(
                context.dialect.read(before, field.name)
            )  # fmt: skip
            assignments.append(Assignment(field.name, "=", values, literal=True))
        edits.append(editor.edit(entry, assignments))
    return propose(context, edits, (), "restore")


def _groups(context: Context, snapshots: Snapshots, snapshot: Snapshot, dn: DN) -> tuple[str, ...]:
    """The groups that an object was in, and that are still there, by their names now."""
    schema, then = context.directory.schema, dict[str, str]()
    for each in snapshots.held(snapshot):
        entry = snapshots.entry(each)
        if context.object_type(entry) == GROUP:
            members = (target.key for name, target in references_of(entry.attributes, schema) if name in BY_NAME)
            if dn.key in members:
                then[each.object] = str(each.dn)
    where = context.dialect.filter_for(GROUP)
    groups = context.directory.search(context.charter.base, where=where, only=IDENTIFIERS)
    return tuple(str(group.dn) for group in groups if object_of(group) in then)
