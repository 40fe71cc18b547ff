"""Editing: assignments to fields and raw attributes of one object or several."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from functools import lru_cache

import msgspec
from msgspec import Struct, structs

from vandrel.charter.passwords import PasswordRules
from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.operations import Change
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError, are_fatal
from vandrel.fields import ACCOUNT, FIELDS, GROUP, NAMED, Field, Shape
from vandrel.fields import field as field_named
from vandrel.jobs.accounts import roles
from vandrel.jobs.common import field_values as given_values
from vandrel.jobs.common.assignments import Assignment
from vandrel.objects.context import Context
from vandrel.jobs.common.name_allocator import NameAllocator
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.groups.membership import conversion, joining
from vandrel.steps.references import with_references
from vandrel.steps.step import Rename, Set, Step
from vandrel.text import addresses, octets
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare

#: Members up to which each comes or goes by itself.
_ONE_BY_ONE = 100

_FLAGS = ("change", "password-fixed", "password-never-expires")


class Difference(Struct, frozen=True):
    """What happens to one field of one object: its values before and after, as people read them."""

    field: str
    before: tuple[str, ...]
    after: tuple[str, ...]


class Edit(Struct):
    """The change to one object, worked out: what differs, and the steps that make it so."""

    entry: Entry
    object_type: str
    differences: list[Difference] = msgspec.field(default_factory=list)
    steps: list[Step] = msgspec.field(default_factory=list)
    findings: list[Finding] = msgspec.field(default_factory=list)
    #: Whether its steps do not hang together: a member that is refused does not keep the others out.
    apart: bool = False
    #: Members and groups that a rule refused, while the others go on.
    left_out: int = 0

    def value(self, context: Context, field: str) -> str:
        """The first value of a field as it will be: who takes an account over logs on by the new name."""
        after = next((d.after for d in self.differences if d.field == field), None)
        return context.one(self.entry, field) if after is None else next(iter(after), "")

    def steps_for_members(self, context: Context, add: Sequence[DN], remove: Sequence[DN]) -> bool:
        """Add the steps by which these come into the group and those leave it; whether there are any.

        A few go one by one, so that a server that refuses one of them takes the others all the same.
        """
        few = len(add) + len(remove) <= _ONE_BY_ONE
        parts = [((dn,), ()) for dn in add] + [((), (dn,)) for dn in remove] if few else [(tuple(add), tuple(remove))]
        group = self.entry
        for come, go in parts:
            changes = context.dialect.member_change(group, come, go)
            if changes:
                self.steps.append(Set(group.dn, tuple(changes)))
                group = _changed(group, changes)
        self.apart = self.apart or len(parts) > 1
        return group is not self.entry


def _changed(entry: Entry, changes: Sequence[Change]) -> Entry:
    """The entry as it is after these changes."""
    attributes = dict(entry.attributes)
    for change in changes:
        kept = [value for value in attributes.get(change.attribute, []) if value not in change.removed]
        attributes[change.attribute] = [*kept, *change.added]
    return Entry(entry.dn, attributes)


def password_rules(context: Context, entry: Entry) -> PasswordRules:
    """The password rules in force for an account."""
    return context.password_rules(context.one(entry, "kind"), entry)


def in_order(context: Context, edits: Sequence[Edit], passwords: Sequence[Step] = ()) -> list[Step]:
    """The steps of several edits as one plan.

    Renames come last, because every other step knows the objects by their old names; and after each, what keeps the
    names right that point at the object.
    """
    steps = [step for edit in edits for step in edit.steps]
    renames = [step for step in steps if isinstance(step, Rename)]
    others = [step for step in steps if not isinstance(step, Rename)]
    return with_references(context.directory, context.dialect, [*others, *passwords, *renames])


class Editor:
    """Works out edits for one request."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._register = NameAllocator(context)
        # One request mostly gives many objects the same values.
        self._judge = lru_cache(maxsize=1024)(self._judged)
        #: Groups as the edits so far leave them.
        self._left: dict[str, Entry] = {}

    def edit(self, entry: Entry, assignments: Sequence[Assignment]) -> Edit:
        """Work out what the assignments change on one object; an assignment that changes nothing leaves no step.

        Raises:
            VandrelError: ``unknown-field``, ``bad-value``, ``not-found``, ``ambiguous``.

        """
        edit = Edit(entry, self._context.dialect.object_type_of(entry))
        changes: dict[str, Change] = {}
        rename: DN | None = None
        values: dict[str, list[str]] = {}
        present: dict[str, list[str]] = {}
        memberships: list[Assignment] = []
        for assignment in assignments:
            if assignment.raw:
                self._collect(changes, self._raw(edit, assignment))
                continue
            known = field_named(assignment.field, edit.object_type or None)
            if known.shape is Shape.SECRET:
                continue
            if known.shape is Shape.MEMBERSHIPS:
                memberships.append(assignment)
            elif known.shape is Shape.ROLES:
                memberships += roles.as_groups(self._context, entry, assignment)
            elif known.name == "members":
                self._members(edit, assignment)
            elif known.name == "name":
                rename = self._rename(edit, assignment)
            else:
                # phone=1 phone+=2: each goes on from where the one before it stopped.
                before = values.get(known.name)
                if before is None:
                    before = present[known.name] = self._context.dialect.read(entry, known.name)
                after = self._after(known, before, self._own(edit, assignment), edit.object_type)
                values[known.name] = addresses.normal(after) if known.name == "alias" else after
        if memberships:
            self._groups(edit, memberships)
            self._roles(edit)
        given = {assignment.field for assignment in assignments}
        for name, after in values.items():
            self._collect(changes, self._field(edit, FIELDS[name], present[name], after, given))
        if edit.object_type == ACCOUNT and given & {"change", "password-fixed", "password-never-expires"}:
            flags = {name: values.get(name) or self._context.dialect.read(entry, name) for name in _FLAGS}
            edit.findings += given_values.contradictions(flags)
        own: list[Step] = []
        if changes:
            own.append(Set(entry.dn, tuple(changes.values())))
        if rename is not None:
            own.append(Rename(entry.dn, rename))
        # First the object, then the groups that take it in; a rename comes last, so that all names hold until then.
        edit.steps = [*own[:1], *edit.steps, *own[1:]]
        return edit

    def _own(self, edit: Edit, assignment: Assignment) -> Assignment:
        """The assignment with what it builds from the object's own fields: ``web=https://x.example/{login}``."""
        if assignment.literal or not any("{" in value for value in assignment.values):
            return assignment
        charter = self._context.charter
        values = {**dict.fromkeys(FIELDS, ""), "domain": charter.domain, "suffix": charter.domain}
        for name in FIELDS:
            values[name] = self._context.one(edit.entry, name) or values[name]
        filled = tuple(charter.fill(value, values) for value in assignment.values)
        return structs.replace(assignment, values=filled)

    @staticmethod
    def _collect(changes: dict[str, Change], more: list[Change]) -> None:
        for new in more:
            change, before = new, changes.get(new.attribute)
            if before is not None:
                change = Change(change.attribute, before.removed + change.removed, before.added + change.added)
            changes[change.attribute] = change

    # --- one field

    def _field(
        self, edit: Edit, known: Field, before: list[str], after: list[str], assigned: Collection[str]
    ) -> list[Change]:
        edit.findings += self._judge(known, tuple(after), edit.object_type)
        if after != before and not self._context.dialect.attribute(known.name, edit.object_type):
            edit.findings += self._context.not_kept(edit.object_type, {known.name: after}, (known.name,))
        changes = self._context.dialect.changes(edit.entry, known.name, after)
        if not changes:
            return []
        if not after and known.name in self._required(edit):
            what = f"{known.name} is required, and cannot be cleared"
            edit.findings.append(Finding(Code.REQUIRED, what, Location(field=known.name), f"set it: {known.name}=..."))
        edit.differences.append(Difference(known.name, self._say(known, before), self._say(known, after)))
        if known.name in ("purpose", "scope"):
            edit.findings += conversion(self._context, edit.entry, known.name, "".join(before), "".join(after))
        if known.name == "principal" and (suffix := self._context.unregistered_suffix("".join(after))):
            # At birth it is only told; who changes names means others to use them.
            what = f"{suffix} is not registered on the server, so nobody else can use the name"
            remedy = "have it registered first (uPNSuffixes), or take another suffix"
            edit.findings.append(Finding(Code.REFUSED, what, Location(field="principal"), remedy))
        if known.name == "locked" and after == ["yes"]:
            what = "only bad attempts lock an account"
            edit.findings.append(
                Finding(Code.BAD_VALUE, what, Location(field="locked"), "to keep somebody out, disable the account")
            )
        if known.name == "enabled" and after == ["yes"] and not self._context.dialect.has_password(edit.entry):
            what = f"{self._context.label(edit.entry)} has no password, so enabling it lets nobody log on"
            edit.findings.append(
                Finding(
                    Code.REFUSED, what, Location(field="enabled"), "give one as well: password=generate", severity=NOTE
                )
            )
        for value in after:
            if value not in before:
                self._free(edit, known.name, value)
        if known.name in NAMED and edit.object_type == ACCOUNT and self._is_reserved(edit, known.name, after):
            what = f"{after[0]} is reserved by the charter, and nobody's"
            edit.findings.append(
                Finding(Code.REFUSED, what, Location(field=known.name), f"give another: {known.name}=...")
            )
        if known.name in ("given", "middle", "surname", "generation"):
            self._names_that_stay(edit, known.name, assigned)
        return changes

    def _judged(self, known: Field, values: tuple[str, ...], object_type: str) -> list[Finding]:
        return given_values.check(self._context, known, values, object_type)

    def _required(self, edit: Edit) -> set[str]:
        kind = self._context.charter.document.kinds.get(self._context.one(edit.entry, "kind"))
        return {"login", *kind.requires} if kind and edit.object_type == ACCOUNT else set()

    def _say(self, known: Field, values: Sequence[str]) -> tuple[str, ...]:
        if known.shape is Shape.OCTETS:
            return tuple(map(octets.told, values))
        if known.shape is not Shape.REFERENCE:
            return tuple(f"{value} {known.unit}" if known.unit else value for value in values)
        return tuple(names.parse(value).name for value in values)

    def _free(self, edit: Edit, name: str, value: str) -> None:
        if not self._context.dialect.unique_forms(name, value):
            return
        if why := self._register.why_taken(name, value, edit.entry.dn):
            edit.findings.append(
                Finding(Code.TAKEN, f"{value} is {why}", Location(field=name), f"give another: {name}=...")
            )
        self._register.reserve(name, value, edit.entry.dn)

    def _is_reserved(self, edit: Edit, name: str, after: Sequence[str]) -> bool:
        kind = self._context.one(edit.entry, "kind")
        rule = self._context.charter.naming(name, kind if kind in self._context.charter.document.kinds else "")
        return bool(after) and rule.reserves(after[0])

    def _names_that_stay(self, edit: Edit, name: str, assigned: Collection[str]) -> None:
        kind = self._context.one(edit.entry, "kind")
        if edit.object_type != ACCOUNT or kind not in self._context.charter.document.kinds:
            return
        stay = [
            t
            for t in NAMED
            if t not in assigned
            and name in self._context.charter.naming(t, kind).fields()
            and self._context.one(edit.entry, t)
        ]
        if stay:
            what = f"the names built from {name} stay as they are: {', '.join(stay)}"
            edit.findings.append(
                Finding(
                    Code.REFUSED,
                    what,
                    Location(field=name),
                    "vandrel rename lets them follow; or set them as well",
                    severity=NOTE,
                )
            )

    def _after(self, known: Field, before: list[str], assignment: Assignment, object_type: str) -> list[str]:
        if assignment.literal and known.shape is Shape.REFERENCE:
            return list(assignment.values)
        if assignment.operator == "=":
            return given_values.read(self._context, known, assignment.values, object_type)
        if not known.many:
            raise VandrelError(
                Code.BAD_VALUE,
                f"{known.name} has one value, so {assignment.operator} does not fit",
                where=Location(field=known.name),
                remedy=f"write {known.name}=... to set it, {known.name}= to clear it",
            )
        if assignment.operator == "+=":
            new = given_values.read(self._context, known, assignment.values, object_type)
            have = {prepare(value) for value in before}
            return before + [value for value in new if prepare(value) not in have]
        gone = {self._which(known, before, typed) for typed in assignment.values}
        return [value for value in before if value not in gone]

    def _which(self, known: Field, before: list[str], typed: str) -> str:
        """The present value that `typed` means: the value itself, or the only one that has it in it."""
        wanted = str(resolve(self._context, typed).dn) if known.shape is Shape.REFERENCE else typed
        exact = [value for value in before if prepare(value) == prepare(wanted)]
        loose = exact or [value for value in before if prepare(wanted) in prepare(value)]
        if len(loose) == 1:
            return loose[0]
        have = ", ".join(before) if before else "no value"
        code, what = ("ambiguous", "fits several values") if loose else ("not-found", "is no value")
        raise VandrelError(
            code, f"{typed!r} {what} of {known.name}", where=Location(field=known.name), remedy=f"it has: {have}"
        )

    # --- memberships, from either side

    def _groups(self, edit: Edit, assignments: Sequence[Assignment]) -> None:
        """Memberships from the member's side: all assignments together, one after the other."""
        context, dn = self._context, edit.entry.dn
        where = context.dialect.groups_filter(edit.entry)
        now = {group.dn.key: group for group in context.directory.search(context.charter.base, where=where)}
        then = dict(now)
        for assignment in assignments:
            typed = {g.dn.key: g for g in (resolve(context, name, (GROUP,)) for name in assignment.values)}
            if assignment.operator == "-=":
                then = {key: group for key, group in then.items() if key not in typed}
            else:
                then = (then if assignment.operator == "+=" else {}) | typed
        new = [(group, edit.entry) for key, group in then.items() if key not in now]
        join = [group for group, _ in self._joining(edit, new)]
        then = {key: group for key, group in then.items() if key in now or group in join}
        leave = [group for key, group in now.items() if key not in then]
        edit.apart = edit.apart or len(join) + len(leave) > 1
        for group in join:
            self._membership(edit, group, [dn], [])
        for group in leave:
            if not self._membership(edit, group, [], [dn]):
                what = f"{group.dn.name} is the primary group of {dn.name}, and cannot be left"
                edit.findings.append(
                    Finding(Code.REFUSED, what, Location(field="groups"), "set another one first: primary=...")
                )
        if join or leave:
            before, after = (tuple(sorted(g.dn.name for g in groups.values())) for groups in (now, then))
            edit.differences.append(Difference("groups", before, after))

    def _membership(self, edit: Edit, group: Entry, come: Sequence[DN], go: Sequence[DN]) -> bool:
        """Add the step by which these come into a group or leave it; whether there is one."""
        group = self._left.get(group.dn.key, group)
        changes = self._context.dialect.member_change(group, come, go)
        if changes:
            edit.steps.append(Set(group.dn, tuple(changes)))
            self._left[group.dn.key] = _changed(group, changes)
        return bool(changes)

    def _roles(self, edit: Edit) -> None:
        """Which roles come and go with the groups."""
        groups = next((d for d in edit.differences if d.field == "groups"), None)
        if groups is not None and self._context.charter.document.roles:
            before, after = (roles.held(self._context, names) for names in (groups.before, groups.after))
            if before != after:
                edit.differences.append(Difference("roles", tuple(before), tuple(after)))

    def _joining(self, edit: Edit, pairs: Sequence[tuple[Entry, Entry]]) -> list[tuple[Entry, Entry]]:
        """The (group, member) pairs that no rule is against. Of several, one that is refused does not stop the rest."""
        passed = []
        for group, member in pairs:
            found = list(joining(self._context, group, member))
            stops = are_fatal(found)
            if stops and len(pairs) > 1:
                edit.left_out += 1
                what = f"{member.dn.name} does not come into {group.dn.name}"
                found = [structs.replace(f, what=f"{what}: {f.what}", fatal=False) for f in found if f.is_fatal]
            edit.findings += found
            if not stops or len(pairs) == 1:
                passed.append((group, member))
        return passed

    def _members(self, edit: Edit, assignment: Assignment) -> None:
        context = self._context
        now = {prepare(value): value for value in context.dialect.members(edit.entry)}
        typed = [names.parse(name) if assignment.literal else resolve(context, name).dn for name in assignment.values]
        present = {names.parse(value).key: names.parse(value) for value in now.values()}
        wanted = {dn.key: dn for dn in typed}
        add = [dn for key, dn in wanted.items() if key not in present] if assignment.operator != "-=" else []
        remove: list[DN] = []
        if assignment.operator == "-=":
            remove = [dn for key, dn in present.items() if key in wanted]
        elif assignment.operator == "=":
            remove = [dn for key, dn in present.items() if key not in wanted]
        new = {dn: context.directory.get(dn) for dn in add}
        pairs = [(edit.entry, member) for member in new.values() if member is not None]
        add = [member.dn for _, member in self._joining(edit, pairs)]
        add += [dn for dn, member in new.items() if member is None]  # made by the same request
        if edit.steps_for_members(context, add, remove):
            after = [dn.name for key, dn in present.items() if dn not in remove] + [dn.name for dn in add]
            edit.differences.append(Difference("members", tuple(dn.name for dn in present.values()), tuple(after)))

    # --- the entry's own name, and raw attributes

    def _rename(self, edit: Edit, assignment: Assignment) -> DN | None:
        if assignment.operator != "=" or len(assignment.values) != 1:
            raise VandrelError(
                Code.BAD_VALUE, "name takes exactly one value", where=Location(field="name"), remedy="write name=..."
            )
        value = assignment.values[0].strip()
        edit.findings += self._judge(FIELDS["name"], (value,), edit.object_type)
        old = edit.entry.dn
        new = old.parent.child(old.naming_attribute, value)
        if str(new) == str(old):
            return None
        if new != old and (why := self._register.why_sibling(new)):
            edit.findings.append(
                Finding(Code.TAKEN, f"{value} is {why}", Location(field="name"), "give another: name=...")
            )
        edit.differences.append(Difference("name", (old.name,), (value,)))
        return new

    def _raw(self, edit: Edit, assignment: Assignment) -> list[Change]:
        schema = self._context.directory.schema
        typed = assignment.field[1:]
        name = schema.attribute_name(typed)
        if not name:
            raise VandrelError(
                Code.UNKNOWN_FIELD, f"the schema has no attribute {typed!r}", where=Location(field=assignment.field),
                remedy=did_you_mean(typed, schema.attribute_names()),
            )  # fmt: skip
        if schema.is_binary(name):
            remedy = "password=ask asks for a password" if name == "userPassword" else ""
            raise VandrelError(
                Code.BAD_VALUE,
                f"{name} holds octets and cannot be typed",
                where=Location(field=assignment.field),
                remedy=remedy,
            )
        before = edit.entry.values_of(name)
        now = {schema.key(name, value): value for value in before}
        typed_values: dict[str | bytes, Value] = {schema.key(name, value): value for value in assignment.values}
        if assignment.operator == "-=":
            removed = [value for key, value in now.items() if key in typed_values]
            added: list[Value] = []
        else:
            added = [value for key, value in typed_values.items() if now.get(key) != value]
            replaced = {schema.key(name, value) for value in added}
            removed = [
                value for key, value in now.items()
                if key in replaced or (assignment.operator == "=" and key not in typed_values)
            ]  # fmt: skip
        if not added and not removed:
            return []
        after = [value for value in before if value not in removed] + added
        edit.differences.append(Difference(f"@{name}", tuple(map(str, before)), tuple(map(str, after))))
        return [Change(name, tuple(removed), tuple(added))]
