"""Bringing back what was deleted: the objects, who points at them, their passwords where they are kept."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache, partial

from msgspec import Struct, structs

from vandrel.charter.passwords import check
from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.member_lists import ALL, BY_NAME
from vandrel.directory.port import Scope
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, GROUP
from vandrel.gc_control import gc_paused
from vandrel.jobs.common import personal_groups
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.name_allocator import NameAllocator
from vandrel.jobs.common.proposal import (
    Action,
    Credential,
    FieldChange,
    ObjectChange,
    Passwords,
    Proposal,
    Work,
    listed_names,
    unique,
)  # fmt: skip
from vandrel.jobs.common.report import count
from vandrel.jobs.lifecycle.attic import AtticSelection, ItemSource, chosen_items, kept_by_server
from vandrel.lazy_list import LazyMap
from vandrel.objects.context import Context
from vandrel.objects.long_lists import may_list_logins
from vandrel.objects.namesakes import Namesakes
from vandrel.objects.pattern_values import entry_values
from vandrel.record.attic import Item
from vandrel.steps.checks import foresee_checks
from vandrel.steps.references import additions_apart, pointing_again, references_of, without_references
from vandrel.steps.step import Add, Password, Set, Step

#: Names that must be unique, each after those that it may be built from.
_UNIQUE_NAMES = ("login", "principal", "mail")
#: From so many objects on, it costs more to look for garbage than there can be.
_MANY = 1000

#: The name by now of an object that was called so when a job deleted something.
Later = Callable[[DN, int], DN]


class RestoreRequest(Struct, frozen=True):
    """What to bring back.

    Attributes:
        selection: the objects.
        contents: whether what was deleted with a unit and stood below it comes back as well.
        to: the place that holds them then; empty for the old one.
        assignments: fields with other values than before; only for one object.
        password: where new passwords come from, as `Credential.source`; empty: the old one, where it is kept.

    """

    selection: AtticSelection
    contents: bool = False
    to: str = ""
    assignments: Sequence[Assignment] = ()
    password: str = ""


class Restored(Struct):
    """One object on its way back.

    Attributes:
        item: what the attic has of it.
        entry: what it will be.
        renamed: why a name differs from the old one, by field.
        groups: what it comes back into.
        reports: who gets it back as a manager.

    """

    item: Item
    entry: Entry
    renamed: dict[str, str] = {}
    groups: list[str] = []
    reports: list[str] = []


def restore(context: Context, attic: ItemSource, request: RestoreRequest, later: Later) -> Proposal:
    """Propose to bring deleted objects back, parents first, with who points at them.

    `later` knows what became of the names of other objects.

    Raises:
        VandrelError: ``usage`` where nothing is chosen, or new values are given for several; ``not-found``,
            ``ambiguous``.

    """
    items = chosen_items(context, attic, request.selection)
    if request.selection == AtticSelection():
        raise VandrelError(Code.USAGE, "whom or what?", remedy="vandrel attic lists what can be restored")
    if not items:
        raise VandrelError(Code.NOT_FOUND, "nothing in the attic fits", remedy="vandrel attic lists what is there")
    if request.assignments and len(items) > 1:
        raise VandrelError(Code.USAGE, "new values can be given to one object at a time", remedy="name one")

    def foreseen(here: Context) -> None:
        ahead = Restorer(here, attic, later)
        ahead.take(items, to=request.to)
        foresee_checks(here.dialect, ahead.steps(), frozenset())

    context.ask_ahead(foreseen, len(items))
    restorer = Restorer(context, attic, later)
    place = cache(context.place)  # of the units, which many have in common
    with gc_paused(is_large=len(items) > _MANY):
        restorer.take(items, contents=request.contents, to=request.to, assignments=request.assignments)
        credentials = list(restorer.credentials(request.password)) if request.password else []
        changes = [_change(context, each, request.password, place) for each in restorer.restored]

    def work(passwords: Passwords) -> Work:
        steps = restorer.steps()
        for credential in credentials:
            secret = passwords.secrets[credential.dn]
            steps.append(Password(credential.dn, secret, must_change=True, hand_out=passwords.hand_out))
        steps += restorer.enabling({credential.dn for credential in credentials})
        return Work(steps)

    return Proposal(
        "restore", f"restore {listed_names(LazyMap(restorer.restored, lambda each: context.label(each.entry)))}",
        f"Bring back {count(len(restorer.restored), 'object')}?", work, changes=changes,
        findings=unique([*restorer.findings, *attic.damaged]), credentials=credentials, is_atomic=False,
        afterwards="To delete what came back: vandrel undo {job}",
    )  # fmt: skip


class Restorer:
    """Works out how objects come back."""

    def __init__(self, context: Context, attic: ItemSource, later: Later) -> None:
        self._context = context
        self._later = later
        self._attic = attic
        self._allocator = NameAllocator(context)
        self._schema = context.directory.schema
        self._kept_by_server = kept_by_server(context)
        self._pointing: dict[DN, dict[str, list[DN]]] = {}
        self._holders: dict[DN, Entry] = {}
        #: Keys of the names of objects of which a name is taken.
        self._crowded: set[str] = set()
        #: Names of nobody that some servers put in the place of one that was deleted.
        self._of_nobody: dict[tuple[DN, str], tuple[Value, ...]] = {}
        self.restored: list[Restored] = []
        self.findings: list[Finding] = []

    def take(
        self, items: Sequence[Item], *, contents: bool = False, to: str = "", assignments: Sequence[Assignment] = ()
    ) -> None:  # fmt: skip
        """Work out these objects, and the superiors that they need."""
        chosen = {item.entry.dn.key: item for item in items}
        if contents:
            for item in items:
                below = (other for other in self._attic.items(job=item.job) if other.entry.dn.is_below(item.entry.dn))
                chosen |= {other.entry.dn.key: other for other in below}
        self._add_own_groups(chosen)
        if not to:
            self._add_superiors(chosen)
        ordered = sorted(chosen.values(), key=lambda item: (len(item.entry.dn), item.entry.dn.key))
        place = places.to_dn(places.parse(to), self._context.charter.base) if to else None
        new_names: dict[str, DN] = {}
        for item in ordered:
            new_names[item.entry.dn.key] = self._new_dn(item, chosen, place, new_names)
        self._crowded = self._whose_names_are_taken(ordered, new_names)
        for item in ordered:
            self.restored.append(self._back(item, self._new_dn(item, chosen, place, new_names), assignments))
            new_names[item.entry.dn.key] = self.restored[-1].entry.dn
        self._settle_references(new_names)

    def _add_own_groups(self, chosen: dict[str, Item]) -> None:
        """The groups of their own that accounts lost with them come back with them."""
        if personal_groups.unit_of(self._context) is None:
            return
        for item in list(chosen.values()):
            if self._context.object_type(item.entry) == ACCOUNT:
                for step in personal_groups.group_steps(self._context, item.entry.dn, self._of_unix(item.entry)):
                    own = next(iter(self._attic.items(job=item.job, key=step.dn.key)), None)
                    if own is not None:
                        chosen[own.entry.dn.key] = own

    def _of_unix(self, entry: Entry) -> dict[str, Sequence[str]]:
        return {name: self._context.dialect.read(entry, name) for name in ("login", "uid-number", "gid-number")}

    def _whose_names_are_taken(self, items: Sequence[Item], new_names: Mapping[str, DN]) -> set[str]:
        """The keys of objects of which a name is taken, or is that of two of them: all are asked about at once."""
        context = self._context
        claimed: dict[tuple[str, str], list[str]] = {}
        for item in items:
            if context.object_type(item.entry) == ACCOUNT:
                for target in _UNIQUE_NAMES:
                    for value in context.dialect.read(item.entry, target):
                        for form in context.dialect.unique_forms(target, value):
                            claimed.setdefault(form, []).append(item.entry.dn.key)
        crowded = {key for keys in claimed.values() if len(set(keys)) > 1 for key in keys}
        by_attribute: dict[str, list[str]] = {}
        for attribute, stored in claimed:
            by_attribute.setdefault(attribute, []).append(stored)
        for form in context.directory.find_owners(by_attribute):
            crowded.update(claimed[form])
        there = {dn.key for dn in context.directory.existing(list(new_names.values()))}
        return crowded | {key for key, dn in new_names.items() if dn.key in there}

    # --- one object

    def _new_dn(self, item: Item, chosen: Mapping[str, Item], place: DN | None, new_names: Mapping[str, DN]) -> DN:
        dn = item.entry.dn
        if dn.parent.key in new_names:
            return DN((dn.rdns[0], *new_names[dn.parent.key].rdns))
        return dn if place is None or dn.parent.key in chosen else DN((dn.rdns[0], *place.rdns))

    def _back(self, item: Item, dn: DN, assignments: Sequence[Assignment]) -> Restored:
        context = self._context
        is_same = item.entry.identifier in self._kept_by_server
        entry = Entry(dn, {name: list(values) for name, values in item.entry.attributes.items()})
        for assignment in assignments:
            if assignment.field == "name":
                self._rename(entry, assignment.values[0] if assignment.values else "")
            else:
                context.dialect.write(entry, assignment.field, assignment.values)
        renamed = {a.field: "typed" for a in assignments}
        if assignments or item.entry.dn.key in self._crowded:
            renamed |= self._free_names(entry, {a.field for a in assignments})
        attributes, lacking = context.dialect.addable(entry, is_same=is_same)
        if lacking:
            self.findings.append(Finding(Code.REFUSED, lacking, Location(dn=str(entry.dn)), severity=NOTE))
        return Restored(item, Entry(entry.dn, attributes), renamed, [], [])

    def _rename(self, entry: Entry, name: str) -> None:
        """Give an entry another naming value, in its name and among its attributes."""
        old, kind = entry.dn, entry.dn.naming_attribute
        attribute = self._schema.attribute_name(kind) or kind
        values = [value for value in entry.values_of(attribute) if value != old.name]
        entry.attributes[attribute] = [name, *values]
        entry.dn = old.parent.child(kind, name)

    def _free_names(self, entry: Entry, typed: set[str]) -> dict[str, str]:
        """Give an account the charter's next names where its own were taken meanwhile; why, by field."""
        context, why = self._context, {}
        kind = context.one(entry, "kind")
        has_rules = context.object_type(entry) == ACCOUNT and kind in context.charter.document.kinds
        for target in (*_UNIQUE_NAMES, "name"):
            value = entry.dn.name if target == "name" else context.one(entry, target)
            owner = self._owner_of(target, value, entry) if value else ""
            if owner and target not in typed and has_rules:
                chosen = context.charter.naming(target, kind).choose(
                    entry_values(context, entry), partial(self._owner_of, target, entry=entry)
                )
                if target == "name":
                    self._rename(entry, chosen.chosen.value)
                else:
                    context.dialect.write(entry, target, [chosen.chosen.value])
                why[target] = f"{value} is {owner}"
            value = entry.dn.name if target == "name" else context.one(entry, target)
            if value and target != "name":
                self._allocator.reserve(target, value, entry.dn)
        return why

    def _owner_of(self, target: str, value: str, entry: Entry) -> str:
        if target == "name":
            return self._allocator.why_sibling(entry.dn.parent.child(entry.dn.naming_attribute, value))
        return self._allocator.why_taken(target, value)

    # --- above, and whoever points where

    def _add_superiors(self, chosen: dict[str, Item]) -> None:
        """The units that are gone as well come back first."""
        superiors = {item.entry.dn.parent for item in chosen.values()}
        while superiors:
            there = self._context.directory.existing(superiors)
            lacking = [dn for dn in superiors if dn not in there and dn.key not in chosen]
            superiors = set()
            for dn in lacking:
                item = next(self._attic.items(key=dn.key), None)
                if item is not None:
                    chosen[dn.key] = item
                    superiors.add(dn.parent)

    def _settle_references(self, new_names: Mapping[str, DN]) -> None:
        """Who points at what comes back, and where that points."""
        targets = {
            target.key: (target, each.item.job) for each in self.restored
            for _, target in references_of(each.entry.attributes, self._schema)
        }  # fmt: skip
        later = {key: self._later(dn, job) for key, (dn, job) in targets.items() if key not in new_names}
        there = {dn.key for dn in (*self._context.directory.existing(list(later.values())), *new_names.values())}
        names_now = {**later, **new_names}
        for each in self.restored:
            self._sort_out(each, names_now, there)
        pointing = [(each, holder, attribute) for each in self.restored for holder, attribute in each.item.pointed_at
                    if holder.key not in new_names]  # the others come back too, with what they point at  # fmt: skip
        lists: dict[str, dict[str, list[DN]]] = {}
        for each, holder, attribute in pointing:
            lists.setdefault(holder.key, {}).setdefault(attribute, []).append(each.entry.dn)
        holders: dict[str, Entry | None] = {}
        for each, holder, attribute in pointing:
            if holder.key not in holders:
                holders[holder.key] = self._holder(self._later(holder, each.item.job), lists[holder.key])
            self._point_again(each, holder, holders[holder.key], attribute)

    def _holder(self, dn: DN, lists: Mapping[str, list[DN]]) -> Entry | None:
        """What is to point again at objects; of a group, with no more of its members than matter for that."""
        directory, dialect = self._context.directory, self._context.dialect
        if not set(lists) <= set(BY_NAME):
            return directory.get(dn)
        values = {name: directory.some_values(dn, name, [*map(str, targets), ""]) for name, targets in lists.items()}
        entry = next(directory.search(dn, Scope.BASE, only=dialect.attributes_read(GROUP)), None)
        if entry is None or may_list_logins(entry):
            return entry and directory.get(dn)
        entry.attributes |= values
        return entry

    def _sort_out(self, each: Restored, names_now: Mapping[str, DN], there: set[str]) -> None:
        """What points at objects that have other names by now points at those; what points nowhere is told."""
        missing = []
        for name, target in references_of(each.entry.attributes, self._schema):
            if names_now[target.key].key not in there:
                missing.append((name, target))
                self._tell(each.entry.dn, f"{name}: {names_now[target.key].name} is not there any more")
        each.entry = without_references(each.entry, missing, self._context.dialect)
        for name in self._schema.references_in(each.entry.attributes):
            values = each.entry.attributes[name]
            keys = [names.parse(str(value)).key if value else "" for value in values]
            each.entry.attributes[name] = [
                str(names_now[key]) if key in names_now and names_now[key].key != key else value
                for key, value in zip(keys, values, strict=True)
            ]

    def _point_again(self, each: Restored, holder: DN, entry: Entry | None, attribute: str) -> None:
        if entry is None:
            self._tell(each.entry.dn, f"{attribute} of {holder.name}, which is not there any more")
            return
        holder = entry.dn
        now = entry.values_of(attribute)
        if now and self._is_single(entry, attribute):
            if self._context.directory.existing([names.parse(str(value)) for value in now if value]):
                self._tell(each.entry.dn, f"{attribute} of {holder.name}, who has another one by now")
                return
            self._of_nobody[holder, attribute] = tuple(now)
        self._holders[holder] = entry
        self._pointing.setdefault(holder, {}).setdefault(attribute, []).append(each.entry.dn)
        (each.groups if attribute in ALL else each.reports).append(self._context.label(entry))

    def _is_single(self, holder: Entry, attribute: str) -> bool:
        definition = self._schema.attribute(attribute)
        single = self._context.single_attributes(self._context.object_type(holder))
        return attribute in single or (definition is not None and definition.single)

    def _tell(self, dn: DN, what: str) -> None:
        self.findings.append(
            Finding(Code.DANGLING, f"does not come back: {what}", Location(dn=str(dn)), severity=NOTE)
        )  # fmt: skip

    # --- steps

    def steps(self) -> list[Step]:
        """The steps: objects, superiors first; then who points where."""
        steps: list[Step] = [
            Add(each.entry.dn, each.entry.attributes, each.item.entry.identifier, each.item.number, as_held=True)
            for each in self.restored
        ]
        steps = list(additions_apart(steps, self._context.dialect, self._schema))
        for holder, pointing in self._pointing.items():
            entry = self._holders[holder]
            pairs = [(attribute, target) for attribute, targets in pointing.items() for target in targets]
            changes = [
                structs.replace(change, removed=self._of_nobody.get((holder, change.attribute), change.removed))
                for change in pointing_again(entry, pairs, self._context.dialect)
            ]
            steps += [Set(holder, tuple(changes))] if changes else []
        return steps

    def credentials(self, source: str) -> Iterator[Credential]:
        """A new password for each account."""
        context = self._context
        for each in self.restored:
            if context.object_type(each.item.entry) != ACCOUNT:
                continue
            value, rules = partial(context.one, each.entry), context.rules_for(each.item.entry)
            find = partial(
                check, rules=rules, login=value("login"), full=value("full"),
                words=[context.charter.document.organization],
            )  # fmt: skip
            yield Credential(each.entry.dn, rules, source, value, find)

    def enabling(self, dns: set[DN]) -> list[Step]:
        """Where a server takes accounts back disabled: those with a new password are enabled as they were before."""
        steps: list[Step] = []
        for each in self.restored:
            was_enabled = self._context.dialect.read(each.item.entry, "enabled") != ["no"]
            if each.entry.dn in dns and was_enabled:
                changes = tuple(self._context.dialect.changes(each.entry, "enabled", ["yes"]))
                steps += [Set(each.entry.dn, changes)] if changes else []
        return steps


def _change(context: Context, each: Restored, password: str, place: Callable[[DN], str]) -> ObjectChange:
    """What comes back of one object, for people."""
    entry, old = Entry(each.entry.dn, each.item.entry.attributes | each.entry.attributes), each.item.entry
    object_type = context.object_type(old)
    old_place = place(old.dn.parent)
    moved = "" if entry.dn.parent == old.dn.parent else f"was in {old_place}"
    fields = [FieldChange("place", after=(place(entry.dn.parent),), rule=moved)]
    for name in (*_UNIQUE_NAMES, *(name for name in each.renamed if name not in (*_UNIQUE_NAMES, "name"))):
        if value := context.dialect.read(entry, name):
            fields.append(FieldChange(name, after=tuple(value), rule=each.renamed.get(name, "")))
    if each.renamed.get("name"):
        fields.append(FieldChange("name", after=(entry.dn.name,), rule=each.renamed["name"]))
    listed = context.dialect.members(entry) if object_type != ACCOUNT else []
    if listed and (members := Namesakes(context).shown(listed)):
        fields.append(FieldChange("members", after=tuple(members), rule="as before"))
    if each.groups:
        fields.append(FieldChange("groups", after=tuple(each.groups), rule="as before"))
    if each.reports:
        fields.append(FieldChange("reports", after=tuple(each.reports), rule="as before"))
    if object_type == ACCOUNT:
        has_hash = bool(old.values_of("userPassword"))
        words = ("new", "to be changed at the next logon") if password else ("the old one", "kept with the account")
        words = words if password or has_hash else ("none", "the directory does not show it: add password=generate")
        fields.append(FieldChange("password", after=words[:1], rule=words[1]))
    label = context.label(entry)
    kind = context.one(old, "kind")
    return ObjectChange(
        Action.RESTORE, object_type, entry.dn, label, old_place, tuple(fields), kind
    )  # fmt: skip
