"""A password on its way: never printed, never pickled, never in a record."""

from __future__ import annotations

from typing import NoReturn


class Secret:
    """Holds a password; everything that would show it shows a row of dots instead.

    ``generated`` tells a random one, whose entropy allows a fast hash, from one that somebody thought of.
    """

    __slots__ = ("_text", "generated")

    def __init__(self, text: str, *, generated: bool = False) -> None:
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
