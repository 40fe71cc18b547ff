"""YAML with positions: plain data, and where in the file each piece of it stands."""

from __future__ import annotations

import re
from typing import Any, ClassVar

import msgspec
import yaml
from msgspec import Struct

from vandrel.errors import Code, Finding, Location

Path = tuple[str | int, ...]

#: Characters. A charter with a unit and a group for each of ten thousand departments has less.
_LONGEST = 4_000_000


class _Loader(getattr(yaml, "CSafeLoader", yaml.SafeLoader)):  # type: ignore[misc]
    """YAML in which only true and false are booleans: the language ``no`` stays a word, a date stays text."""

    # Own, and empty: the usual ones would make booleans of yes and no, and dates of days.
    yaml_implicit_resolvers: ClassVar[dict[str, list[tuple[str, re.Pattern[str]]]]] = {}


for _tag, _pattern, _first in (
    ("bool", r"^(?:true|false)$", "tf"),
    ("null", r"^(?:~|null|)$", ["~", "n", ""]),
    ("int", r"^[-+]?(?:0|[1-9][0-9]*)$", "-+0123456789"),
    ("float", r"^[-+]?[0-9]+\.[0-9]+$", "-+0123456789"),
    ("merge", r"^<<$", "<"),
):
    _Loader.add_implicit_resolver(f"tag:yaml.org,2002:{_tag}", re.compile(_pattern), list(_first))


class Source(Struct):
    """A file read: its data, the position of each value and key, and the faults met on the way.

    Positions are (line, column), counted from 1. ``keys`` has the position of the key of a mapping's item; ``code`` is
    the one of the findings.
    """

    name: str
    code: Code
    data: Any = None
    values: dict[Path, tuple[int, int]] = msgspec.field(default_factory=dict)
    keys: dict[Path, tuple[int, int]] = msgspec.field(default_factory=dict)
    quoted: set[Path] = msgspec.field(default_factory=set)
    faults: list[Finding] = msgspec.field(default_factory=list)

    def fault(self, path: Path, what: str, remedy: str = "", *, key: bool = False, letter: int | None = None) -> None:
        """Note a fault at a value, or at the nearest thing above it that stands in the file.

        With ``key`` at its key instead; with ``letter`` at that letter of its text, counted from 0.
        """
        table = self.keys if key else self.values
        while path and path not in table:
            path = path[:-1]
        line, column = table.get(path, (1, 1))
        if letter is not None:
            column += letter + (path in self.quoted and not key)
        self.add(line, column, what, remedy)

    def add(self, line: int, column: int, what: str, remedy: str = "") -> None:
        """Note a fault at a line and a column."""
        self.faults.append(Finding(self.code, what, Location(file=self.name, line=line, column=column), remedy))


def read(name: str, text: str, code: Code) -> Source:
    """Read one YAML document; faults of its syntax, and keys that stand twice, are in ``faults`` under `code`.

    Aliases are faults: a few hundred characters of them could stand for more than memory holds.
    """
    source = Source(name, code)
    if len(text) > _LONGEST:
        source.add(1, 1, f"this has {len(text):,} characters, and {_LONGEST:,} are the most", "is it the right file?")
        return source
    loader = _Loader(text)
    try:
        node = loader.get_single_node()
        if node is not None:
            source.data = _build(loader, node, (), source, set())
    except RecursionError:
        source.add(1, 1, "this is nested too deeply to be read", "is it the right file?")
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        what = ", ".join(part for part in (error.context, error.problem) if part)
        source.add(mark.line + 1 if mark else 1, mark.column + 1 if mark else 1, f"this is not YAML: {what}")
    except yaml.YAMLError as error:
        source.add(1, 1, f"this is not YAML: {str(error).splitlines()[0]}")
    finally:
        loader.dispose()
    return source


def _build(loader: Any, node: yaml.Node, path: Path, source: Source, built: set[int]) -> Any:
    if node.start_mark is not None:
        source.values[path] = (node.start_mark.line + 1, node.start_mark.column + 1)
    if isinstance(node, yaml.ScalarNode) and node.style in ("'", '"'):
        source.quoted.add(path)  # its text begins behind the quotation mark
    if id(node) in built:
        source.fault(path, "this is an alias, and those are not read", "write it out")
        return None
    built.add(id(node))
    if isinstance(node, yaml.MappingNode):
        mapping: dict[Any, Any] = {}
        for key_node, value_node in node.value:
            key = key_node.value if isinstance(key_node, yaml.ScalarNode) else None
            position = (key_node.start_mark.line + 1, key_node.start_mark.column + 1)
            if key is None:
                source.add(*position, "a key must be a word")
                continue
            if key in mapping:
                source.add(*position, f"{key!r} stands here for the second time", "keep one of the two")
                continue
            source.keys[(*path, key)] = position
            mapping[key] = _build(loader, value_node, (*path, key), source, built)
        return mapping
    if isinstance(node, yaml.SequenceNode):
        return [_build(loader, item, (*path, index), source, built) for index, item in enumerate(node.value)]
    try:
        return loader.construct_object(node)
    except yaml.YAMLError:
        source.fault(path, f"{node.value!r} cannot be read as {node.tag}", "write plain text, in quotes if need be")
        return None
