"""The stand-in for the tests: one server a worker, its state new for each test, and answers that a test puts in."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

from vandrel.directory.service.link import ServiceLink, ServiceSettings
from vandrel.secret import Secret
from vandrel.stand_in.application import Rules, StandIn
from vandrel.stand_in.serve import SERVER, prepare

from .servers import at_the_end

#: In place of an answer: the connection is cut in the middle of one, and the request was not heeded, or it was.
CUT, CUT_BEHIND = "cut", "cut behind"
Answer = tuple[int, dict[str, str], bytes] | str | None


@dataclass
class Service:
    """A stand-in that runs.

    Attributes:
        requests: method and path of each request, in order.
        answer: is asked before each request, by its number from 0, method and path, for an answer to give in place of
            that of the stand-in.

    """

    port: int
    folder: Path
    application: StandIn | None = None
    requests: list[tuple[str, str]] = field(default_factory=list)
    answer: Callable[[int, str, str], Answer] = lambda number, method, path: None

    @property
    def url(self) -> str:
        return f"https://127.0.0.1:{self.port}/v2"

    def connection(self, **more: object) -> str:
        """A file of connections with this one, called ``courses``."""
        told = "".join(f"    {name}: {value}\n" for name, value in more.items())
        return (
            f"connections:\n  courses:\n    hosts: [{self.url}]\n    ca-file: {self.folder}/authority.pem\n{told}"
            f"    identities: {{everyday: {{password-file: {self.folder}/token}}}}\n"
        )

    def link(self) -> ServiceLink:
        """Another client, past the tool."""
        token = Secret((self.folder / "token").read_text().strip())
        return ServiceLink(ServiceSettings(self.url, "other", token, f"{self.folder}/authority.pem"))

    def people(self) -> dict[str, dict[str, Any]]:
        """Everybody by user name, asked past the faults of a test."""
        assert self.application is not None
        return {each.user_name: each.model_dump() for each in self.application.people.resources
                if hasattr(each, "user_name")}  # fmt: skip

    def members(self, group: str) -> set[str]:
        """The user names of the members of a group."""
        assert self.application is not None
        named = {each.id: each.user_name for each in self.application.people.resources if hasattr(each, "user_name")}
        (found,) = [each for each in self.application.people.resources
                    if not hasattr(each, "user_name") and each.display_name == group]  # fmt: skip
        return {named[member.value] for member in found.members or ()}

    async def __call__(self, scope: dict[str, Any], receive: Any, send: Any) -> None:
        assert self.application is not None
        number = len(self.requests)
        self.requests.append((scope["method"], scope["path"]))
        given = self.answer(number, scope["method"], scope["path"])
        if given in (CUT, CUT_BEHIND):
            if given == CUT_BEHIND:
                await self.application(scope, receive, _nobody)
            await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"100")]})
            await send({"type": "http.response.body", "body": b'{"id": ', "more_body": True})
            raise ConnectionError(given)  # the server ends the connection
        if isinstance(given, tuple):
            status, headers, body = given
            pairs = [(name.encode(), value.encode()) for name, value in headers.items()]
            await send({"type": "http.response.start", "status": status, "headers": pairs})
            await send({"type": "http.response.body", "body": body})
            return
        await self.application(scope, receive, send)


async def _nobody(message: dict[str, Any]) -> None:
    """Nobody hears the answer."""


@contextmanager
def running(state: Path, **rules: Any) -> Iterator[Service]:
    """The service with nothing in it, by these rules."""
    service = _started()
    token = (service.folder / "token").read_text().strip()
    service.application = StandIn(state, Rules(**rules), token)
    service.requests.clear()
    service.answer = lambda number, method, path: None
    yield service


@lru_cache(maxsize=1)
def _started() -> Service:
    import logging
    import tempfile

    import uvicorn

    folder = Path(tempfile.mkdtemp(prefix="vandrel-"))
    prepare(folder)
    logging.getLogger("uvicorn.error").setLevel(logging.CRITICAL)  # cuts are on purpose
    listening = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listening.bind(("127.0.0.1", 0))
    listening.listen()
    service = Service(listening.getsockname()[1], folder)
    config = uvicorn.Config(service, lifespan="off", log_config=None, ssl_certfile=str(folder / SERVER))
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, kwargs={"sockets": [listening]}, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)

    def stop() -> None:
        server.should_exit = True
        thread.join(5)

    at_the_end.callback(stop)
    return service
