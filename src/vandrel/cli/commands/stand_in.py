"""``vandrel stand-in``: a service outside to rehearse on."""

from __future__ import annotations

import argparse
from importlib.util import find_spec
from pathlib import Path

from vandrel.cli.session import Session

NAME = "stand-in"
HELP = "a service on this machine to rehearse synchronization on"
DESCRIPTION = """\
Serve SCIM 2.0 on this machine alone, over TLS, as a stand-in for a service outside: with a token, suffixes that are
proven or not, products with so many seats, limits, and faults on demand. What it keeps stands in the folder; so do the
token and the certificate, which are made with it. Its rules are in service.yaml there. It ends with Ctrl-C."""
EXAMPLES = """\
  vandrel stand-in service
  vandrel stand-in service --port 8443
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("folder", metavar="FOLDER", help="where it keeps everything; made if it is not there")
    parser.add_argument("--port", type=_port, default=0, metavar="N", help="the port (default: one that is free)")


def _port(text: str) -> int:
    if not text.isdecimal() or not 0 <= int(text) <= 65535:
        raise argparse.ArgumentTypeError(f"{text!r} is no port")
    return int(text)


def run(session: Session) -> int:
    """Serve until it is interrupted."""
    from vandrel.errors import DONE, Code, VandrelError

    if missing := [name for name in ("scim2_server", "trustme", "uvicorn") if find_spec(name) is None]:
        what = f"the stand-in needs libraries that are not installed: {', '.join(missing)}"
        raise VandrelError(Code.OUT_OF_REACH, what, remedy="pip install vandrel[services,stand-in]")
    from vandrel.stand_in.serve import Prepared, serve

    folder, out = Path(session.args.folder).resolve(), session.terminal

    def ready(port: int) -> None:
        prepared = Prepared(folder)
        out.note(f"A stand-in for a service, on this machine alone: {prepared.url(port)}")
        out.note("For connections.yaml:")
        for line in (
            f"  {folder.name}:", f"    hosts: [{prepared.url(port)}]", f"    ca-file: {prepared.authority}",
            f"    identities: {{everyday: {{password-file: {prepared.token}}}}}",
        ):  # fmt: skip
            out.line(line)

    serve(folder, session.args.port, ready)
    return DONE
