"""The collector of cyclic garbage, at rest while very many objects are made that all stay."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def gc_paused(*, is_large: bool = True) -> Iterator[None]:
    """Let it rest: it would look through all objects again and again, and find none to let go.

    Nothing is done where what comes is not large. Afterwards it leaves alone what there is by then, which goes when
    nobody refers to it any more.
    """
    running = gc.isenabled() and is_large
    if running:
        gc.disable()
    try:
        yield
    finally:
        if running:
            gc.freeze()
            gc.enable()


def let_go() -> None:
    """While it rests: let go of what is garbage by now among all that was made since this was done last."""
    if not gc.isenabled():
        gc.collect(0)
