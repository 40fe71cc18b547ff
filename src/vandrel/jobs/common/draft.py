"""New accounts, worked out and not yet made: one by itself, and one that is like others of its file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
from msgspec import Struct

from vandrel.charter.passwords import PasswordRules
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.place import Place
from vandrel.errors import Finding

#: Where an object is to be: given like a field, though no object has it.
PLACE = "place"


class Derived(Struct, frozen=True):
    """One value of the new account, in words the rule that gave it, and the names that were passed over."""

    field: str
    values: tuple[str, ...]
    rule: str
    passed: tuple[str, ...] = ()


class Draft(Struct):
    """A new account, worked out and not yet made."""

    kind: str
    place: Place = ()
    dn: DN | None = None
    derived: dict[str, Derived] = msgspec.field(default_factory=dict)
    groups: list[Entry] = msgspec.field(default_factory=list)
    findings: list[Finding] = msgspec.field(default_factory=list)
    rules: PasswordRules | None = None
    missing: list[str] = msgspec.field(default_factory=list)
    #: Values that were typed as patterns, by field.
    patterns: dict[str, tuple[str, ...]] = msgspec.field(default_factory=dict)
    #: What patterns saw last, and how many values there were then.
    visible: tuple[int, dict[str, str]] = msgspec.field(default_factory=lambda: (0, {}))

    def value(self, name: str) -> str:
        """The first value of a field, or an empty string."""
        derived = self.derived.get(name)
        return derived.values[0] if derived and derived.values else ""

    def values(self) -> dict[str, tuple[str, ...]]:
        """All values by field."""
        return {name: derived.values for name, derived in self.derived.items()}


class SharedValues(Struct, frozen=True):
    """What accounts have in common: the first of them, its values, and the fields of which each has one of its own."""

    model: Draft
    base: Mapping[str, tuple[str, ...]]
    own: Sequence[str]
    position: Mapping[str, int]

    @staticmethod
    def of(model: Draft, own: Sequence[str]) -> SharedValues:
        """What accounts like this one have in common, but for these fields."""
        return SharedValues(model, model.values(), own, {name: number for number, name in enumerate(own)})


_pack = msgspec.msgpack.Encoder().encode
_unpack = msgspec.msgpack.Decoder(list[str]).decode


class BatchDraft(Struct):
    """A new account that is like another but for a few values, which wait packed, in the order of ``shared.own``."""

    shared: SharedValues
    packed: bytes

    @staticmethod
    def of(shared: SharedValues, own: Sequence[str]) -> BatchDraft:
        """The account with these values of its own."""
        return BatchDraft(shared, _pack(own))

    @property
    def own(self) -> list[str]:
        """The values of its own."""
        return _unpack(self.packed)

    @property
    def dn(self) -> DN:
        """The name of the account, made anew each time: of very many it is too much to be kept."""
        assert self.shared.model.dn is not None
        return self.shared.model.dn.parent.child(self.shared.model.dn.naming_attribute, self.value("name"))

    def value(self, name: str) -> str:
        """The first value of a field, or an empty string."""
        position = self.shared.position.get(name)
        return self.own[position] if position is not None else self.shared.model.value(name)

    def values(self) -> dict[str, tuple[str, ...]]:
        """All values by field."""
        own = {name: (value,) for name, value in zip(self.shared.own, self.own, strict=True)}
        return {**self.shared.base, **own}

    @property
    def groups(self) -> list[Entry]:
        """The groups that it joins."""
        return self.shared.model.groups

    @property
    def rules(self) -> PasswordRules | None:
        """The password rules in force for it."""
        return self.shared.model.rules

    @property
    def findings(self) -> list[Finding]:
        """What was found wrong with the first of its like."""
        return self.shared.model.findings
