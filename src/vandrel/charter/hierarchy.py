"""The hierarchy that a charter designs: its branches hung, its repeated units written out."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from msgspec import Struct

from vandrel.charter.document import Document, Unit
from vandrel.directory.place import Place

_DEEPEST = 24
_LEAF = Unit()


class DesignedUnit(Struct, frozen=True):
    """One unit of the design. ``words`` holds the word of each list that it is repeated for.

    ``groups`` are (kind of group, stem) pairs, ``delegation`` (group, task) pairs; ``path`` is where the charter says
    so, for messages.
    """

    place: Place
    about: str
    protected: bool
    holds: tuple[str, ...]
    groups: tuple[tuple[str, str], ...]
    delegation: tuple[tuple[str, str], ...]
    words: Mapping[str, str]
    path: tuple[str, ...]


def expand(document: Document) -> Iterator[DesignedUnit]:
    """All units of the design, each after the one that holds it.

    A branch or list that the document does not have counts as empty: the checks of the charter name it.

    Raises:
        PatternError: a pattern in a name that cannot be read.
        RecursionError: a branch that hangs below itself.

    """
    yield from _below(document, document.hierarchy, (), {}, ("hierarchy",))


def _below(
    document: Document, units: Mapping[str, Unit | None], place: Place, words: dict[str, str], path: tuple[str, ...]
) -> Iterator[DesignedUnit]:
    if len(place) > _DEEPEST:
        raise RecursionError(f"more than {_DEEPEST} units deep")
    for name, unit in units.items():
        for chosen in _repeated(document, name, words):
            yield from _unit(document, unit or _LEAF, (*place, _fill(name, chosen)), chosen, (*path, name))


def _unit(
    document: Document, unit: Unit, place: Place, words: dict[str, str], path: tuple[str, ...]
) -> Iterator[DesignedUnit]:
    branch = document.branches.get(unit.branch, _LEAF)
    groups = tuple(
        (kind, _fill(stem, words))
        for source in (unit, branch)
        for kind, stems in source.groups.items()
        for stem in stems
    )
    delegation = tuple(
        (_fill(group, words), task)
        for source in (unit, branch)
        for group, tasks in source.delegation.items()
        for task in tasks
    )
    yield DesignedUnit(
        place, unit.about or branch.about, unit.protected and branch.protected, tuple(unit.holds or branch.holds),
        groups, delegation, words, path,
    )  # fmt: skip
    yield from _below(document, branch.units, place, words, ("branches", unit.branch, "units"))
    yield from _below(document, unit.units, place, words, (*path, "units"))


def _repeated(document: Document, name: str, words: dict[str, str]) -> Iterator[dict[str, str]]:
    """One mapping of words for each repetition of a unit of this name."""
    from vandrel.charter.pattern import parse

    fresh = sorted(parse(name).fields() - words.keys())
    if not fresh:
        yield words
        return
    first, *_ = fresh
    for word in document.lists.get(first, ()):
        yield from _repeated(document, name, {**words, first: word})


def _fill(name: str, words: Mapping[str, str]) -> str:
    from vandrel.charter.pattern import PatternError, parse
    from vandrel.charter.text_building import EmptyField, PatternStyle, build

    try:
        return "".join(map(str, build(parse(name), words, PatternStyle()))).strip()
    except EmptyField as error:
        raise PatternError(name, 0, f"nothing is left of {{{error.field}}}") from None
