"""The names of many, column by column: what `vandrel.charter.text_building.FastPattern` writes for each."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from functools import cached_property
from itertools import repeat

from vandrel.charter.pattern import Literal, Pattern, Placeholder, Section
from vandrel.charter.text_building import PatternStyle, cased, straight_part, texts_of
from vandrel.text.cardinality import repeated

#: Words with single marks between them: text that needs no second look, and of which no pattern without styles
#: changes anything.
WORDS = r"[^\W_]++(?:(?:, | |[.'-])[^\W_]++)*+"
_WORDS = re.compile(WORDS)
_ALL_WORDS = re.compile(f"{WORDS}(?:\n{WORDS})*+")
_CASES = frozenset(("lower", "upper", "title"))
#: Values of which each comes so many times are looked up rather than worked out.
_OFTEN = 4


class Many:
    """The values of one field of many accounts: what is found out of them is found out once."""

    def __init__(self, values: Sequence[str]) -> None:
        self.values = values
        self._cased: dict[tuple[str, ...], Sequence[str]] = {}

    @cached_property
    def _repeated(self) -> set[str]:
        return repeated(self.values, _OFTEN)

    @property
    def few(self) -> bool:
        """Whether the same values come again and again."""
        return bool(self._repeated)

    @property
    def distinct(self) -> Collection[str]:
        """The different values, where they are few; else all of them."""
        return self._repeated or self.values

    @cached_property
    def odd(self) -> list[int]:
        """The numbers of those that are not ASCII letters and digits alone."""
        return [n for n, value in enumerate(self.values) if not (value.isalnum() and value.isascii())]

    @cached_property
    def words(self) -> bool:
        """Whether all are words with single marks between them."""
        return _ALL_WORDS.fullmatch("\n".join(self.values)) is not None

    def cased(self, styles: tuple[str, ...]) -> Sequence[str]:
        """All of them in upper or lower case; of those that are odd, nothing is said."""
        if styles not in self._cased:
            together = "\n".join(self.values)
            if "title" in styles or together.count("\n") >= len(self.values):
                self._cased[styles] = [cased(value, styles) for value in self.values]
            else:
                self._cased[styles] = cased(together, styles).split("\n") if styles else self.values
        return self._cased[styles]


def straights(
    pattern: Pattern, columns: Mapping[str, Many], shared: Mapping[str, str], context: PatternStyle, count: int
) -> Many:
    """What `FastPattern` writes for each of many; empty where a field that is needed gives nothing.

    Args:
        pattern: one without a counter.
        columns: the values of the fields that differ: one for each.
        shared: the values of the fields that all have in common.
        context: as for `FastPattern`.
        count: how many there are.

    """
    parts: list[Iterable[str]] = []
    needed: list[Sequence[str]] = []
    for item in pattern.items:
        match item:
            case Literal(text):
                parts.append(repeat(text, count))
            case Placeholder(field) if field in columns:
                needed.append(_part(item, columns[field], context))
                parts.append(needed[-1])
            case Placeholder():
                text = straight_part(item, shared, context)
                if not text:
                    return Many([""] * count)
                parts.append(repeat(text, count))
            case Section(inner):
                parts.append(_section(inner, columns, shared, context, count))
    if len(parts) == 1 and len(pattern.items) == 1 and isinstance(pattern.items[0], Placeholder) and needed:
        only = columns[pattern.items[0].field]
        return only if needed[0] is only.values else Many(needed[0])
    names: Sequence[str] = list(map("".join, zip(*parts, strict=True)))
    for column in needed:
        if not all(column):
            names = [text if part else "" for text, part in zip(names, column, strict=True)]
    return Many(names)


def _section(
    inner: Iterable[Literal | Placeholder], columns: Mapping[str, Many], shared: Mapping[str, str],
    context: PatternStyle, count: int,
) -> Iterable[str]:  # fmt: skip
    """What stands in brackets: nothing where anything in it gives nothing."""
    texts: list[str | Sequence[str]] = []
    for item in inner:
        if isinstance(item, Literal):
            texts.append(item.text)
        elif item.field in columns:
            texts.append(_part(item, columns[item.field], context))
        else:
            texts.append(straight_part(item, shared, context))
    if not all(texts):
        return repeat("", count)
    rows = zip(*(repeat(text, count) if isinstance(text, str) else text for text in texts), strict=True)
    return ["".join(row) if all(row) else "" for row in rows]


def _part(item: Placeholder, column: Many, context: PatternStyle) -> Sequence[str]:
    """What one placeholder makes of each value; the very values where all come through as they are."""
    values, texts = column.values, texts_of(item, context)
    words_stay = not (item.pad or item.part == "initials" or item.field in ("suffix", "domain"))
    if column.few or not (words_stay and context.letters_pass):
        return list(map(texts.__getitem__, values))
    styles = (*context.style, *item.style)
    if context.words_pass and item.whole and not (item.part or styles):
        if column.words:
            return values
        ordinary = _WORDS.fullmatch
        return [value if value.isalnum() or ordinary(value) else texts[value] for value in values]
    # The same as `straight_part`, for all values in one go: a call for each would take three times as long.
    cased = column.cased(tuple(style for style in styles if style in _CASES))
    parts = list(cased) if item.whole else [text[item.start : item.stop] for text in cased]
    for n in column.odd:
        parts[n] = texts[values[n]]
    return parts
