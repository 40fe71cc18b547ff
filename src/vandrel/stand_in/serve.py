"""The stand-in on a port of this machine, with a certificate and a token of its own."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from pathlib import Path

from msgspec import Struct

from vandrel import safe_file

#: The files in the folder of a stand-in.
RULES, STATE, TOKEN, AUTHORITY, SERVER = "service.yaml", "service.db", "token", "authority.pem", "server.pem"
_HOST = "127.0.0.1"


class Prepared(Struct, frozen=True):
    """The folder of a stand-in: its token and the certificate of the authority that signed its own."""

    folder: Path

    @property
    def token(self) -> Path:
        """The file with the token, for its owner alone."""
        return self.folder / TOKEN

    @property
    def authority(self) -> Path:
        """The certificate to trust."""
        return self.folder / AUTHORITY

    def url(self, port: int) -> str:
        """The base URL of its endpoints."""
        return f"https://{_HOST}:{port}/v2"


def prepare(folder: Path) -> Prepared:
    """Make what a stand-in needs, where it is not there yet: a token, and a certificate for this machine alone."""
    folder.mkdir(parents=True, exist_ok=True)
    prepared = Prepared(folder)
    if not prepared.token.exists():
        safe_file.write(prepared.token, f"{secrets.token_urlsafe(32)}\n".encode(), "token")
    if not (folder / SERVER).exists():
        import trustme

        authority = trustme.CA(organization_name="Vandrel stand-in")
        server = authority.issue_cert(_HOST, "localhost")
        parts = [server.private_key_pem, *server.cert_chain_pems]
        safe_file.write(folder / SERVER, b"".join(part.bytes() for part in parts), "certificate")
        safe_file.write(prepared.authority, authority.cert_pem.bytes(), "certificate")
    return prepared


def serve(folder: Path, port: int, ready: Callable[[int], None]) -> None:
    """Serve until it is interrupted; with port 0, on any that is free. `ready` is told the port."""
    import socket

    import uvicorn

    from vandrel.stand_in.application import StandIn, read_rules

    prepared = prepare(folder)
    application = StandIn(folder / STATE, read_rules(folder / RULES), prepared.token.read_text("utf-8").strip())
    config = uvicorn.Config(
        application, host=_HOST, log_level="critical", access_log=False, lifespan="off",
        ssl_certfile=str(folder / SERVER), timeout_graceful_shutdown=2,
    )  # fmt: skip
    # With its protocol named, asyncio sends each answer at once; else one of 40 ms waits in the line (TCP_NODELAY).
    with socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP) as listening:
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        listening.bind((_HOST, port))
        listening.listen()
        ready(listening.getsockname()[1])
        uvicorn.Server(config).run(sockets=[listening])
