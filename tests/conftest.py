"""What the tests share: the installed program, the demo's folder, and a context of the core without the interface."""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any, NoReturn

import pytest
from hypothesis import HealthCheck, settings

from vandrel.charter.charter import Charter
from vandrel.charter.load import from_text
from vandrel.demo.world import charter_text
from vandrel.dialects.standard import StandardDialect
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.errors import Code
from vandrel.jobs.hierarchy.build import compare
from vandrel.objects.context import Context
from vandrel.record.journal import Journal
from vandrel.steps.plan import Plan
from vandrel.steps.runner import Runner

PROGRAM = Path(sys.executable).with_name("vandrel")

#: Whether time does not matter: `make soak`. And how many times as many examples are drawn then.
IS_SOAK = bool(os.environ.get("VANDREL_SOAK"))
EXAMPLES = 20 if IS_SOAK else 1

# `make test` draws the same examples each time, so that what it says of a change is about the change.
settings.register_profile(
    "vandrel", max_examples=100 * EXAMPLES, deadline=None, derandomize=not IS_SOAK,
    suppress_health_check=[HealthCheck.too_slow],
)  # fmt: skip
settings.load_profile("vandrel")


def not_installed(what: str) -> NoReturn:
    """Skip, saying what is missing; where everything must be there, that is a failure."""
    if os.environ.get("VANDREL_TEST_EVERYTHING"):
        pytest.fail(f"not installed: {what}")
    pytest.skip(f"not installed: {what}")


@dataclass
class Result:
    """How a run of the program ended."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)

    @property
    def findings(self) -> list[dict[str, Any]]:
        """The findings of a JSON result, each with its row and column beside it."""
        found = self.json["findings"]
        return [f | {"row": f["where"].get("row", 0), "column": f["where"].get("header", "")} for f in found]


#: Background jobs of a shell begin with Ctrl-C ignored, and so does what they start: the program is to heed it.
_HEEDING = "import os, signal, sys; signal.signal(signal.SIGINT, signal.SIG_DFL); os.execv(sys.argv[1], sys.argv[1:])"


class Warm:
    """A process that runs the program, and has read its modules already (`warm.py`); what it loads before all else."""

    def __init__(self, preload: str = "") -> None:
        self._asking, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            number = theirs.fileno()
            words = [sys.executable, str(Path(__file__).with_name("warm.py")), str(number)]
            subprocess.Popen(words, pass_fds=(number,), env=os.environ | {"LD_PRELOAD": preload})

    def run(
        self, words: list[str], folder: Path, environment: dict[str, str], stdin: str, timeout: float, stop: int = 0
    ) -> Result:
        request = json.dumps({"words": words, "folder": str(folder), "environment": environment, "stop": stop})
        with ExitStack() as stack:
            files = [stack.enter_context(tempfile.TemporaryFile()) for _ in range(3)]
            files[0].write(stdin.encode())
            files[0].seek(0)
            told, telling = (stack.enter_context(end) for end in socket.socketpair())
            numbers = [*(file.fileno() for file in files), telling.fileno()]
            socket.send_fds(self._asking, [request.encode()], numbers)
            telling.close()
            lines = stack.enter_context(told.makefile())
            pid = int(lines.readline())
            told.settimeout(timeout)
            try:
                code = int(lines.readline())
            except TimeoutError:
                os.kill(pid, signal.SIGKILL)
                raise subprocess.TimeoutExpired(words, timeout) from None
            for file in files:
                file.seek(0)
            out, err = (file.read().decode(errors="replace").replace("\r\n", "\n") for file in files[1:])
        return Result(code, out, err)


@lru_cache(maxsize=1)
def _warm() -> Warm:
    return Warm()


@lru_cache(maxsize=1)
def _stopping() -> Warm:
    """As `_warm`, and stopped before any of its writes on demand (`stopping.c`)."""
    compiler = shutil.which("gcc") or not_installed("gcc, for stops at each write")
    library = Path(os.environ["XDG_CACHE_HOME"]) / "stopping.so"
    source = str(Path(__file__).with_name("stopping.c"))
    subprocess.run([compiler, "-shared", "-fPIC", "-O1", "-o", str(library), source, "-ldl"], check=True)
    return Warm(str(library))


@dataclass
class Folder:
    """A folder with a charter and a directory, and the program run in it."""

    path: Path
    env: dict[str, str] = field(default_factory=dict)

    def run(self, *words: str, stdin: str = "", timeout: float = 60, **more: str) -> Result:
        done = _warm().run([str(PROGRAM), *words], self.path, self.environment() | more, stdin, timeout)
        assert "Traceback" not in done.err, done.err
        assert done.code != Code.INTERNAL.exit_code, done.err
        return done

    def stopped(self, *words: str, at: int) -> Result | None:
        """Run the program until right before the `at`-th of its writes, syncs, renames and requests; None: it ended."""
        done = _stopping().run([str(PROGRAM), *words], self.path, self.environment(), "", 60, at)
        if done.code == -signal.SIGKILL:
            return done
        assert "Traceback" not in done.err, done.err
        return None

    def environment(self) -> dict[str, str]:
        own = {
            "XDG_CACHE_HOME": str(self.path / ".cache"),
            "XDG_CONFIG_HOME": str(self.path / ".config"),
            "COLUMNS": "120",
        }
        return (
            {k: v for k, v in os.environ.items() if not k.startswith(("VANDREL", "XDG", "NO_COLOR"))} | own | self.env
        )

    def start(self, *words: str) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, "-c", _HEEDING, str(PROGRAM), *words], cwd=self.path, env=self.environment(), text=True,
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        )  # fmt: skip

    def state(self) -> bytes:
        """What the directory holds, for asserting that nothing was written."""
        directory = EmbeddedDirectory(self.path / "directory.db")
        try:
            return repr(
                [(str(e.dn), sorted(e.attributes.items())) for e in directory.search(directory.contexts[0])]
            ).encode()
        finally:
            directory.close()


@pytest.fixture(scope="session")
def demo_template(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's folder, made once by the installed program."""
    path = tmp_path_factory.mktemp("template") / "demo"
    done = subprocess.run([str(PROGRAM), "demo", str(path), "--no-tour"], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    return path


@pytest.fixture
def demo(demo_template: Path, tmp_path: Path) -> Folder:
    """A fresh copy of the demo's folder."""
    path = tmp_path / "demo"
    shutil.copytree(demo_template, path)
    return Folder(path)


@pytest.fixture(scope="session")
def charter() -> Charter:
    return from_text(charter_text(), Path("charter.yaml"))


@pytest.fixture(scope="session", autouse=True)
def nothing_is_left(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """What is cached goes with the tests; servers that several modules use end with the last one."""
    os.environ["XDG_CACHE_HOME"] = str(tmp_path_factory.mktemp("cache"))
    yield
    from . import servers

    servers.at_the_end.close()


@dataclass
class Workbench:
    """The core, without the interface: a context, its runner and its journal."""

    context: Context
    runner: Runner
    journal: Journal


@pytest.fixture
def bench(tmp_path: Path, charter: Charter) -> Iterator[Workbench]:
    """A directory with the units and groups of the demo's charter, and nobody in it."""
    directory = EmbeddedDirectory.create(tmp_path / "directory.db", [charter.base])
    journal = Journal(tmp_path / "journal.db", create=True)
    context = Context(charter, directory, StandardDialect(directory, charter))
    runner = Runner(directory, context.dialect, lambda: journal)
    comparison = compare(context)
    runner.run(Plan("build", comparison.steps, comparison.findings), "test")
    yield Workbench(context, runner, journal)
    journal.close()
    directory.close()
