"""Locks on jobs: who runs, finishes or takes back a job holds its lock, and the system frees it with the process.

The lock of job n is byte n of a file beside the journal (POSIX record locks). Such locks are not bound to a process
number or a host name: they end with a kill or a reboot. A process
loses all its locks on a file as soon as it closes any handle of it, so no handle is ever closed here.
"""

from __future__ import annotations

import os
import time
from pathlib import Path

try:
    import fcntl
except ImportError:  # pragma: no cover - a system without record locks
    fcntl = None  # type: ignore[assignment]

_TRIES, _PAUSE = 5, 0.02


class _LockFile:
    """The file of locks as a process has it open."""

    def __init__(self, path: str) -> None:
        self.path = path
        self.own: set[int] = set()
        self.users = 0
        self._handle: int | None = None

    @property
    def handle(self) -> int:
        """The descriptor, opened on first use. Raises `OSError`."""
        if self._handle is None:
            flags = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW
            self._handle = os.open(self.path, flags, 0o600)
        return self._handle

    def close(self) -> None:
        """Close the file; its locks go with it."""
        if self._handle is not None:
            os.close(self._handle)
        self._handle = None


_open_files: dict[str, _LockFile] = {}


class JobLocks:
    """The locks of one journal; all objects of a process for the same journal share them."""

    def __init__(self, journal: Path) -> None:
        path = os.path.realpath(f"{journal}-locks")
        self._file = _open_files.setdefault(path, _LockFile(path))
        self._file.users += 1

    def close(self) -> None:
        """Have no more to do with the locks; the last one of a process gives them all back."""
        self._file.users -= 1
        if not self._file.users:
            self._file.close()
            _open_files.pop(self._file.path, None)

    def take(self, job: int) -> bool:
        """Take the lock of a job; False where another process holds it.

        Where there is no way to lock, it counts as taken: who cannot write here cannot write the journal either.
        """
        if job in self._file.own or not self._can_lock():
            return True
        for attempt in range(_TRIES):  # somebody who looks whether it is taken holds it for a moment
            if attempt:
                time.sleep(_PAUSE)
            try:
                is_free = self._locked(job, write=True)
            except OSError:  # a file system without locks
                return True
            if is_free:
                self._file.own.add(job)
                return True
        return False

    def vouch(self, job: int) -> None:
        """Count a job as locked by this process, on the word of somebody who knows that no other is."""
        self._file.own.add(job)

    def free(self, job: int) -> None:
        """Give the lock of a job back."""
        if job in self._file.own:
            self._file.own.discard(job)
            if self._can_lock():
                fcntl.lockf(self._file.handle, fcntl.LOCK_UN, 1, job)

    def is_taken(self, job: int) -> bool | None:
        """Whether a process holds the lock of a job, this one included; None where there is no way to tell."""
        if job in self._file.own:
            return True
        if not os.path.exists(self._file.path):  # noqa: PTH110
            return False
        if not self._can_lock():
            return None
        try:
            free = self._locked(job, write=False)
        except OSError:
            return None
        if free:
            fcntl.lockf(self._file.handle, fcntl.LOCK_UN, 1, job)
        return not free

    def _can_lock(self) -> bool:
        try:
            return fcntl is not None and self._file.handle >= 0
        except OSError:
            return False

    def _locked(self, job: int, *, write: bool) -> bool:
        try:
            fcntl.lockf(self._file.handle, (fcntl.LOCK_EX if write else fcntl.LOCK_SH) | fcntl.LOCK_NB, 1, job)
        except (BlockingIOError, PermissionError):  # the two ways in which systems say that somebody has it
            return False
        return True
