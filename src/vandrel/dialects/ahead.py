"""Questions that do not wait for one another, sent together: over a long line, each answer is a wait of its own."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from vandrel.dialects import dialect_for
from vandrel.directory.port import WrittenAheadError

if TYPE_CHECKING:
    from vandrel.dialects.dialect import Dialect


def ask_ahead(dialect: Dialect, work: Callable[[Dialect], object], *, again: bool = False) -> None:
    """Send the questions that a piece of work is going to ask.

    The work is done once with a directory that answers that there is nothing: what it asks then, it will mostly ask
    again, and finds the answers come. What it works out is thrown away, so that no answer can be wrong by this.

    Args:
        dialect: of the directory that is asked.
        work: is called with a dialect of its own; it must neither write nor change what it does not own.
        again: whether it checks what was worked out just now: the answers that were given for that count once more.

    Raises:
        WrittenAheadError: where the work writes.

    """
    directory = dialect.directory.ahead(again=again)
    if directory is None:
        return
    try:
        work(dialect_for(directory, dialect.charter))
    except WrittenAheadError:
        raise
    except Exception:
        return  # where nothing is there, the work may end early in any way; it is done again with the answers
