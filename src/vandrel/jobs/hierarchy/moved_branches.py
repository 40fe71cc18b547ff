"""Branches of the design that stand elsewhere: by their names, and only where no other could be meant."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

from vandrel.directory import place as places
from vandrel.directory.place import Place
from vandrel.text.string_prep import prepare


class MovedUnit(Struct, frozen=True):
    """A unit that stands elsewhere: where it is, where it belongs, and whether it comes along with the one above it."""

    now: Place
    home: Place
    comes_along: bool = False


def moved_units(missing: Iterable[Place], strange: Iterable[Place]) -> list[MovedUnit]:
    """The units that are missing in one place and stand in another, superiors first.

    A name pairs them where one missing unit and one strange unit have it; what stands below comes along. None of them
    is moved below itself.

    >>> moved_units([("Shore", "IT"), ("Shore", "IT", "Desk")], [("Yard", "IT"), ("Yard", "IT", "Desk")])[1].comes_along
    True
    """
    by_key = {places.key(place): place for place in strange}
    missing_by_name, present_by_name = by_name(missing), by_name(by_key.values())
    tops: list[MovedUnit] = []
    moved: list[MovedUnit] = []
    for home in sorted(
        (home for name in missing_by_name.keys() & present_by_name.keys() for home in missing_by_name[name]),
        key=lambda h: (len(h), h),
    ):
        above = next((top for top in tops if _is_within(home, top.home)), None)
        if above is not None:
            now = by_key.get(places.key((*above.now, *home[len(above.home) :])))
            moved += [MovedUnit(now, home, comes_along=True)] if now is not None else []
            continue
        name = prepare(home[-1])
        homes = [place for place in missing_by_name[name] if not any(_is_within(place, top.home) for top in tops)]
        candidates = [place for place in present_by_name[name] if not any(_is_within(place, top.now) for top in tops)]
        if len(homes) == len(candidates) == 1 and not _is_within(home, candidates[0]):
            tops.append(MovedUnit(candidates[0], home))
            moved.append(tops[-1])
    return moved


def by_name(some: Iterable[Place]) -> dict[str, list[Place]]:
    """Places by the key of their own, last name."""
    places: dict[str, list[Place]] = {}
    for place in some:
        places.setdefault(prepare(place[-1]), []).append(place)
    return places


def _is_within(place: Place, other: Place) -> bool:
    return places.key(place)[: len(other)] == places.key(other)
