"""The hierarchy as a directory shows it, with what is repeated written once."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec
from msgspec import Struct

from vandrel.charter.pattern import escaped
from vandrel.directory import place as places
from vandrel.directory.place import Place
from vandrel.fields import COMPUTER
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.drafting.evidence import Noted, free_name, share
from vandrel.jobs.drafting.kinds import DraftedKind, is_field, place_of
from vandrel.text.string_prep import prepare

#: The share of the units of a list that must have a unit below them for the description of all to have it.
_REPEATED = 2 / 3
#: The share of the units below a list that may differ from its description.
_DIFFERENT = 0.2


class Node(Struct):
    """A unit and what stands below it, by name."""

    name: str
    about: str = ""
    protected: bool = True
    holds: list[str] = msgspec.field(default_factory=list)
    delegation: dict[str, list[str]] = msgspec.field(default_factory=dict)
    below: dict[str, Node] = msgspec.field(default_factory=dict)
    note: str = ""

    def size(self) -> int:
        """How many units there are from here down."""
        return 1 + sum(node.size() for node in self.below.values())

    def shape(self) -> str:
        """What is the same for units that one branch describes."""
        below = sorted((node.name, node.shape()) for node in self.below.values())
        return repr((self.protected, sorted(self.holds), sorted(self.delegation.items()), below))


def find_units(survey: Survey, kinds: Sequence[DraftedKind], lists: Mapping[str, Sequence[str]]) -> dict[str, Node]:
    """The units that people have made, from the top down, repeated ones once for each list."""
    top = Node("")
    dialect = survey.context.dialect
    with_computers = {entry.dn.parent_key for entry in survey.computers}
    for unit in sorted(survey.units, key=lambda each: len(each.dn.rdns)):
        above = place_of(survey, unit) or ()
        holder = _at(top, above)
        if holder is None:
            continue
        node = Node(unit.dn.name, survey.one(unit, "notes"), survey.one(unit, "protected") == "yes")
        place = (*above, node.name)
        node.holds = [kind.name for kind in kinds if _is_place_of(kind, place, lists)]
        node.holds += [COMPUTER] if unit.dn.key in with_computers else []
        for delegated in dialect.read(unit, "delegation"):
            team, _, task = delegated.rpartition(": ")
            node.delegation.setdefault(team, []).append(task)
        holder.below[prepare(node.name)] = node
    _repeat(top, lists)
    return top.below


def must_have(units: dict[str, Node], kind: DraftedKind) -> None:
    """See to it that a kind has a place to stand, where that is no unit that people have made."""
    steps, below, node = places.parse(kind.place.value), units, None
    if any(is_field(step) for step in steps):
        return
    for step in steps:
        key = prepare(step)
        if key not in below:
            below[key] = Node(step, note="not a unit of the directory")
        node = below[key]
        below = node.below
    if node is not None and kind.name not in node.holds:
        node.holds.append(kind.name)


def _at(top: Node, place: Place) -> Node | None:
    node: Node | None = top
    for step in place:
        node = node.below.get(prepare(step)) if node is not None else None
    return node


def _is_place_of(kind: DraftedKind, place: Place, lists: Mapping[str, Sequence[str]]) -> bool:
    """Whether accounts of a kind belong in a unit, by the pattern of their place."""
    steps = places.parse(kind.place.value)
    return len(steps) == len(place) and all(
        prepare(unit) in map(prepare, lists.get(step[1:-1], [unit])) if is_field(step)
        else prepare(step) == prepare(escaped(unit))
        for step, unit in zip(steps, place, strict=True)
    )  # fmt: skip


def _repeat(node: Node, lists: Mapping[str, Sequence[str]]) -> None:
    """Write units that are named after all words of a list as one, where what stands below them is much the same."""
    for name, words in lists.items():
        keys = [prepare(word) for word in words]
        if len(keys) < 2 or not all(key in node.below for key in keys):
            continue
        alike = [node.below[key] for key in keys]
        merged = _merge(f"{{{name}}}", alike)
        different = sum(_difference(merged, each) for each in alike)
        units = sum(each.size() for each in alike)
        if different > _DIFFERENT * units:
            continue
        merged.note = f"{share(units - different, units)} units are so" if different else ""
        first = keys[0]
        node.below = {
            (merged.name if key == first else key): (merged if key == first else each)
            for key, each in node.below.items() if key == first or key not in keys
        }  # fmt: skip
    for each in node.below.values():
        _repeat(each, lists)


def _merge(name: str, alike: Sequence[Node]) -> Node:
    """One description of several units: what most of them have."""
    least = _REPEATED * len(alike)
    abouts = {node.about for node in alike}
    tasks = Counter((team, task) for node in alike for team, tasks in node.delegation.items() for task in tasks)
    protected = sum(node.protected for node in alike)
    merged = Node(name, abouts.pop() if len(abouts) == 1 else "", protected * 2 >= len(alike))
    merged.holds = list(dict.fromkeys(kind for node in alike for kind in node.holds))
    for (team, task), times in tasks.items():
        if times >= least:
            merged.delegation.setdefault(team, []).append(task)
    for key, times in Counter(key for node in alike for key in node.below).items():
        if times >= least:
            below = [node.below[key] for node in alike if key in node.below]
            merged.below[key] = _merge(below[0].name, below)
    return merged


def _difference(merged: Node, node: Node) -> int:
    """How many units one of them has too many, or too few."""
    missing = sum(each.size() for key, each in merged.below.items() if key not in node.below)
    extra = sum(each.size() for key, each in node.below.items() if key not in merged.below)
    both = sum(_difference(each, node.below[key]) for key, each in merged.below.items() if key in node.below)
    return missing + extra + both


class Branches:
    """The branches that hang in several places, written once."""

    def __init__(self, top: Mapping[str, Node]) -> None:
        times: Counter[str] = Counter()
        first: dict[str, Node] = {}
        for node in _all(top):
            if node.below:
                key = _branch_key(node)
                times[key] += 1
                first.setdefault(key, node)
        self._names: dict[str, str] = {}
        for key, count in times.items():
            if count > 1:
                stem = "-".join(_plain(each.name) for each in first[key].below.values())[:30].strip("-")
                self._names[key] = free_name(stem, self._names.values())
        self._first = first

    def name_of(self, node: Node) -> str:
        """The branch that hangs below a unit; empty where it has units of its own."""
        return self._names.get(_branch_key(node), "") if node.below else ""

    def described(self) -> dict[str, Any]:
        """The branches, as the charter has them."""
        return {name: {"units": described(self._first[key].below, self)} for key, name in self._names.items()}


def _branch_key(node: Node) -> str:
    return repr(sorted((each.name, each.shape(), each.about) for each in node.below.values()))


def _all(nodes: Mapping[str, Node]) -> Iterator[Node]:
    for node in nodes.values():
        yield node
        yield from _all(node.below)


def _plain(name: str) -> str:
    letters = "".join(char for char in name.lower() if char.isascii() and (char.isalnum() or char in "- "))
    return letters.strip().replace(" ", "-") or "units"


def described(nodes: Mapping[str, Node], branches: Branches) -> dict[str, Any]:
    """Units as the charter has them."""
    settings: dict[str, Any] = {}
    for node in nodes.values():
        branch = branches.name_of(node)
        unit: dict[str, Any] = {
            "about": node.about, "holds": node.holds, "protected": None if node.protected else False,
            "delegation": node.delegation, "branch": branch,
            "units": {} if branch else described(node.below, branches),
        }  # fmt: skip
        unit = {key: value for key, value in unit.items() if value not in ("", None, [], {})}
        is_repeated = is_field(node.name)
        settings[node.name if is_repeated else escaped(node.name)] = Noted(unit or None, node.note)
    return settings
