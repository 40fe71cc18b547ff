"""How one field is kept in a directory of one schema: what the codecs of all dialects share."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date
from typing import TYPE_CHECKING

from vandrel.directory import gentime
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import Compare, Filter, Not
from vandrel.directory.schema.syntaxes import GENERALIZED_TIME
from vandrel.fields import GROUP, Field, Shape
from vandrel.text import octets

if TYPE_CHECKING:
    from vandrel.dialects.base import BaseDialect

#: A value as a directory keeps it, by attribute: what nobody else may have.
UniqueForm = tuple[str, str]


def yes_no(flag: bool) -> list[str]:
    """The value of a flag field."""
    return ["yes"] if flag else ["no"]


def is_yes(values: Sequence[str]) -> bool:
    """Whether the values of a flag field say yes."""
    return list(values) == ["yes"]


class FieldCodec:
    """Keep the values of a field as they are in one attribute.

    Other codecs derive from this one. All methods get the dialect, for the schema and the charter's time zone, and
    the attribute, which the charter may have replaced.

    Attributes:
        field: name of the field; set by `table`.
        attribute: the attribute that keeps it; empty where none does by itself.
        on: other attributes for some object types.
        unique: the attributes in which a value must not stand a second time.
        at_creation: whether the field stands in a new entry; if not, it is set once the entry is there.
        needs_attribute: whether the field has no values where the schema lacks the attribute.
        heeded_by: what must be TRUE in a password policy of a standard server so that it acts on the field.

    """

    at_creation = True
    needs_attribute = True
    heeded_by = ""

    def __init__(self, attribute: str = "", *, on: Mapping[str, str] | None = None, unique: Sequence[str] = ()) -> None:
        """Name the attribute."""
        self.field = ""
        self.attribute = attribute
        self.on = on or {}
        self.unique = tuple(unique)

    def attributes(self) -> tuple[str, ...]:
        """All attributes that the codec reads or writes, the main one first."""
        return (self.attribute, *self.on.values())

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The values of the field."""
        return entry.texts(attribute)

    def read_many(self, dialect: BaseDialect, entries: Iterable[Entry], attribute: str) -> Iterator[Sequence[str]]:
        """The values of the field of each of many entries."""
        if type(self).read is not FieldCodec.read:
            yield from (self.read(dialect, entry, attribute) for entry in entries)
            return
        nothing: Sequence[Value] = ()
        for entry in entries:  # as `Entry.texts` does: a call for each would take three times as long
            values = entry.attributes.get(attribute, nothing)
            if len(values) == 1 and isinstance(only := values[0], str):
                yield (only,)
            else:
                yield [value for value in values if isinstance(value, str)] if values else ()

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """The values as the attribute keeps them."""
        return list(values)

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Change the entry in place so that the field has exactly these values."""
        put(entry, attribute, self.store(dialect, attribute, values))

    def condition(self, dialect: BaseDialect, attribute: str, value: str) -> Filter | None:
        """Find the objects whose field has this value; None where comparing the attribute does."""
        return None

    def unique_forms(self, value: str) -> list[UniqueForm]:
        """The attributes and stored values that nobody else may have."""
        return [(name, value) for name in self.unique]

    def unique_columns(self, values: Sequence[str]) -> list[tuple[str, Sequence[str]]]:
        """The same for many values at once: each attribute with what would stand in it for each value."""
        return [(name, values) for name in self.unique]

    def field_value(self, attribute: str, stored: str) -> str:
        """The value of the field that a stored value of a unique attribute stands for."""
        return stored


class DateCodec(FieldCodec):
    """Keep days as instants, or as they are written where the attribute holds text."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """Days, in ISO 8601; what is no day is left out."""
        days = (self._day(dialect, value) for value in entry.texts(attribute))
        return [day.isoformat() for day in days if day is not None]

    def _day(self, dialect: BaseDialect, value: str) -> date | None:
        instant = gentime.parse(value)
        if instant is not None:
            return dialect.day_of(self.field, instant)
        try:
            return date.fromisoformat(value)
        except ValueError:
            return None

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """Instants in the organization's time zone."""
        definition = dialect.schema.attribute(attribute)
        if definition is None or definition.syntax == GENERALIZED_TIME:
            return [gentime.to_text(dialect.instant_of(self.field, value)) for value in values]
        return list(values)


class OctetsCodec(FieldCodec):
    """Keep octets; in fields they are text in base64."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """Octets as text."""
        return [octets.to_text(value) for value in entry.values_of(attribute)]

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """Octets."""
        return [octets.from_text(value) for value in values]


class OctetTextCodec(FieldCodec):
    """Keep text in an attribute of octets, as public keys are."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The octets as UTF-8."""
        values = entry.values_of(attribute)
        return [value if isinstance(value, str) else value.decode("utf-8", "replace") for value in values]

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """Octets."""
        return [value.encode() for value in values]


class BooleanCodec(FieldCodec):
    """Keep a flag as TRUE or FALSE (RFC 4517, 3.3.3); neither yes nor no where the attribute is empty."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """Yes, no, or nothing."""
        return [{"TRUE": "yes", "FALSE": "no"}[v] for v in entry.texts(attribute) if v in ("TRUE", "FALSE")]

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """TRUE or FALSE."""
        return ["TRUE" if value == "yes" else "FALSE" for value in values]

    def condition(self, dialect: BaseDialect, attribute: str, value: str) -> Filter | None:
        """Compare with TRUE or FALSE."""
        return Compare(attribute, "=", "TRUE" if value == "yes" else "FALSE")


class MarkCodec(FieldCodec):
    """Keep a flag as TRUE, or not at all.

    `is_sparse` is whether the field has no value where the mark is missing, and not ``no``.
    """

    needs_attribute = False

    def __init__(self, attribute: str, *, is_sparse: bool = False, at_creation: bool = True) -> None:
        """Name the attribute."""
        super().__init__(attribute)
        self._is_sparse = is_sparse
        self.at_creation = at_creation

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """Whether the mark is there."""
        marked = entry.text(self.attribute) == "TRUE"
        return [] if self._is_sparse and not marked else yes_no(marked)

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """TRUE or nothing."""
        return ["TRUE"] if is_yes(values) else []

    def condition(self, dialect: BaseDialect, attribute: str, value: str) -> Filter | None:
        """Look for the mark, or for its lack."""
        marked = Compare(self.attribute, "=", "TRUE")
        return marked if value == "yes" else Not(marked)


class NameCodec(FieldCodec):
    """Keep the name of the entry, which only a rename changes."""

    needs_attribute = False
    at_creation = False

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The value of the first naming attribute."""
        return [entry.dn.name]

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Do nothing: names are changed by a rename."""


class SecretCodec(FieldCodec):
    """A password: set by a step of its own, never read."""

    needs_attribute = False
    at_creation = False

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """Nothing."""
        return []

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Do nothing."""


class OwnFieldCodec(FieldCodec):
    """Keep a field that the charter declares, with the object class that allows its attribute."""

    def __init__(self, plain: FieldCodec, object_class: str) -> None:
        """Wrap the codec that fits the field's shape."""
        super().__init__(plain.attribute)
        self._plain = plain
        self.object_class = object_class

    def class_on(self, object_type: str) -> str:
        """The object class that allows the attribute on objects of a type; empty where any does."""
        return self.object_class

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """As the wrapped codec."""
        return self._plain.read(dialect, entry, attribute)

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """As the wrapped codec."""
        return self._plain.store(dialect, attribute, values)

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """As the wrapped codec; the object class comes with the first value."""
        self._plain.write(dialect, entry, attribute, values)
        needed = self.class_on(dialect.object_type_of(entry)) if values else ""
        if needed and not entry.has_class(needed):
            put(entry, "objectClass", [*entry.values_of("objectClass"), needed])

    def condition(self, dialect: BaseDialect, attribute: str, value: str) -> Filter | None:
        """As the wrapped codec."""
        return self._plain.condition(dialect, attribute, value)


class PosixCodec(OwnFieldCodec):
    """Keep what RFC 2307 knows of an account or a group, with the object class that allows it."""

    def __init__(self, plain: FieldCodec | str, object_class: str = "posixAccount") -> None:
        """Wrap the codec that keeps the values; or name the attribute that has them as they are."""
        plain = FieldCodec(plain) if isinstance(plain, str) else plain
        super().__init__(plain, object_class)
        self.unique = plain.unique

    def class_on(self, object_type: str) -> str:
        """The class of an account, or that of a group."""
        return "posixGroup" if object_type == GROUP else self.object_class


def codec_for(field: Field, attribute: str) -> FieldCodec:
    """The codec that fits the shape of a field and needs no more than one attribute."""
    codecs = {Shape.DATE: DateCodec, Shape.OCTETS: OctetsCodec, Shape.FLAG: BooleanCodec}
    codec = codecs.get(field.shape, FieldCodec)(attribute)
    codec.field = field.name
    return codec


def put(entry: Entry, attribute: str, values: Sequence[Value]) -> None:
    """Give an attribute of an entry these values, each once; an empty list takes the attribute away."""
    if values:
        entry.attributes[attribute] = list(dict.fromkeys(values))
    else:
        entry.attributes.pop(attribute, None)
