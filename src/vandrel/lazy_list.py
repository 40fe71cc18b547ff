"""Very long lists of which no more is worked out at a time than is looked at."""

from __future__ import annotations

from abc import abstractmethod
from bisect import bisect_right
from collections.abc import Callable, Container, Iterator, Sequence
from functools import cached_property
from itertools import accumulate
from typing import Generic, NamedTuple, TypeVar, overload

_T = TypeVar("_T")
_S = TypeVar("_S")


class _Lazy(Sequence[_T]):
    """What both kinds of lists have in common: places, counted from either end, and runs of them."""

    @overload
    def __getitem__(self, index: int) -> _T: ...

    @overload
    def __getitem__(self, index: slice) -> Sequence[_T]: ...

    def __getitem__(self, index: int | slice) -> _T | Sequence[_T]:
        places = range(len(self))[index]
        return self._some(places) if isinstance(places, range) else self._one(places)

    @abstractmethod
    def _one(self, place: int) -> _T: ...

    @abstractmethod
    def _some(self, places: range) -> Sequence[_T]: ...


class LazyMap(_Lazy[_T], Generic[_S, _T]):
    """What a function makes of each of many objects."""

    def __init__(self, objects: Sequence[_S], make: Callable[[_S], _T]) -> None:
        self._objects, self._make = objects, make

    def __len__(self) -> int:
        return len(self._objects)

    def __iter__(self) -> Iterator[_T]:
        return map(self._make, self._objects)

    def _one(self, place: int) -> _T:
        return self._make(self._objects[place])

    def _some(self, places: range) -> Sequence[_T]:
        return LazyMap([self._objects[place] for place in places], self._make)


class LazySet(Container[_T]):
    """A set that is worked out when somebody looks for the first time."""

    def __init__(self, make: Callable[[], Container[_T]]) -> None:
        self._make = make

    @cached_property
    def _made(self) -> Container[_T]:
        return self._make()

    def __contains__(self, value: object) -> bool:
        return value in self._made


class LazyPart(NamedTuple, Generic[_T]):
    """A part of a list: how long it is, and what works it out, each time the same."""

    length: int
    make: Callable[[], Sequence[_T]]

    @staticmethod
    def of(values: Sequence[_S]) -> LazyPart[_S]:
        """A part that is there."""
        return LazyPart(len(values), lambda: values)


class LazyList(_Lazy[_T]):
    """Parts, one after the other; the one that was looked at last is kept."""

    def __init__(self, parts: Sequence[LazyPart[_T]]) -> None:
        self._parts = [part for part in parts if part.length]
        self._starts = [0, *accumulate(part.length for part in self._parts)]
        self._last: tuple[int, Sequence[_T]] = (-1, ())

    def __len__(self) -> int:
        return self._starts[-1]

    def __iter__(self) -> Iterator[_T]:
        for number in range(len(self._parts)):
            yield from self._part(number)

    def _one(self, place: int) -> _T:
        number = bisect_right(self._starts, place) - 1
        return self._part(number)[place - self._starts[number]]

    def _some(self, places: range) -> Sequence[_T]:
        if places.step != 1:
            return list(map(self._one, places))
        found: list[_T] = []
        place, number = places.start, bisect_right(self._starts, places.start) - 1
        while place < places.stop:
            first = self._starts[number]
            found += self._part(number)[place - first : places.stop - first]
            number += 1
            place = self._starts[number]
        return found

    def _part(self, number: int) -> Sequence[_T]:
        if self._last[0] != number:
            self._last = (number, self._parts[number].make())
        return self._last[1]
