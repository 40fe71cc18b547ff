"""Which names are taken: in the directory, and by what the same request makes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from typing import Protocol

from msgspec import Struct

from vandrel.charter.naming import NamingRule
from vandrel.directory.dn import DN, LEVEL
from vandrel.directory.port import Form
from vandrel.jobs.common.directory_index import DirectoryIndex
from vandrel.objects.context import Context
from vandrel.text.look_alikes import skeleton
from vandrel.text.string_prep import prepare


class _HasName(Protocol):
    @property
    def dn(self) -> DN | None:
        """The name, if it is known."""


#: To whom a name is given: a name in full, or what has one.
Holder = DN | _HasName


class Column(Struct):
    """One attribute in which names must be unique: the keys of many, who is given one, and who holds one."""

    keys: list[str]
    given: dict[str, Holder]
    owners: Mapping[str, DN]


class NameAllocator:
    """Answers for the four scopes of uniqueness: domain, forest, siblings, everywhere.

    What `reserve` was told counts as taken, so that two new people of one name get different ones.
    """

    def __init__(self, context: Context, ledger: DirectoryIndex | None = None) -> None:
        """Prepare; with a `ledger`, the directory was read once before, and is not asked for each name."""
        self._context = context
        self._ledger = ledger
        #: Who holds what was asked for; None for nobody.
        self._answers: dict[Form, DN | None] = {}
        #: The keys of names that were asked for, and whether there is such an object.
        self._present: dict[str, bool] = {}
        #: Attribute and key of names that whoever has them gives up.
        self._given_up: set[tuple[str, str]] = set()
        #: By attribute and key, to whom a name is given.
        self._reserved: dict[str, dict[str, Holder]] = {}
        #: The names that were given to objects: by the key as far as the value in it, the keys of the values.
        self._siblings: dict[str, set[str]] = {}
        #: For each name that is unique, how far the counters of naming rules have come.
        self.counted: dict[str, dict[str, int]] = {}

    def claims(self, target: str, value: str) -> list[tuple[str, str]]:
        """The attributes in which a name must not stand a second time, each with the key of the value there."""
        key = self._context.directory.schema.key
        forms = self._context.dialect.unique_forms(target, value)
        return [(attribute, str(key(attribute, stored))) for attribute, stored in forms]

    def columns(self, target: str, values: Sequence[str]) -> list[Column]:
        """The same for many values at once, attribute by attribute; only with a ledger."""
        assert self._ledger is not None
        schema = self._context.directory.schema
        return [
            Column(
                schema.keys(attribute, stored), self._reserved.setdefault(attribute, {}), self._ledger.held(attribute)
            )
            for attribute, stored in self._context.dialect.unique_columns(target, values)
        ]

    def is_free(self, target: str, value: str) -> bool:
        """Whether nobody at all has a name; only with a ledger."""
        assert self._ledger is not None
        key_of, reserved, held = self._context.directory.schema.key, self._reserved, self._ledger.held
        for attribute, stored in self._context.dialect.unique_forms(target, value):
            key = key_of(attribute, stored)
            if key in reserved.get(attribute, ()) or key in held(attribute):
                return False
        return True

    def holder(self, target: str, value: str, but: DN | None = None) -> DN | None:
        """Who has this logon name, principal name or mail address, other than `but`; None if it is free."""
        return self._held_by(target, value, but) or self._given_to(target, value, but)

    def _held_by(self, target: str, value: str, but: DN | None) -> DN | None:
        forms = self._context.dialect.unique_forms(target, value)
        if not forms:
            return None
        claims = self.claims(target, value)
        if self._ledger is None:
            self._ask(forms)
        for form, (attribute, key) in zip(forms, claims, strict=True):
            holder = self._answers[form] if self._ledger is None else self._ledger.held(attribute).get(key)
            if holder is not None and holder != but and (attribute, key) not in self._given_up:
                return holder
        return None

    def _ask(self, forms: Sequence[Form]) -> None:
        """Ask the directory who holds these, once in a request."""
        by_attribute: dict[str, list[str]] = {}
        for attribute, stored in forms:
            if (attribute, stored) not in self._answers:
                by_attribute.setdefault(attribute, []).append(stored)
                self._answers[attribute, stored] = None
        if by_attribute:
            self._answers |= self._context.directory.find_owners(by_attribute)

    def foresee(self, rules: Iterable[tuple[str, NamingRule]], values: Mapping[str, str]) -> None:
        """Ask about the first choice of several names at once: over a long line, each question is a wait.

        Args:
            rules: the names and their rules, each after those that it is built from.
            values: what the patterns see.

        """
        if self._ledger is not None:
            return
        visible, forms = dict(values), list[Form]()
        for target, rule in rules:
            if (first := next(rule.candidates(visible), None)) is not None:
                visible[target] = first.value
                forms += self._context.dialect.unique_forms(target, first.value)
        self._ask(forms)

    def _given_to(self, target: str, value: str, but: DN | None) -> DN | None:
        claims = self.claims(target, value)
        planned = next((self._reserved[a][key] for a, key in claims if key in self._reserved.get(a, ())), None)
        named = _name_of(planned) if planned is not None else None
        return named if named != but else None

    def why_taken(self, target: str, value: str, but: DN | None = None) -> str:
        """In words, why a name cannot be had; empty if it can."""
        if (holder := self._held_by(target, value, but)) is not None:
            return f"taken by {self.say(holder)}"
        if (holder := self._given_to(target, value, but)) is not None:
            return f"taken by {self.say(holder)}, who gets it in the same request"
        if (plain := skeleton(value)) != value.lower() and (holder := self._held_by(target, plain, but)) is not None:
            return f"easily taken for {plain}, which {self.say(holder)} has"
        return ""

    def why_sibling(self, dn: DN) -> str:
        """In words, why an object cannot have this name; empty if it can."""
        if self._is_given(dn.key) or self._is_there(dn):
            return f"taken by its sibling in {self._context.place(dn.parent)}"
        return ""

    def _is_there(self, dn: DN) -> bool:
        if self._ledger is not None:
            return dn.key in self._ledger.names
        if dn.key not in self._present:
            self._present[dn.key] = bool(self._context.directory.existing([dn]))
        return self._present[dn.key]

    def say(self, dn: DN) -> str:
        """An object in words."""
        return f"{dn.name} in {self._context.place(dn.parent)}"

    def reserve(self, target: str, value: str, dn: Holder) -> None:
        """Take note that a name is given to an object."""
        for attribute, stored in self._context.dialect.unique_forms(target, value)[:1]:
            key = str(self._context.directory.schema.key(attribute, stored))
            self._reserved.setdefault(attribute, {})[key] = dn

    def _is_given(self, key: str) -> bool:
        before, value = _apart(key)
        return value in self._siblings.get(before, ())

    def siblings(self, before: str) -> set[str]:
        """The keys of the values of all names that were given and whose keys begin so, up to the value."""
        return self._siblings.setdefault(before, set())

    def held_siblings(self, before: str) -> set[str]:
        """The same of the names of all objects that there are; only with a ledger."""
        return self._values_in_use.get(before, set())

    @cached_property
    def _values_in_use(self) -> dict[str, set[str]]:
        assert self._ledger is not None
        owned: dict[str, set[str]] = {}
        for start, value in map(_apart, self._ledger.names):
            owned.setdefault(start, set()).add(value)
        return owned

    def is_held_anywhere(self, name: str) -> bool:
        """Whether any object has this name, wherever it stands; only with a ledger."""
        return any(prepare(name) in values for values in self._values_in_use.values())

    def give_up(self, target: str, value: str) -> None:
        """Take note that whoever has a name gives it up."""
        self._given_up |= set(self.claims(target, value))

    def reserve_name(self, dn: DN) -> None:
        """Take note that an entry's name is given."""
        before, value = _apart(dn.key)
        self.siblings(before).add(value)


def _name_of(holder: Holder) -> DN | None:
    return holder if isinstance(holder, DN) else holder.dn


def _apart(key: str) -> tuple[str, str]:
    """The key of a name as far as the value of its first part, and that value."""
    start = key.index("=", key.rfind(LEVEL) + 1) + 1
    return key[:start], key[start:]
