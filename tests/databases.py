"""A PostgreSQL server of the tests' own, on loopback, as a user who is not root."""

from __future__ import annotations

import os
import pwd
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from .conftest import not_installed
from .servers import free_port

#: Whom the server runs as where the tests run as root, which it refuses.
_USER = "nobody"


class Database:
    """A server with one database, `vandrel`, of which the role `vandrel` is the owner."""

    def __init__(self, programs: Path, folder: Path) -> None:
        self.programs, self.folder, self.port = programs, folder, free_port()
        self._process: subprocess.Popen[bytes] | None = None
        self._call("initdb", "-D", str(folder / "data"), "-U", "postgres", "-A", "trust", "-E", "UTF8", "--locale=C")
        self.start()
        self.ask("CREATE ROLE vandrel LOGIN", "CREATE DATABASE vandrel OWNER vandrel", database="postgres")

    @property
    def url(self) -> str:
        return f"postgresql://vandrel@127.0.0.1:{self.port}/vandrel"

    def start(self) -> None:
        words = [
            str(self.programs / "postgres"), "-D", str(self.folder / "data"), "-p", str(self.port), "-c",
            "listen_addresses=127.0.0.1", "-c", f"unix_socket_directories={self.folder}", "-c", "fsync=off",
        ]  # fmt: skip
        log = (self.folder / "log").open("ab")
        self._process = subprocess.Popen(words, stdout=log, stderr=log, cwd=self.folder, **_as_user())
        until = time.monotonic() + 30
        while subprocess.run(self._asking("postgres", ["SELECT 1"]), capture_output=True, check=False).returncode:
            if time.monotonic() > until or self._process.poll() is not None:
                raise AssertionError((self.folder / "log").read_text())
            time.sleep(0.05)

    def ask(self, *statements: str, database: str = "vandrel") -> str:
        """What a superuser's statements answer."""
        done = subprocess.run(self._asking(database, statements), capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
        return done.stdout.strip()

    def anew(self) -> None:
        """Take away what a test has left."""
        self.ask("DROP SCHEMA IF EXISTS vandrel CASCADE")

    def stop(self) -> None:
        if self._process is not None:
            self._process.send_signal(signal.SIGINT)  # at once, whoever is connected still
            self._process.wait(30)
            self._process = None

    def _asking(self, database: str, statements: list[str] | tuple[str, ...]) -> list[str]:
        words = [str(self.programs / "psql"), "-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-h", "127.0.0.1"]
        words += ["-p", str(self.port), "-U", "postgres", "-d", database]
        return words + [word for statement in statements for word in ("-c", statement)]

    def _call(self, program: str, *words: str) -> None:
        done = subprocess.run(
            [str(self.programs / program), *words], capture_output=True, text=True, check=False, cwd=self.folder,
            **_as_user(),
        )  # fmt: skip
        assert done.returncode == 0, done.stdout + done.stderr


def _as_user() -> dict[str, object]:
    return {"user": _USER, "group": pwd.getpwnam(_USER).pw_gid, "extra_groups": []} if os.getuid() == 0 else {}


@contextmanager
def running() -> Iterator[Database]:
    """A server that is gone afterwards."""
    programs = [*sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True), *_on_the_path()]
    if not programs:
        not_installed("postgresql, for the tests on a journal in a database")
    folder = Path(tempfile.mkdtemp(prefix="vandrel-"))
    if os.getuid() == 0:
        shutil.chown(folder, _USER)
    database = None
    try:
        database = Database(programs[0], folder)
        yield database
    finally:
        if database is not None:
            database.stop()
        shutil.rmtree(folder)


def _on_the_path() -> list[Path]:
    found = shutil.which("postgres")
    return [Path(found).resolve().parent] if found else []
