"""What the dialects have in common: tables of attributes, words of the charter, days and references."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime
from typing import ClassVar

from vandrel.charter.charter import Charter
from vandrel.directory import gentime
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory
from vandrel.directory.schema.syntaxes import GENERALIZED_TIME
from vandrel.fields import ACCOUNT, FIELDS, GROUP, Shape
from vandrel.text import octets

_YES, _NO = ["yes"], ["no"]


def yes(flag: bool) -> list[str]:
    return list(_YES if flag else _NO)


class BaseDialect:
    """A dialect by tables. The charter's time zone turns days into instants."""

    name: ClassVar[str]
    #: sort -> object classes of a new object.
    CLASSES: ClassVar[Mapping[str, Sequence[str]]]
    #: field -> attribute, and (sort, field) -> attribute where one sort differs.
    ATTRIBUTES: ClassVar[Mapping[str, str]]
    ELSEWHERE: ClassVar[Mapping[tuple[str, str], str]]

    def __init__(self, directory: Directory, charter: Charter) -> None:
        self._directory = directory
        self._schema = directory.schema
        self._charter = charter
        self._own = charter.document.attributes.get(self.name, {})
        self._found: dict[tuple[str, str], str] = {}

    # --- where a field is kept

    def attribute(self, field: str, object_type: str) -> str:
        key = (field, object_type)
        if key not in self._found:
            wanted = self._own.get(f"{object_type}.{field}") or self._own.get(field)
            wanted = wanted or self.ELSEWHERE.get((object_type, field)) or self.ATTRIBUTES.get(field, "")
            self._found[key] = wanted if wanted and self._is_allowed(wanted, object_type) else ""
        return self._found[key]

    def _is_allowed(self, attribute: str, object_type: str) -> bool:
        known = self._schema.attribute(attribute)
        if known is None:
            return False
        return known.operational or known.name in self._schema.shape(tuple(self.classes(object_type)))[1]

    def classes(self, object_type: str) -> list[str]:
        """The object classes of a new object of this sort that the schema has."""
        return [name for name in self.CLASSES.get(object_type, ()) if self._schema.object_class(name) is not None]

    def why_not_kept(self, field: str, object_type: str) -> str:
        known = FIELDS[field]
        if known.shape in (Shape.MEMBERSHIPS, Shape.ROLES) or self.attribute(field, object_type):
            return ""
        wanted = self._own.get(f"{object_type}.{field}") or self._own.get(field)
        if wanted:
            return f"the charter keeps {field} in {wanted}, which this directory does not have on {_a(object_type)}"
        return f"this directory has no attribute for the {field} of {_a(object_type)}"

    # --- values

    def _plain(self, entry: Entry, field: str, attribute: str) -> list[str]:
        if FIELDS[field].shape is Shape.OCTETS:
            return [octets.to_text(value) for value in entry.values_of(attribute)] if attribute else []
        values = entry.texts(attribute) if attribute else []
        if FIELDS[field].shape is Shape.DATE:
            return [day.isoformat() for value in values if (day := self._day(field, value)) is not None]
        return values

    def _day(self, field: str, value: str) -> date | None:
        instant = gentime.parse(value)
        if instant is None:
            try:
                return date.fromisoformat(value)
            except ValueError:
                return None
        return self.day_of(field, instant)

    def day_of(self, field: str, instant: datetime) -> date:
        """The day that an instant stands for: the last one before it for an end."""
        return self._charter.last_day(instant) if field == "ends" else instant.astimezone(self._charter.zone).date()

    def instant_of(self, field: str, day: str) -> datetime:
        """The instant at which a day begins, or, for an end, the one at which it is over."""
        whole = date.fromisoformat(day)
        if field == "ends":
            return self._charter.end_instant(whole)
        return datetime(whole.year, whole.month, whole.day, tzinfo=self._charter.zone)

    def stored(self, field: str, values: Sequence[str]) -> list[Value]:
        if FIELDS[field].shape is Shape.OCTETS:
            return [octets.from_text(value) for value in values]
        if FIELDS[field].shape is Shape.DATE:
            attribute = self._schema.attribute(self.attribute(field, ACCOUNT))
            if attribute is None or attribute.syntax == GENERALIZED_TIME:
                return [gentime.to_text(self.instant_of(field, value)) for value in values]
        return list(values)

    def _differences(self, attribute: str, now: Sequence[Value], wanted: Sequence[Value]) -> list[Change]:
        # Compared as they stand: a change of case or spacing alone is a change.
        removed = tuple(value for value in now if value not in wanted)
        added = tuple(value for value in wanted if value not in now)
        return [Change(attribute, removed, added)] if removed or added else []

    def means_later(self, field: str, value: str) -> tuple[str, str]:
        return "", ""

    # --- members

    def again(self, entry: Entry) -> tuple[dict[str, list[Value]], str]:
        schema = self._schema
        known = ((name, values, schema.attribute(name)) for name, values in entry.attributes.items())
        return {name: values for name, values, found in known if found is not None and not found.read_only}, ""

    def first_members(self, group: Entry, new: Sequence[DN]) -> list[Change]:
        return [Change("member", added=tuple(map(str, new)))]

    def _present(self, group: Entry) -> dict[object, str]:
        return {self._schema.key("member", value): value for value in group.texts("member")}

    def _joins(self, group: Entry, add: Sequence[DN], remove: Sequence[DN]) -> tuple[list[Value], list[Value]]:
        """What comes into the list of members and what goes, of what is not so already."""
        present = self._present(group)
        return [str(dn) for dn in add if dn.key not in present], [present[dn.key] for dn in remove if dn.key in present]


def _a(object_type: str) -> str:
    return {ACCOUNT: "an account", GROUP: "a group"}.get(object_type, f"a {object_type}")
