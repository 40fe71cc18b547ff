"""A charter that has been read and found right: what every command asks."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import UTC, date, datetime, time, timedelta
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar
from zoneinfo import ZoneInfo

from msgspec import Struct, structs

from vandrel.charter import passwords
from vandrel.charter.document import Document, GroupKind, Kind, Leaving, Naming, NamingLike
from vandrel.charter.hierarchy import DesignedUnit, expand
from vandrel.charter.name_limits import NAME_LIMITS, NameLimits
from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.place import Place
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import FIELDS, Field, FieldCatalog, Shape, Topic
from vandrel.text.nearest import did_you_mean
from vandrel.text.people import PARTICLES

if TYPE_CHECKING:
    from vandrel.charter.naming import NamingRule
    from vandrel.charter.pattern import Pattern

_T = TypeVar("_T")

#: The patterns where the charter has none: target -> ladder and style.
DEFAULT_NAMES: dict[str, Naming] = {
    "login": Naming(
        [
            "{given 1}{surname bare}",
            "{given 2}{surname bare}",
            "{given 1}{surname bare}{count}",
            "{surname}",
            "{surname}{count}",
        ],
        "ascii lower plain",
    ),
    "principal": Naming(["{login}@{suffix}"]),
    "full": Naming(["{given} [{middle} ]{surname}[ {generation}]", "{surname}[ {generation}]"]),
    "display": Naming(["{full}"]),
    "name": Naming(["{full}", "{full} ({login})", "{full} {count}"]),
    "mail": Naming(["{given}.{surname}@{domain}", "{surname}@{domain}", "{login}@{domain}"], "ascii lower hyphens"),
}

#: Kinds that are not accounts: `create` takes these words for groups, units and machines.
RESERVED_KINDS = frozenset({"group", "unit", "computer"})


def naming_of(spec: NamingLike) -> Naming:
    """The three ways of writing a rule, as the longest of them."""
    if isinstance(spec, Naming):
        return spec
    return Naming([spec] if isinstance(spec, str) else list(spec))


class Charter(Struct, frozen=True, dict=True):
    """The house rules of an organization. Immutable; `source` is the file, for messages."""

    document: Document
    source: Path

    @cached_property
    def base(self) -> DN:
        """The distinguished name of the top."""
        return names.parse(self.document.base)

    def at(self, base: str, named_by: str = "") -> Charter:
        """The same rules for another top, where entries may be named by something else."""
        changed = {"base": base} | ({"named_by": named_by} if named_by else {})
        return Charter(structs.replace(self.document, **changed), self.source)

    @cached_property
    def zone(self) -> ZoneInfo:
        """The time zone of dates."""
        return ZoneInfo(self.document.time_zone)

    @property
    def domain(self) -> str:
        """The mail domain: the first suffix."""
        return self.document.suffixes[0]

    @cached_property
    def particles(self) -> frozenset[str]:
        """The particles of surnames, in lower case."""
        by_language = self.document.particles
        return PARTICLES if by_language is None else frozenset(word.casefold() for word in by_language)

    @cached_property
    def fields(self) -> FieldCatalog:
        """The built-in fields and the organization's own."""
        own = {
            name: Field(
                name, spec.about or name, Topic.OWN, frozenset(spec.on), Shape.of_own(spec.shape), spec.many,
                sensitive=spec.sensitive,
            )
            for name, spec in self.document.fields.items()
        }  # fmt: skip
        return FieldCatalog(FIELDS | own)

    def words_of(self, field: str) -> list[str] | None:
        """The only values that a field may have, by a list or by its own declaration; None where any will do."""
        own = self.document.fields.get(field)
        return self.document.lists.get(field) or (own.values if own is not None and own.values else None)

    @cached_property
    def words(self) -> dict[str, list[str]]:
        """The only values that some fields may have, by field."""
        by_name = {name: self.words_of(name) for name in (*self.document.lists, *self.document.fields)}
        return {name: words for name, words in by_name.items() if words}

    @property
    def group_classes(self) -> list[str]:
        """The object classes of new groups on a standard server."""
        return list(self.document.group_classes or ("groupOfNames",))

    # --- kinds

    def kind(self, name: str) -> Kind:
        """The kind of account with this name.

        Raises:
            VandrelError: code ``unknown-kind``, with near spellings.

        """
        return _lookup(self.document.kinds, name, "kind of account", RESERVED_KINDS)

    def group_kind(self, name: str) -> GroupKind:
        """The kind of group with this name; an empty name stands for the first of the charter."""
        kinds = self.document.groups
        if not name and kinds:
            return next(iter(kinds.values()))
        return _lookup(kinds, name, "kind of group", ())

    def naming(self, target: str, kind: str = "") -> NamingRule:
        """The rule by which a name is built for accounts of a kind: its own, the charter's, or the built-in one."""
        if (target, kind) not in self._rules:
            self._rules[target, kind] = self._naming(target, kind)
        return self._rules[target, kind]

    @cached_property
    def _rules(self) -> dict[tuple[str, str], NamingRule]:
        return {}

    def _naming(self, target: str, kind: str) -> NamingRule:
        if target == "name" and self.document.named_by == "login":
            return self._rule("{login}", NAME_LIMITS[target], "named-by")
        own = getattr(self.document.kinds[kind].names, target) if kind in self.document.kinds else None
        general = getattr(self.document.names, target)
        if own is not None:
            return self._rule(own, NAME_LIMITS[target], f"kinds.{kind}.names.{target}")
        if general is not None:
            return self._rule(general, NAME_LIMITS[target], f"names.{target}")
        return self._rule(DEFAULT_NAMES[target], NAME_LIMITS[target], f"built-in {target}")

    def group_naming(self, kind: str) -> NamingRule:
        """The rule by which a group of a kind is named."""
        return self._rule(self.group_kind(kind).name, NAME_LIMITS["group"], f"groups.{kind}.name")

    def _rule(self, spec: NamingLike, target: NameLimits, source: str) -> NamingRule:
        from vandrel.charter.naming import NamingRule
        from vandrel.charter.pattern import parse

        naming = naming_of(spec)
        return NamingRule(
            target,
            tuple(map(parse, naming.ladder)),
            tuple(naming.style.split()),
            naming.longest,
            frozenset(naming.forbid),
            frozenset(word.casefold() for word in naming.reserved),
            self.particles,
            source,
        )

    def fill(self, pattern: str | Pattern, values: Mapping[str, str]) -> str:
        """A pattern that is no name of its own: a place, a value that a kind sets, a group it joins.

        Raises:
            VandrelError: ``required`` where a field that it needs is empty.

        """
        from vandrel.charter.pattern import parse
        from vandrel.charter.text_building import EmptyField, build, plain_style

        parsed = parse(pattern) if isinstance(pattern, str) else pattern
        try:
            pieces = build(parsed, values, plain_style(values.get("language", ""), self.particles))
        except EmptyField as error:
            raise VandrelError(
                Code.REQUIRED,
                f"{error.field} is needed for {parsed.text!r} and has no value",
                where=Location(field=error.field),
                remedy=f"give it: {error.field}=...",
            ) from None
        return " ".join("".join(map(str, pieces)).split())

    def place_of(self, pattern: str, values: Mapping[str, str]) -> Place:
        """The place that a pattern names for these fields; a slash in a field's value does not divide it."""
        return tuple(self.fill(step.replace("\\/", "/"), values) for step in _split_place(pattern))

    def password_rules(self, kind: str = "") -> passwords.PasswordRules:
        """The password rules of the charter for a kind of account."""
        layers = [("charter", self.document.passwords)]
        if kind in self.document.kinds:
            layers.append((f"kind {kind}", self.document.kinds[kind].password))
        return passwords.in_force(layers)

    @cached_property
    def power(self) -> dict[str, str]:
        """The groups that carry power, by name, and how far it reaches: the ones named so, then those of roles."""
        named = self.document.privileged
        of_roles = {
            group: f"the role {name}" + (f", {role.about}" if role.about else "")
            for name, role in self.document.roles.items()
            for group in role.groups
            if group not in named
        }
        return named | of_roles

    # --- hierarchy

    @cached_property
    def design(self) -> tuple[DesignedUnit, ...]:
        """The units of the hierarchy, each after the one that holds it."""
        return tuple(expand(self.document))

    def leaving(self, kind: str) -> Leaving | None:
        """What happens when an account of this kind leaves: the kind's own rules, or those for all; None for none."""
        spec = self.document.kinds.get(kind)
        return (spec.leaving if spec is not None else None) or self.document.leaving

    def designed(self, place: Place) -> DesignedUnit | None:
        """The unit of the design at a place; None where the design has none."""
        return self._by_place.get(places.key(place))

    @cached_property
    def _by_place(self) -> dict[tuple[str, ...], DesignedUnit]:
        return {places.key(unit.place): unit for unit in self.design}

    # --- dates

    def today(self) -> date:
        """The date in the organization's time zone."""
        return datetime.now(self.zone).date()

    def default_end(self, kind: Kind, today: date) -> date | None:
        """The last day of an account of this kind that begins today; None for no end."""
        if kind.ends is None:
            return None
        if isinstance(kind.ends, int):
            return today + timedelta(days=kind.ends)
        month, day = map(int, kind.ends.split("-"))
        this_year = date(today.year, month, day)
        return this_year if this_year >= today else date(today.year + 1, month, day)

    def end_instant(self, day: date) -> datetime:
        """The instant at which an account that works through `day` stops: midnight at its end, in our zone."""
        return datetime.combine(day + timedelta(days=1), time(), self.zone)

    def last_day(self, instant: datetime) -> date:
        """The last day on which an account that stops at `instant` works."""
        # In UTC: some zones have skipped a whole day, and then yesterday is no day earlier on their calendar.
        return (instant.astimezone(UTC) - timedelta(microseconds=1)).astimezone(self.zone).date()


_SLASH = re.compile(r"(?<!\\)/")


def _split_place(pattern: str) -> list[str]:
    return [step for step in _SLASH.split(pattern) if step]


def _lookup(kinds: Mapping[str, _T], name: str, what: str, also: Iterable[str]) -> _T:
    try:
        return kinds[name]
    except KeyError:
        choices = [*kinds, *sorted(also)]
        hint = did_you_mean(name, choices) or (
            f"the charter has: {', '.join(choices)}" if choices else "the charter has none"
        )
        raise VandrelError(
            Code.UNKNOWN_KIND, f"there is no {what} {name!r}", where=Location(field=name), remedy=hint
        ) from None
