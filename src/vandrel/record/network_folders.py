"""Folders that other machines write to as well."""

from __future__ import annotations

import os
from pathlib import Path

#: What is mounted where (proc(5)); there is none where the system is not Linux.
MOUNTS = Path("/proc/self/mountinfo")
#: File systems over a network on which SQLite's log does not work between machines (sqlite.org/wal.html), and locks of
#: one are not seen by the other, or only where the server is set up for that.
_OVER_NETWORK = frozenset({
    "nfs", "nfs4", "cifs", "smb3", "smbfs", "afs", "ncpfs", "fuse.sshfs", "fuse.smbnetfs", "fuse.davfs2", "fuse.rclone",
})  # fmt: skip


def network_file_system(path: Path) -> str:
    """The file system over a network on which a path stands; empty for a disk of this machine, or where none tells."""
    try:
        lines = MOUNTS.read_text("utf-8", "surrogateescape").splitlines()
    except OSError:
        return ""
    place = os.path.realpath(path)
    deepest, found = "", ""
    for line in lines:
        before, _, after = line.partition(" - ")
        fields, kind = before.split(" "), after.partition(" ")[0]
        if len(fields) > 4 and _is_within(place, point := _unescaped(fields[4])) and len(point) >= len(deepest):
            deepest, found = point, kind
    return found if found in _OVER_NETWORK else ""


def _is_within(place: str, point: str) -> bool:
    return place == point or place.startswith(point.rstrip("/") + "/")


def _unescaped(text: str) -> str:
    """A path as it stands in that file, where blanks and the like are octal numbers."""
    for char in " \t\n\\":
        text = text.replace(f"\\{ord(char):03o}", char)
    return text
