"""Inferring conventions: which patterns the names of existing accounts follow, and which are exceptions."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from itertools import compress

from msgspec import Struct

from vandrel.charter.name_limits import NAME_LIMITS
from vandrel.charter.naming import NamingRule
from vandrel.charter.pattern import Pattern, escaped, parse
from vandrel.directory.entry import Entry
from vandrel.jobs.audit.survey import Survey

_G, _S = (
    ("{given", "{given 1", "{given 2", "{given 3", "{given first"),
    ("{surname", "{surname bare", "{surname first", "{surname 1"),
)


def _two(separators: Sequence[str]) -> list[str]:
    out = []
    for separator in separators:
        for given_part in _G:
            for surname in _S:
                out += [f"{given_part}}}{separator}{surname}}}", f"{surname}}}{separator}{given_part}}}"]
    return out


#: What is tried, simple forms first: on a draw the earlier one wins.
_LOCAL = [
    *_two(["", ".", "-", "_"]), "{surname}", "{surname bare}", "{given}", "{number}", "{initials}",
    "{given 1}{middle 1}{surname}", "{given 1}{middle 1}{surname bare}", "{given first}.{middle 1}.{surname}",
]  # fmt: skip
_SHOWN = [
    "{full}", "{given} {surname}", "{given} [{middle} ]{surname}", "{given} [{middle} ]{surname}[ {generation}]",
    "{given} [{middle 1}. ]{surname}", "{surname}, {given}", "{surname}, {given}[ {middle}]", "{surname} {given}",
    "{surname}", "{login}", "{full} ({number})", "{full} ({login})", "{surname}, {given} ({company})",
    "{given} {surname} ({department})",
]  # fmt: skip

#: The styles of a ladder that are tried, by target.
_STYLES = {
    "login": ("ascii lower plain", "ascii lower hyphens", "ascii lower dots"),
    "principal": ("",),
    "mail": ("ascii lower hyphens",),
}
#: A rung that fewer than this share of the accounts need is no convention but chance.
_LEAST = 0.02
_RUNGS = 5
#: Accounts that choose among all patterns, and among the best of those.
_FIRST_LOOK, _SECOND_LOOK, _BEST = 24, 200, 8
#: A mark before a name, as adm- or x-, and one behind it, as (administrator), count if this share has it.
_MARK_SHARE = 0.8
_BEFORE = re.compile(r"[^\W\d_]{1,8}[-._]|[^\W\d_]{0,4}\d{2,4}(?=[^\W\d_])")
_BEHIND = re.compile(r" \([^()]+\)$")


class InferredPattern(Struct, frozen=True):
    """One pattern and the number of accounts whose name comes from it."""

    pattern: str
    accounts: int


class InferredConvention(Struct, frozen=True):
    """The ladder of patterns for one name; ``exceptions`` are (entry, name) pairs that no rung explains."""

    target: str
    rungs: tuple[InferredPattern, ...]
    accounts: int
    exceptions: tuple[tuple[Entry, str], ...]
    style: str = ""

    @property
    def conforming(self) -> int:
        """How many names a pattern explains."""
        return sum(rung.accounts for rung in self.rungs)


class _Names:
    """The names of accounts; what patterns see of those is read field by field, when it is asked for."""

    def __init__(self, survey: Survey, target: str, numbers: Sequence[int]) -> None:
        """Take the numbers of accounts that have the name."""
        self._survey, self._target, self.numbers = survey, target, numbers
        self.computed = survey.computed("", "")
        self.names = self._column(target)
        self._columns: dict[str, Sequence[str]] = {}

    def __len__(self) -> int:
        return len(self.numbers)

    def only(self, places: Iterable[int]) -> _Names:
        """Those at some places of the list."""
        return _Names(self._survey, self._target, [self.numbers[place] for place in places])

    def values(self, field: str) -> Sequence[str]:
        """What patterns see of a field of each."""
        if field not in self._columns:
            if field == "suffix":
                suffixes = (principal.rpartition("@")[2] for principal in self._column("principal"))
                self._columns[field] = [suffix or self.computed["suffix"] for suffix in suffixes]
            else:
                self._columns[field] = self._column(field)
        return self._columns[field]

    def _column(self, field: str) -> list[str]:
        return list(map(self._survey.column(field).__getitem__, self.numbers))

    @cached_property
    def _by_language(self) -> Mapping[str, tuple[Sequence[int], _Names]]:
        """The names of each language, which decides how they are written, and at which places they are."""
        places: dict[str, list[int]] = {}
        for place, language in enumerate(self._column("language")):
            places.setdefault(language, []).append(place)
        return {language: (some, self.only(some) if len(places) > 1 else self) for language, some in places.items()}

    def unexplained(self, rule: NamingRule) -> Sequence[int]:
        """The places of those that do not come from a rule, in order."""
        left: list[int] = []
        fields = rule.fields() - {self._target, "language", "year", "today", "domain", "count"}
        for language, (places, names) in self._by_language.items():
            columns = {field: names.values(field) for field in fields}
            shared = {**self.computed, "language": language}
            left += [places[place] for place in rule.unexplained(names.names, columns, shared)]
        return sorted(left)


def infer(survey: Survey, entries: Sequence[Entry], target: str) -> InferredConvention:
    """The conventions for one name, from those of the survey's accounts that have it."""
    named = _named(survey, entries, target)
    remaining = named
    rungs: list[InferredPattern] = []
    tried = [(style, pattern) for style in _styles(target, named) for pattern in _patterns(target, named)]
    style = ""
    while len(remaining) and len(rungs) < _RUNGS:
        rule = _best(survey, target, tried, remaining)
        rest = remaining.unexplained(rule)
        fit = len(remaining) - len(rest)
        if not fit or (rungs and fit < max(2, _LEAST * len(named))):
            break
        rungs.append(InferredPattern(rule.rungs[0].text, fit))
        remaining = remaining.only(rest)
        style = " ".join(rule.style)
        is_counting = rule.rungs[0].counter is not None
        tried = [each for each in tried if each[0] == style and not (is_counting and parse(each[1]).counter)]
    rungs.sort(key=lambda rung: parse(rung.pattern).counter is not None)  # a rung that counts never ends
    exceptions = tuple((survey.accounts[number], name)
                       for number, name in zip(remaining.numbers, remaining.names, strict=True))  # fmt: skip
    return InferredConvention(target, tuple(rungs), len(named), exceptions, style)


def conforming(survey: Survey, entries: Sequence[Entry], convention: InferredConvention) -> int:
    """How many names of other accounts a convention explains."""
    patterns = tuple(parse(rung.pattern) for rung in convention.rungs)
    named = _named(survey, entries, convention.target)
    return len(named) - len(named.unexplained(_rule(survey, convention.target, patterns, convention.style)))


def _named(survey: Survey, entries: Sequence[Entry], target: str) -> _Names:
    """The accounts that have the name."""
    return _Names(survey, target, list(compress(survey.numbers_of(entries), survey.values_of(entries, target))))


def _rule(survey: Survey, target: str, patterns: tuple[Pattern, ...], style: str) -> NamingRule:
    return NamingRule(
        NAME_LIMITS[target], patterns, tuple(style.split()), particles=survey.context.charter.particles
    )  # fmt: skip


def _styles(target: str, named: _Names) -> Sequence[str]:
    """The styles to try: more than one only where a name has a mark in it by which they differ."""
    styles = _STYLES.get(target, ("",))
    return styles if any(not name.isalnum() for name in named.names) else styles[:1]


def _patterns(target: str, named: _Names) -> list[str]:
    if target in ("full", "display", "name"):
        behind = _common(_BEHIND, named)
        patterns = [pattern for pattern in _SHOWN if f"{{{target}}}" not in pattern]
        return [*patterns, *(pattern + behind for pattern in patterns if behind)]
    local = [*_LOCAL, *(f"{pattern}{{count}}" for pattern in _LOCAL)]
    if before := _common(_BEFORE, named):
        year = named.computed["year"][-2:]
        before = before.replace(year, "{year -2}") if before[-1].isdigit() else before
        local += [before + pattern for pattern in local]
    if target == "login":
        return local
    if target == "principal":
        return [f"{pattern}@{{suffix}}" for pattern in ("{login}", *local)]
    domain = named.computed["domain"]
    used = Counter(name.rpartition("@")[2].lower() for name in named.names).most_common(2)
    ends = ["{domain}" if each == domain else each for each, _ in used]
    return [f"{pattern}@{end}" for end in ends for pattern in ("{login}", *local)]


def _common(mark: re.Pattern[str], named: _Names) -> str:
    """The mark that most names have, as it stands in a pattern; empty where there is none."""
    marks = Counter(match[0] for name in named.names if (match := mark.search(name)) and _at_edge(match, name))
    if not marks:
        return ""
    chosen, times = marks.most_common(1)[0]
    return escaped(chosen) if times >= _MARK_SHARE * len(named) else ""


def _at_edge(match: re.Match[str], name: str) -> bool:
    return match.start() == 0 or match.end() == len(name)


def _best(survey: Survey, target: str, tried: Sequence[tuple[str, str]], remaining: _Names) -> NamingRule:
    """The rule that explains most of what is left: a few accounts choose the best ones, more of them the one."""
    rules = [_rule(survey, target, (parse(text),), style) for style, text in tried]
    for look, keep in ((_FIRST_LOOK, _BEST), (_SECOND_LOOK, 1)):
        if len(rules) > keep:
            sample = remaining.only(range(0, len(remaining), max(1, len(remaining) // look)))
            rules = sorted(rules, key=lambda rule: len(sample.unexplained(rule)))[:keep]
    return rules[0]
