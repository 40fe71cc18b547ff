"""The one way to write a file: whole or not at all, and on the disk before it has its name."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from vandrel.errors import Code, Location, VandrelError

_NEW = os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_CLOEXEC | getattr(os, "O_NOFOLLOW", 0)
#: File systems without hard links answer with one of these.
_NO_LINKS = (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK)


@contextmanager
def writing(path: Path, what: str = "file", *, replace: bool = False, private: bool = True) -> Iterator[BinaryIO]:
    """Open a draft beside `path`, which takes its name when the block ends without an error.

    The draft has a name that nobody can foresee, and is never opened through a link. Its content and its folder are
    synchronized to the disk, so that what follows may rely on it.

    Args:
        path: the file to write.
        what: what the file is, for messages.
        replace: whether a file of this name is replaced; otherwise it is left alone.
        private: whether the file is for its owner alone (mode 0600), which holds for all that comes from a directory.

    Raises:
        VandrelError: ``taken``, ``not-permitted``, ``disk-full``.

    """
    draft = path.parent / f".vandrel-{os.urandom(8).hex()}"
    try:
        if not replace:
            must_be_free(path, what)
        with os.fdopen(os.open(draft, _NEW, 0o600 if private else 0o666), "wb") as file:
            if private:
                os.fchmod(file.fileno(), 0o600)
            yield file
            file.flush()
            os.fsync(file.fileno())
        if replace:
            draft.replace(path)
        else:
            _name(draft, path)
        _synchronize(path.parent)
    except FileExistsError:
        raise _exists_already(path, what) from None
    except OSError as error:
        code = Code.DISK_FULL if error.errno in (errno.ENOSPC, errno.EDQUOT) else Code.NOT_PERMITTED
        message = f"the {what} cannot be written: {error.strerror or error}"
        raise VandrelError(code, message, where=Location(file=str(path))) from None
    finally:
        with suppress(OSError):
            draft.unlink(missing_ok=True)


def write(path: Path, content: bytes, what: str = "file", *, replace: bool = False, private: bool = True) -> None:
    """Write a file at once; see `writing`."""
    with writing(path, what, replace=replace, private=private) as file:
        file.write(content)


def must_be_free(path: Path, what: str = "file") -> None:
    """See to it that nothing has this name yet, a link that leads nowhere included.

    Raises:
        VandrelError: ``taken``.

    """
    if path.exists() or path.is_symlink():
        raise _exists_already(path, what)


def make_empty_folder(path: Path) -> None:
    """Make a folder; one that is there may hold nothing.

    Raises:
        VandrelError: ``taken``, ``not-permitted``.

    """
    where = Location(file=str(path))
    try:
        path.mkdir(parents=True, exist_ok=True)
        is_empty = not any(path.iterdir())
    except OSError as error:
        message = f"the folder cannot be made: {error.strerror}"
        raise VandrelError(Code.NOT_PERMITTED, message, where=where) from None
    if not is_empty:
        raise VandrelError(Code.TAKEN, "the folder is not empty", where=where, remedy="name a new one, or empty it")


def _exists_already(path: Path, what: str) -> VandrelError:
    message = f"the {what} exists and is not overwritten"
    return VandrelError(
        Code.TAKEN, message, where=Location(file=str(path)), remedy="name another, or move that one away"
    )


def _name(draft: Path, path: Path) -> None:
    """Give the draft its name, if nothing has that name; a rename would replace it."""
    try:
        path.hardlink_to(draft)
    except OSError as error:
        if error.errno not in _NO_LINKS:
            raise
        os.close(os.open(path, _NEW, 0o600))
        draft.replace(path)


def _synchronize(folder: Path) -> None:
    """Put the names in a folder on the disk; where a folder cannot be opened, the system does that in its own time."""
    with suppress(OSError):
        number = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(number)
        finally:
            os.close(number)
