"""What a library asks for and does not need, left out while it is loaded: a tenth of the time of a short command."""

from __future__ import annotations

import sys

_UNNEEDED = "typing_extensions"


def load_msgspec() -> None:
    """Load msgspec, which looks for three names in typing_extensions first.

    Where that is not installed it takes them from typing, which has all of them from Python 3.11 on.
    """
    if _UNNEEDED in sys.modules or "msgspec" in sys.modules:
        return
    sys.modules[_UNNEEDED] = None  # type: ignore[assignment]
    try:
        import msgspec  # noqa: F401
    finally:
        del sys.modules[_UNNEEDED]
