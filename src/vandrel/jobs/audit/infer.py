"""Inferring conventions: which patterns the names of existing accounts follow, and which are exceptions."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from vandrel.charter.name_limits import NAME_LIMITS
from vandrel.charter.naming import NamingRule
from vandrel.charter.pattern import parse
from vandrel.directory.entry import Entry
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import entry_values

_G, _S = (
    ("{given", "{given 1", "{given 2", "{given 3", "{given first"),
    ("{surname", "{surname bare", "{surname first", "{surname 1"),
)


def _two(separators: Sequence[str]) -> list[str]:
    out = []
    for separator in separators:
        for given in _G:
            for surname in _S:
                out += [f"{given}}}{separator}{surname}}}", f"{surname}}}{separator}{given}}}"]
    return out


#: What is tried, simple forms first: on a draw the earlier one wins.
_LOCAL = [
    *_two(["", ".", "-", "_"]), "{surname}", "{surname bare}", "{given}", "{number}", "{initials}",
    "{given 1}{middle 1}{surname}", "{given 1}{middle 1}{surname bare}", "{given}.{middle 1}.{surname}",
]  # fmt: skip
_SHOWN = [
    "{given} {surname}", "{given} [{middle} ]{surname}", "{given} [{middle} ]{surname}[ {generation}]",
    "{given} [{middle 1}. ]{surname}", "{surname}, {given}", "{surname}, {given}[ {middle}]", "{surname} {given}",
    "{surname}", "{full}", "{login}", "{full} ({number})", "{given} {surname} ({department})",
]  # fmt: skip

_STYLE = {"login": ("ascii", "lower", "plain"), "principal": ("ascii", "lower"), "mail": ("ascii", "lower", "hyphens")}

#: A rung that fewer than this share of the accounts need is no convention but chance.
_LEAST = 0.02
_RUNGS = 5


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

    @property
    def conforming(self) -> int:
        """How many names a pattern explains."""
        return sum(rung.accounts for rung in self.rungs)


def infer(context: Context, entries: Sequence[Entry], target: str) -> InferredConvention:
    """The conventions for one name, from accounts that have it."""
    named = [(entry, context.one(entry, target)) for entry in entries]
    named = [(entry, name) for entry, name in named if name]
    left = list(range(len(named)))
    values = [entry_values(context, entry) for entry, _ in named]
    rungs: list[InferredPattern] = []
    while left and len(rungs) < _RUNGS:
        best, hits = _best(target, named, values, left, context)
        if not hits or (rungs and len(hits) < max(2, _LEAST * len(named))):
            break
        rungs.append(InferredPattern(best, len(hits)))
        left = [index for index in left if index not in hits]
    return InferredConvention(target, tuple(rungs), len(named), tuple(named[index] for index in left))


def _patterns(target: str, context: Context) -> list[str]:
    if target in ("full", "display", "name"):
        return [pattern for pattern in _SHOWN if pattern != f"{{{target}}}"]
    local = [*_LOCAL, *(f"{pattern}{{count}}" for pattern in _LOCAL)]
    if target == "login":
        return local
    ends = [f"@{suffix}" for suffix in context.charter.document.suffixes]
    return [pattern + end for end in ends for pattern in ["{login}", *local]]


def _best(
    target: str,
    named: Sequence[tuple[Entry, str]],
    values: Sequence[dict[str, str]],
    left: Sequence[int],
    context: Context,
) -> tuple[str, set[int]]:
    """The pattern that explains most of what is left; a sample chooses, all of them are counted."""
    sample = left[:: max(1, len(left) // 200)]
    patterns = _patterns(target, context)
    score = {}
    for text in patterns:
        rule = NamingRule(
            NAME_LIMITS[target], (parse(text),), _STYLE.get(target, ()), particles=context.charter.particles
        )
        score[text] = (rule, sum(rule.explain(named[index][1], values[index]) is not None for index in sample))
    best = max(patterns, key=lambda text: score[text][1])
    rule = score[best][0]
    return best, {index for index in left if rule.explain(named[index][1], values[index]) is not None}
