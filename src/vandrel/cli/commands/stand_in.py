"""``vandrel stand-in``: a service outside to rehearse on."""

from __future__ import annotations

import argparse
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
    from vandrel.cli.rehearsal import serve_stand_in
    from vandrel.errors import DONE

    def told(lines: list[str]) -> None:
        session.terminal.note("For connections.yaml:")
        for line in lines:
            session.terminal.line(line)

    serve_stand_in(session, Path(session.args.folder).resolve(), session.args.port, told)
    return DONE
