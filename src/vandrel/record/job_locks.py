"""Locks on jobs: who runs, finishes or takes back a job holds its lock, and the system frees it with the process.

The lock of job n is byte n of a file beside the journal (POSIX record locks). Such locks are not bound to a process
number or a host name: they end with a kill or a reboot, and they hold between hosts that share a folder. A process
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
_handles: dict[str, int] = {}
_held: dict[str, set[int]] = {}


class JobLocks:
    """The locks of one journal; all objects of a process for the same journal share them."""

    def __init__(self, journal: Path) -> None:
        self._path = os.path.realpath(f"{journal}-locks")
        self._own = _held.setdefault(self._path, set())

    def take(self, job: int) -> bool:
        """Take the lock of a job; False where another process holds it.

        Where there is no way to lock, it counts as taken: who cannot write here cannot write the journal either.
        """
        if job in self._own or not self._can_lock():
            return True
        for attempt in range(_TRIES):  # somebody who looks whether it is taken holds it for a moment
            if attempt:
                time.sleep(_PAUSE)
            if self._locked(job, write=True):
                self._own.add(job)
                return True
        return False

    def vouch(self, job: int) -> None:
        """Count a job as locked by this process, on the word of somebody who knows that no other is."""
        self._own.add(job)

    def free(self, job: int) -> None:
        """Give the lock of a job back."""
        if job in self._own:
            self._own.discard(job)
            if self._can_lock():
                fcntl.lockf(self._handle(), fcntl.LOCK_UN, 1, job)

    def is_taken(self, job: int) -> bool | None:
        """Whether a process holds the lock of a job, this one included; None where there is no way to tell."""
        if job in self._own:
            return True
        if not os.path.exists(self._path):  # noqa: PTH110
            return False
        if not self._can_lock():
            return None
        free = self._locked(job, write=False)
        if free:
            fcntl.lockf(_handles[self._path], fcntl.LOCK_UN, 1, job)
        return not free

    def _can_lock(self) -> bool:
        try:
            return fcntl is not None and self._handle() >= 0
        except OSError:
            return False

    def _locked(self, job: int, *, write: bool) -> bool:
        try:
            fcntl.lockf(self._handle(), (fcntl.LOCK_EX if write else fcntl.LOCK_SH) | fcntl.LOCK_NB, 1, job)
        except (BlockingIOError, PermissionError):  # the two ways in which systems say that somebody has it
            return False
        return True

    def _handle(self) -> int:
        if self._path not in _handles:
            flags = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW
            _handles[self._path] = os.open(self._path, flags, 0o600)
        return _handles[self._path]
