"""Attributes in use for which there is no field: drafted as fields of the organization's own."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from typing import Any

from vandrel.directory.entry import Entry
from vandrel.directory.secret_attributes import is_secret
from vandrel.fields import BUILT_IN, COMPUTED, OBJECT_TYPES
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.drafting.evidence import ENOUGH, Noted, share

_NUMBER = re.compile(r"\d{1,18}")
_HUMP = re.compile(r"(?<=[a-z0-9])(?=[A-Z])")


class _Asked(dict[str, list[Any]]):
    """The attributes of an entry, which remember the names under which they were asked for."""

    def __init__(self, attributes: dict[str, list[Any]]) -> None:
        super().__init__(attributes)
        self.names: set[str] = set()

    def get(self, key: str, default: Any = None) -> Any:
        self.names.add(key)
        return super().get(key, default)

    def __getitem__(self, key: str) -> list[Any]:
        self.names.add(key)
        return super().__getitem__(key)


def find_own_fields(survey: Survey) -> dict[str, Noted]:
    """The own fields to declare, by name; what is secret, operational or no text is left out."""
    context, schema = survey.context, survey.context.directory.schema
    used: dict[str, Counter[str]] = defaultdict(Counter)
    values: dict[str, Counter[str]] = defaultdict(Counter)
    many: set[str] = set()
    by_type = dict(zip(OBJECT_TYPES, (survey.accounts, survey.groups, survey.units, survey.computers), strict=True))
    for object_type, entries in by_type.items():
        known_attributes = _known_attributes(survey, object_type, entries)
        for entry in entries:
            for name, values_here in entry.attributes.items():
                if (
                    name not in known_attributes
                    and ";" not in name
                    and all(isinstance(value, str) for value in values_here)
                ):
                    used[name][object_type] += 1
                    values[name].update(map(str, values_here))
                    many.update([name] if len(values_here) > 1 else ())
    fields: dict[str, Noted] = {}
    for name, types in used.items():
        definition = schema.attribute(name)
        is_ours = definition is not None and not definition.operational and not definition.read_only
        if not is_ours or is_secret(name) or sum(types.values()) < ENOUGH or schema.is_reference(name):
            continue
        if (
            len(values[name]) == 1
        ):  # what is the same everywhere was set by the server or some program, and tells nothing
            continue
        field = _HUMP.sub("-", name).lower()
        if not re.fullmatch(r"[a-z][a-z0-9-]*", field) or field in BUILT_IN or field in COMPUTED or field == "place":
            field = f"own-{len(fields) + 1}"
        settings: dict[str, Any] = {
            "about": definition.description if definition is not None and definition.description else None,
            "on": list(types) if list(types) != ["account"] else None,
            "shape": "number" if all(_NUMBER.fullmatch(value) for value in values[name]) else None,
            "many": name in many or None,
            "attribute": {context.dialect.name: name},
        }  # fmt: skip
        rests = ", ".join(f"{share(times, len(by_type[of]))} {of}s" for of, times in types.items())
        fields[field] = Noted({key: value for key, value in settings.items() if value is not None}, rests)
    return fields


def _known_attributes(survey: Survey, object_type: str, entries: list[Entry]) -> set[str]:
    """The attributes that the fields of an object of this type are read from, its classes and parts of its name."""
    dialect, attributes = survey.context.dialect, {"objectClass"}
    for entry in entries[:1]:
        recorder = _Asked(entry.attributes)
        for name, field in survey.context.fields.items():
            if object_type in field.on:
                dialect.read(Entry(entry.dn, recorder), name)
        attributes |= recorder.names
    kinds = {kind for entry in entries for kind, _ in entry.dn.rdns[0]}
    return (
        attributes
        | {survey.context.directory.schema.attribute_name(kind) or kind for kind in kinds}
        | dialect.of_server
    )
