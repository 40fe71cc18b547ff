"""Loading LDIF: records in, steps out. What is there already makes no step."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.dn import DN, LEVEL
from vandrel.directory.entry import Value
from vandrel.directory.ldif import Modification, Record
from vandrel.directory.operations import Change
from vandrel.directory.schema import Schema
from vandrel.errors import Code, Finding, Location, VandrelError
from vandrel.jobs.common.proposal import Proposal, fixed
from vandrel.jobs.common.report import count
from vandrel.jobs.common.step_changes import changes_of_steps
from vandrel.jobs.lifecycle.delete import must_point
from vandrel.objects.context import Context
from vandrel.steps.plan import RunResult
from vandrel.steps.references import KeptReference, give_back, with_references
from vandrel.steps.step import Add, Remove, Rename, Set, Step

Attributes = dict[str, list[Value]]


class _ExpectedEntries:
    """The entries as the records so far leave them: RFC 2849 has changes made in the order in which they stand."""

    def __init__(self, context: Context) -> None:
        self._directory = context.directory
        self._schema: Schema = context.directory.schema
        self._entries: dict[str, Attributes | None] = {}
        self._moves: list[Rename] = []

    def get(self, dn: DN) -> Attributes | None:
        """The attributes of an entry; None where there is none by now."""
        if dn.key in self._entries:
            return self._entries[dn.key]
        for move in reversed(self._moves):
            if dn.is_within(move.new):
                dn = dn.moved(move.new, move.dn)
            elif dn.is_within(move.dn):
                return None
        entry = self._directory.get(dn)
        return self._following(entry.attributes, self._moves) if entry else None

    def put(self, dn: DN, attributes: Attributes | None) -> None:
        """Take note of what an entry has now; None: it is gone."""
        self._entries[dn.key] = attributes

    def rename(self, move: Rename) -> None:
        """Take note of a new name: the values of the old one go, everything below comes along."""
        attributes = self.get(move.dn)

        def moved(key: str) -> str:
            inside = key == move.dn.key or key.startswith(move.dn.key + LEVEL)
            return move.new.key + key[len(move.dn.key) :] if inside else key

        self._entries = {moved(key): entry and self._following(entry, [move]) for key, entry in self._entries.items()}
        self._moves.append(move)
        if attributes is not None and move.new.rdn != move.dn.rdn:
            for pairs, change in ((move.dn.rdn, self.without), (move.new.rdn, self.with_value)):
                for kind, value in pairs:
                    change(attributes, self._schema.attribute_name(kind) or kind, value)
        self._entries[move.new.key] = attributes

    def _following(self, attributes: Attributes, moves: Sequence[Rename]) -> Attributes:
        """A copy of attributes, in which what points at an object that is renamed points at its new name."""
        copied = {name: list(values) for name, values in attributes.items()}
        for name in self._schema.references_in(copied) if moves else ():
            copied[name] = [_followed(value, moves) for value in copied[name]]
        return copied

    def without(self, attributes: Attributes, name: str, value: Value) -> None:
        """Take one value away."""
        key = self._schema.key(name, value)
        attributes[name] = [one for one in attributes.get(name, ()) if self._schema.key(name, one) != key]

    def with_value(self, attributes: Attributes, name: str, value: Value) -> None:
        """Add one value, unless it is there."""
        if self._schema.key(name, value) not in {self._schema.key(name, one) for one in attributes.get(name, ())}:
            attributes[name] = [*attributes.get(name, ()), value]


def _followed(value: Value, moves: Sequence[Rename]) -> Value:
    """A name as it is after these moves; what cannot be read as one stays as it is."""
    try:
        old = new = names.parse(str(value))
    except VandrelError:
        return value
    for move in moves:
        if new.is_within(move.dn):
            new = new.moved(move.dn, move.new)
    return value if new == old else str(new)


class Loader:
    """Works out the steps of one file. ``left_out`` counts values that only the directory sets, by attribute."""

    def __init__(self, context: Context, *, is_copy: bool = False) -> None:
        self._context = context
        self._is_copy = is_copy
        self._schema: Schema = context.directory.schema
        self._expected = _ExpectedEntries(context)
        self.findings: list[Finding] = []
        self.left_out: dict[str, int] = {}
        self.unchanged = 0

    def steps(self, records: Iterable[Record]) -> list[Step]:
        """The steps that the records ask for, in their order; an entry that is there as it should be needs none."""
        batch: list[Step] = []
        for record in records:
            self._heed_controls(record)
            match record.change:
                case "" | "add":
                    batch += self._add(record)
                case "delete":
                    batch.append(Remove(record.dn, self._expected.get(record.dn) or {}))
                    self._expected.put(record.dn, None)
                case "modrdn":
                    batch += self._rename(record)
                case "modify":
                    batch += self._modify(record)
        references: list[KeptReference] = []
        steps = with_references(self._context.directory, self._context.dialect, batch, references.append)
        self.findings += map(must_point, references)
        return steps

    def _heed_controls(self, record: Record) -> None:
        if oids := ", ".join(control.oid for control in record.controls if control.critical):
            where = Location(line=record.line, dn=str(record.dn))
            what = f"a critical control cannot be heeded here: {oids}"
            self.findings.append(Finding(Code.REFUSED, what, where, "do what it asks by records of its own"))

    def _canonical(self, attributes: Attributes) -> Attributes:
        """Attributes under the schema's names, without what only the directory sets."""
        values_of: Attributes = {}
        for name, values in attributes.items():
            definition = self._schema.attribute(name)
            if definition is not None and definition.read_only:
                self.left_out[definition.name] = self.left_out.get(definition.name, 0) + len(values)
                continue
            values_of.setdefault(self._schema.attribute_name(name) or name, []).extend(values)
        return values_of

    def _keys(self, attributes: Attributes) -> dict[str, set[object]]:
        return {
            name: {self._schema.key(name, value) for value in values}
            for name, values in attributes.items()
            if not ((definition := self._schema.attribute(name)) and definition.read_only)
        }

    def _add(self, record: Record) -> Iterator[Step]:
        attributes = self._canonical(record.attributes)
        for kind, value in record.dn.rdn:
            self._expected.with_value(attributes, self._schema.attribute_name(kind) or kind, value)
        now = self._expected.get(record.dn)
        if now is None:
            self._expected.put(record.dn, dict(attributes))
            yield Add(record.dn, attributes, as_held=self._is_copy)
        elif self._keys(now) == self._keys(attributes):
            self.unchanged += 1
        else:
            remedy = "load changes to it (changetype: modify), or load into a directory of its own"
            where = Location(line=record.line, dn=str(record.dn))
            self.findings.append(Finding(Code.TAKEN, "the object is there already, and differs", where, remedy))

    def _rename(self, record: Record) -> Iterator[Step]:
        assert record.new is not None
        move = Rename(record.dn, record.new)
        self._expected.rename(move)
        yield move
        if not record.delete_old and record.new.rdn_text != record.dn.rdn_text:
            # Here the old name always goes with a rename, and comes back as a value of its own.
            old = [(self._schema.attribute_name(kind) or kind, value) for kind, value in record.dn.rdn]
            if (attributes := self._expected.get(record.new)) is not None:
                for name, value in old:
                    self._expected.with_value(attributes, name, value)
            yield Set(record.new, tuple(Change(name, (), (value,)) for name, value in old))

    def _modify(self, record: Record) -> Iterator[Step]:
        attributes = self._expected.get(record.dn)
        if attributes is None:
            where = Location(line=record.line, dn=str(record.dn))
            self.findings.append(Finding(Code.NOT_FOUND, "there is no such object to change", where))
            return
        changes = self._changes(record, attributes)
        self._expected.put(record.dn, attributes)
        if changes:
            yield Set(record.dn, changes)
        else:
            self.unchanged += 1

    def _changes(self, record: Record, attributes: Attributes) -> tuple[Change, ...]:
        """The parts of a modify record against what the entry has by now; `attributes` follow them."""
        changes: list[Change] = []
        for part in record.modifications:
            name = self._schema.attribute_name(part.attribute) or part.attribute
            now = attributes.get(name, [])
            have = {self._schema.key(name, value): value for value in now}
            by_key = {self._schema.key(name, value): value for value in part.values}
            removed: list[Value] = []
            added: list[Value] = []
            match part.kind:
                case "add":
                    added = [value for key, value in by_key.items() if key not in have]
                case "replace":
                    added = [value for key, value in by_key.items() if key not in have]
                    removed = [value for key, value in have.items() if key not in by_key]
                case "delete":
                    removed = [value for key, value in have.items() if not by_key or key in by_key]
                case "increment":
                    removed, added = now, self._incremented(record, part, now)
            attributes[name] = [value for value in now if value not in removed] + added
            if removed or added:
                changes.append(Change(name, tuple(removed), tuple(added)))
        return tuple(changes)

    def _incremented(self, record: Record, part: Modification, now: Sequence[Value]) -> list[Value]:
        """Each value and the one that is given added up (RFC 4525, section 2)."""
        try:
            (by,) = (int(str(value)) for value in part.values)
            sums = [str(int(str(value)) + by) for value in now]
        except ValueError:
            sums = []
        if not sums:
            what = f"{part.attribute} cannot be incremented: it takes whole numbers, and one to add"
            where = Location(line=record.line, dn=str(record.dn), field=f"@{part.attribute}")
            self.findings.append(Finding(Code.BAD_VALUE, what, where))
        return list(sums) or list(now)


class LoadRequest(Struct, frozen=True):
    """The records of an LDIF file, what the file is called, and whether a new directory is a copy made of them."""

    records: Iterable[Record]
    name: str
    is_copy: bool = False


def load(context: Context, request: LoadRequest) -> Proposal:
    """Propose what an LDIF file asks for; what is there already as it should be makes no step.

    Raises:
        VandrelError: what reading the records raises.

    """
    loader = Loader(context, is_copy=request.is_copy)
    steps = loader.steps(request.records)
    words = {Add: "new", Set: "changed", Rename: "renamed or moved", Remove: "removed"}
    counts = Counter(words.get(type(step), "") for step in steps)
    figures = [f"{number} {word}" for word, number in counts.items()]
    figures += [f"{loader.unchanged} as they are already"] if loader.unchanged else []
    summary = [f"{request.name}: {', '.join(figures) or 'nothing'}."]
    if loader.left_out:
        summary.append(f"Set by the directory alone, and left out: {', '.join(sorted(loader.left_out))}.")
    changes = changes_of_steps(context, steps)

    def give_back_rest(result: RunResult) -> tuple[str, list[Step]]:
        title = f"give back memberships: {count(len(result.not_deleted), 'object')} could not be removed"
        return title, give_back(steps, result.not_deleted, context.directory.schema)

    return Proposal(
        "load", f"load {request.name}", f"Make {count(len(steps), 'change')}?", fixed(steps), changes=changes,
        findings=loader.findings, is_atomic=False, summary=summary, when_refused=give_back_rest,
    )  # fmt: skip
