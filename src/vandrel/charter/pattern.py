"""Naming patterns: a small language that builds names from the fields of a person.

    {given 1}{surname}          the first letter of the given name, then the surname
    {surname bare 2..4}         letters 2 to 4 of the surname without its particles
    {given} [{middle} ]{surname}  what stands in [ ] is left out where a field in it is empty
    {surname}{count from 2}     a counter, for the last rung of a ladder

A placeholder is a field and words. Whatever their order, words act in four turns: which part of the value
(``bare first last initials``), how it is written (``ascii lower upper title tight plain hyphens dots
underscores``), which letters (``3``, ``2..4``, ``2..``, ``-3``), and for numbers ``pad 4`` and ``from 2``.
``{{``, ``}}``, ``[[`` and ``]]`` stand for the brackets themselves.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property, lru_cache

from msgspec import Struct

from vandrel.errors import Code, Location, VandrelError
from vandrel.text.nearest import did_you_mean

PART_WORDS = ("bare", "first", "last", "initials")
STYLE_WORDS = ("ascii", "lower", "upper", "title", "tight", "plain", "hyphens", "dots", "underscores")
NUMBER_WORDS = ("pad", "from")
_WORDS = (*PART_WORDS, *STYLE_WORDS, *NUMBER_WORDS)

_SLICE = re.compile(r"(\d+)\.\.(\d*)|\.\.(\d+)|(-?\d+)")
_FIELD = re.compile(r"[a-z][a-z0-9-]*")


class PatternError(VandrelError):
    """A pattern that cannot be read; ``position`` counts from 0 in its text."""

    def __init__(self, pattern: str, position: int, why: str, remedy: str = "") -> None:
        super().__init__(Code.BAD_PATTERN, f"{pattern!r}: {why}", where=Location(column=position + 1), remedy=remedy)
        self.position = position
        self.why = why


class Literal(Struct, frozen=True):
    """Text that stands in the name as it is."""

    text: str


class Placeholder(Struct, frozen=True, cache_hash=True):
    """``start`` and ``stop`` are a Python slice of the letters, or None; ``pad`` and ``first`` are for numbers."""

    field: str
    part: str = ""
    style: tuple[str, ...] = ()
    start: int | None = None
    stop: int | None = None
    pad: int = 0
    first: int = 2

    @property
    def whole(self) -> bool:
        """Whether all letters of the field are taken."""
        return self.start is None and self.stop is None


class Section(Struct, frozen=True):
    """What stands in brackets: nothing where a field in it is empty."""

    items: tuple[Literal | Placeholder, ...]


class Pattern(Struct, frozen=True, dict=True):
    """A pattern that was read."""

    text: str
    items: tuple[Literal | Placeholder | Section, ...]

    def placeholders(self) -> Iterator[Placeholder]:
        """Every placeholder, sections included."""
        for item in self.items:
            if isinstance(item, Placeholder):
                yield item
            elif isinstance(item, Section):
                yield from (inner for inner in item.items if isinstance(inner, Placeholder))

    def fields(self) -> frozenset[str]:
        """The fields that the pattern reads."""
        return self._fields

    @cached_property
    def _fields(self) -> frozenset[str]:
        return frozenset(placeholder.field for placeholder in self.placeholders())

    @cached_property
    def needs(self) -> tuple[str, ...]:
        """The fields without which nothing comes of the pattern."""
        return tuple(item.field for item in self.items if isinstance(item, Placeholder) and item.field != "count")

    @cached_property
    def counter(self) -> Placeholder | None:
        """The placeholder that counts; None for none."""
        return next((item for item in self.placeholders() if item.field == "count"), None)


# --- reading


def _placeholder(pattern: str, start: int, inner: str) -> Placeholder:
    words = inner.split()
    if not words or not _FIELD.fullmatch(words[0]):
        raise PatternError(pattern, start, "a field is expected after '{'", "write for example {surname}")
    part, style, numbers = "", [], {"pad": 0, "from": 2}
    bounds: tuple[int | None, int | None] = (None, None)
    index = 1
    while index < len(words):
        word = words[index]
        index += 1
        match = _SLICE.fullmatch(word)
        if match:
            bounds = _bounds(pattern, start, match)
        elif word in PART_WORDS:
            part = word
        elif word in STYLE_WORDS:
            style.append(word)
        elif word in NUMBER_WORDS:
            if index >= len(words) or not words[index].isdecimal() or len(words[index]) > 9:
                raise PatternError(
                    pattern, start, f"a number is expected after {word!r}", f"write for example {word} 2"
                )
            numbers[word] = int(words[index])
            index += 1
        else:
            hint = did_you_mean(word, _WORDS) or f"the words are: {', '.join(_WORDS)}"
            raise PatternError(pattern, start, f"{word!r} is no word of a placeholder", hint)
    return Placeholder(words[0], part, tuple(style), *bounds, pad=numbers["pad"], first=numbers["from"])


def _bounds(pattern: str, start: int, match: re.Match[str]) -> tuple[int | None, int | None]:
    low, high, upto, single = match.groups()
    if single is not None:
        number = int(single)
        if number == 0:
            raise PatternError(pattern, start, "0 letters leave nothing", "letters are counted from 1")
        return (0, number) if number > 0 else (number, None)
    if upto is not None:
        return 0, int(upto)
    if int(low) < 1 or (high and int(high) < int(low)):
        raise PatternError(
            pattern, start, f"{match.group()} is no range of letters", "letters are counted from 1, as in 2..4"
        )
    return int(low) - 1, int(high) if high else None


def escaped(text: str) -> str:
    """Text as it stands in a pattern, where it means itself.

    >>> escaped("crew [day]")
    'crew [[day]]'
    """
    return re.sub(r"([{}\[\]])", r"\1\1", text)


@lru_cache(maxsize=1024)
def parse(text: str) -> Pattern:
    """Read a pattern.

    Raises:
        PatternError: with the position.

    """
    items: list[Literal | Placeholder | Section] = []
    inner: list[Literal | Placeholder] | None = None
    opened = 0
    for index, token in _tokens(text):
        if token == "[":
            if inner is not None:
                raise PatternError(text, index, "'[' stands inside of '['", "sections in [ ] cannot be nested")
            inner, opened = [], index
        elif token == "]":
            if inner is None:
                raise PatternError(text, index, "']' closes nothing", "write ]] for the bracket itself")
            if not any(isinstance(item, Placeholder) for item in inner):
                remedy = "what is always there stands outside"
                raise PatternError(text, opened, "a section in [ ] needs a field", remedy)
            items.append(Section(tuple(inner)))
            inner = None
        elif not isinstance(token, str):
            (items if inner is None else inner).append(token)
    if inner is not None:
        raise PatternError(text, opened, "'[' is not closed", "close it with ']', or write [[ for the bracket itself")
    return Pattern(text, tuple(items))


def _tokens(text: str) -> Iterator[tuple[int, Literal | Placeholder | str]]:
    """The pieces of a pattern, each with its position: literal text, placeholders, and the brackets of sections."""
    literal = ""
    index = 0
    while index < len(text):
        char, start = text[index], index
        index += 1
        if char not in "{}[]" or text[index : index + 1] == char:
            literal += char
            index += char in "{}[]"
            continue
        if literal:
            yield start, Literal(literal)
            literal = ""
        if char == "{":
            close = text.find("}", start)
            if close < 0:
                remedy = "close it with '}', or write {{ for the bracket itself"
                raise PatternError(text, start, "'{' is not closed", remedy)
            yield start, _placeholder(text, start, text[index:close])
            index = close + 1
        elif char == "}":
            raise PatternError(text, start, "'}' closes nothing", "write }} for the bracket itself")
        else:
            yield start, "[" if char == "[" else "]"
    if literal:
        yield index, Literal(literal)
