"""Creating an account: every value worked out by the charter, with the rule that gave it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from datetime import date
from functools import lru_cache, partial
from itertools import islice

from msgspec import Struct

from vandrel.charter.document import Kind
from vandrel.charter.name_limits import NAME_LIMITS
from vandrel.charter.naming import Choice, NamingRule
from vandrel.charter.passwords import PasswordRules
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.place import Place
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, NAMED, Shape
from vandrel.jobs.accounts.filled_patterns import FilledPatterns
from vandrel.jobs.accounts.new_memberships import NewMemberships
from vandrel.jobs.common import field_values, personal_groups
from vandrel.jobs.common.directory_index import DirectoryIndex
from vandrel.jobs.common.draft import PLACE, Derived, Draft
from vandrel.jobs.common.name_allocator import NameAllocator
from vandrel.jobs.common.number_allocator import NumberAllocator
from vandrel.jobs.common.posix_allocator import PosixAllocator
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import new_values
from vandrel.text import people

#: Fields whose values are hardly ever those of anybody else: not worth remembering.
_OF_ONE = frozenset(("number", "surname", "phone", "mobile", "alias", "notes", "photo", "street", "home-phone"))


class _IncompleteAccount(Struct, eq=False):
    """An account that is being worked out: it has some names before it has its own."""

    draft: Draft
    unit: DN
    called: str
    named_by: str

    @property
    def dn(self) -> DN:
        """Its name, as far as it is known."""
        return self.draft.dn or self.unit.child(self.named_by, self.called)


class Creator:
    """Works out new accounts for one request; names given to one are taken for the next."""

    def __init__(self, context: Context, today: date, ledger: DirectoryIndex | None = None) -> None:
        self._context = context
        self._today = today
        self.register = NameAllocator(context, ledger)
        #: With a `ledger`, numbers are looked at for all rows together.
        self._numbers = NumberAllocator(context) if ledger is None else None
        self._posix_numbers = PosixAllocator(context)
        # What many accounts have in common is asked of the directory once.
        self._rules: dict[str, PasswordRules] = {}
        self._units: dict[Place, tuple[DN, bool]] = {}
        self._patterns = FilledPatterns(context.charter)
        self._joining = NewMemberships(context, self._patterns.text)
        self._orders: dict[tuple[str, tuple[str, ...]], list[tuple[str, NamingRule, list[str]]]] = {}
        self._checked: dict[tuple[str, tuple[str, ...]], list[Finding]] = {}

    def draft(
        self,
        kind_name: str,
        typed: Mapping[str, Sequence[str]],
        resolved: Mapping[str, Sequence[str]] | None = None,
        *,
        literal: bool = False,
    ) -> Draft:
        """Work out one account.

        Args:
            kind_name: a kind of account in the charter.
            typed: fields as typed, ``place`` included; names in them are resolved here.
            resolved: fields whose values are names in full already, and need not exist yet.
            literal: whether braces in values are text, and no patterns.

        Raises:
            VandrelError: ``unknown-kind``, ``unknown-field``.

        """
        kind = self._context.charter.kind(kind_name)
        if kind_name not in self._rules:
            self._rules[kind_name] = self._context.password_rules(kind_name)
        draft = Draft(kind_name, rules=self._rules[kind_name])
        self._given(draft, typed, literal=literal)
        for name, values in (resolved or {}).items():
            draft.derived[name] = Derived(name, tuple(values), "typed")
        self._defaults(draft, kind)
        self._required(draft, kind)
        self._place(draft, kind, typed)
        self._names(draft, kind_name)
        self._fill_typed(draft)
        self._posix(draft)
        if "groups" not in typed or typed["groups"]:
            self._joining.join(draft, kind.groups, self._values(draft), typed.get("groups", ()))
        for name, derived in draft.derived.items():
            if name in self._context.fields:
                draft.findings += self._check(name, derived)
        if self._numbers is not None:
            draft.findings += self._numbers.check(kind_name, draft.value("number"), draft.dn)
        current = draft.values()
        demanded = current.get("change") or (("yes",) if draft.rules and draft.rules.rules["change"].value else ())
        draft.findings += field_values.contradictions({**current, "change": demanded})
        draft.findings += self._context.not_kept(ACCOUNT, {**current, "change": demanded}, typed)
        draft.findings = list(dict.fromkeys(draft.findings))
        draft.visible = (0, {})  # of a hundred thousand drafts, that would be most of the memory
        return draft

    def foresee(self, accounts: Iterable[tuple[str, Mapping[str, Sequence[str]]]]) -> None:
        """Ask for the units and groups of many accounts at once, each by its kind and its fields as typed.

        What is not known of an account by now, as its names, is asked for once it is worked out.
        """
        units: dict[Place, DN] = {}
        groups: list[str] = []
        for kind_name, typed in accounts:
            kind, draft = self._context.charter.document.kinds.get(kind_name), Draft(kind_name)
            if kind is None:
                continue
            with suppress(VandrelError):
                self._given(draft, typed, literal=True)
                self._defaults(draft, kind)
            values = self._values(draft)
            if not typed.get(PLACE):
                with suppress(VandrelError):
                    place = self._patterns.place(kind.place, values)
                    units[place] = places.to_dn(place, self._context.charter.base)
            for pattern in kind.groups if "groups" not in typed else ():
                with suppress(VandrelError):
                    groups.append(self._patterns.text(pattern, values))
        there = self._context.directory.existing(units.values())
        self._units |= {place: (dn, dn in there) for place, dn in units.items()}
        self._joining.find_groups(groups)

    @staticmethod
    def _required(draft: Draft, kind: Kind) -> None:
        faulty = {finding.where.field for finding in draft.findings}
        draft.missing = [name for name in kind.requires if not draft.value(name) and name not in faulty]
        for name in draft.missing:
            what, remedy = f"{name} is required for {draft.kind} and has no value", f"give it: {name}=..."
            draft.findings.append(Finding(Code.REQUIRED, what, Location(field=name), remedy))

    def _check(self, name: str, derived: Derived) -> list[Finding]:
        """What is wrong with a value; what many people have in common is looked at once."""
        if name in NAMED and derived.rule != "typed":
            # Built by the charter, character by character: only the schema may have more to say.
            attribute = self._context.dialect.attribute(name, ACCOUNT)
            findings = (
                self._context.directory.schema.check_value(attribute, derived.values[0], Location(field=name))
                if attribute
                else None
            )
            return [findings] if findings else []
        key = (name, derived.values)
        if name in _OF_ONE:
            return field_values.check(self._context, self._context.fields[name], derived.values, ACCOUNT)
        if key not in self._checked:
            self._checked[key] = field_values.check(self._context, self._context.fields[name], derived.values, ACCOUNT)
        return self._checked[key]

    # --- the values

    def _given(self, draft: Draft, typed: Mapping[str, Sequence[str]], *, literal: bool) -> None:
        for name, texts in typed.items():
            if name in (PLACE, "password") or not texts:
                continue
            field_spec = self._context.fields.named(name, ACCOUNT)
            if field_spec.shape is Shape.MEMBERSHIPS:
                continue  # joined when the kind's own groups are known
            if not literal and field_spec.name not in NAMED and any("{" in text for text in texts):
                draft.patterns[name] = tuple(texts)
                continue
            try:
                result = field_values.read(self._context, field_spec, texts, ACCOUNT)
            except VandrelError as error:
                draft.findings += error.findings
                continue
            draft.derived[name] = Derived(name, tuple(result), "typed")

    def _fill_typed(self, draft: Draft) -> None:
        """Values that were typed as patterns, as ``web=https://x.example/{login}``, once the names are there."""
        for name, texts in draft.patterns.items():
            try:
                filled = [self._patterns.text(text, self._values(draft)) for text in texts]
                result = field_values.read(self._context, self._context.fields[name], filled, ACCOUNT)
            except VandrelError as error:
                draft.findings += error.findings
                continue
            draft.derived[name] = Derived(name, tuple(result), f"typed: {', '.join(texts)}")

    def _set(self, draft: Draft, name: str, value: str, rule: str) -> None:
        if value and name not in draft.derived:
            draft.derived[name] = Derived(name, (value,), rule)

    def _defaults(self, draft: Draft, kind: Kind) -> None:
        charter = self._context.charter
        draft.derived["kind"] = Derived("kind", (draft.kind,), "typed")
        if charter.document.language:
            self._set(draft, "language", charter.document.language, "charter")
        for name, pattern in kind.sets.items():
            try:
                self._set(draft, name, self._patterns.text(pattern, self._values(draft)), f"kind {draft.kind}")
            except VandrelError as error:
                if name not in draft.derived:
                    draft.findings += error.findings
        initials = people.initials(*(draft.value(name) for name in ("given", "middle", "surname")))
        self._set(draft, "initials", initials[: self.longest("initials")], "first letters")
        begins = draft.value("starts")
        end = charter.default_end(kind, max(self._today, date.fromisoformat(begins)) if begins else self._today)
        if end is not None:
            self._set(draft, "ends", end.isoformat(), f"kind {draft.kind}: {_ends(kind.ends)}")

        if draft.value("ends") and draft.value("starts") > draft.value("ends"):
            what = f"the last day, {draft.value('ends')}, is before the first, {draft.value('starts')}"
            draft.findings.append(Finding(Code.BAD_VALUE, what, Location(field="ends"), "are the two exchanged?"))
        if draft.value("starts") > self._today.isoformat():
            self._set(draft, "enabled", "no", "its first day lies ahead: vandrel due enables it")

    def longest(self, name: str) -> int:
        """The greatest length of a field, by the live schema."""
        attribute = self._context.directory.schema.attribute(self._context.dialect.attribute(name, ACCOUNT))
        return attribute.limit if attribute and attribute.limit else 16

    def _values(self, draft: Draft) -> dict[str, str]:
        """What patterns see: the first value of each field, and what is computed; what is missing is empty."""
        visible, values = draft.visible
        if not values:
            values |= new_values(self._context, {}, draft.kind)
        if visible < len(draft.derived):  # values are added, and never changed
            for name, derived in islice(draft.derived.items(), visible, None):
                if derived.values:
                    values[name] = derived.values[0]
            draft.visible = (len(draft.derived), values)
        return values

    def visible_values(self, draft: Draft) -> dict[str, str]:
        """What patterns see of an account that has been worked out."""
        draft.visible = (0, {})
        values = dict(self._values(draft))
        draft.visible = (0, {})
        return values

    def _place(self, draft: Draft, kind: Kind, typed_fields: Mapping[str, Sequence[str]]) -> None:
        typed = next(iter(typed_fields.get(PLACE, ())), "")
        try:
            if typed:
                draft.place = self._typed_place(typed)
                draft.derived[PLACE] = Derived(PLACE, (places.to_text(draft.place),), "typed")
            else:
                draft.place = self._patterns.place(kind.place, self._values(draft))
                rule = f"kind {draft.kind}: {kind.place}"
                draft.derived[PLACE] = Derived(PLACE, (places.to_text(draft.place),), rule)
        except VandrelError as error:
            faulty = {finding.where.field for finding in draft.findings}
            draft.findings += [finding for finding in error.findings if finding.where.field not in faulty]
            return
        if not self._unit(draft.place)[1]:
            designed = self._context.charter.designed(draft.place) is not None
            remedy = (
                "vandrel hierarchy build makes it" if designed else "the charter's hierarchy has no such unit either"
            )
            draft.findings.append(
                Finding(
                    Code.NO_PARENT,
                    f"there is no unit {places.to_text(draft.place)}",
                    Location(place=places.to_text(draft.place)),
                    remedy,
                )
            )
        unit = self._context.charter.designed(draft.place)
        if unit is not None and unit.holds and draft.kind not in unit.holds:
            what = f"{places.to_text(draft.place)} is designed for {' and '.join(unit.holds)}, not for {draft.kind}"
            draft.findings.append(Finding(Code.REFUSED, what, Location(field=PLACE), severity=NOTE))

    def _unit(self, place: Place) -> tuple[DN, bool]:
        """The name of a unit, and whether it is there."""
        if place not in self._units:
            dn = places.to_dn(place, self._context.charter.base)
            self._units[place] = (dn, bool(self._context.directory.existing([dn])))
        return self._units[place]

    def _typed_place(self, typed: str) -> Place:
        if typed.startswith("/"):
            return places.parse(typed)
        entry = resolve(self._context, typed, ("unit",))
        return places.parse(self._context.place(entry.dn))

    # --- the names

    def _names(self, draft: Draft, kind: str) -> None:
        typed = tuple(target for target in NAMED if target in draft.derived)
        misshapen = {t for t in typed if any(finding.is_fatal for finding in self._check(t, draft.derived[t]))}
        for target in typed:
            if target not in misshapen:
                self._check_given(draft, target)
        at_fault = misshapen | {finding.where.field for finding in draft.findings}
        order = self.order(kind, typed)
        self.register.foresee(((target, rule) for target, rule, _ in order), self._values(draft))
        for target, rule, tied in order:
            if at_fault and rule.fields() & at_fault:
                continue  # built from something that is at fault itself: that is said once
            values = self._values(draft)
            try:
                choice = rule.choose(values, partial(self.why, draft, values, target, tied=tied))
            except VandrelError as error:
                self._no_name(draft, target, error)
                at_fault |= {finding.where.field for finding in draft.findings}
                continue
            self._take(draft, target, choice, rule.source, len(rule.rungs))
        if "name" in draft.derived and draft.place and draft.dn is None:
            draft.dn = self._dn(draft, draft.value("name"))

    def order(self, kind: str, typed: tuple[str, ...] = ()) -> list[tuple[str, NamingRule, list[str]]]:
        """The names to build, each after those that it is built from, and those that hang on it alone."""
        if (kind, typed) not in self._orders:
            rules = {target: self._context.charter.naming(target, kind) for target in NAMED}
            todo = [target for target in NAMED if target not in typed]
            order = self._orders[kind, typed] = []
            while todo:
                ready = next((t for t in todo if not rules[t].fields() & (set(todo) - {t})), todo[0])
                todo.remove(ready)
                tied = [t for t in todo if ready in rules[t].fields() and len(rules[t].rungs) == 1]
                order.append((ready, rules[ready], tied))
        return self._orders[kind, typed]

    def _no_name(self, draft: Draft, target: str, error: VandrelError) -> None:
        # What is missing is named once, not again for every name that needs it.
        if (draft.missing or draft.findings) and error.code == Code.EMPTY_NAME:
            return
        draft.findings += error.findings

    def why(
        self, draft: Draft, values: Mapping[str, str], target: str, value: str, tied: Sequence[str] = ()
    ) -> str:  # fmt: skip
        """Why a name cannot be had in the place and by the kind of a draft: taken itself, or what hangs on it is."""
        if target == "name":
            return self.register.why_sibling(self._dn(draft, value)) if draft.place else ""
        why = self.register.why_taken(target, value)
        for other in tied:
            if why:
                break
            rule = self._context.charter.naming(other, draft.kind)
            candidate = next(rule.candidates({**values, target: value}), None)
            reason = self.register.why_taken(other, candidate.value) if candidate else ""
            why = f"its {other} {candidate.value} is {reason}" if candidate and reason else ""
        return why

    def _take(self, draft: Draft, target: str, choice: Choice, source: str, rungs: int) -> None:
        chosen = choice.chosen
        rule = _rule(chosen.pattern, source, chosen.rung, rungs)
        passed = tuple(f"{item.candidate} is {item.why}" for item in choice.passed)
        draft.derived[target] = Derived(target, (chosen.value,), rule, passed)
        self._reserve(draft, target, chosen.value)

    def _reserve(self, draft: Draft, target: str, value: str) -> None:
        if target == "name":
            if draft.place:
                draft.dn = self._dn(draft, value)
                self.register.reserve_name(draft.dn)
        else:
            named_by = self._context.dialect.naming_attribute(ACCOUNT)
            self.register.reserve(target, value, _IncompleteAccount(draft, self._unit(draft.place)[0], value, named_by))

    def _dn(self, draft: Draft, name: str) -> DN:
        return self._unit(draft.place)[0].child(self._context.dialect.naming_attribute(ACCOUNT), name)

    def _check_given(self, draft: Draft, target: str) -> None:
        """A name that was typed: free? If not, the next that the convention allows is offered."""
        value = draft.value(target)
        values = self._values(draft)
        rule = self._context.charter.naming(target, draft.kind)
        reserved = rule.reserves(value)
        why = "reserved by the charter, and nobody's" if reserved else self.why(draft, values, target, value)
        if not why:
            self._reserve(draft, target, value)
            return
        offer = ""
        try:
            free = rule.choose(values, partial(self.why, draft, values, target))
            offer = f"the charter would give {free.chosen.value} ({free.chosen.pattern})"
        except VandrelError:
            offer = f"give another: {target}=..."
        scope = "" if reserved else NAME_LIMITS[target].scope
        unique = f"; it must be unique {scope}" if scope else ""
        draft.findings.append(
            Finding(
                Code.REFUSED if reserved else Code.TAKEN, f"{value} is {why}{unique}", Location(field=target), offer
            )
        )

    def _posix(self, draft: Draft) -> None:
        """What the account has on Unix systems, where its kind has a part in that."""
        if (posix := self._posix_numbers.rules(draft.kind)) is None:
            return
        values = self._values(draft)
        try:
            self._set(draft, "unix-home", self._patterns.text(posix.home, values), f"{posix.home}  (posix.home)")
            self._set(draft, "shell", posix.shell, "posix.shell")
            has_own_group = personal_groups.unit_of(self._context) is not None
            if "gid-number" not in draft.derived and posix.group and not has_own_group:
                group = self._patterns.text(posix.group, values)
                self._set(draft, "gid-number", self._posix_numbers.number_of(group), f"the group {group}")
            if "uid-number" not in draft.derived:
                number = self._posix_numbers.uid_number(posix, draft.kind)
                self._set(draft, "uid-number", number, "the next that is free")
            if "gid-number" not in draft.derived and has_own_group:
                rule = f"a group of its own, {values['login']} in {posix.personal_groups}"
                self._set(draft, "gid-number", draft.value("uid-number"), rule)
                draft.findings += filter(None, [personal_groups.why_no_group(self._context, values["login"])])
        except VandrelError as error:
            draft.findings += error.findings


@lru_cache(maxsize=1024)  # the same words for thousands
def _rule(pattern: str, source: str, rung: int, rungs: int) -> str:
    return f"{pattern}  ({source}{f', rung {rung} of {rungs}' if rungs > 1 else ''})"


def _ends(ends: int | str | None) -> str:
    return f"{ends} days from today" if isinstance(ends, int) else f"the next {ends}"
