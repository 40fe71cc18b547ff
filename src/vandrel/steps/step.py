"""The typed steps. Each knows the operation that makes it, the step that takes it back, and its record."""

from __future__ import annotations

from collections.abc import Iterable
from collections.abc import Set as AbstractSet

from msgspec import Struct, structs

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Value
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry, Operation, RenameEntry, SetPassword
from vandrel.directory.secret_attributes import is_secret
from vandrel.record.journal import Record
from vandrel.secret import Secret

#: What only the directory sets: left out when a removed object is to be added again.
_SERVER_SET = frozenset(
    (
        "entryUUID createTimestamp modifyTimestamp creatorsName modifiersName structuralObjectClass "
        "pwdChangedTime pwdHistory"
    ).split()
)


class Add(Struct, frozen=True):
    """A new object; or one that comes back, from the place with the number ``restores`` in the attic.

    ``was`` is the identifier that it had before, and ``as_held`` says that a directory has held it so
    (`vandrel.directory.operations.AddEntry`).
    """

    dn: DN
    attributes: dict[str, list[Value]]
    was: str = ""
    restores: int = 0
    as_held: bool = False

    def operation(self) -> Operation:
        """The addition of the entry."""
        return AddEntry(self.dn, self.attributes, self.was, self.as_held)

    def reverse(self) -> Step | None:
        """Its removal."""
        return Remove(self.dn, self.attributes)

    def record(self) -> Record:
        """What the journal keeps of it."""
        record = {"step": "add", "dn": str(self.dn), "attributes": _without_secrets(self.attributes)}
        back = {"was": self.was, "restores": self.restores} if self.was or self.restores else {}
        flags = {"as-held": True} if self.as_held else {}
        return record | back | flags | _redacted(self.attributes)


class Set(Struct, frozen=True):
    """Values that change on an object; ``changes`` hold both what goes and what comes."""

    dn: DN
    changes: tuple[Change, ...]

    def operation(self) -> Operation:
        """The modification of the entry."""
        return ModifyEntry(self.dn, self.changes)

    def reverse(self) -> Step | None:
        """The same changes the other way round."""
        return Set(self.dn, tuple(c.reverse() for c in reversed(self.changes)))

    def record(self) -> Record:
        """What the journal keeps of it."""
        changes = [
            [c.attribute, [], [], False]
            if is_secret(c.attribute)  # whoever reads the journal must not be able to try them out
            else [c.attribute, list(c.removed), list(c.added), c.is_exclusive]
            for c in self.changes
        ]
        record = {"step": "set", "dn": str(self.dn), "changes": changes}
        return record | _redacted(c.attribute for c in self.changes)


class Rename(Struct, frozen=True):
    """A new name, a new place, or both; everything below comes along."""

    dn: DN
    new: DN

    def operation(self) -> Operation:
        """The renaming of the entry."""
        return RenameEntry(self.dn, self.new)

    def reverse(self) -> Step | None:
        """The rename the other way round."""
        return Rename(self.new, self.dn)

    def record(self) -> Record:
        """What the journal keeps of it."""
        return {"step": "rename", "dn": str(self.dn), "new": str(self.new)}


class Remove(Struct, frozen=True):
    """An object that goes; ``attributes`` is what it was."""

    dn: DN
    attributes: dict[str, list[Value]]

    def operation(self) -> Operation:
        """The deletion of the entry."""
        return DeleteEntry(self.dn)

    def reverse(self) -> Step | None:
        """Its addition, without what only the directory sets."""
        attributes = {name: values for name, values in self.attributes.items() if name not in _SERVER_SET}
        return Add(self.dn, attributes, as_held=True)

    def record(self) -> Record:
        """What the journal keeps of it."""
        return {"step": "remove", "dn": str(self.dn), "attributes": _without_secrets(self.attributes)}


class Password(Struct, frozen=True):
    """A new password, or none any more. The record says so and never which; it cannot be taken back.

    ``hand_out`` names the hand-out where a generated one stands, so that a job that is broken off can be finished.
    """

    dn: DN
    secret: Secret | None
    must_change: bool
    hand_out: str = ""

    def operation(self) -> Operation:
        """The setting of the password."""
        return SetPassword(self.dn, self.secret, self.must_change)

    def reverse(self) -> Step | None:
        """Nothing takes it back."""
        return None

    def record(self) -> Record:
        """That it was set, and never which."""
        return {
            "step": "password", "dn": str(self.dn), "set": self.secret is not None,
            "generated": self.secret is not None and self.secret.generated, "must-change": self.must_change,
        } | ({"hand-out": self.hand_out} if self.hand_out else {})  # fmt: skip


Step = Add | Set | Rename | Remove | Password


def with_secrets(step: Add, attributes: dict[str, list[Value]]) -> Add:
    """An addition with what its record withholds, from the attributes that the object had."""
    secret = {name: values for name, values in attributes.items() if is_secret(name)}
    return structs.replace(step, attributes=step.attributes | secret)


def _without_secrets(attributes: dict[str, list[Value]]) -> dict[str, list[Value]]:
    return {name: values for name, values in attributes.items() if not is_secret(name)}


def _redacted(attributes: Iterable[str]) -> Record:
    """The mark of a record that does not hold all of its step."""
    return {"redacted": True} if any(map(is_secret, attributes)) else {}


def without_lost(step: Step, not_created: AbstractSet[DN]) -> Step | None:
    """A step without what was to be done for objects that could not be made; None where nothing is left of it."""
    if step.dn in not_created:
        return None
    if not isinstance(step, Set) or not not_created:
        return step
    texts = {str(dn) for dn in not_created}
    changes = []
    for change in step.changes:
        added = tuple(value for value in change.added if value not in texts)
        if added or change.removed:
            changes.append(structs.replace(change, added=added))
    return Set(step.dn, tuple(changes)) if changes else None


def from_record(record: Record) -> Step | None:
    """The step that a record tells of; None for a password, which no record holds."""
    dn = names.parse(record["dn"])
    match record["step"]:
        case "add":
            is_as_held = record.get("as-held", False)
            return Add(dn, record["attributes"], record.get("was", ""), record.get("restores", 0), is_as_held)
        case "set":
            return Set(
                dn,
                tuple(
                    Change(name, tuple(removed), tuple(added), alone)
                    for name, removed, added, alone in record["changes"]
                ),
            )
        case "rename":
            return Rename(dn, names.parse(record["new"]))
        case "remove":
            return Remove(dn, record["attributes"])
    return None
