"""Faults of structure: unknown keys, wrong types, values out of range. All of them, each with its remedy."""

from __future__ import annotations

import copy
from typing import Any, TypeVar

import msgspec

from vandrel.text.nearest import did_you_mean, listed
from vandrel.text.yaml_source import Path, Source

T = TypeVar("T")

_NAMES = {
    "string": "text", "integer": "a whole number", "number": "a number", "boolean": "true or false",
    "array": "a list", "object": "a mapping", "null": "nothing",
}  # fmt: skip


def convert(source: Source, kind: type[T], schema: dict[str, Any]) -> T:
    """The data of a file as an object of this class, with every fault of structure noted in the source.

    What is at fault is left out, so that the rest can still be checked. `schema` is the JSON Schema of `kind`, which
    must have a default for each of its fields.
    """
    data = {} if source.data is None else source.data
    try:
        return msgspec.convert(data, kind)
    except msgspec.ValidationError:
        pass
    from jsonschema import Draft202012Validator

    data = copy.deepcopy(data)
    for error in sorted(
        Draft202012Validator(schema).iter_errors(data), key=lambda e: [str(p) for p in e.absolute_path]
    ):
        _note(source, error, data)
    try:
        return msgspec.convert(data, kind)
    except msgspec.ValidationError as error:
        if not source.faults:
            source.fault((), str(error))
        return kind()


def _note(source: Source, error: Any, data: Any) -> None:
    path: Path = tuple(error.absolute_path)
    kind, instance = error.validator, error.instance
    if kind in ("anyOf", "oneOf"):
        branches = [e for e in error.context if e.validator != "type" or len(e.absolute_path) > len(path)]
        if branches and not any(e.validator == "const" for e in branches):
            for inner in branches:
                _note(source, inner, data)
            return
        allowed = [
            _NAMES.get(str(e.validator_value), str(e.validator_value)) for e in error.context if e.validator == "type"
        ]
        enums = [
            value for e in error.context if e.validator == "enum" for value in e.validator_value if value is not None
        ]
        _wrong(source, path, instance, [*map(str, enums), *(name for name in allowed if name != "nothing")])
    elif kind == "additionalProperties":
        names = list(error.schema.get("properties", {}))
        for key in [key for key in instance if key not in names]:
            hint = did_you_mean(key, names) or f"the keys here are: {', '.join(names)}"
            source.fault((*path, key), f"unknown key {key!r}", hint, key=True)
            _drop(data, (*path, key))
        return
    elif kind == "required":
        source.fault(path, f"{listed(error.validator_value, 'and')} must stand here")
    elif kind == "type":
        types = error.validator_value if isinstance(error.validator_value, list) else [error.validator_value]
        _wrong(source, path, instance, [_NAMES.get(str(name), str(name)) for name in types if name != "null"])
    elif kind == "enum":
        _wrong(source, path, instance, [str(value) for value in error.validator_value if value is not None])
    elif kind in ("minimum", "maximum"):
        least = "at least" if kind == "minimum" else "at most"
        source.fault(path, f"{instance} is out of range: {least} {error.validator_value} is allowed")
    elif kind in ("minLength", "minItems"):
        source.fault(path, "this must not be empty")
    else:
        source.fault(path, error.message)
    _drop(data, path)


def _wrong(source: Source, path: Path, value: Any, allowed: list[str]) -> None:
    excerpt = (
        "nothing"
        if value is None
        else f"{value!r}"
        if isinstance(value, (str, int, float, bool))
        else "a list"
        if isinstance(value, list)
        else "a mapping"
    )
    hint = did_you_mean(value, allowed) if isinstance(value, str) else ""
    source.fault(path, f"{excerpt} stands here, and {listed(allowed)} is allowed", hint)


def _drop(data: Any, path: Path) -> None:
    """Take the faulty piece out; where its place cannot be empty, what holds it goes as well."""
    holder = data
    for step in path[:-1]:
        try:
            holder = holder[step]
        except (KeyError, IndexError, TypeError):
            return
    if not path:
        if isinstance(data, dict):
            data.clear()
    elif isinstance(holder, dict):
        holder.pop(path[-1], None)
        if path[-1] == "ladder":
            _drop(data, path[:-1])
    elif isinstance(holder, list) and isinstance(path[-1], int) and path[-1] < len(holder):
        # A hole keeps the positions of the others right; text fits every list of words.
        holder[path[-1]] = _HOLE


#: Stands where a faulty item of a list was.
_HOLE = "\ufffd"


def is_hole(text: str) -> bool:
    """Whether a value stands for one that was faulty."""
    return text == _HOLE
