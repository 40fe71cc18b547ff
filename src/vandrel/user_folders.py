"""The folders of one user: where settings and what is kept for speed belong."""

from __future__ import annotations

import os
import sys
from pathlib import Path

_NAME = "vandrel"


def cache() -> Path:
    """What can be made anew."""
    if (folder := _by_xdg("XDG_CACHE_HOME", ".cache")) is not None:
        return folder
    from platformdirs import user_cache_path

    return user_cache_path(_NAME)


def settings() -> Path:
    """The user's own charter and connections."""
    if (folder := _by_xdg("XDG_CONFIG_HOME", ".config")) is not None:
        return folder
    from platformdirs import user_config_path

    return user_config_path(_NAME)


def _by_xdg(variable: str, default: str) -> Path | None:
    """A folder by the XDG Base Directory Specification; None on systems that have rules of their own.

    The library that knows all systems takes longer to load than a command may take beyond its work.
    """
    if sys.platform != "linux":
        return None
    named = Path(os.environ.get(variable, ""))
    return (named if named.is_absolute() else Path.home() / default) / _NAME
