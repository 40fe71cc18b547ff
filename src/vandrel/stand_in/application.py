"""The stand-in as an application: a token, a limit of requests, faults on demand, and people who were deleted."""

from __future__ import annotations

import hmac
import time
from collections import deque
from http import HTTPStatus
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct
from scim2_models import (
    AuthenticationScheme,
    Bulk,
    ChangePassword,
    EnterpriseUser,
    ETag,
    Filter,
    Group,
    Patch,
    Resource,
    ResourceType,
    ScimProvider,
    ServiceProviderConfig,
    Sort,
    UnauthorizedException,
    User,
)
from scim2_server.applications.asgi import ASGIApplication
from scim2_server.memory import AsyncInMemoryStorage
from scim2_server.requests import ScimRequest
from scim2_server.responses import ScimResponse

from vandrel.errors import Code, Location, VandrelError
from vandrel.stand_in.storage import FileStorage, Guest, Person

_PAGE = 200
_LIST = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
_ERROR = "urn:ietf:params:scim:api:messages:2.0:Error"
_MINUTE = 60.0


class Rules(Struct, frozen=True, forbid_unknown_fields=True, rename="kebab"):
    """What the stand-in demands; its file is ``service.yaml``.

    Attributes:
        suffixes: suffixes of user names that are proven; none: any will do.
        products: products with the number of their seats.
        requests: most requests in a minute; 0: any.
        fail: a status, and with which request of how many it comes, as ``503/10``.

    """

    suffixes: list[str] = []
    products: dict[str, int] = {}
    requests: int = 0
    fail: dict[int, int] = {}


def read_rules(path: Path) -> Rules:
    """The rules of a file; those that demand nothing where there is none.

    Raises:
        VandrelError: ``bad-value``.

    """
    import yaml

    if not path.exists():
        return Rules()
    try:
        return msgspec.convert(yaml.safe_load(path.read_text("utf-8")) or {}, Rules, strict=False)
    except (msgspec.MsgspecError, yaml.YAMLError, UnicodeDecodeError) as error:
        what, remedy = f"it cannot be read: {error}", "it has suffixes, products, requests and fail"
        raise VandrelError(Code.BAD_VALUE, what, where=Location(file=str(path)), remedy=remedy) from None


class StandIn(ASGIApplication):
    """SCIM 2.0 over a file."""

    def __init__(self, state: Path, rules: Rules, token: str) -> None:
        """Take the file of what it keeps, its rules and the token that it demands."""
        self.people = FileStorage(state, frozenset(map(str.lower, rules.suffixes)), rules.products)
        super().__init__(AsyncInMemoryStorage(self.people), _provider())
        self._rules, self._token = rules, token
        self._recent: deque[float] = deque()
        self._count = 0

    def check_auth(self, request: ScimRequest) -> None:
        """Refuse a request without the token (RFC 6750)."""
        scheme, _, token = (request.header("Authorization") or "").partition(" ")
        if scheme.lower() != "bearer" or not hmac.compare_digest(token.encode(), self._token.encode()):
            raise UnauthorizedException

    async def dispatch_request(self, request: ScimRequest) -> ScimResponse:
        """Serve a request, unless a limit or a fault on demand comes first."""
        self._count += 1
        if (early := self._limited() or self._fault()) is not None:
            return early
        self.people.url = request.base_url.rstrip("/")
        first, *rest = [part for part in request.path.split("/") if part] or [""]
        if (request.method.upper(), first, len(rest)) == ("POST", "Answers", 1):  # by the guest, who has no token
            return self._published(request, self.people.answer(rest[0]))
        if first not in ("DeletedUsers", "Products"):
            return await super().dispatch_request(request)
        self.check_auth(request)
        match (request.method.upper(), first, rest):
            case ("GET", "Products", []):
                return _listed(self.people.seats())
            case ("GET", "DeletedUsers", []):
                return _listed(list(self.people.deleted()))
            case ("POST", "DeletedUsers", [identifier, "restore"]):
                return self._published(request, self.people.restore(identifier))
            case ("DELETE", "DeletedUsers", [identifier]):
                self.people.purge(identifier)
                return ScimResponse(HTTPStatus.NO_CONTENT)
        return _error(HTTPStatus.NOT_FOUND, "there is no such endpoint")

    def _published(self, request: ScimRequest, person: Resource[Any]) -> ScimResponse:
        return ScimResponse(HTTPStatus.OK, self.service.publish(request.base_url, person).model_dump())

    def _limited(self) -> ScimResponse | None:
        """Whether there were too many requests in the last minute (RFC 6585, 4)."""
        now = time.monotonic()
        while self._recent and self._recent[0] < now - _MINUTE:
            self._recent.popleft()
        if self._rules.requests and len(self._recent) >= self._rules.requests:
            wait = max(1, round(self._recent[0] + _MINUTE - now))
            return _error(HTTPStatus.TOO_MANY_REQUESTS, "too many requests", {"Retry-After": str(wait)})
        self._recent.append(now)
        return None

    def _fault(self) -> ScimResponse | None:
        """The fault that is due with this request."""
        due = (status for status, every in self._rules.fail.items() if every and self._count % every == 0)
        status = next(due, None)
        return None if status is None else _error(HTTPStatus(status), "a fault on demand")


def _provider() -> ScimProvider:
    kind = AuthenticationScheme.Type.oauthbearertoken
    token = AuthenticationScheme(type=kind, name="bearer token", description="RFC 6750")
    config = ServiceProviderConfig(
        patch=Patch(supported=True), bulk=Bulk(supported=False, max_operations=0, max_payload_size=0),
        filter=Filter(supported=True, max_results=_PAGE), change_password=ChangePassword(supported=True),
        sort=Sort(supported=True), etag=ETag(supported=True), authentication_schemes=[token],
    )  # fmt: skip
    kinds = [ResourceType.from_resource(Person), ResourceType.from_resource(Group)]
    return ScimProvider(models=[User, EnterpriseUser, Guest, Group], resource_types=kinds, config=config)


def _listed(rows: list[dict[str, Any]]) -> ScimResponse:
    body = {
        "schemas": [_LIST],
        "totalResults": len(rows),
        "startIndex": 1,
        "itemsPerPage": len(rows),
        "Resources": rows,
    }
    return ScimResponse(HTTPStatus.OK, body)


def _error(status: HTTPStatus, detail: str, headers: dict[str, str] | None = None) -> ScimResponse:
    return ScimResponse(status, {"schemas": [_ERROR], "status": str(status.value), "detail": detail}, headers or {})
