"""Moving accounts, groups, computers and whole units, with what follows from the new place."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from msgspec import Struct

from vandrel.charter.document import Kind
from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.place import Place
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, GROUP, UNIT
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.name_allocator import NameAllocator
from vandrel.jobs.common.proposal import FieldChange, Proposal
from vandrel.jobs.common.selection import Selection, select
from vandrel.jobs.hierarchy.policies import reaching
from vandrel.objects.context import Context
from vandrel.objects.delegation import reaching as delegations
from vandrel.objects.pattern_values import entry_values
from vandrel.steps.step import Rename
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare


class MoveRequest(Struct, frozen=True):
    """What to move where; with `fields_follow`, fields and default groups follow the new place."""

    selection: Selection
    destination: str
    fields_follow: bool = True


def move(context: Context, request: MoveRequest) -> Proposal:
    """Propose moves to one place.

    Raises:
        VandrelError: what `Mover` and selecting raise.

    """
    mover = Mover(context, request.destination)
    entries = select(context, request.selection)
    edits = [mover.move(entry, fields_follow=request.fields_follow) for entry in entries]
    return propose(context, edits, (), "move")


def _as_place(context: Context, typed: str) -> str:
    """A destination that was typed as a distinguished name, as a place."""
    if typed.startswith("/") or "=" not in typed:
        return typed
    place = context.place(names.parse(typed))
    return place if place.startswith("/") else typed


class Mover:
    """Works out moves to one destination, given exactly."""

    def __init__(self, context: Context, destination: str) -> None:
        """Find the destination.

        Raises:
            VandrelError: ``bad-name`` for what is no place; ``not-found`` where there is no such unit.

        """
        self._context = context
        self._editor = Editor(context)
        self._register = NameAllocator(context)
        self.place = places.parse(_as_place(context, destination))
        self.dn = places.to_dn(self.place, context.charter.base)
        if not context.directory.existing([self.dn]):
            units = context.directory.search(context.charter.base, where=context.dialect.filter_for(UNIT))
            hint = did_you_mean(destination, [context.place(entry.dn) for entry in units])
            raise VandrelError(
                Code.NOT_FOUND, f"there is no unit {destination}", where=Location(place=destination),
                remedy=hint or "vandrel tree shows the places; vandrel hierarchy build makes those of the charter",
            )  # fmt: skip

    def free_name(self, entry: Entry) -> str:
        """The name that an account can have there: its own, or where a sibling has that, the charter's next."""
        context, kind = self._context, self._context.one(entry, "kind")

        def why(name: str) -> str:
            dn = self.dn.child(entry.dn.naming_attribute, name)
            return "" if dn == entry.dn else self._register.why_sibling(dn)

        if not why(entry.dn.name) or kind not in context.charter.document.kinds:
            return entry.dn.name
        return context.charter.naming("name", kind).choose(entry_values(context, entry), why).chosen.value

    def move(self, entry: Entry, *, fields_follow: bool = True, name: str = "") -> Edit:
        """Work out one move; with `fields_follow`, fields and default groups follow the new place."""
        context, object_type = self._context, self._context.dialect.object_type_of(entry)
        new = self.dn.child(entry.dn.naming_attribute, name or entry.dn.name)
        assignments = self._following(entry) if object_type == ACCOUNT and fields_follow else []
        edit = self._editor.edit(entry, assignments)
        if new == entry.dn:
            return edit
        edit.differences.insert(0, FieldChange("place", (context.place(entry.dn.parent),), (context.place(self.dn),)))
        edit.steps.append(Rename(entry.dn, new))
        edit.findings += self._findings(entry, object_type, new)
        before, after = (tuple(map(str, reaching(context, dn))) for dn in (entry.dn.parent, self.dn))
        if before != after:
            edit.differences.append(FieldChange("policies", before, after))
        before, after = (tuple(delegations(context, dn)) for dn in (entry.dn.parent, self.dn))
        if before != after:
            edit.differences.append(FieldChange("delegation", before, after))
        edit.findings += self._passwords(entry, object_type)
        return edit

    def _findings(self, entry: Entry, object_type: str, new: DN) -> list[Finding]:
        context, findings = self._context, []
        where = Location(place=context.place(entry.dn))
        if self.dn.is_within(entry.dn):
            findings.append(Finding(Code.REFUSED, "an object cannot be moved below itself", where))
        elif why := self._register.why_sibling(new):
            findings.append(Finding(Code.TAKEN, f"{entry.dn.name} is {why}", where, "rename one of the two first"))
        self._register.reserve_name(new)
        unit = context.charter.designed(self.place)
        kind = context.one(entry, "kind") if object_type == ACCOUNT else object_type
        if object_type == UNIT:
            findings += self._unit(entry, new)
        elif object_type != GROUP and unit is not None and unit.holds and kind not in unit.holds:
            what = f"{places.to_text(self.place)} is designed for {' and '.join(unit.holds)}, not for {kind}"
            findings.append(Finding(Code.REFUSED, what, where, severity=NOTE))
        return findings

    def _passwords(self, entry: Entry, object_type: str) -> list[Finding]:
        """That the password rules stay, which hang on the kind, the groups and the domain, never on the place."""
        if object_type != ACCOUNT:
            return []
        rules = self._context.rules_for(entry).rules
        what = f"the password rules stay as they are: {rules['length'].value} characters or more"
        return [Finding(Code.REFUSED, what, Location(place=self._context.place(entry.dn)), severity=NOTE)]

    def _unit(self, entry: Entry, new: DN) -> list[Finding]:
        context = self._context
        below = (other for other in context.directory.search(entry.dn) if other.dn != entry.dn)
        counts = Counter(context.dialect.object_type_of(other) or "other object" for other in below)
        contents = ", ".join(
            f"{number} {object_type}{'s' * (number != 1)}" for object_type, number in sorted(counts.items())
        )
        findings = [
            Finding(
                Code.REFUSED,
                f"everything below moves along: {contents or 'nothing'}",
                Location(place=context.place(entry.dn)),
                severity=NOTE,
            )
        ]
        place = places.parse(context.place(new))
        if context.charter.designed(place) is None:
            what = f"{places.to_text(place)} is not in the charter's hierarchy"
            findings.append(
                Finding(
                    Code.REFUSED,
                    what,
                    Location(place=context.place(entry.dn)),
                    "change the charter as well",
                    severity=NOTE,
                )
            )
        return findings

    # --- what follows from the place

    def _following(self, entry: Entry) -> list[Assignment]:
        """Fields that the kind's rule reads off the place, and its groups: those of the old place go, the new come."""
        context = self._context
        kind = context.charter.document.kinds.get(context.one(entry, "kind"))
        words = _read_off(context, kind, self.place) if kind else None
        if kind is None or words is None:
            return []
        now = entry_values(context, entry)
        changed = {name: value for name, value in words.items() if now.get(name, "") != value}
        if not changed:
            return []
        then = now | changed
        groups = zip(kind_groups(context, kind, now), kind_groups(context, kind, then), strict=True)
        assignments = [Assignment(name, "=", (value,)) for name, value in changed.items()]
        return assignments + follow_groups(context, entry, groups)


def kind_groups(context: Context, kind: Kind, values: dict[str, str]) -> list[str]:
    """The groups that accounts of a kind with these fields join; empty for one whose pattern needs an empty field."""
    return [_filled(context, pattern, values) for pattern in kind.groups]


def follow_groups(context: Context, entry: Entry, groups: Iterable[tuple[str, str]]) -> list[Assignment]:
    """Leave the old and join the new group of each pair of names that differ, either of them empty perhaps."""
    member = {
        group.dn.name
        for group in context.directory.search(
            context.charter.base, where=context.dialect.groups_filter(entry), only=["cn"]
        )
    }
    pairs = [(old, new) for old, new in groups if old != new]
    stays = {new for _, new in pairs}
    leave = tuple(old for old, _ in pairs if old in member and old not in stays)
    join = tuple(new for _, new in pairs if new and new not in member)
    join_leave = (Assignment("groups", "+=", join), Assignment("groups", "-=", leave))
    return [assignment for assignment in join_leave if assignment.values]


def take_place(edit: Edit, moved: Edit) -> None:
    """Add a move to an edit, without what follows from any place: who it is delegated to, and for whom it is made."""
    edit.differences[:0] = [each for each in moved.differences if each.field in ("place", "name")]
    edit.steps += moved.steps
    edit.findings += [finding for finding in moved.findings if finding.is_fatal]


def _read_off(context: Context, kind: Kind, place: Place) -> dict[str, str] | None:
    """The fields that the pattern of a kind's place takes from this one; None where the place does not fit it."""
    steps = [step for step in kind.place.split("/") if step]
    if len(steps) != len(place):
        return None
    words: dict[str, str] = {}
    for step, word in zip(steps, place, strict=True):
        if step.startswith("{") and step.endswith("}") and step[1:-1] in context.fields:
            words[step[1:-1]] = word
        elif prepare(step) != prepare(word):
            return None
    return words


def _filled(context: Context, pattern: str, values: dict[str, str]) -> str:
    try:
        return context.charter.fill(pattern, values)
    except VandrelError:  # a field that it needs is empty: no such group
        return ""
