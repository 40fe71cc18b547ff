"""One object through its fields: each with its values in three forms, memberships and roles included.

``raw`` values are what dialects take and give. ``shown`` ones are for people: other objects by name, octets described,
numbers with their unit. ``portable`` ones stand in files and are read back without change.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cached_property

from vandrel.charter.document import Role
from vandrel.directory import dn as names
from vandrel.directory.entry import Entry, Value
from vandrel.directory.secret_attributes import is_secret
from vandrel.fields import ACCOUNT, Field, Shape
from vandrel.objects.context import Context
from vandrel.objects.groups_of_many import GroupsOfMany
from vandrel.objects.namesakes import Namesakes
from vandrel.objects.reference_labels import ReferenceLabels
from vandrel.text import octets
from vandrel.text.string_prep import prepare

#: The states that an object may be in, several at a time.
STATES = ("disabled", "locked", "ended", "not started", "without password", "protected")


class ObjectView:
    """One object of the directory, read once; memberships are looked up when they are asked for."""

    def __init__(
        self, context: Context, entry: Entry, groups: GroupsOfMany | None = None, namesakes: Namesakes | None = None
    ) -> None:
        """Take the entry as it was read; `groups` knows those of many objects, `namesakes` what others are called."""
        self.context = context
        self.entry = entry
        self._groups_of_many = groups
        self._namesakes = namesakes or Namesakes(context)

    @cached_property
    def object_type(self) -> str:
        """``account``, ``group``, ``unit``, ``computer``, or empty."""
        return self.context.object_type(self.entry)

    @property
    def place(self) -> str:
        """The place that holds the object."""
        return self.context.place(self.entry.dn.parent)

    @property
    def label(self) -> str:
        """What people call the object."""
        return self.context.label(self.entry)

    @property
    def states(self) -> list[str]:
        """What must be seen at a glance, in the words of `STATES`."""
        dialect, today = self.context.dialect, self.context.charter.today().isoformat()
        starts, ends = (self.context.one(self.entry, name) for name in ("starts", "ends"))
        is_account = self.object_type == ACCOUNT
        holds = (
            self.raw("enabled") == ["no"], is_account and dialect.is_locked(self.entry), bool(ends) and ends < today,
            starts > today, is_account and dialect.has_password(self.entry) is False, self.raw("protected") == ["yes"],
        )  # fmt: skip
        return [state for state, is_so in zip(STATES, holds, strict=True) if is_so]

    @cached_property
    def groups(self) -> list[Entry]:
        """The groups that the object is a direct member of, by name."""
        many = self._groups_of_many
        groups = many.of(self.entry) if many is not None else self.context.groups_of(self.entry)
        return sorted(groups, key=lambda group: prepare(group.dn.name))

    def fields(self) -> list[Field]:
        """The fields that such an object has."""
        return [field for field in self.context.fields.values() if self.object_type in field.on]

    def raw(self, name: str) -> list[str]:
        """The values of a field in the form of dialects: other objects by their names in full."""
        shape = self.context.fields[name].shape
        if shape is Shape.MEMBERSHIPS:
            return [str(group.dn) for group in self.groups]
        if shape is Shape.ROLES:
            return self._roles()
        return self.context.dialect.read(self.entry, name)

    def shown(self, name: str) -> list[str]:
        """The values of a field as people read them."""
        if self.context.fields[name].shape is Shape.MEMBERSHIPS:
            return [group.dn.name for group in self.groups]
        return self.as_shown(self.context.fields[name], self.raw(name))

    def as_shown(self, field: Field, values: Sequence[str]) -> list[str]:
        """Values of a field in the form of dialects as people read them, other objects told apart."""
        if field.shape is Shape.REFERENCE:  # servers give names out in any order
            return sorted(self._namesakes.shown(values), key=prepare)
        return shown_values(field, values)

    def portable(self, name: str, labels: ReferenceLabels) -> list[str]:
        """The values of a field as a file has them, so that reading it back changes nothing.

        `labels` gives other objects short names that nobody shares.
        """
        field = self.context.fields[name]
        if field.shape is Shape.MEMBERSHIPS:
            return [group.dn.name for group in self.groups]
        if name == "members":
            return sorted(labels.of(dn) for dn in self.context.dialect.members(self.entry))
        values = self.raw(name)
        if field.shape is Shape.REFERENCE:
            return [labels.of(dn) for dn in values]
        return values

    def attribute(self, name: str) -> list[str]:
        """The values of a raw attribute as text; secrets and octets are described."""
        return [shown_attribute(name, value) for value in self.entry.values_of(name)]

    def _roles(self) -> list[str]:
        roles = self.context.charter.document.roles
        return roles_held(roles, (group.dn.name for group in self.groups)) if roles else []


def roles_held(roles: dict[str, Role], groups: Iterable[str]) -> list[str]:
    """The roles that membership in these groups makes up."""
    present = {prepare(name) for name in groups}
    return [name for name, role in roles.items() if present.issuperset(map(prepare, role.groups))]


def shown_values(field: Field, values: Sequence[str]) -> list[str]:
    """Values of a field in the form of dialects as people read them."""
    if field.shape is Shape.OCTETS:
        return [octets.told(value) for value in values]
    if field.shape is Shape.REFERENCE:  # servers give names out in any order
        return sorted((names.parse(value).name for value in values), key=prepare)
    return [f"{value} {field.unit}" for value in values] if field.unit else list(values)


def shown_attribute(name: str, value: Value) -> str:
    """One value of a raw attribute; of secrets and octets only that they are there."""
    if is_secret(name):
        return "(kept, never shown)"
    return f"({len(value)} octets)" if isinstance(value, bytes) else value
