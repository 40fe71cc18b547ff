"""A password on its way: never printed, never pickled, never in a record."""

from __future__ import annotations

import sys
from contextlib import suppress
from functools import cache
from typing import NoReturn

#: prctl(2): whether a core of the process may be written, and others may look into it.
_PR_SET_DUMPABLE = 4


@cache
def _forbid_cores() -> None:
    """See to it that no core of this process is written from now on: a password would stand in it."""
    with suppress(ImportError, ValueError, OSError):
        import resource

        resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))
    if sys.platform == "linux":  # where cores go to a program, the limit does not count
        import ctypes

        with suppress(OSError, AttributeError):
            ctypes.CDLL(None).prctl(_PR_SET_DUMPABLE, 0, 0, 0, 0)


class Secret:
    """Holds a password; everything that would show it shows a row of dots instead.

    ``generated`` tells a random one, whose entropy allows a fast hash, from one that somebody thought of.
    """

    __slots__ = ("_text", "generated")

    def __init__(self, text: str, *, generated: bool = False) -> None:
        _forbid_cores()
        self._text = text
        self.generated = generated

    def reveal(self) -> str:
        """The password itself. Callers hand it to a directory, a check, or the one who asked to see it."""
        return self._text

    def __repr__(self) -> str:
        return "Secret(•••)"

    __str__ = __repr__

    def __reduce__(self) -> NoReturn:
        raise TypeError("a secret is not written anywhere")
