"""Columns in which the same few values come again and again."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from typing import TypeVar

_T = TypeVar("_T", bound=Hashable)

#: Of so many values at the beginning, all but a few differ where hardly any comes again.
_SAMPLE, _ALIKE = 200, 2


def repeated(values: Sequence[_T], times: int) -> set[_T]:
    """The different values, where each comes at least so many times on the whole; nothing where it does not.

    Of long columns whose first values differ, no more is looked at: that may miss one in which values repeat later.
    """
    if len(values) > _SAMPLE * 4 and len(set(values[:_SAMPLE])) >= _SAMPLE - _ALIKE:
        return set()
    distinct = set(values)
    return distinct if len(distinct) * times <= len(values) else set()
