"""A file of ours beside the journal (SQLite, mode 0600), made when something is first written to it."""

from __future__ import annotations

import sqlite3
from pathlib import Path

from vandrel.directory.embedded import sqlite_file
from vandrel.errors import Code, DirectoryError, Location


class OwnFile:
    """One such file: what it is called in messages, its mark and its tables.

    Attributes:
        path: where it is.

    """

    def __init__(
        self, path: Path, application: int, tables: str, what: str, version: int = sqlite_file.VERSION
    ) -> None:  # fmt: skip
        self.path = path
        self._application, self._tables, self._what, self._version = application, tables, what, version
        self._opened: tuple[sqlite3.Connection, bool] | None = None

    @property
    def exists(self) -> bool:
        """Whether anything was ever written to it."""
        return self.path.exists()

    @property
    def db(self) -> sqlite3.Connection:
        """The connection, opened on first use.

        Raises:
            DirectoryError: as opening a directory does.

        """
        if self._opened is None:
            if not self.exists:
                try:
                    sqlite_file.create(self.path, self._application, self._tables, self._what, self._version)
                except DirectoryError as error:
                    if error.code != Code.TAKEN:  # another process has just made it
                        raise
            self._opened = sqlite_file.connect(self.path, self._application, self._what, self._version)
        return self._opened[0]

    def must_be_writable(self, so: str) -> None:
        """See to it that it can be written; `so` says what is not done otherwise.

        Raises:
            DirectoryError: ``not-permitted``; as opening a directory does.

        """
        _ = self.db
        if self._opened is not None and not self._opened[1]:
            raise DirectoryError(
                Code.NOT_PERMITTED, f"the {self._what} cannot be written, so {so}",
                where=Location(file=str(self.path)), remedy="check the rights on the file and its folder",
            )  # fmt: skip

    def close(self) -> None:
        """Close it."""
        if self._opened is not None:
            self._opened[0].close()
            self._opened = None
