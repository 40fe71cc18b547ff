"""Editing: assignments to fields and raw attributes of one object or several."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import lru_cache

import msgspec
from msgspec import Struct, structs

from vandrel.dialects.base import difference
from vandrel.directory import dn as names
from vandrel.directory.applied import applied
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.operations import Change
from vandrel.directory.secret_attributes import is_secret
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, NAMED, Field, Shape
from vandrel.jobs.common import field_values, personal_groups
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.membership_editor import MembershipEditor
from vandrel.jobs.common.name_allocator import NameAllocator
from vandrel.jobs.common.number_allocator import NumberAllocator
from vandrel.jobs.common.proposal import FieldChange
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.common.role_groups import role_groups
from vandrel.objects.context import Context
from vandrel.objects.membership import conversion
from vandrel.objects.namesakes import Namesakes
from vandrel.objects.pattern_values import entry_values
from vandrel.objects.power_reach import reach_of_tasks
from vandrel.objects.view import shown_values
from vandrel.steps.step import Rename, Set, Step
from vandrel.text import addresses
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare

#: Members up to which each comes or goes by itself.
_ONE_BY_ONE = 100

_PASSWORD_FLAGS = ("change", "password-fixed", "password-never-expires")
_PARTS_OF_NAMES = ("given", "middle", "surname", "generation")


class Edit(Struct):
    """The change to one object, worked out.

    Attributes:
        entry: the object as it is.
        object_type: its type.
        differences: what differs, field by field.
        steps: what makes it so.
        findings: what speaks against it, or must be known.
        is_apart: whether its steps do not hang together, so that one that is refused does not keep the others out.
        left_out: how many members and groups a rule refused, while the others go on.

    """

    entry: Entry
    object_type: str
    differences: list[FieldChange] = msgspec.field(default_factory=list)
    steps: list[Step] = msgspec.field(default_factory=list)
    findings: list[Finding] = msgspec.field(default_factory=list)
    is_apart: bool = False
    left_out: int = 0

    def value(self, context: Context, field: str) -> str:
        """The first value of a field as it will be: who takes an account over logs on by the new name."""
        after = next((d.after for d in self.differences if d.field == field), None)
        return context.one(self.entry, field) if after is None else next(iter(after), "")

    def add_member_steps(self, context: Context, add: Sequence[DN], remove: Sequence[DN]) -> bool:
        """Add the steps by which these come into the group and those leave it; return whether there are any.

        A few go one by one, so that a server that refuses one of them takes the others all the same.
        """
        few = len(add) + len(remove) <= _ONE_BY_ONE
        parts = [((dn,), ()) for dn in add] + [((), (dn,)) for dn in remove] if few else [(tuple(add), tuple(remove))]
        group = self.entry
        for come, go in parts:
            changes = context.dialect.member_change(group, come, go)
            if changes:
                self.steps.append(Set(group.dn, tuple(changes)))
                group = applied(group, changes)
        self.is_apart = self.is_apart or len(parts) > 1
        return group is not self.entry


class _Draft:
    """One object while assignments are applied to it, one after the other."""

    def __init__(self, context: Context, edit: Edit, assigned: set[str]) -> None:
        self.edit = edit
        self.assigned = assigned
        self.after = Entry(edit.entry.dn, dict(edit.entry.attributes))
        self.values: dict[str, list[str]] = {}
        self.before: dict[str, list[str]] = {}
        self.memberships: list[Assignment] = []
        self.rename: DN | None = None
        #: Attributes that were typed as such: only what was typed is meant, whatever else is there.
        self.raw: set[str] = set()
        self._context = context

    def value(self, name: str) -> list[str]:
        """The values of a field so far: ``phone=1 phone+=2`` goes on from where it stopped."""
        if name not in self.values:
            self.before[name] = self.values[name] = self._context.dialect.read(self.edit.entry, name)
        return self.values[name]


class Editor:
    """Works out edits for one request.

    Attributes:
        allocator: which names are taken, those included that the request gives.
        memberships: what changes in groups.

    """

    def __init__(self, context: Context, *, of_many: bool = False, of_one: bool = False) -> None:
        """Begin; names that are given to one object are taken for the next.

        With `of_many`, nothing is asked that only tells other objects apart which are called the same; with `of_one`,
        one object is edited, and of the groups that it joins or leaves no more is read than that takes.
        """
        self._context = context
        self._namesakes, self._of_many = Namesakes(context), of_many
        self.allocator = NameAllocator(context)
        self._numbers = NumberAllocator(context)
        # One request mostly gives many objects the same values.
        self._judge = lru_cache(maxsize=1024)(self._judged)
        self.memberships = MembershipEditor(context, self._namesakes, of_many=of_many, of_one=of_one)

    def give_up(self, field: str, value: str) -> None:
        """Take note that somebody gives a unique value up in the same request."""
        self.allocator.give_up(field, value)

    def edit(self, entry: Entry, assignments: Sequence[Assignment]) -> Edit:
        """Work out what the assignments change on one object; an assignment that changes nothing leaves no step.

        Raises:
            VandrelError: ``unknown-field``, ``bad-value``, ``not-found``, ``ambiguous``.

        """
        edit = Edit(entry, self._context.object_type(entry))
        draft = _Draft(self._context, edit, {assignment.field for assignment in assignments})
        for assignment in assignments:
            self._assign(draft, assignment)
        if draft.memberships:
            self.memberships.of_member(edit, draft.memberships)
        for name, values in draft.values.items():
            self._field(draft, self._context.fields[name], values)
        if edit.object_type == ACCOUNT and draft.assigned & set(_PASSWORD_FLAGS):
            flags = {name: self._context.dialect.read(draft.after, name) for name in _PASSWORD_FLAGS}
            edit.findings += field_values.contradictions(flags | {n: v for n, v in draft.values.items() if n in flags})
        if draft.raw:
            edit.findings += self._wrong_with_raw(entry, draft.after)
        # First the object, then the groups that take it in; a rename comes last, so that all names hold until then.
        single = self._context.single_attributes(edit.object_type) - draft.raw
        changes = [
            structs.replace(change, is_exclusive=True)
            if change.attribute in single and len(change.removed) == len(entry.values_of(change.attribute))
            else change
            for change in difference(entry, draft.after)
        ]
        changes = self._named_anew(draft, changes)
        if draft.rename is not None:
            changes += self._context.dialect.changes_with_name(entry, draft.rename.name)
        own: list[Step] = [Set(entry.dn, tuple(changes))] if changes else []
        edit.steps = [*own, *edit.steps, *([Rename(entry.dn, draft.rename)] if draft.rename is not None else [])]
        if login := next((each.after for each in edit.differences if each.field == "login"), ()):
            steps, findings = personal_groups.follow(self._context, entry, login[0])
            edit.steps += steps
            edit.findings += findings
        return edit

    def _assign(self, draft: _Draft, assignment: Assignment) -> None:
        """Take one assignment into the draft."""
        edit = draft.edit
        if assignment.raw:
            self._raw(draft, assignment)
            return
        field = self._context.fields.named(assignment.field, edit.object_type or None)
        match field:
            case Field(shape=Shape.SECRET):
                pass
            case Field(shape=Shape.MEMBERSHIPS):
                draft.memberships.append(assignment)
            case Field(shape=Shape.ROLES):
                draft.memberships += role_groups(self._context, edit.entry, assignment)
            case Field(name="members"):
                self.memberships.of_group(edit, assignment)
            case Field(name="name"):
                draft.rename = self._rename(edit, assignment)
            case _:
                before = draft.value(field.name)
                after = self._after(field, before, self._filled(edit, assignment), edit.object_type)
                draft.values[field.name] = addresses.normal(after) if field.name == "alias" else after

    def _filled(self, edit: Edit, assignment: Assignment) -> Assignment:
        """The assignment with what it builds from the object's own fields: ``web=https://x.example/{login}``."""
        if assignment.literal or not any("{" in value for value in assignment.values):
            return assignment
        values = entry_values(self._context, edit.entry)
        filled = tuple(self._context.charter.fill(value, values) for value in assignment.values)
        return structs.replace(assignment, values=filled)

    # --- one field

    def _field(self, draft: _Draft, field: Field, after: list[str]) -> None:
        """Write the values of a field into the draft, and find what speaks against them."""
        edit, before, context = draft.edit, draft.before[field.name], self._context
        if after == before:
            return
        edit.findings += self._judge(field, tuple(after), edit.object_type)
        if field.name == "enabled" or not context.dialect.attribute(field.name, edit.object_type):
            edit.findings += context.not_kept(edit.object_type, {field.name: after}, (field.name,), edit.entry)
        entry = Entry(draft.after.dn, dict(draft.after.attributes))
        context.dialect.write(entry, field.name, after)
        if not difference(draft.after, entry):
            return
        draft.after = entry
        if field.shape is Shape.REFERENCE:
            old, new = self._namesakes.around(before, after, of_many=self._of_many)
        else:
            old, new = (tuple(shown_values(field, values)) for values in (before, after))
        edit.differences.append(FieldChange(field.name, old, new))
        edit.findings += self._speaks_against(draft, field, before, after)
        for value in after:
            if value not in before:
                self._take(edit, field.name, value)

    def _speaks_against(self, draft: _Draft, field: Field, before: list[str], after: list[str]) -> list[Finding]:
        """What a change of this field brings with it, beyond what is wrong with its values."""
        edit, name, where, context = draft.edit, field.name, Location(field=field.name), self._context
        findings: list[Finding] = []
        if not after and name in self._required(edit):
            what = f"{name} is required, and cannot be cleared"
            findings.append(Finding(Code.REQUIRED, what, where, f"set it: {name}=..."))
        if name in ("purpose", "scope"):
            findings += conversion(context, edit.entry, name, "".join(before), "".join(after))
        if name == "principal" and (suffix := context.unregistered_suffix("".join(after))):
            # At creation it is only told; who changes names means others to use them.
            what = f"{suffix} is not registered on the server, so nobody else can use the name"
            remedy = f"vandrel suffixes register {suffix}, or take another one"
            findings.append(Finding(Code.REFUSED, what, where, remedy))
        if name == "locked" and after == ["yes"]:
            what, remedy = "only bad attempts lock an account", "to keep somebody out, disable the account"
            findings.append(Finding(Code.BAD_VALUE, what, where, remedy))
        is_enabled = name == "enabled" and after == ["yes"] and "password" not in draft.assigned
        if is_enabled and not (has := context.dialect.has_password(edit.entry)):
            who = context.label(edit.entry)
            unseen = f"whether {who} has a password is not shown to this identity; without one it lets nobody log on"
            what = unseen if has is None else f"{who} has no password, so enabling it lets nobody log on"
            findings.append(Finding(Code.REFUSED, what, where, "give one as well: password=generate", NOTE))
        if name in NAMED and edit.object_type == ACCOUNT and self._is_reserved(edit, name, after):
            what = f"{after[0]} is reserved by the charter, and nobody's"
            findings.append(Finding(Code.REFUSED, what, where, f"give another: {name}=..."))
        if name == "delegation":
            findings += reach_of_tasks(context, edit.entry.dn, [word for word in after if word not in before])
        if name == "primary" and after:
            key = names.parse(after[0]).key
            if key not in {group.dn.key for group in context.groups_of(edit.entry)}:
                what = f"{context.label(edit.entry)} is not a member of {names.parse(after[0]).name}"
                remedy = f"let it join first: vandrel edit {context.typed(edit.entry.dn)} groups+=GROUP"
                findings.append(Finding(Code.REFUSED, what, where, remedy))
        if name == "number" and edit.object_type == ACCOUNT:
            kind = next(iter(context.dialect.read(draft.after, "kind")), "")
            findings += self._numbers.check(kind, "".join(after), edit.entry.dn)
        if name in _PARTS_OF_NAMES:
            findings += self._names_that_stay(edit, name, draft.assigned)
        return findings

    def _judged(self, field: Field, values: tuple[str, ...], object_type: str) -> list[Finding]:
        return field_values.check(self._context, field, values, object_type)

    def _required(self, edit: Edit) -> set[str]:
        kind = self._context.charter.document.kinds.get(self._context.one(edit.entry, "kind"))
        return {"login", *kind.requires} if kind and edit.object_type == ACCOUNT else set()

    def _take(self, edit: Edit, name: str, value: str) -> None:
        """See to it that a name that must be unique is free, and reserve it."""
        if not self._context.dialect.unique_forms(name, value):
            return
        if why := self.allocator.why_taken(name, value, edit.entry.dn):
            what, remedy = f"{value} is {why}", f"give another: {name}=..."
            edit.findings.append(Finding(Code.TAKEN, what, Location(field=name), remedy))
        self.allocator.reserve(name, value, edit.entry.dn)

    def _is_reserved(self, edit: Edit, name: str, after: Sequence[str]) -> bool:
        kind = self._context.one(edit.entry, "kind")
        rule = self._context.charter.naming(name, kind if kind in self._context.charter.document.kinds else "")
        return bool(after) and rule.reserves(after[0])

    def _names_that_stay(self, edit: Edit, name: str, assigned: Collection[str]) -> list[Finding]:
        kind = self._context.one(edit.entry, "kind")
        if edit.object_type != ACCOUNT or kind not in self._context.charter.document.kinds:
            return []
        rules = {target: self._context.charter.naming(target, kind) for target in NAMED if target not in assigned}
        stay = [t for t, rule in rules.items() if name in rule.fields() and self._context.one(edit.entry, t)]
        if not stay:
            return []
        what = f"the names built from {name} stay as they are: {', '.join(stay)}"
        remedy = "vandrel rename lets them follow; or set them as well"
        return [Finding(Code.REFUSED, what, Location(field=name), remedy, NOTE)]

    def _after(self, field: Field, before: list[str], assignment: Assignment, object_type: str) -> list[str]:
        """The values of a field after one assignment."""
        if assignment.literal and field.shape is Shape.REFERENCE:
            return list(assignment.values)
        if assignment.operator == "=":
            return field_values.read(self._context, field, assignment.values, object_type)
        if not field.many:
            raise VandrelError(
                Code.BAD_VALUE, f"{field.name} has one value, so {assignment.operator} does not fit",
                where=Location(field=field.name),
                remedy=f"write {field.name}=... to set it, {field.name}= to clear it",
            )  # fmt: skip
        if assignment.operator == "+=":
            new = field_values.read(self._context, field, assignment.values, object_type)
            have = {prepare(value) for value in before}
            return before + [value for value in new if prepare(value) not in have]
        to_remove = {self._which(field, before, typed) for typed in assignment.values}
        return [value for value in before if value not in to_remove]

    def _which(self, field: Field, before: list[str], typed: str) -> str:
        """The present value that `typed` means: the value itself, or the only one that has it in it."""
        typed_value = str(resolve(self._context, typed).dn) if field.shape is Shape.REFERENCE else typed
        exact = [value for value in before if prepare(value) == prepare(typed_value)]
        loose = exact or [value for value in before if prepare(typed_value) in prepare(value)]
        if len(loose) == 1:
            return loose[0]
        have = ", ".join(before) if before else "no value"
        code, what = (Code.AMBIGUOUS, "fits several values") if loose else (Code.NOT_FOUND, "is no value")
        raise VandrelError(
            code, f"{typed!r} {what} of {field.name}", where=Location(field=field.name), remedy=f"it has: {have}"
        )

    # --- the entry's own name, and raw attributes

    def _named_anew(self, draft: _Draft, changes: list[Change]) -> list[Change]:
        """The changes without that of the value which names the entry: a rename makes it."""
        old = draft.edit.entry.dn
        attribute = self._context.directory.schema.attribute_name(old.naming_attribute)
        remaining = []
        for change in changes:
            if change.attribute != attribute or old.name not in change.removed or not change.added:
                remaining.append(change)
                continue
            value = str(change.added[0])
            self._follow(draft, value)
            removed = tuple(each for each in change.removed if each != old.name)
            added = tuple(each for each in change.added if each != value)
            remaining += [structs.replace(change, removed=removed, added=added)] if removed or added else []
        if draft.edit.object_type == ACCOUNT and self._context.charter.document.named_by == "login":
            before, after = (self._context.one(entry, "login") for entry in (draft.edit.entry, draft.after))
            if before != after and before == old.name:
                self._follow(draft, after)
        return remaining

    def _follow(self, draft: _Draft, value: str) -> None:
        """Rename the entry, unless that is asked for anyhow."""
        if draft.rename is None:
            draft.rename = self._rename(draft.edit, Assignment("name", "=", (value,)))

    def _rename(self, edit: Edit, assignment: Assignment) -> DN | None:
        if assignment.operator != "=" or len(assignment.values) != 1:
            raise VandrelError(
                Code.BAD_VALUE, "name takes exactly one value", where=Location(field="name"), remedy="write name=..."
            )
        value = assignment.values[0].strip()
        edit.findings += self._judge(self._context.fields["name"], (value,), edit.object_type)
        old = edit.entry.dn
        new = old.parent.child(old.naming_attribute, value)
        if str(new) == str(old):
            return None
        if new != old and (why := self.allocator.why_sibling(new)):
            where = Location(field="name")
            edit.findings.append(Finding(Code.TAKEN, f"{value} is {why}", where, "give another: name=..."))
        edit.differences.append(FieldChange("name", (old.name,), (value,)))
        return new

    def _raw(self, draft: _Draft, assignment: Assignment) -> None:
        """Take an assignment to a raw attribute into the draft."""
        schema, typed, where = self._context.directory.schema, assignment.field[1:], Location(field=assignment.field)
        name = schema.attribute_name(typed)
        if not name:
            hint = did_you_mean(typed, schema.attribute_names())
            raise VandrelError(Code.UNKNOWN_FIELD, f"the schema has no attribute {typed!r}", where=where, remedy=hint)
        if schema.is_binary(name):
            remedy = "password=ask asks for a password" if name == "userPassword" else ""
            raise VandrelError(Code.BAD_VALUE, f"{name} holds octets and cannot be typed", where=where, remedy=remedy)
        if is_secret(name) and assignment.values:
            what = f"{name} is secret, and is never given on the command line, where other people can see it"
            raise VandrelError(Code.USAGE, what, where=where, remedy="take it in from a file: vandrel load FILE")
        before = draft.after.values_of(name)
        after = _raw_values(before, assignment, {schema.key(name, v): v for v in assignment.values}, {
            value: schema.key(name, value) for value in before
        })  # fmt: skip
        if after == before:
            return
        draft.raw.add(name)
        draft.edit.differences.append(FieldChange(f"@{name}", tuple(map(str, before)), tuple(map(str, after))))
        if after:
            draft.after.attributes[name] = after
        else:
            draft.after.attributes.pop(name, None)

    def _wrong_with_raw(self, before: Entry, after: Entry) -> list[Finding]:
        """What is wrong with an entry as a whole once raw attributes are changed, and was not before.

        Single values are looked at with the steps.
        """
        schema, where = self._context.directory.schema, Location(dn=str(before.dn))
        earlier = set(schema.check_entry(before.attributes, where))
        new_findings = [finding for finding in schema.check_entry(after.attributes, where) if finding not in earlier]
        for attribute, value in before.dn.rdn:
            remaining = {schema.key(attribute, each) for each in after.values_of(schema.attribute_name(attribute))}
            if schema.key(attribute, value) not in remaining:
                what = f"{before.dn.name} is the name of the entry, and stays among the values of {attribute}"
                remedy = f"another name: vandrel edit {self._context.typed(before.dn)} name=..."
                new_findings.append(Finding(Code.SCHEMA, what, where, remedy))
        return new_findings


def _raw_values(
    before: Sequence[Value], assignment: Assignment, typed: Mapping[object, Value], keys: Mapping[Value, object]
) -> list[Value]:
    """The values of an attribute after an assignment; one that differs in spelling alone is replaced."""
    if assignment.operator == "-=":
        return [value for value in before if keys[value] not in typed]
    remaining = [
        value for value in before
        if typed.get(keys[value], value) == value and (assignment.operator == "+=" or keys[value] in typed)
    ]  # fmt: skip
    return [*remaining, *(value for value in typed.values() if value not in remaining)]
