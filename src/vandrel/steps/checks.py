"""The checks that hold for every change, whoever asks for it: schema, names, parents, references, protection."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, MutableMapping, MutableSet, Sequence
from collections.abc import Set as Keys
from functools import cached_property

from msgspec import structs

from vandrel.dialects.dialect import Dialect
from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory import place as places
from vandrel.directory.applied import applied
from vandrel.directory.dn import DN
from vandrel.directory.entry import Value
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory, EffectiveRights, other_identities
from vandrel.directory.spilled import Spill
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.steps.step import Add, Password, Remove, Rename, Set, Step

#: Objects of which a directory is asked beforehand what may be done with them.
_MOST_ASKED = 50


#: A value as stored, and the attributes and values that nobody else may have if it is to be had.
_Claim = tuple[str, list[tuple[str, str]]]


def still_protected(dialect: Dialect, dn: DN) -> Finding:
    """That an object is protected, and the command that releases it."""
    remedy = f"release first, on purpose: vandrel release {places.typed(dn, dialect.charter.base)}"
    return Finding(Code.PROTECTED, "protected from deletion, renaming and moves", Location(dn=str(dn)), remedy)


class Checks:
    """Checks steps batch by batch; what earlier batches will have made counts as there.

    The directory is asked once per batch and question, not once per step; only whether an object that is to be
    renamed or removed is protected is asked of it alone.
    """

    def __init__(
        self, directory: Directory, dialect: Dialect, entries: Keys[str] = frozenset(), coming: Container[str] = (),
        *, gives_back: bool = False, spill: Spill | None = None,
    ) -> None:  # fmt: skip
        """Prepare to check.

        `entries` are the keys of names that the request has just read, which so exist; `coming` those of objects that
        will be made, at which a step may point before. With `gives_back` the values are those that the directory held:
        what would be wrong with new ones is no more than a note. Of very many steps, what is known of all that are
        made can be kept in `spill`.
        """
        self._read = entries
        self._gives_back = gives_back
        self._directory = directory
        self._dialect = dialect
        self._schema = directory.schema
        self._added: MutableSet[str] = spill.set() if spill is not None else set()
        self._coming: MutableSet[str] = spill.set() if spill is not None else set()
        self._coming_besides = coming
        self._deleted: set[str] = set()
        self._moves: list[Rename] = []
        self._made_moves: list[Rename] = []
        self._rights: dict[str, EffectiveRights | None] = {}
        #: Who is given a unique value, by the attribute and the key of the value.
        self._given: MutableMapping[str, DN] = spill.map(DN) if spill is not None else {}
        #: What earlier steps change, by the key of the object's name.
        self._set: dict[str, list[Change]] = {}
        #: Unique values that earlier steps take away, by attribute and key, and from whom.
        self._given_up: set[tuple[str, str, str]] = set()
        self._unique = dialect.unique_attributes()

    def announce(self, steps: Iterable[Step]) -> None:
        """Tell of all objects that a plan makes and moves: what points at one may come before it."""
        for step in steps:
            if isinstance(step, Add):
                self._coming.add(step.dn.key)
            elif isinstance(step, Rename):
                self._moves.append(step)

    @staticmethod
    def _before(dn: DN, moves: Sequence[Rename]) -> DN:
        """The name that an object has now which these moves bring to `dn`, perhaps along with what holds it."""
        for move in reversed(moves):
            if dn.is_within(move.new):
                dn = dn.moved(move.new, move.dn)
        return dn

    def check(self, steps: Sequence[Step]) -> list[Finding]:
        """Everything that stands in the way of these steps."""
        existing = self._existing(steps)
        claims = [self._claims(step) for step in steps]
        owners = self._find_owners(claims)
        findings: list[Finding] = []
        for step, claimed in zip(steps, claims, strict=True):
            match step:
                case Add():
                    findings += self._add(step, existing)
                    findings += self._names_free(step.dn, claimed, owners)
                    self._added.add(step.dn.key)
                    self._deleted.discard(step.dn.key)
                case Set():
                    findings += self._changes(step, existing)
                    self._set.setdefault(step.dn.key, []).extend(step.changes)
                    findings += self._names_free(step.dn, claimed, owners)
                    self._give_up(step)
                case Rename():
                    findings += self._rename(step, existing)
                    findings += self._names_free(step.dn, claimed, owners)
                    self._added.add(step.new.key)
                    self._deleted.add(step.dn.key)
                    self._deleted.discard(step.new.key)
                    self._made_moves.append(step)
                case Remove():
                    findings += self._remove(step, existing)
                    self._deleted.add(step.dn.key)
                case Password():
                    findings += self._must_exist(step.dn, existing)
        return findings

    def are_named(self, steps: Iterable[Step]) -> bool:
        """Whether any of the steps gives a value that must be unique."""
        return any(forms for step in steps for _, forms in self._claims(step))

    def taken(self, steps: Sequence[Step]) -> list[Finding | None]:
        """For each step, the value of it that somebody has by now, or that an earlier step gives as well."""
        claims = [self._claims(step) for step in steps]
        holders = self._find_owners(claims)
        findings = []
        for step, claimed in zip(steps, claims, strict=True):
            findings.append(next(self._names_free(step.dn, claimed, holders), None))
            if isinstance(step, Set):
                self._give_up(step)
            elif isinstance(step, Rename | Remove):
                self._deleted.add(step.dn.key)
        return findings

    def _give_up(self, step: Set) -> None:
        for change in step.changes:
            if change.attribute in self._unique:
                for value in map(str, change.removed):
                    key = str(self._schema.key(change.attribute, value))
                    self._given_up.add((change.attribute, key, step.dn.key))

    def held_twice(self, steps: Iterable[Step]) -> list[Finding]:
        """A note of each unique value of these steps that somebody else has as well."""
        notes = []
        for step in steps:
            for value, forms in self._claims(step):
                for other in {holder for form in forms for holder in self._holders(*form)} - {step.dn}:
                    what = f"{value} was given to {other} at the same moment: both have it now"
                    remedy = "give one of them another: vandrel edit, or vandrel rename"
                    notes.append(Finding(Code.TAKEN, what, Location(dn=str(step.dn)), remedy, NOTE))
        return notes

    def _holders(self, attribute: str, stored: str) -> Iterator[DN]:
        where = filters.Compare(attribute, "=", stored)
        for context in self._directory.contexts:
            yield from (entry.dn for entry in self._directory.search(context, where=where, only=[attribute]))

    # --- asking the directory

    def _references(self, step: Step) -> Iterator[tuple[str, Value]]:
        if isinstance(step, Add):
            for name in self._schema.references_in(step.attributes):
                yield from ((name, value) for value in step.attributes[name])
        elif isinstance(step, Set):
            for change in step.changes:
                if self._schema.is_reference(change.attribute):
                    yield from ((change.attribute, value) for value in change.added)

    def _existing(self, steps: Iterable[Step]) -> set[str]:
        by_key: dict[str, DN] = {}
        for step in steps:
            by_key[step.dn.key] = step.dn
            if isinstance(step, Add):
                if step.dn.parent_key not in by_key:
                    by_key[step.dn.parent_key] = step.dn.parent
            elif isinstance(step, Rename):
                by_key[step.new.key] = step.new
                by_key[step.new.parent.key] = step.new.parent
            for _, value in self._references(step):
                target = names.name_in(value)
                if target:
                    by_key[target.key] = target
        if self._moves:
            by_key |= {old.key: old for old in [self._before(dn, self._moves) for dn in by_key.values()]}
        unknown = [dn for key, dn in by_key.items() if key not in self._added and key not in self._read]
        existing = {dn.key for dn in self._directory.existing(unknown)}
        if not self._directory.capabilities.answers:  # what is asked of those that are there is to be asked
            existing = {dn.key for dn in unknown}
        return existing | {key for key in by_key if key in self._read}

    def _claims(self, step: Step) -> list[_Claim]:
        """What the step adds and must be unique: the value as stored, and where it must not stand a second time."""
        claims: list[_Claim] = []
        if isinstance(step, Add):
            values_of = step.attributes
            for name in self._unique:
                if name in values_of:
                    claims += [self._claim(name, str(value)) for value in values_of[name]]
        elif isinstance(step, Set):
            for change in step.changes:
                if change.attribute in self._unique:
                    claims += [self._claim(change.attribute, str(value)) for value in change.added]
        elif isinstance(step, Rename) and step.new.rdn != step.dn.rdn:
            named = [(self._schema.attribute_name(attribute), value) for attribute, value in step.new.rdn]
            claims += [self._claim(name, str(value)) for name, value in named if name in self._unique]
        return claims

    def _claim(self, name: str, stored: str) -> _Claim:
        return stored, self._dialect.unique_forms(self._unique[name], self._dialect.unique_value(name, stored))

    def _find_owners(self, claims: Iterable[list[_Claim]]) -> dict[tuple[str, str], DN]:
        """Who holds what is claimed."""
        forms: dict[str, dict[str, None]] = {}
        for claimed in claims:
            for _, ways in claimed:
                for attribute, stored in ways:
                    forms.setdefault(attribute, {})[stored] = None
        return self._directory.find_owners(forms) if forms else {}

    # --- one step

    def _is_there(self, dn: DN, existing: set[str]) -> bool:
        if dn.key in self._deleted:
            return False
        if dn.key in existing or dn.key in self._added:
            return True
        return bool(self._made_moves) and self._before(dn, self._made_moves).key in existing

    def _must_exist(self, dn: DN, existing: set[str]) -> Iterator[Finding]:
        if not self._is_there(dn, existing):
            yield Finding(Code.NOT_FOUND, "there is no such object", Location(dn=str(dn)))

    def _add(self, step: Add, existing: set[str]) -> Iterator[Finding]:
        where = Location(dn=str(step.dn))
        if self._is_there(step.dn, existing):
            yield Finding(Code.TAKEN, "there is an object of this name already", where, "give it another name")
        yield from self._parent(step.dn, existing)
        yield from self._may_create(step)
        odd = [*self._schema.check_entry(step.attributes, where), *self._targets(step, existing)]
        yield from map(_held_before, odd) if step.as_held else odd

    def _parent(self, dn: DN, existing: set[str]) -> Iterator[Finding]:
        key = dn.parent_key
        if (key in existing or key in self._added) and key not in self._deleted:
            return
        parent = dn.parent
        if dn not in self._directory.contexts and not self._is_there(parent, existing):
            yield Finding(
                Code.NO_PARENT, f"there is no {parent} to hold it", Location(dn=str(dn)),
                "build it first: vandrel hierarchy build, or vandrel create unit",
            )  # fmt: skip

    def _targets(self, step: Step, existing: set[str]) -> Iterator[Finding]:
        for name, value in self._references(step):
            target = names.name_in(value)
            if target is None or not self._is_held(target):
                continue  # what stands elsewhere cannot be looked up here
            if not (
                target.key in self._coming or self._is_there(target, existing) or target.key in self._coming_besides
            ):
                yield Finding(
                    Code.DANGLING, f"{name} points at {target}, which does not exist", Location(dn=str(step.dn))
                )

    def _allowed(self, dn: DN) -> EffectiveRights | None:
        """What the identity may do there, where the directory tells: asked once an object, and of so many."""
        if dn.key not in self._rights and len(self._rights) < _MOST_ASKED:
            self._rights[dn.key] = self._directory.allowed(dn)
        return self._rights.get(dn.key)

    def _may_create(self, step: Add) -> Iterator[Finding]:
        key = step.dn.parent_key
        if key in self._added or step.dn in self._directory.contexts:
            return
        allowed = self._rights[key] if key in self._rights else self._allowed(step.dn.parent)
        if allowed is not None and not allowed.classes & {str(v) for v in step.attributes.get("objectClass", ())}:
            yield Finding(
                Code.NOT_PERMITTED,
                f"{allowed.who} may not create such an object in {step.dn.parent}",
                Location(dn=str(step.dn)),
                other_identities(allowed.others),
            )

    def _may_change(self, step: Set) -> Iterator[Finding]:
        if step.dn.key in self._added:
            return
        allowed = self._allowed(step.dn)
        if allowed is None:
            return
        barred = [c.attribute for c in step.changes if c.attribute not in allowed.attributes]
        if barred:
            yield Finding(
                Code.NOT_PERMITTED, f"{allowed.who} may not change {', '.join(barred)}", Location(dn=str(step.dn)),
                other_identities(allowed.others),
            )  # fmt: skip

    def _is_held(self, target: DN) -> bool:
        """Whether the directory holds what the name would be in: its innermost context, and that is not empty."""
        within = [context for context in self._directory.contexts if target.is_within(context)]
        return bool(within) and max(within, key=len) in self._held_names

    @cached_property
    def _held_names(self) -> set[DN]:
        coming = {dn for dn in self._directory.contexts if dn.key in self._coming}
        return coming | self._directory.existing(self._directory.contexts)

    def _changes(self, step: Set, existing: set[str]) -> Iterator[Finding]:
        if self._is_there(step.dn, existing):
            yield from self._may_change(step)
        else:
            yield from self._must_exist(step.dn, existing)
        odd = [*self._values(step), *self._targets(step, existing)]
        yield from map(_held_before, odd) if self._gives_back else odd

    def _values(self, step: Set) -> Iterator[Finding]:
        """What is wrong with the values that a step adds."""
        for change in step.changes:
            attribute = self._schema.attribute(change.attribute)
            if attribute is None:
                yield Finding(
                    Code.UNKNOWN_FIELD, f"the schema has no attribute {change.attribute!r}", Location(dn=str(step.dn))
                )
                continue
            if attribute.read_only:
                yield Finding(
                    Code.SCHEMA, f"{change.attribute} is set by the directory alone", Location(dn=str(step.dn))
                )
            for value in change.added:
                finding = self._schema.check_value(change.attribute, value, Location(dn=str(step.dn)))
                if finding:
                    yield finding

    def _rename(self, step: Rename, existing: set[str]) -> Iterator[Finding]:
        yield from self._must_exist(step.dn, existing)
        yield from self._released(step.dn)
        if step.new.is_below(step.dn):
            yield Finding(Code.REFUSED, "an object cannot be moved below itself", Location(dn=str(step.dn)))
        elif step.new != step.dn and self._is_there(step.new, existing):
            yield Finding(
                Code.TAKEN,
                "there is an object of this name already",
                Location(dn=str(step.new)),
                "give it another name",
            )
        yield from self._parent(step.new, existing)

    def _remove(self, step: Remove, existing: set[str]) -> Iterator[Finding]:
        yield from self._must_exist(step.dn, existing)
        yield from self._released(step.dn)

    def _released(self, dn: DN) -> Iterator[Finding]:
        entry = self._directory.get(dn)
        if entry is not None:  # as earlier steps leave it
            entry = applied(entry, self._set.get(dn.key, ()))
        if entry is not None and self._dialect.read(entry, "protected") == ["yes"]:
            yield still_protected(self._dialect, dn)

    def _names_free(self, dn: DN, claims: list[_Claim], owners_by_form: dict[tuple[str, str], DN]) -> Iterator[Finding]:
        for value, forms in claims:
            if not forms:
                continue
            planned = self._given.setdefault(f"{forms[0][0]}={self._schema.key(*forms[0])!s}", dn)
            owners = (
                [(form, owners_by_form[form]) for form in forms if form in owners_by_form] if owners_by_form else []
            )
            others = [
                holder for (attribute, stored), holder in owners
                if holder != dn and holder.key not in self._deleted
                and (attribute, str(self._schema.key(attribute, stored)), holder.key) not in self._given_up
            ]  # fmt: skip
            if others:
                yield Finding(Code.TAKEN, f"{value} is taken by {others[0]}", Location(dn=str(dn)), "take another name")
            elif planned is not dn and planned != dn:
                yield Finding(
                    Code.TAKEN,
                    f"{value} goes to {planned} in the same change",
                    Location(dn=str(dn)),
                    "take another name",
                )


def foresee_checks(dialect: Dialect, steps: Sequence[Step], read: Keys[str]) -> None:
    """Ask what the checks of these steps ask, where answers are not looked at yet; `read` is that of a plan."""
    checks = Checks(dialect.directory, dialect, read)
    checks.announce(steps)
    checks.check(steps)


def _held_before(finding: Finding) -> Finding:
    """A finding on what the directory has held already: worth a word, and no reason to refuse it."""
    return structs.replace(finding, severity=NOTE)
