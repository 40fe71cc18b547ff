"""Serving the stand-in for a service outside, for the commands that do."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from importlib import resources
from importlib.util import find_spec
from pathlib import Path

from vandrel import file_names, safe_file
from vandrel.cli.session import Session

_LIBRARIES = ("scim2_server", "trustme", "uvicorn")


def must_have_libraries() -> None:
    """See to it that a stand-in can be served. Raises `VandrelError` ``out-of-reach``."""
    from vandrel.errors import Code, VandrelError

    if missing := [name for name in _LIBRARIES if find_spec(name) is None]:
        what = f"the stand-in needs libraries that are not installed: {', '.join(missing)}"
        raise VandrelError(Code.OUT_OF_REACH, what, remedy="pip install vandrel[services,stand-in]")


def serve_stand_in(
    session: Session, folder: Path, port: int, show_connection: Callable[[list[str]], None], name: str = ""
) -> None:
    """Serve until it is interrupted.

    Args:
        session: to say where it is.
        folder: where it keeps everything.
        port: 0 for any that is free.
        show_connection: gets the lines of a connection to it, once it can be reached.
        name: what the connection is called; empty: as the folder.

    Raises:
        VandrelError: ``out-of-reach`` where libraries lack; what reading its rules raises.

    """
    must_have_libraries()
    from vandrel.stand_in.serve import Prepared, serve

    prepared = Prepared(folder)

    def ready(port: int) -> None:
        session.terminal.note(f"A stand-in for a service, on this machine alone: {prepared.url(port)}")
        show_connection([
            f"  {name or folder.name}:", f"    hosts: [{prepared.url(port)}]", f"    ca-file: {prepared.authority}",
            f"    identities: {{everyday: {{password-file: {prepared.token}}}}}",
        ])  # fmt: skip

    with suppress(KeyboardInterrupt):  # which is how it ends
        serve(folder, port, ready)
    session.terminal.note(f"\nThe stand-in has ended. What it keeps stays in {folder}.")


def serve_in_demo(session: Session, folder: Path) -> None:
    """Serve the stand-in; the connection to it stands in the folder, unless there is a file of connections already."""
    service, connections = folder / "service", folder / file_names.CONNECTIONS
    service.mkdir(exist_ok=True)
    rules = resources.files("vandrel.demo").joinpath("service.yaml").read_bytes()
    safe_file.write(service / "service.yaml", rules, "file of rules", private=False)

    def told(lines: list[str]) -> None:
        if not connections.exists():
            text = "\n".join(["connections:", *lines, ""])
            safe_file.write(connections, text.encode(), "file of connections")
        session.terminal.note(f"It is the connection courses in {folder}. Ctrl-C ends it. In another terminal:")
        session.terminal.line("  vandrel synchronize courses.profile.yaml --into courses --dry-run")

    serve_stand_in(session, service, 0, told, "courses")
