"""What the dialects have in common: a table of codecs, attributes of the charter's choice, days and references."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import date, datetime
from functools import cached_property
from itertools import repeat
from typing import ClassVar

from vandrel.charter.charter import Charter
from vandrel.dialects.codec import FieldCodec, OwnFieldCodec, codec_for
from vandrel.directory.dn import DN
from vandrel.directory.entry import IDENTIFIERS, Entry, Value
from vandrel.directory.filter import Filter
from vandrel.directory.member_lists import BY_LOGIN, BY_NAME
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory
from vandrel.directory.schema import Schema
from vandrel.fields import ACCOUNT, GROUP, UNIT, Shape


def table(**codecs: FieldCodec) -> dict[str, FieldCodec]:
    """Give each codec the name of its field; an underscore in a keyword stands for a hyphen."""
    named = {name.replace("_", "-"): codec for name, codec in codecs.items()}
    for name, codec in named.items():
        codec.field = name
    return named


class BaseDialect:
    """A dialect by a table of codecs. See `vandrel.dialects.dialect.Dialect` for what its methods promise."""

    name: ClassVar[str]
    #: The attribute by which a superior keeps its protected children; empty where it need not.
    superior_guard: ClassVar[str] = ""
    #: object type -> object classes of a new object.
    CLASSES: ClassVar[Mapping[str, Sequence[str]]]
    #: The object classes by which an entry is of a type, in lower case; the first that it has counts.
    TYPES: ClassVar[Sequence[tuple[str, str]]]
    #: field -> how it is kept.
    CODECS: ClassVar[Mapping[str, FieldCodec]]

    def __init__(self, directory: Directory, charter: Charter) -> None:
        """Take a directory of this schema, and the charter whose time zone turns days into instants."""
        self.directory = directory
        self.schema = directory.schema
        self.charter = charter
        self._replaced = charter.document.attributes.get(self.name, {})
        self._attributes: dict[tuple[str, str], str] = {}
        self._types: dict[tuple[Value, ...], str] = {}
        self._unique_of: dict[str, tuple[str, ...]] = {}
        self._codecs = {**self.CODECS, **self._own_codecs()}
        for key in self._replaced:  # a field that the schema has no attribute for, and the charter does
            name = key.rpartition(".")[2]
            if name not in self._codecs and name in charter.fields:
                self._codecs[name] = codec_for(charter.fields[name], "")

    def _own_codecs(self) -> dict[str, FieldCodec]:
        """Codecs of the fields that the charter declares."""
        codecs: dict[str, FieldCodec] = {}
        for name, spec in self.charter.document.fields.items():
            stored_in = next((a for schema, a in spec.attribute.items() if schema == self.name), "")
            if stored_in:
                attribute, _, object_class = stored_in.partition(" of ")
                plain = codec_for(self.charter.fields[name], attribute)
                codecs[name] = OwnFieldCodec(plain, object_class)
                codecs[name].field = name
        return codecs

    # --- where a field is kept

    def codec(self, field: str) -> FieldCodec | None:
        """How a field is kept; None where the schema has nothing for it."""
        return self._codecs.get(field)

    def attribute(self, field: str, object_type: str) -> str:
        """The attribute that keeps a field of an object of this type; empty where none does by itself."""
        key = (field, object_type)
        attribute = self._attributes.get(key)
        if attribute is None:
            codec = self._codecs.get(field)
            name = self._replaced_by(field, object_type)
            name = name or (codec.on.get(object_type) or codec.attribute if codec is not None else "")
            attribute = self._attributes[key] = name if name and self._is_allowed(name, object_type, codec) else ""
        return attribute

    def naming_attribute(self, object_type: str) -> str:
        """The attribute that names new entries of objects of this type."""
        return "ou" if object_type == UNIT else "cn"

    def _replaced_by(self, field: str, object_type: str) -> str:
        return self._replaced.get(f"{object_type}.{field}") or self._replaced.get(field, "")

    def _is_allowed(self, attribute: str, object_type: str, codec: FieldCodec | None) -> bool:
        definition = self.schema.attribute(attribute)
        if definition is None:
            return False
        classes = self.classes(object_type)
        more = codec.class_on(object_type) if isinstance(codec, OwnFieldCodec) else ""
        if more and self.schema.object_class(more):
            classes = [*classes, more]
        return definition.operational or definition.name in self.schema.shape(tuple(classes))[1]

    def classes(self, object_type: str) -> list[str]:
        """The object classes of a new object of this type that the schema has."""
        return [name for name in self.CLASSES.get(object_type, ()) if self.schema.object_class(name) is not None]

    def why_not_kept(self, field: str, object_type: str) -> str:
        """Why a field of such an object cannot be kept in this directory; empty where it can."""
        shape = self.charter.fields[field].shape
        if shape in (Shape.MEMBERSHIPS, Shape.ROLES) or self.attribute(field, object_type):
            return ""
        if replacement := self._replaced_by(field, object_type):
            return (
                f"the charter keeps {field} in {replacement}, which this directory does not have on {_a(object_type)}"
            )
        return f"this directory has no attribute for the {field} of {_a(object_type)}"

    @property
    def can_shield(self) -> bool:
        """Whether a single account can be kept from a team that a task was delegated to on its unit."""
        return False

    def shielded_from(self, entry: Entry) -> list[str]:
        """The tasks of teams, ``team: task``, that an account is kept from."""
        return []

    def shield(self, come: Collection[str], go: Collection[str]) -> list[Change]:
        """The changes to an account that keep these tasks of teams from it, and those not any more."""
        return []

    def keeps_out(self, entry: Entry | None) -> bool | None:
        """Whether the server refuses disabled accounts, this one or any; None where this identity cannot see it."""
        return True

    def attributes_read(self, object_type: str) -> list[str]:
        """The attributes that the fields of such objects are read from, but for the list of members."""
        names = {"objectClass", self.naming_attribute(object_type), *IDENTIFIERS}
        for name, field in self.charter.fields.items():
            codec = self._codecs.get(name)
            if codec is not None and object_type in field.on and name != "members":
                names |= {self.attribute(name, object_type), *codec.attributes()}
        return sorted(names - {"", *BY_NAME, BY_LOGIN})

    # --- values

    def object_type_of(self, entry: Entry) -> str:
        """``account``, ``group``, ``unit``, ``computer``, or an empty string for anything else.

        By the object classes and their superiors, which an entry need not name (RFC 4512, section 3.3).
        """
        classes = tuple(entry.attributes.get("objectClass", ()))
        cached = self._types.get(classes)
        if cached is None:
            implied = self.schema.lineage(map(str, classes))
            present = {str(name).lower() for name in classes} | {cls.name.lower() for cls in implied}
            cached = next((object_type for name, object_type in self.TYPES if name in present), "")
            self._types[classes] = cached
        return cached

    def read(self, entry: Entry, field: str) -> list[str]:
        """The values of one field; memberships, which stand in the groups, are not read here."""
        codec = self._codecs.get(field)
        if codec is None:
            return []
        attribute = self.attribute(field, self.object_type_of(entry))
        return codec.read(self, entry, attribute) if attribute or not codec.needs_attribute else []

    def read_many(self, entries: Sequence[Entry], field: str, object_type: str) -> Iterator[Sequence[str]]:
        """What `read` gives for each of many entries, all of which are of one type."""
        codec, attribute = self._codecs.get(field), self.attribute(field, object_type)
        if codec is None or not (attribute or not codec.needs_attribute):
            return repeat((), len(entries))
        return codec.read_many(self, entries, attribute)

    def stored(self, field: str, values: Sequence[str]) -> list[Value]:
        """The values of a field as the directory keeps them."""
        codec = self._codecs.get(field)
        return codec.store(self, self.attribute(field, ACCOUNT), values) if codec is not None else list(values)

    def write(self, entry: Entry, field: str, values: Sequence[str]) -> None:
        """Change an entry in place so that a field has exactly these values.

        Fields that share an attribute are written one after the other into the same entry; `difference` then gives
        the changes of all of them together.
        """
        codec = self._codecs.get(field)
        attribute = self.attribute(field, self.object_type_of(entry))
        if codec is not None and attribute:
            codec.write(self, entry, attribute, values)

    def changes(self, entry: Entry, field: str, values: Sequence[str]) -> list[Change]:
        """What to change so that one field has exactly these values; empty if it has."""
        after = Entry(entry.dn, dict(entry.attributes))
        self.write(after, field, values)
        return difference(entry, after)

    def condition(self, field: str, value: str) -> Filter | None:
        """Find the objects whose field has this value; None where a comparison of its attribute does."""
        codec = self._codecs.get(field)
        return codec.condition(self, self.attribute(field, ACCOUNT) or codec.attribute, value) if codec else None

    @property
    def hours_late(self) -> int:
        """Minutes by which each hour of a week begins later than it says: none, as a rule."""
        return 0

    def means_later(self, field: str, value: str) -> tuple[str, str]:
        """What a value comes to mean of its own accord, and the day from which on: nothing, as a rule."""
        return "", ""

    # --- days

    def day_of(self, field: str, instant: datetime) -> date:
        """The day that an instant stands for: the last one before it for an end."""
        return self.charter.last_day(instant) if field == "ends" else instant.astimezone(self.charter.zone).date()

    def instant_of(self, field: str, day: str) -> datetime:
        """The instant at which a day begins, or, for an end, the one at which it is over."""
        whole = date.fromisoformat(day)
        if field == "ends":
            return self.charter.end_instant(whole)
        return datetime(whole.year, whole.month, whole.day, tzinfo=self.charter.zone)

    # --- what must be unique

    def unique_forms(self, field: str, value: str) -> list[tuple[str, str]]:
        """The attributes and stored values that nobody else may have if this is to be unique."""
        codec, kept = self._codecs.get(field), self._kept_unique(field)
        if codec is None or not kept:
            return []
        if type(codec).unique_forms is FieldCodec.unique_forms:  # asked some times for each of very many names
            return [(name, value) for name in kept]
        return [form for form in codec.unique_forms(value) if form[0] in kept]

    def _kept_unique(self, field: str) -> tuple[str, ...]:
        """The attributes of a field in which values must be unique, of those that the schema has."""
        kept = self._unique_of.get(field)
        if kept is None:
            codec = self._codecs.get(field)
            unique = codec.unique if codec is not None else ()
            kept = self._unique_of[field] = tuple(name for name in unique if self.schema.attribute(name) is not None)
        return kept

    def unique_columns(self, field: str, values: Sequence[str]) -> list[tuple[str, Sequence[str]]]:
        """The same for many values at once: each attribute with what stands in it for each value."""
        codec, kept = self._codecs.get(field), self._kept_unique(field)
        return [column for column in codec.unique_columns(values) if column[0] in kept] if codec and kept else []

    def unique_attributes(self) -> Mapping[str, str]:
        """Attributes with values that must be unique, each with the field that it belongs to."""
        if self._unique is None:
            self._unique = {}
            for field, codec in self._codecs.items():
                for attribute in codec.unique:
                    if self.schema.attribute(attribute) is not None and (
                        attribute not in self._unique or codec.attribute == attribute
                    ):
                        self._unique[attribute] = field
        return self._unique

    _unique: dict[str, str] | None = None

    def unique_value(self, attribute: str, stored: str) -> str:
        """The value of the field that a stored value of such an attribute stands for."""
        codec = self._codecs.get(self.unique_attributes().get(attribute, ""))
        return codec.field_value(attribute, stored) if codec is not None else stored

    # --- objects as a whole

    def changes_with_name(self, entry: Entry, name: str) -> list[Change]:
        """What else is to change when an object gets another name."""
        return []

    def addable(self, entry: Entry, *, is_same: bool = False) -> tuple[dict[str, list[Value]], str]:
        """The attributes with which a deleted object can be added again; and, in words, what does not come back."""
        is_addable = self._addable
        return {name: values for name, values in entry.attributes.items() if is_addable[name]}, ""

    @cached_property
    def _addable(self) -> Mapping[str, bool]:
        return _AddableAttributes(self.schema, self.directory.capabilities.taken_back)

    # --- members

    def first_members(self, group: Entry, new: Sequence[DN]) -> list[Change]:
        """The changes by which objects that are new themselves come into a group."""
        return [Change(self.member_attribute(group), added=tuple(map(str, new)))]

    def member_attribute(self, group: Entry) -> str:
        """The attribute by which a group lists its members by name; empty where it lists logon names alone."""
        return "member"

    def _present(self, group: Entry) -> dict[object, str]:
        members = group.texts(self.member_attribute(group))
        return dict(zip(self.schema.keys("member", members), members, strict=True))

    def placeholder(self, attribute: str) -> str | None:
        """Nothing: objects of this schema may be without any name that they point at."""
        return None

    def _joins(self, group: Entry, add: Sequence[DN], remove: Sequence[DN]) -> tuple[list[Value], list[Value]]:
        """What comes into the list of members and what goes, of what is not so already."""
        present = self._present(group)
        return [str(dn) for dn in add if dn.key not in present], [present[dn.key] for dn in remove if dn.key in present]


class _AddableAttributes(dict[str, bool]):
    """Whether a new entry can have an attribute, by its name: asked once for each, however many entries come."""

    def __init__(self, schema: Schema, taken_back: Collection[str]) -> None:
        super().__init__()
        self._schema = schema
        self._taken_back = taken_back

    def __missing__(self, name: str) -> bool:
        definition = self._schema.attribute(name)
        self[name] = definition is not None and (not definition.read_only or name in self._taken_back)
        return self[name]


def difference(before: Entry, after: Entry) -> list[Change]:
    """The changes that turn one entry into the other, attribute by attribute.

    Values are compared as they stand: a change of case or spacing alone is a change.
    """
    changes = []
    for name in dict.fromkeys((*after.attributes, *before.attributes)):
        old, new = before.values_of(name), after.values_of(name)
        if old is not new and old != new:
            removed = tuple(value for value in old if value not in new)
            added = tuple(value for value in new if value not in old)
            if removed or added:
                changes.append(Change(name, removed, added))
    return changes


def _a(object_type: str) -> str:
    return {ACCOUNT: "an account", GROUP: "a group"}.get(object_type, f"a {object_type}")
