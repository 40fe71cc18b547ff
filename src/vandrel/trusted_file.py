"""Files that decide what is run and where passwords go: read only where nobody else can have written them."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from vandrel.errors import Code, Location, VandrelError


def read_text(path: Path, what: str) -> str:
    """The text of a file (UTF-8) that only this user or root can have written.

    The file and its folder belong to one of the two, and nobody else may write them; a folder in which everybody may
    make files but only their owners may replace them (the sticky bit) will do, since the file itself is looked at too.

    Raises:
        FileNotFoundError: where there is no such file.
        VandrelError: ``not-permitted`` where it cannot be read, or somebody else could have written it.

    """
    try:
        with path.open("rb") as file:
            why = _why_not(os.fstat(file.fileno()), "it") or _why_not(path.resolve().parent.stat(), "its folder")
            if why:
                remedy = f"chown and chmod go-w what is yours, or take a copy: {path.name}"
                raise VandrelError(Code.NOT_PERMITTED, f"the {what} is not read: {why}", where=_at(path), remedy=remedy)
            return file.read().decode()
    except FileNotFoundError:
        raise
    except UnicodeDecodeError as error:
        message = f"the {what} cannot be read: it is not UTF-8, at byte {error.start}"
        raise VandrelError(Code.NOT_PERMITTED, message, where=_at(path)) from None
    except OSError as error:
        raise VandrelError(
            Code.NOT_PERMITTED, f"the {what} cannot be read: {error.strerror}", where=_at(path)
        ) from None


def _why_not(about: os.stat_result, it: str) -> str:
    """Why somebody else could have written this; empty where nobody could."""
    if not hasattr(os, "geteuid"):  # a system with other rights
        return ""
    if about.st_uid not in (os.geteuid(), 0):
        return f"{it} belongs to {_user(about.st_uid)}"
    if stat.S_ISDIR(about.st_mode) and about.st_mode & stat.S_ISVTX:
        return ""
    if about.st_mode & stat.S_IWOTH:
        return f"everybody may write {it}"
    if about.st_mode & stat.S_IWGRP and not _is_private(about.st_gid):
        return f"others of its group may write {it}"
    return ""


def _is_private(group: int) -> bool:
    """Whether a group is the private one of this user, as systems with the mask 002 have for everybody."""
    import grp

    if group == 0:
        return True
    try:
        entry = grp.getgrgid(group)
    except KeyError:
        return False
    me = _user(os.geteuid())
    return entry.gr_name == me and set(entry.gr_mem) <= {me}


def _user(number: int) -> str:
    import pwd

    try:
        return pwd.getpwuid(number).pw_name
    except KeyError:
        return f"user {number}"


def _at(path: Path) -> Location:
    return Location(file=str(path))
