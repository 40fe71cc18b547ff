"""Loading LDIF: records in, steps out. What is there already makes no step."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.directory.entry import Value
from vandrel.directory.ldif import Modification, Record
from vandrel.directory.operations import Change
from vandrel.directory.schema import Schema
from vandrel.errors import Code, Finding, Location
from vandrel.jobs.common.proposal import Proposal, fixed
from vandrel.jobs.common.report import count
from vandrel.jobs.common.step_changes import changes_of_steps
from vandrel.objects.context import Context
from vandrel.steps.references import with_references
from vandrel.steps.step import Add, Remove, Rename, Set, Step


class Loader:
    """Works out the steps of one file. ``left_out`` counts values that only the directory sets, by attribute."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._schema: Schema = context.directory.schema
        self.findings: list[Finding] = []
        self.left_out: dict[str, int] = {}
        self.unchanged = 0

    def steps(self, records: Iterable[Record]) -> list[Step]:
        """The steps that the records ask for, in their order; an entry that is there as it should be needs none."""
        made: list[Step] = []
        for record in records:
            where = Location(line=record.line, dn=str(record.dn))
            if any(control.critical for control in record.controls):
                oids = ", ".join(control.oid for control in record.controls if control.critical)
                what = f"a critical control cannot be heeded here: {oids}"
                self.findings.append(Finding(Code.REFUSED, what, where, "do what it asks by records of its own"))
            match record.change:
                case "" | "add":
                    self._add(record, made)
                case "delete":
                    entry = self._context.directory.get(record.dn)
                    made.append(Remove(record.dn, entry.attributes if entry else {}))
                case "modrdn":
                    assert record.new is not None
                    made.append(Rename(record.dn, record.new))
                    if not record.delete_old and record.new.rdn_text != record.dn.rdn_text:
                        # Here the old name always goes with a rename, and comes back as a value of its own.
                        kept = [Change(self._schema.attribute_name(k) or k, (), (v,)) for k, v in record.dn.rdn]
                        made.append(Set(record.new, tuple(kept)))
                case "modify":
                    changes = self._changes(record.dn, record.modifications, made)
                    if changes:
                        made.append(Set(record.dn, changes))
                    else:
                        self.unchanged += 1
        return with_references(self._context.directory, self._context.dialect, made)

    def _canonical(self, attributes: dict[str, list[Value]]) -> dict[str, list[Value]]:
        """Attributes under the schema's names, without what only the directory sets."""
        values_of: dict[str, list[Value]] = {}
        for name, values in attributes.items():
            known = self._schema.attribute(name)
            if known is not None and known.read_only:
                self.left_out[known.name] = self.left_out.get(known.name, 0) + len(values)
                continue
            values_of.setdefault(known.name if known else name, []).extend(values)
        return values_of

    def _keys(self, attributes: dict[str, list[Value]]) -> dict[str, set[object]]:
        return {
            name: {self._schema.key(name, value) for value in values}
            for name, values in attributes.items()
            if not ((known := self._schema.attribute(name)) and known.read_only)
        }

    def _add(self, record: Record, made: list[Step]) -> None:
        attributes = self._canonical(record.attributes)
        for kind, value in record.dn.rdn:
            name = self._schema.attribute_name(kind) or kind
            if self._schema.key(name, value) not in {self._schema.key(name, one) for one in attributes.get(name, ())}:
                attributes.setdefault(name, []).append(value)
        entry = self._context.directory.get(record.dn)
        if entry is None:
            made.append(Add(record.dn, attributes))
        elif self._keys(entry.attributes) == self._keys(attributes):
            self.unchanged += 1
        else:
            remedy = "load changes to it (changetype: modify), or load into a directory of its own"
            self.findings.append(
                Finding(Code.TAKEN, "the object is there already, and differs", Location(dn=str(record.dn)), remedy)
            )

    def _changes(self, dn: DN, parts: Iterable[Modification], made: list[Step]) -> tuple[Change, ...]:
        """The parts of a modify record against what the entry has now, or will have after the steps before."""
        attributes = self._now(dn, made)
        changes: list[Change] = []
        for part in parts:
            name = self._schema.attribute_name(part.attribute) or part.attribute
            now = attributes.get(name, [])
            have = {self._schema.key(name, value): value for value in now}
            given = {self._schema.key(name, value): value for value in part.values}
            removed: list[Value] = []
            added: list[Value] = []
            if part.kind in ("add", "replace"):
                added = [value for key, value in given.items() if key not in have]
            if part.kind == "replace":
                removed = [value for key, value in have.items() if key not in given]
            elif part.kind == "delete":
                removed = [value for key, value in have.items() if not given or key in given]
            attributes[name] = [value for value in now if value not in removed] + added
            if removed or added:
                changes.append(Change(name, tuple(removed), tuple(added)))
        return tuple(changes)

    def _now(self, dn: DN, made: list[Step]) -> dict[str, list[Value]]:
        for step in reversed(made):
            if isinstance(step, Add) and step.dn == dn:
                return dict(step.attributes)
        entry = self._context.directory.get(dn)
        return dict(entry.attributes) if entry else {}


class LoadRequest(Struct, frozen=True):
    """The records of an LDIF file, and what the file is called."""

    records: Iterable[Record]
    name: str


def load(context: Context, request: LoadRequest) -> Proposal:
    """Propose what an LDIF file asks for; what is there already as it should be makes no step.

    Raises:
        VandrelError: what reading the records raises.

    """
    loader = Loader(context)
    steps = loader.steps(request.records)
    words = {Add: "new", Set: "changed", Rename: "renamed or moved", Remove: "removed"}
    counts = Counter(words.get(type(step), "") for step in steps)
    figures = [f"{number} {word}" for word, number in counts.items()]
    figures += [f"{loader.unchanged} as they are already"] if loader.unchanged else []
    summary = [f"{request.name}: {', '.join(figures) or 'nothing'}."]
    if loader.left_out:
        summary.append(f"Set by the directory alone, and left out: {', '.join(sorted(loader.left_out))}.")
    changes = changes_of_steps(context, steps)
    return Proposal(
        "load", f"load {request.name}", f"Make {count(len(steps), 'change')}?", fixed(steps), changes=changes,
        findings=loader.findings, is_atomic=False, summary=summary,
    )  # fmt: skip
