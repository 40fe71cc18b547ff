"""Runs the program again and again in processes of their own that need not read its modules each time.

Reading them is most of what a command takes, and there are thousands in the tests. Started by `conftest.Folder`, which
hands over the words, the environment and the files of each run; ends with it. What depends on the start itself runs the
installed program instead.
"""

from __future__ import annotations

import ctypes
import json
import os
import pkgutil
import signal
import socket
import sys
import time
import traceback
from contextlib import suppress
from importlib import import_module

#: Imported within functions, and needed by most commands.
_OFTEN = ("ldap.controls", "ldap.schema", "rich.console", "rich.table", "rich.text", "yaml")
_STANDARD = 3


def main(number: int) -> None:
    """Run what is asked for through the socket with this number until its other end is closed."""
    import vandrel

    for module in pkgutil.walk_packages(vandrel.__path__, "vandrel."):
        if not module.name.endswith("__main__"):
            import_module(module.name)
    for name in _OFTEN:
        with suppress(ImportError):
            import_module(name)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    asking = socket.socket(fileno=number)
    while True:
        request, files, _, _ = socket.recv_fds(asking, 1 << 20, _STANDARD + 1)
        if not request:
            return
        if os.fork() == 0:
            asking.close()
            _minded(json.loads(request), files)
        for file in files:
            os.close(file)


def _minded(request: dict, files: list[int]) -> None:
    """Run the program in a process of its own, and say how it ended."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    *standard, told = files
    pid = os.fork()
    if pid == 0:
        os.close(told)
        os._exit(_run(request, standard))
    os.write(told, f"{pid}\n".encode())
    _, status = os.waitpid(pid, 0)
    os.write(told, f"{os.waitstatus_to_exitcode(status)}\n".encode())
    os._exit(0)


def _run(request: dict, standard: list[int]) -> int:
    for number, file in enumerate(standard):
        os.dup2(file, number)
        os.close(file)
    sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stdout = open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stderr = open(2, "w", encoding="utf-8", errors="backslashreplace", buffering=1, closefd=False)  # noqa: SIM115
    os.chdir(request["folder"])
    os.environ.clear()
    os.environ.update(request["environment"])
    time.tzset()
    signal.signal(signal.SIGINT, signal.default_int_handler)
    sys.argv = request["words"]
    from vandrel.cli.main import entry

    if request["stop"]:
        ctypes.CDLL(None).stop_before(request["stop"])
    code: object = 0
    try:
        entry()
    except SystemExit as ended:
        code = ended.code
    except BaseException:
        traceback.print_exc()
        code = 1
    for stream in (sys.stdout, sys.stderr):
        with suppress(OSError, ValueError):
            stream.flush()
    return code if isinstance(code, int) else 0 if code is None else 1


if __name__ == "__main__":
    main(int(sys.argv[1]))
