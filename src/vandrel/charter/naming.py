"""Naming rules: a ladder of patterns for one name, run forwards to propose it and backwards to explain it."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property, lru_cache

from msgspec import Struct, structs

from vandrel.charter.name_limits import LONGEST_ADDRESS, NameLimits
from vandrel.charter.pattern import Pattern
from vandrel.charter.text_building import EmptyField, FastPattern, PatternStyle, Piece, build, fit, to_expression
from vandrel.charter.value_columns import WORDS, Many, straights
from vandrel.errors import Code, Location, VandrelError
from vandrel.text.people import PARTICLES
from vandrel.text.string_prep import fold, prepare, prepare_all

#: Tries of a counter before a ladder gives up.
_MOST = 100_000
_MOST_DIGITS = 6
_DIGITS = re.compile(r"\d+")
#: Names that are judged one by one: columns cost more to begin with.
_FEW = 16
#: Digits of which some may be a counter, and the others not.
_SEVERAL_DIGITS = re.compile(r"\d\d|\d\D+\d|[^\D0-9]")
_TRIM = " .-_"
_TOO_LONG = ""
#: Names that need no second look, whatever they are for: letters and digits, and single marks between them.
_SOUND = r"[A-Za-z0-9]++(?:[._-][A-Za-z0-9]++)*+"
#: A domain with which no address becomes too long in all.
_SHORT = 150


class Candidate(Struct, frozen=True):
    """A name that a rule allows; ``rung`` counts from 1, ``count`` is None but for a counter's rung."""

    value: str
    rung: int
    pattern: str
    count: int | None = None

    def __str__(self) -> str:
        return self.value


class SkippedCandidate(Struct, frozen=True):
    """A candidate that could not be had, and why."""

    candidate: Candidate
    why: str


class Choice(Struct, frozen=True):
    """The name chosen, and those that came before it on the ladder."""

    chosen: Candidate
    passed: tuple[SkippedCandidate, ...]


class NamingRule(Struct, frozen=True, dict=True):
    """How one name is built: the rungs of its ladder, from the first choice to the last."""

    target: NameLimits
    rungs: tuple[Pattern, ...]
    style: tuple[str, ...] = ()
    longest: int = 0
    forbid: frozenset[str] = frozenset()
    reserved: frozenset[str] = frozenset()
    particles: frozenset[str] = PARTICLES
    source: str = ""

    @cached_property
    def limit(self) -> int:
        """The greatest length in characters (for an address, before the @)."""
        return min(self.longest or self.target.longest, self.target.longest)

    @property
    def greatest(self) -> int:
        """The greatest length in all."""
        return LONGEST_ADDRESS if self.target.at else self.limit

    def reserves(self, name: str) -> bool:
        """Whether a name is one that the charter never gives to anybody."""
        return name.casefold() in self.reserved

    def fields(self) -> frozenset[str]:
        """The fields that the rule reads."""
        return self._fields

    @cached_property
    def _fields(self) -> frozenset[str]:
        return frozenset[str]().union(*(rung.fields() for rung in self.rungs))

    @cached_property
    def _contexts(self) -> dict[str, PatternStyle]:
        return {}

    def _context(self, values: Mapping[str, str]) -> PatternStyle:
        language = values.get("language", "")
        if language not in self._contexts:
            self._contexts[language] = _style_of(self.target, self.style, self.forbid, self.particles, language)
        return self._contexts[language]

    def _make(self, pattern: Pattern, values: Mapping[str, str], count: int | None = None) -> str | None:
        """The name by one rung, or None where no legal name comes of it.

        Raises:
            EmptyField: a field that the rung needs is empty.

        """
        text = self._straight(pattern, values).write(values, count)
        quick = text if self._is_sound(text) else self._if_short(text)
        if quick != _TOO_LONG:
            return quick
        pieces = build(pattern, values, self._context(values), count)
        before, behind = _at(pieces) if self.target.at else (pieces, "")
        cut = fit(before, self.limit)
        return self._tidy(cut, behind) if cut is not None else None

    def _straight(self, pattern: Pattern, values: Mapping[str, str]) -> FastPattern:
        which = pattern.text, values.get("language", "")
        if which not in self._straights:
            self._straights[which] = FastPattern(pattern.items, self._context(values))
        return self._straights[which]

    @cached_property
    def _straights(self) -> dict[tuple[str, str], FastPattern]:
        return {}

    def _if_short(self, quick: str) -> str | None:
        """The name where nothing has to be cut, the usual case; None where it is no legal one."""
        local, at, domain = quick.partition("@") if self.target.at else (quick, "", "")
        return self._tidy(local, at + domain) if len(local) <= self.limit else _TOO_LONG

    def firsts(self, columns: Mapping[str, Many], shared: Mapping[str, str], count: int) -> Many:
        """The first candidate for each of many, column by column; empty where it takes a closer look.

        Args:
            columns: the values of the fields that differ: one for each.
            shared: the values of the fields that all have in common; ``language`` is one of them.
            count: how many there are.

        """
        if self.rungs[0].counter:
            return Many([""] * count)
        names = self._straight_names(self.rungs[0], columns, shared, count)
        if self.reserved and not self.reserved.isdisjoint("\n".join(names.values).casefold().split("\n")):
            names = Many(["" if self.reserves(text) else text for text in names.values])
        return names

    def _straight_names(
        self, pattern: Pattern, columns: Mapping[str, Many], shared: Mapping[str, str], count: int
    ) -> Many:  # fmt: skip
        """The names by one rung for each of many; empty where it takes a closer look."""
        names = straights(pattern, columns, shared, self._context(shared), count)
        if self.are_sound(names):
            return names
        sound = self._is_sound
        return Many([text if sound(text) else (self._if_short(text) or "" if text else "") for text in names.values])

    def _is_sound(self, name: str) -> bool:
        """Whether a name needs no second look: a legal one as it is, and not too long."""
        behind = self._behind(name)
        return (
            behind is not None
            and len(name) <= self.limit + len(behind)
            and self._sound(behind).fullmatch(name) is not None
        )

    def are_sound(self, names: Many) -> bool:
        """Whether none of these needs a second look; of addresses in several domains each does."""
        behind = self._behind(names.values[0]) if names.values else None
        if behind is None or max(map(len, names.values)) > self.limit + len(behind):
            return False
        if not behind and self._in_words:
            return names.words
        return self._sound(behind).fullmatch("\n".join(names.values)) is not None

    def _behind(self, name: str) -> str | None:
        """What stands behind the local part of an address; empty for other names, None where nothing is before it."""
        if not self.target.at:
            return ""
        local, at, domain = name.rpartition("@")
        return at + domain if local else None

    @property
    def _in_words(self) -> bool:
        return " " in self.target.edges

    def _sound(self, behind: str) -> re.Pattern[str]:
        """What many sound names fit, one in each line, of which each ends so."""
        if behind not in self._sounds:
            legal = not behind or (len(behind) < _SHORT and not self.target.fault(f"x{behind}"))
            one = (WORDS if self._in_words else _SOUND) + re.escape(behind)
            self._sounds[behind] = re.compile(f"{one}(?:\n{one})*+" if legal else "(?!)")
        return self._sounds[behind]

    @cached_property
    def _sounds(self) -> dict[str, re.Pattern[str]]:
        return {}

    def _tidy(self, text: str, behind: str) -> str | None:
        """A name without what pieces leave at its edges and seams; None where it is no legal one."""
        text = " ".join(text.split()).strip(_TRIM if self.target.edges else " ")
        if self.target.at and ".." in text:
            text = re.sub(r"\.{2,}", ".", text)
        value = text + behind
        return value if not self.target.fault(value) else None

    def candidates(
        self, values: Mapping[str, str], start: str = "", counted: dict[str, int] | None = None
    ) -> Iterator[Candidate]:  # fmt: skip
        """All names that the rule allows, in order, each once; endless where the last rung counts.

        With a name ``start`` that the first rung makes, those behind it. With ``counted``, counters begin where that
        says, and it is told how far they come.
        """
        produced = {start}
        for number, pattern in enumerate(self.rungs, 1):
            counter = pattern.counter
            if (start and number == 1 and not counter) or not all(map(values.get, pattern.needs)):
                continue
            counts: Iterable[int | None] = (None,)
            stem = ""
            if counter:
                first = counter.first
                if counted is not None:
                    stem, first = self._begin(pattern, values, counted, first)
                counts = range(first, counter.first + _MOST)
            for count in counts:
                try:
                    value = self._make(pattern, values, count)
                except EmptyField:
                    break
                if value is not None and value not in produced:
                    produced.add(value)
                    if counted is not None and count is not None:
                        counted[stem] = count
                    yield Candidate(value, number, pattern.text, count)

    def _begin(
        self, pattern: Pattern, values: Mapping[str, str], counted: Mapping[str, int], first: int
    ) -> tuple[str, int]:  # fmt: skip
        """What a counter counts, and where it begins: who has the same has the same candidates, unless they are cut."""
        straight = self._straight(pattern, values)
        try:
            stem = straight.write(values, 0)
            count = counted.get(stem, first)
            return stem, count if count == first or self._is_sound(straight.write(values, count)) else first
        except EmptyField:
            return "", first

    def choose(
        self, values: Mapping[str, str], is_taken: Callable[[str], str], start: str = "",
        counted: dict[str, int] | None = None,
    ) -> Choice:  # fmt: skip
        """The first candidate that is free.

        Args:
            values: the fields; a missing one counts as empty.
            is_taken: says why a name cannot be had, or returns an empty string.
            start: what the first rung makes, where that was worked out before, and cannot be had.
            counted: how far counters have come, for many that are chosen one after the other: names that were taken
                stay so. Those are not among the names that were passed over.

        Raises:
            VandrelError: ``empty-name`` where no rung makes a name at all, ``taken`` where none is free.

        """
        passed: list[SkippedCandidate] = []
        for candidate in self.candidates(values, start, counted):
            why = "a reserved word" if self.reserves(candidate.value) else is_taken(candidate.value)
            if not why:
                return Choice(candidate, tuple(passed))
            passed.append(SkippedCandidate(candidate, why))
        raise self._none_left(values, passed)

    def _none_left(self, values: Mapping[str, str], passed: Collection[SkippedCandidate]) -> VandrelError:
        name = self.target.name
        if passed:
            tried = ", ".join(f"{item.candidate} ({item.why})" for item in list(passed)[:4])
            return VandrelError(
                Code.TAKEN,
                f"no {name} is left on the ladder of {self.source or name}: {tried}",
                where=Location(field=name),
                remedy=f"give one: {name}=..., or add a rung with {{count}} to the charter",
            )
        needed = [
            f"{field}={values.get(field, '')!r}"
            for field in sorted(self.fields())
            if field not in ("count", "suffix", "domain")
        ]
        return VandrelError(
            Code.EMPTY_NAME, f"no {name} can be made from {', '.join(needed)}: nothing is left of what it needs",
            where=Location(field=name),
            remedy=f"give it: {name}=..., or a field that the pattern {self.rungs[0].text} uses",
        )  # fmt: skip

    # --- backwards

    def explain(self, value: str, values: Mapping[str, str]) -> Candidate | None:
        """By which rung `value` could have come from these fields; None if by none.

        A field that is missing from `values` is unknown and fits anything; one that is there and empty is empty.
        """
        for number, pattern in enumerate(self.rungs, 1):
            unknown = pattern.fields() - values.keys() - {"count"}
            counter = pattern.counter
            counts: Sequence[int | None] = [None]
            if counter:
                counts = [count for count in _numbers_in(value) if count >= counter.first]
            for count in counts:
                if self._fits(pattern, values, unknown, value, count):
                    return Candidate(value, number, pattern.text, count)
        return None

    def unexplained(
        self, names: Sequence[str], columns: Mapping[str, Sequence[str]], shared: Mapping[str, str]
    ) -> list[int]:  # fmt: skip
        """The numbers of those of many names that `explain` finds no rung for, in order.

        Most are judged column by column; `explain` is asked about the few of which that tells nothing.

        Args:
            names: the names, which are not empty.
            columns: the values of the fields that differ: one for each name. What stands nowhere is unknown.
            shared: the values of the fields that all have in common; ``language`` is one of them.

        """
        left: Sequence[int] = range(len(names))
        if len(names) < _FEW:
            return [number for number in left if not self._is_explained(names, columns, shared, number)]
        compared, doubtful = prepare_all(names), set[int]()
        for pattern in self.rungs:
            counter = pattern.counter
            in_section = counter is not None and counter not in pattern.items
            if in_section or not pattern.fields() - {"count"} <= columns.keys() | shared.keys():
                doubtful.update(left)
                continue
            values = {name: Many([column[number] for number in left]) for name, column in columns.items()
                      if name in pattern.fields()}  # fmt: skip
            if counter:
                values["count"] = Many([_number_in(names[number], counter.first) for number in left])
                doubtful.update(number for number in left if _SEVERAL_DIGITS.search(names[number]))
            made = prepare_all(self._straight_names(pattern, values, shared, len(left)).values) if left else []
            needed = [values[name].values for name in (*pattern.needs, *(("count",) if counter else ()))
                      if name in values]  # fmt: skip
            for place, name in enumerate(made):
                if not name and all(column[place] for column in needed):
                    doubtful.add(left[place])
            left = [number for number, name in zip(left, made, strict=True) if not name or name != compared[number]]
        return [
            number for number in left
            if number not in doubtful or not self._is_explained(names, columns, shared, number)
        ]  # fmt: skip

    def _is_explained(
        self, names: Sequence[str], columns: Mapping[str, Sequence[str]], shared: Mapping[str, str], number: int
    ) -> bool:  # fmt: skip
        own = {name: column[number] for name, column in columns.items()}
        return self.explain(names[number], {**shared, **own}) is not None

    def _fits(
        self, pattern: Pattern, values: Mapping[str, str], unknown: frozenset[str], value: str, count: int | None
    ) -> bool:
        try:
            if not unknown:
                name = self._make(pattern, values, count)
                return name is not None and (name == value or prepare(name) == prepare(value))
            pieces = build(pattern, values, structs.replace(self._context(values), unknown=frozenset(unknown)), count)
        except EmptyField:
            return False
        return re.fullmatch(to_expression(pieces, fold), prepare(value)) is not None


@lru_cache(maxsize=1024)
def _style_of(
    target: NameLimits, style: tuple[str, ...], forbid: frozenset[str], particles: frozenset[str], language: str
) -> PatternStyle:  # fmt: skip
    """How the names of one language are written: the same for all rules that are tried in turn."""
    forbidden = _forbidden(target, forbid)
    # A mail address has ASCII letters only (RFC 5322): what is not transliterated would be lost.
    style = ("ascii", *style) if target.only and "ascii" not in style else style
    letters_pass = not any(char.isalnum() for char in forbid)
    return PatternStyle(
        style, language, particles, forbidden, letters_pass=letters_pass,
        all_letters_pass=letters_pass and not target.only,
        words_pass=letters_pass and not target.only and not any(mark in forbidden for mark in " .,'-"),
    )  # fmt: skip


@lru_cache(maxsize=64)
def _forbidden(target: NameLimits, more: frozenset[str]) -> _Forbidden:
    return _Forbidden(target, more)


def _number_in(name: str, first: int) -> str:
    """The number in a name if there is one alone, and a counter from `first` writes it so; empty otherwise."""
    runs: list[str] = _DIGITS.findall(name)
    if len(runs) != 1 or len(runs[0]) > _MOST_DIGITS or str(int(runs[0])) != runs[0] or int(runs[0]) < first:
        return ""
    return runs[0]


def _numbers_in(name: str) -> list[int]:
    """Every number that digits of `name` can be read as: ``x12`` may be x and 12, or x1 and 2."""
    runs = _DIGITS.findall(name)
    return sorted(
        {
            int(run[i:j])
            for run in runs
            for i in range(len(run))
            for j in range(i + 1, len(run) + 1)
            if j - i <= _MOST_DIGITS
        }
    )


class _Forbidden(frozenset[str]):
    """The characters that a target or a rule refuses, as a set that is asked and never listed."""

    _target: NameLimits
    _more: frozenset[str]

    def __new__(cls, target: NameLimits, more: frozenset[str]) -> _Forbidden:
        self = super().__new__(cls)
        self._target, self._more = target, more
        return self

    def __contains__(self, char: object) -> bool:
        return isinstance(char, str) and (char in self._more or not self._target.allows(char))


def _at(pieces: list[Piece]) -> tuple[list[Piece], str]:
    """The pieces before the first ``@`` of a literal, and the rest as text."""
    for index, piece in enumerate(pieces):
        text = str(piece)
        if piece.fixed and "@" in text:
            before, _, after = text.partition("@")
            rest = "".join(map(str, pieces[index + 1 :]))
            return [*pieces[:index], Piece([("", before)], True)], f"@{after}{rest}"
    return pieces, ""
