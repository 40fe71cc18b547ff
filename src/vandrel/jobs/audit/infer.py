"""Inferring conventions: which patterns the names of existing accounts follow, and which are exceptions."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct

from vandrel.charter.name_limits import NAME_LIMITS
from vandrel.charter.naming import NamingRule
from vandrel.charter.pattern import Pattern, escaped, parse
from vandrel.directory.entry import Entry
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import computed_values

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
#: What the patterns read, and what decides how it is written.
_READ = (
    "given", "middle", "surname", "generation", "initials", "number", "login", "full", "company", "department",
    "language",
)  # fmt: skip

#: A rung that fewer than this share of the accounts need is no convention but chance.
_LEAST = 0.02
_RUNGS = 5
#: Accounts that choose among all patterns, and among the best of those.
_FIRST_LOOK, _SECOND_LOOK, _BEST = 24, 200, 8
#: A mark before a name, as adm- or x-, and one behind it, as (administrator), count if this share has it.
_MARK_SHARE = 0.8
_BEFORE = re.compile(r"[^\W\d_]{1,8}[-._]|[^\W\d_]{0,4}\d{2,4}(?=[^\W\d_])")
_BEHIND = re.compile(r" \([^()]+\)$")


#: Reads the first value of a field of an entry.
ReadOne = Callable[[Entry, str], str]


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


class _Named(Struct, frozen=True):
    """One account: its name, and what patterns see of it."""

    entry: Entry
    name: str
    values: Mapping[str, str]


def infer(context: Context, entries: Sequence[Entry], target: str, one: ReadOne | None = None) -> InferredConvention:
    """The conventions for one name, from accounts that have it; `one` reads a field where that was done before."""
    named = _named(context, entries, target, one or context.one)
    remaining = named
    rungs: list[InferredPattern] = []
    tried = [(style, pattern) for style in _styles(target, named) for pattern in _patterns(target, named)]
    style = ""
    while remaining and len(rungs) < _RUNGS:
        rule = _best(context, target, tried, remaining)
        rest = [each for each in remaining if rule.explain(each.name, each.values) is None]
        fit = len(remaining) - len(rest)
        if not fit or (rungs and fit < max(2, _LEAST * len(named))):
            break
        rungs.append(InferredPattern(rule.rungs[0].text, fit))
        remaining = rest
        style = " ".join(rule.style)
        is_counting = rule.rungs[0].counter is not None
        tried = [each for each in tried if each[0] == style and not (is_counting and parse(each[1]).counter)]
    rungs.sort(key=lambda rung: parse(rung.pattern).counter is not None)  # a rung that counts never ends
    exceptions = tuple((each.entry, each.name) for each in remaining)
    return InferredConvention(target, tuple(rungs), len(named), exceptions, style)


def conforming(context: Context, entries: Sequence[Entry], convention: InferredConvention, one: ReadOne) -> int:
    """How many names of other accounts a convention explains."""
    patterns = tuple(parse(rung.pattern) for rung in convention.rungs)
    rule = _rule(context, convention.target, patterns, convention.style)
    named = _named(context, entries, convention.target, one)
    return sum(rule.explain(each.name, each.values) is not None for each in named)


def _named(context: Context, entries: Sequence[Entry], target: str, one: ReadOne) -> list[_Named]:
    """The accounts that have the name, with what patterns read."""
    fields = [field for field in _READ if field != target]
    computed = computed_values(context.charter)
    named = []
    for entry in entries:
        if name := one(entry, target):
            values = {field: one(entry, field) for field in fields}
            suffix = one(entry, "principal").rpartition("@")[2]
            named.append(_Named(entry, name, {**computed, **values, "suffix": suffix or computed["suffix"]}))
    return named


def _rule(context: Context, target: str, patterns: tuple[Pattern, ...], style: str) -> NamingRule:
    return NamingRule(
        NAME_LIMITS[target], patterns, tuple(style.split()), particles=context.charter.particles
    )  # fmt: skip


def _styles(target: str, named: Sequence[_Named]) -> Sequence[str]:
    """The styles to try: more than one only where a name has a mark in it by which they differ."""
    styles = _STYLES.get(target, ("",))
    return styles if any(not each.name.isalnum() for each in named) else styles[:1]


def _patterns(target: str, named: Sequence[_Named]) -> list[str]:
    if target in ("full", "display", "name"):
        behind = _common(_BEHIND, named)
        patterns = [pattern for pattern in _SHOWN if f"{{{target}}}" not in pattern]
        return [*patterns, *(pattern + behind for pattern in patterns if behind)]
    local = [*_LOCAL, *(f"{pattern}{{count}}" for pattern in _LOCAL)]
    if before := _common(_BEFORE, named):
        year = named[0].values["year"][-2:]
        before = before.replace(year, "{year -2}") if before[-1].isdigit() else before
        local += [before + pattern for pattern in local]
    if target == "login":
        return local
    if target == "principal":
        return [f"{pattern}@{{suffix}}" for pattern in ("{login}", *local)]
    domain = named[0].values["domain"] if named else ""
    used = Counter(each.name.rpartition("@")[2].lower() for each in named).most_common(2)
    ends = ["{domain}" if each == domain else each for each, _ in used]
    return [f"{pattern}@{end}" for end in ends for pattern in ("{login}", *local)]


def _common(mark: re.Pattern[str], named: Sequence[_Named]) -> str:
    """The mark that most names have, as it stands in a pattern; empty where there is none."""
    marks = Counter(match[0] for each in named if (match := mark.search(each.name)) and _at_edge(match, each.name))
    if not marks:
        return ""
    chosen, times = marks.most_common(1)[0]
    return escaped(chosen) if times >= _MARK_SHARE * len(named) else ""


def _at_edge(match: re.Match[str], name: str) -> bool:
    return match.start() == 0 or match.end() == len(name)


def _best(context: Context, target: str, tried: Sequence[tuple[str, str]], remaining: Sequence[_Named]) -> NamingRule:
    """The rule that explains most of what is left: a few accounts choose the best ones, more of them the one."""

    def score(rule: NamingRule, sample: Sequence[_Named]) -> int:
        return sum(rule.explain(each.name, each.values) is not None for each in sample)

    rules = [_rule(context, target, (parse(text),), style) for style, text in tried]
    for look, keep in ((_FIRST_LOOK, _BEST), (_SECOND_LOOK, 1)):
        if len(rules) > keep:
            sample = remaining[:: max(1, len(remaining) // look)]
            rules = sorted(rules, key=lambda rule: -score(rule, sample))[:keep]
    return rules[0]
