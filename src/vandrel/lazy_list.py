"""Very long lists of which some is worked out at a time, as it is looked at."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from itertools import accumulate
from typing import Generic, NamedTuple, TypeVar, overload

_T = TypeVar("_T")
_S = TypeVar("_S")

#: Objects that are worked out together where each is worked out by itself.
_TOGETHER = 1000


class LazyPart(NamedTuple, Generic[_T]):
    """A part of a list: how long it is, and what works it out, each time the same."""

    length: int
    make: Callable[[], Sequence[_T]]

    @staticmethod
    def of(values: Sequence[_S]) -> LazyPart[_S]:
        """A part that is there."""
        return LazyPart(len(values), lambda: values)


class LazyList(Sequence[_T]):
    """The parts, one after the other; the one that was looked at last is kept."""

    def __init__(self, parts: Sequence[LazyPart[_T]]) -> None:
        self._parts = [part for part in parts if part.length]
        self._starts = [0, *accumulate(part.length for part in self._parts)]
        self._last: tuple[int, Sequence[_T]] = (-1, ())

    @staticmethod
    def of_each(objects: Sequence[_S], make: Callable[[_S], _T]) -> LazyList[_T]:
        """What `make` makes of each of these objects."""
        chunks = (objects[start : start + _TOGETHER] for start in range(0, len(objects), _TOGETHER))
        return LazyList([LazyPart(len(chunk), partial(_each, make, chunk)) for chunk in chunks])

    def __len__(self) -> int:
        return self._starts[-1]

    @overload
    def __getitem__(self, index: int) -> _T: ...

    @overload
    def __getitem__(self, index: slice) -> list[_T]: ...

    def __getitem__(self, index: int | slice) -> _T | list[_T]:
        if isinstance(index, slice):
            wanted = range(len(self))[index]
            if wanted.step == 1:
                return self._run(wanted.start, wanted.stop)
            return [self[place] for place in wanted]
        place = range(len(self))[index]
        number = bisect_right(self._starts, place) - 1
        return self._part(number)[place - self._starts[number]]

    def __iter__(self) -> Iterator[_T]:
        for number in range(len(self._parts)):
            yield from self._part(number)

    def _run(self, start: int, stop: int) -> list[_T]:
        found: list[_T] = []
        number = bisect_right(self._starts, start) - 1
        while start < stop:
            first = self._starts[number]
            some = self._part(number)[start - first : stop - first]
            found += some
            start += len(some)
            number += 1
        return found

    def _part(self, number: int) -> Sequence[_T]:
        if self._last[0] != number:
            self._last = (number, self._parts[number].make())
        return self._last[1]


def _each(make: Callable[[_S], _T], objects: Sequence[_S]) -> Sequence[_T]:
    return list(map(make, objects))
