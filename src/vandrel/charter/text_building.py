"""Building names from patterns: piece by piece, or in one go where nothing has to be cut."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import lru_cache

from msgspec import Struct

from vandrel.charter.pattern import Literal, Pattern, Placeholder, Section
from vandrel.text import people
from vandrel.text.transliterate import to_ascii

_SEPARATORS = re.compile(r"([\s\-\u2010\u2011._]+)")
_JOINERS = {"tight": "", "plain": "", "hyphens": "-", "dots": ".", "underscores": "_"}


class Piece(Struct):
    """A part of a name while it is built: words with the separators before them.

    Pieces that come from a literal, a counter or a number are fixed: they are never cut.
    """

    words: list[tuple[str, str]]
    fixed: bool

    def __str__(self) -> str:
        return "".join(separator + word for separator, word in self.words)


class PatternStyle(Struct, frozen=True, cache_hash=True):
    """What building needs besides the fields: how the rule writes, and what may not stand in the name.

    ``letters_pass`` says that no ASCII letter or digit is forbidden. ``unknown`` fields are built as a wild card
    (`to_expression`), for running a pattern backwards.
    """

    style: tuple[str, ...] = ()
    language: str = ""
    particles: frozenset[str] = people.PARTICLES
    forbidden: frozenset[str] = frozenset()
    unknown: frozenset[str] = frozenset()
    letters_pass: bool = False
    #: Nor any letter or digit of other scripts.
    all_letters_pass: bool = False
    #: Nor what stands between the words of a name.
    words_pass: bool = False


@lru_cache(maxsize=256)  # one for all that are alike: what is built is remembered by its style
def plain_style(language: str, particles: frozenset[str]) -> PatternStyle:
    """How a pattern is filled that is no name of its own."""
    return PatternStyle(language=language, particles=particles)


_FIXED = frozenset({"count", "number", "suffix", "domain", "year"})


@lru_cache(maxsize=65_536)  # many people share a given name, and each name is written for several targets
def _words(value: str, part: str, styles: tuple[str, ...], context: PatternStyle) -> tuple[tuple[str, str], ...]:
    """The words of a value with the separators before them: of a part of it, as the styles write it."""
    if context.letters_pass and part != "initials" and value.isascii() and value.isalpha():
        return (("", cased(value, styles)),)  # one plain word is its own first, last and bare part
    match part:
        case "bare":
            value = people.without_particles(value, context.particles)
        case "first":
            value = (people.parts(people.without_particles(value, context.particles)) or [""])[0]
        case "last":
            value = (people.parts(value) or [""])[-1]
        case "initials":
            value = people.initials(value)
    joiner = next((_JOINERS[word] for word in reversed(styles) if word in _JOINERS), None)
    out: list[tuple[str, str]] = []
    separator = ""
    for index, chunk in enumerate(_SEPARATORS.split(" ".join(value.split()))):
        if index % 2:
            separator = chunk
            continue
        for more, word in _as_text(chunk, styles, context):
            # Tight and its like rule the spaces only: a hyphen or dot of the name stays, save under plain.
            between = separator or more
            if joiner is not None and (between.isspace() or "plain" in styles):
                between = joiner
            if "ascii" in styles:
                between = to_ascii(between)
            between = "".join(char for char in between if char not in context.forbidden)
            if word:
                out.append((between if out else "", word))
                separator = ""
    return tuple(out)


def cased(word: str, styles: tuple[str, ...]) -> str:
    """A word in the case that the styles ask for."""
    for style in styles:
        if style == "lower":
            word = word.lower()
        elif style == "upper":
            word = word.upper()
        elif style == "title" and (word.isupper() or word.islower()):
            word = word[:1].upper() + word[1:].lower()
    return word


def _as_text(word: str, styles: tuple[str, ...], context: PatternStyle) -> Iterator[tuple[str, str]]:
    """One word as the styles write it; what transliteration made of it may be several."""
    if "ascii" in styles:
        word = to_ascii(word, context.language)
    word = cased(word, styles)
    for number, part in enumerate(word.split(" ")):
        if part.isalnum() and (context.all_letters_pass or (context.letters_pass and part.isascii())):
            yield (" " if number else "", part)  # the usual case, without a look at each letter
            continue
        allowed = "".join(
            char
            for char in part
            if char not in context.forbidden and char.isprintable() and ("plain" not in styles or char.isalnum())
        )
        yield (" " if number else "", allowed)


def _piece(
    placeholder: Placeholder, values: Mapping[str, str], context: PatternStyle, count: int | None
) -> Piece | None:
    if placeholder.field == "count":
        return Piece([("", str(count).zfill(placeholder.pad))], True) if count is not None else None
    if placeholder.field in context.unknown:
        return Piece([("", _wild(placeholder))], True)
    value = values.get(placeholder.field, "")
    if placeholder.field in ("suffix", "domain"):  # a domain is no name to be rewritten
        return Piece([("", value)], True) if value else None
    if not value:
        return None
    words = list(_words(value, placeholder.part, (*context.style, *placeholder.style), context))
    if not placeholder.whole:
        # A slice counts letters across words: the separators do not count, and do not come along.
        letters = "".join(word for _, word in words)[placeholder.start : placeholder.stop]
        words = [("", letters)] if letters else []
    if placeholder.pad and words:
        words = [("", str(Piece(words, True)).zfill(placeholder.pad))]
    return Piece(words, placeholder.field in _FIXED) if words else None


class EmptyField(Exception):
    """A field outside of [ ] has nothing to give; ``field`` is its name."""

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self.field = name


def build(pattern: Pattern, values: Mapping[str, str], context: PatternStyle, count: int | None = None) -> list[Piece]:
    """The pieces of a name.

    Raises:
        EmptyField: a field that the pattern needs is empty, or nothing is left of it once it is written.

    """
    pieces: list[Piece] = []
    for item in pattern.items:
        match item:
            case Literal(text):
                pieces.append(Piece([("", text)], True))
            case Placeholder():
                piece = _piece(item, values, context, count)
                if piece is None:
                    raise EmptyField(item.field)
                pieces.append(piece)
            case Section(inner):
                built = [
                    Piece([("", part.text)], True)
                    if isinstance(part, Literal)
                    else _piece(part, values, context, count)
                    for part in inner
                ]
                if any(isinstance(part, Placeholder) and part.field in context.unknown for part in inner):
                    pieces.append(Piece([("", _ANYTHING)], True))
                elif None not in built:
                    pieces += [piece for piece in built if piece is not None]
    return pieces


class _Texts(dict[str, str]):
    """What one placeholder makes of values, each worked out once."""

    def __init__(self, placeholder: Placeholder, context: PatternStyle) -> None:
        super().__init__()
        self._placeholder, self._context = placeholder, context

    def __missing__(self, value: str) -> str:
        text = self._case_of(value) if value else ""
        if len(self) < _MOST_KEPT:
            self[value] = text
        return text

    def _case_of(self, value: str) -> str:
        placeholder, context = self._placeholder, self._context
        styles = (*context.style, *placeholder.style)
        if value.isalnum() and context.letters_pass and placeholder.part != "initials" and not placeholder.pad:
            # One plain word is its own first, last and bare part.
            word = to_ascii(value, context.language) if "ascii" in styles else value
            if word.isalnum() and (word.isascii() or any_script(placeholder, context)):
                return cased(word, styles)[placeholder.start : placeholder.stop]
        piece = _piece(placeholder, {placeholder.field: value}, context, None)
        return str(piece) if piece is not None else ""


_MOST_KEPT = 16_384
texts_of = lru_cache(maxsize=1024)(_Texts)


class FastPattern:
    """One pattern in one context: names as `build` makes them where nothing has to be cut, without its pieces."""

    def __init__(self, items: Sequence[Literal | Placeholder | Section], context: PatternStyle) -> None:
        #: Each a text; or a field, and what becomes of its values; or what stands in brackets.
        self._parts: list[tuple[str, str, _Texts | None, FastPattern | None]] = []
        self._pad = 0
        for item in items:
            if isinstance(item, Literal):
                self._parts.append((item.text, "", None, None))
            elif isinstance(item, Section):
                self._parts.append(("", "", None, FastPattern(item.items, context)))
            elif item.field == "count":
                self._parts.append(("", item.field, None, None))
                self._pad = item.pad
            else:
                self._parts.append(("", item.field, texts_of(item, context), None))

    def write(self, values: Mapping[str, str], count: int | None = None) -> str:
        """The name for these fields.

        Raises:
            EmptyField: as `build` does.

        """
        out = ""
        for text, field, texts, section in self._parts:
            if texts is not None:
                value = values.get(field)
                part = texts[value] if value else ""
                if not part:
                    raise EmptyField(field)
                out += part
            elif section is not None:
                with suppress(EmptyField):
                    out += section.write(values, count)
            elif not field:
                out += text
            elif count is not None:
                out += str(count).zfill(self._pad)
            else:
                raise EmptyField(field)
        return out


def any_script(item: Placeholder, context: PatternStyle) -> bool:
    """Whether letters of any script come through a placeholder."""
    return context.all_letters_pass and "ascii" not in context.style and "ascii" not in item.style


def straight_part(placeholder: Placeholder, values: Mapping[str, str], context: PatternStyle) -> str:
    """What one placeholder, no counter, gives; empty where that is nothing."""
    value = values.get(placeholder.field, "")
    return texts_of(placeholder, context)[value] if value else ""


# A wild card in a built name is one private-use character: its offset is how many letters it may stand for.
_WILD = 0xE000
_ANYTHING = chr(_WILD + 0x100)


def _wild(placeholder: Placeholder) -> str:
    start, stop = placeholder.start or 0, placeholder.stop
    letters = stop - start if stop is not None else (-start if start < 0 else 0)
    return chr(_WILD + min(letters, 0xFF))


def to_expression(pieces: list[Piece], prepared: Callable[[str], str]) -> str:
    """A regular expression that the prepared form of the name fits; wild cards fit what is not known."""
    out = []
    for piece in pieces:
        text = str(piece)
        offset = ord(text) - _WILD if len(text) == 1 else -1
        if 0 <= offset <= 0x100:
            out.append(".*" if text == _ANYTHING else f".{{1,{offset}}}" if offset else ".+")
        else:
            out.append(re.escape(prepared(text)))
    return "".join(out)


def fit(pieces: list[Piece], longest: int) -> str | None:
    """The name in `longest` characters at most; None where even the shortest form is longer.

    First whole words go from the end of the longest piece that has several (the second half of a double surname),
    then letters from the longest piece. Counters, numbers and literals stay.
    """
    excess = sum(len(str(piece)) for piece in pieces) - longest
    soft = [piece for piece in pieces if not piece.fixed]
    while excess > 0:
        double = [piece for piece in soft if len(piece.words) > 1]
        if double:
            separator, word = max(double, key=lambda piece: len(str(piece))).words.pop()
            excess -= len(separator) + len(word)
            continue
        piece = max(soft, key=lambda piece: len(str(piece)), default=None)
        if piece is None or len(str(piece)) < 2:
            return None
        separator, word = piece.words[0]
        others = max((len(str(other)) for other in soft if other is not piece), default=1)
        cut = min(excess, max(1, len(word) - others), len(word) - 1)
        piece.words[0] = (separator, word[: len(word) - cut])
        excess -= cut
    return "".join(map(str, pieces))
