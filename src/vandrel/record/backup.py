"""Everything of ours in one file: the directory, journal, attic, snapshots and charter, copied whole and checked.

The file is a tar archive (POSIX.1-2001 pax), compressed (RFC 8878), with a list of what is in it and its digests.
"""

from __future__ import annotations

import hashlib
import sqlite3
import tarfile
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import IO

import msgspec
from msgspec import Struct

from vandrel import safe_file
from vandrel.directory.embedded import sqlite_file
from vandrel.errors import Code, DirectoryError, Location, VandrelError

_MANIFEST = "backup.json"
_PIECE = 1 << 20
#: Patience with others who write, in seconds.
_PATIENCE = 60.0


class Packed(Struct, frozen=True):
    """One file in a backup: its name, its octets, and their digest (BLAKE2b, hexadecimal)."""

    name: str
    size: int
    digest: str


class Manifest(Struct, frozen=True):
    """What is in a backup, and when it was taken (UTC, ISO 8601)."""

    taken: str
    files: list[Packed]


def pack(target: Path, plain: Sequence[Path], databases: Sequence[Path]) -> Manifest:
    """Make a backup; nobody can write to the first of the databases while all are copied.

    Args:
        target: the file to make.
        plain: files that are copied as they are.
        databases: files of SQLite, the directory's before those that tell of it; those that are there are copied.

    Raises:
        VandrelError: ``taken``, ``not-permitted``, ``disk-full``, ``busy``, ``damaged``.

    """
    safe_file.must_be_free(target, "backup")
    with tempfile.TemporaryDirectory(dir=target.parent, prefix=".vandrel-") as draft:
        copies: dict[str, Path] = {path.name: path for path in plain}
        with _hold_still(next((path for path in databases if path.exists()), None)):
            for path in databases:
                if not path.exists():  # asked for now: the first deletion may just have made one
                    continue
                copies[path.name] = Path(draft) / path.name
                _copy(path, copies[path.name])
        files = [Packed(name, path.stat().st_size, _digest(path)) for name, path in copies.items()]
        manifest = Manifest(datetime.now(UTC).isoformat(timespec="seconds"), files)
        _write(target, manifest, copies, Path(draft))
    check(target)
    return manifest


@contextmanager
def _hold_still(database: Path | None) -> Iterator[None]:
    """Keep others from writing to a file, so that all that tell of it are of one moment."""
    if database is None:
        yield
        return
    with (
        sqlite_file.plain_errors(database),
        closing(sqlite3.connect(database, isolation_level=None, timeout=_PATIENCE)) as connection,
    ):
        connection.execute("BEGIN IMMEDIATE")
        try:
            yield
        finally:
            connection.execute("ROLLBACK")


def _copy(source: Path, target: Path) -> None:
    with (
        sqlite_file.plain_errors(source),
        closing(sqlite3.connect(f"file:{source}?mode=ro", uri=True)) as theirs,
        closing(sqlite3.connect(target)) as ours,
    ):
        theirs.backup(ours)
        (fault,) = ours.execute("PRAGMA integrity_check(1)").fetchone()
    if fault != "ok":
        raise DirectoryError(Code.DAMAGED, f"the file is damaged: {fault}", where=Location(file=str(source)))


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, lambda: hashlib.blake2b(digest_size=32)).hexdigest()


def _write(target: Path, manifest: Manifest, copies: Mapping[str, Path], draft: Path) -> None:
    import zstandard

    manifest_file = draft / _MANIFEST
    manifest_file.write_bytes(msgspec.json.encode(manifest))
    compressor = zstandard.ZstdCompressor(level=3)
    with (
        safe_file.writing(target, "backup") as file,
        compressor.stream_writer(file, closefd=False) as stream,
        tarfile.open(fileobj=stream, mode="w|") as archive,
    ):
        for name, path in {_MANIFEST: manifest_file, **copies}.items():
            archive.add(path, arcname=name, recursive=False)


@contextmanager
def _members(path: Path) -> Iterator[Iterator[tuple[str, IO[bytes]]]]:
    """The files of a backup in their order: the list of them first."""
    import zstandard

    def each(archive: tarfile.TarFile) -> Iterator[tuple[str, IO[bytes]]]:
        for member in archive:
            content = archive.extractfile(member) if member.isfile() else None
            if content is not None:
                yield member.name, content

    try:
        with (
            path.open("rb") as file,
            zstandard.ZstdDecompressor().stream_reader(file) as stream,
            tarfile.open(fileobj=stream, mode="r|") as archive,
        ):
            yield each(archive)
    except OSError as error:
        what = f"the backup cannot be read: {error.strerror or error}"
        raise VandrelError(Code.NOT_FOUND, what, where=Location(file=str(path))) from None
    except (tarfile.TarError, zstandard.ZstdError, EOFError):
        raise _damaged(path) from None


def _damaged(path: Path) -> VandrelError:
    what = "this is no backup, or a damaged one"
    return VandrelError(Code.DAMAGED, what, where=Location(file=str(path)), remedy="take another one")


def check(path: Path) -> Manifest:
    """Read a backup to its end, and see to it that all is there that its list names, as it was.

    Raises:
        VandrelError: ``not-found``, ``damaged``.

    """
    with _members(path) as members:
        manifest, files = _listed(path, members)
        sums = {name: _sum(content) for name, content in members}
    if sums != {name: file.digest for name, file in files.items()}:
        raise _damaged(path)
    return manifest


def _listed(path: Path, members: Iterator[tuple[str, IO[bytes]]]) -> tuple[Manifest, dict[str, Packed]]:
    try:
        name, content = next(members)
        manifest = msgspec.json.decode(content.read(), type=Manifest)
    except (StopIteration, msgspec.MsgspecError):
        raise _damaged(path) from None
    files = {file.name: file for file in manifest.files}
    if name != _MANIFEST or any(Path(name).name != name or name.startswith(".") for name in files):
        raise _damaged(path)
    return manifest, files


def _sum(content: IO[bytes], target: IO[bytes] | None = None) -> str:
    digest = hashlib.blake2b(digest_size=32)
    while piece := content.read(_PIECE):
        digest.update(piece)
        if target is not None:
            target.write(piece)
    return digest.hexdigest()


def unpack(path: Path, folder: Path) -> Manifest:
    """Put the files of a backup into a folder where none of them is yet; each is whole before it has its name.

    Raises:
        VandrelError: ``not-found``, ``damaged``; ``taken``, ``not-permitted``, ``disk-full``.

    """
    check(path)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        what = f"the folder cannot be made: {error.strerror}"
        raise VandrelError(Code.NOT_PERMITTED, what, where=Location(file=str(folder))) from None
    with _members(path) as members:
        manifest, files = _listed(path, members)
        for name in files:
            safe_file.must_be_free(folder / name)
        for name, content in members:
            with safe_file.writing(folder / name) as target:
                if name not in files or _sum(content, target) != files[name].digest:
                    raise _damaged(path)
    return manifest
