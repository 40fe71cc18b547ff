"""A drafted charter as it is written: values, what each rests on, and questions, as YAML with comments."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from itertools import count
from typing import Any

from msgspec import Struct

from vandrel.text.yaml_text import dumped

#: Accounts from which on what all of them have in common is a convention and not chance.
ENOUGH = 3
#: The share of accounts that makes a convention; the others are exceptions.
MOST = 0.9
#: Columns of a line that is not broken.
_WIDTH = 100


class Noted(Struct, frozen=True):
    """A value of the draft: what it rests on, and what only a person can answer."""

    value: Any
    note: str = ""
    questions: tuple[str, ...] = ()


def share(part: int, whole: int) -> str:
    """What a line rests on.

    >>> share(1204, 1251)
    '1,204 of 1,251'
    """
    return f"{part:,} of {whole:,}"


def free_name(stem: str, used: Collection[str]) -> str:
    """A name that is not taken: the stem, or with a number behind it.

    >>> free_name("yard", {"yard", "yard-2"})
    'yard-3'
    """
    numbered = (stem if number == 1 else f"{stem}-{number}" for number in count(1))
    return next(name for name in numbered if name not in used)


def comment(text: str) -> str:
    """Text as a comment has it: on one line, whatever a directory has in its values.

    >>> comment("Ann\\nLund")
    'Ann Lund'
    """
    return "".join(char if char.isprintable() else " " for char in text)


def write(document: Mapping[str, Any]) -> str:
    """A document of mappings, lists, scalars and `Noted` values as YAML, questions as comments above their line."""
    return "\n".join(_mapping(document, 0)) + "\n"


def _mapping(mapping: Mapping[str, Any], depth: int) -> Iterator[str]:
    indent = "  " * depth
    for key, item in mapping.items():
        noted = item if isinstance(item, Noted) else Noted(item)
        if depth == 0 and isinstance(noted.value, Mapping):
            yield ""
        yield from (f"{indent}# ? {comment(question)}" for question in noted.questions)
        note = f"  # {comment(noted.note)}" if noted.note else ""
        if isinstance(noted.value, Mapping) and not _is_short(noted.value, indent):
            yield f"{indent}{_flow(key)}:{note}"
            yield from _mapping(noted.value, depth + 1)
        elif noted.value is None:
            yield f"{indent}{_flow(key)}:{note}"
        else:
            yield f"{indent}{_flow(key)}: {_flow(noted.value)}{note}"


def _is_short(mapping: Mapping[str, Any], indent: str) -> bool:
    """Whether a mapping fits on one line: nothing in it has a note."""
    if not mapping:
        return True
    if any(isinstance(item, Noted | Mapping) for item in mapping.values()):
        return False
    return len(indent) + len(_flow(dict(mapping))) < _WIDTH - 20


def _flow(value: Any) -> str:
    text = dumped(value, default_flow_style=True, width=10_000, sort_keys=False)
    return text.removesuffix("...\n").strip("\n")
