"""Requests to a service: its token, its certificate, its limits, its errors in words."""

from __future__ import annotations

import ssl
import time
from collections.abc import Callable, Iterator
from typing import Any
from urllib.parse import quote

import httpx2
from msgspec import Struct
from scim2_client.engines.httpx2 import SyncSCIMClient
from scim2_client.errors import RequestNetworkException, SCIMClientException, UnexpectedStatusCodeException
from scim2_models import Group, ScimProvider, User

from vandrel.directory.service.mapping import PATCH, text
from vandrel.errors import Code, DirectoryError, Location
from vandrel.secret import Secret

#: Records that are asked for at once; a service may send fewer.
_PAGE = 500
#: Answers that say that nothing was done: it is tried again. Those of a gateway leave that open.
_NOT_DONE, _OPEN = (429, 503), (502, 504)
#: What counts as done.
_DONE = [200, 201, 204]
#: The first and the longest wait between two tries, in seconds, whatever a service asks for.
_FIRST_WAIT, _LONGEST_WAIT = 0.5, 60.0
_LETTERS = 200

#: What a status means: our code, in words, and what to do.
_MEANING: dict[int, tuple[Code, str, str]] = {
    400: (Code.SCHEMA, "the service does not take it", "mend the value, or what the profile builds"),
    401: (Code.NOT_PERMITTED, "the service does not accept the token", "has it run out? get a new one"),
    403: (Code.NOT_PERMITTED, "the service does not permit it with this token", "ask for the right"),
    404: (Code.NOT_FOUND, "there is no such object in the service any more", "run it again"),
    409: (Code.TAKEN, "a name is taken in the service", "give another: see the profile's build"),
    412: (Code.CHANGED, "somebody changed it in the service meanwhile", "run it again"),
    413: (Code.LIMIT, "it is larger than the service takes", ""),
    429: (Code.BUSY, "the service takes no more requests for now", "run it again later"),
    501: (Code.NOT_PERMITTED, "the service cannot do that", ""),
}


class WholeServiceError(DirectoryError):
    """A fault of the service as a whole, or of the way to it; `is_open` is whether a request may have been heeded."""

    is_open = False


class ServiceSettings(Struct, frozen=True):
    """How to reach a service.

    Attributes:
        url: the base URL of its endpoints, as ``https://learning.example/scim/v2``.
        name: what the connection is called.
        token: the bearer token (RFC 6750).
        ca_file: certificates to trust in place of the system's.
        seconds: how long to wait for one answer.
        patience: how long to go on trying where it is busy or does not answer.

    """

    url: str
    name: str
    token: Secret
    ca_file: str = ""
    seconds: float = 10.0
    patience: float = 30.0


class ServiceLink:
    """A connection to a service. All methods raise `DirectoryError`.

    Attributes:
        requests: how many were sent.

    """

    def __init__(self, settings: ServiceSettings) -> None:
        """Prepare; nothing is sent yet."""
        self.requests = 0
        self._settings = settings
        self._where = Location(server=settings.name or settings.url)
        try:
            context = ssl.create_default_context(cafile=settings.ca_file or None)
        except (OSError, ssl.SSLError) as error:
            raise DirectoryError(
                Code.CERTIFICATE, f"the certificates to trust cannot be read: {error}",
                where=Location(file=settings.ca_file), remedy="name a PEM file: ca-file",
            ) from None  # fmt: skip
        client = httpx2.Client(
            base_url=settings.url.rstrip("/"), timeout=settings.seconds, verify=context, follow_redirects=False,
            headers={"Authorization": f"Bearer {settings.token.reveal()}", "Accept": "application/scim+json"},
            event_hooks={"request": [self._count]},
        )  # fmt: skip
        provider = ScimProvider(models=[User, Group])
        self._client = SyncSCIMClient(
            client, provider=provider, check_request_payload=False, check_response_payload=False
        )

    def _count(self, request: object) -> None:
        self.requests += 1

    def read(self, endpoint: str, where: str = "") -> Iterator[dict[str, Any]]:
        """All records of an endpoint, page by page (RFC 7644, 3.4.2.4), or those that a filter finds."""
        start, identifiers = 1, set[str]()
        while True:
            query: dict[str, Any] = {"startIndex": start, "count": _PAGE} | ({"filter": where} if where else {})
            page = self._tried(self._client.query, url=endpoint, query_parameters=query)
            records = page.get("Resources", []) if isinstance(page, dict) else None
            if not isinstance(records, list):
                raise self._strange("a list was asked for, and something else came")
            new = [each for each in records if isinstance(each, dict) and text(each.get("id")) not in identifiers]
            if records and not new:
                raise self._strange(f"page {start} of {endpoint} has nothing but what came before")
            for each in new:
                identifiers.add(text(each.get("id")))
                yield each
            start += len(records)
            total = page.get("totalResults")
            if not records or (isinstance(total, int) and start > total):
                return

    def get(self, endpoint: str, identifier: str) -> dict[str, Any] | None:
        """One record; None where there is none."""
        try:
            record = self._tried(self._client.query, url=_url(endpoint, identifier))
        except DirectoryError as error:
            if error.code is Code.NOT_FOUND:
                return None
            raise
        return self._record(record)

    def create(self, endpoint: str, body: dict[str, Any]) -> dict[str, Any]:
        """Create a record. It is sent once: whoever gets no answer looks whether it is there."""
        return self._record(self._tried(self._client.create, once=True, resource=body, url=endpoint))

    def change(
        self, endpoint: str, identifier: str, operations: list[dict[str, Any]], version: str, only: str = ""
    ) -> dict[str, Any] | None:  # fmt: skip
        """Patch a record, if it is still of this version; what it is afterwards, where the service says so.

        With `only`, an attribute, the service must say what that is (RFC 7644, 3.5.2).
        """
        url = _url(endpoint, identifier) + (f"?attributes={only}" if only else "")
        body = {"schemas": [PATCH], "Operations": operations}
        answer = self._tried(
            self._client.modify, User, identifier, body, once=True, url=url,
            headers=_if_match(version),
        )  # fmt: skip
        return None if answer is None else self._record(answer)

    def delete(self, endpoint: str, identifier: str, version: str) -> None:
        """Delete a record, if it is still of this version."""
        headers = _if_match(version)
        self._tried(self._client.delete, User, identifier, once=True, url=_url(endpoint, identifier), headers=headers)

    def close(self) -> None:
        """Close the connection."""
        self._client.client.close()

    # --- tries and errors

    def _tried(self, request: Callable[..., Any], *arguments: Any, once: bool = False, **named: Any) -> Any:
        """The answer to a request. A service that is busy is asked again; one that is lost, unless `once`."""
        until = time.monotonic() + self._settings.patience
        wait = _FIRST_WAIT
        while True:
            try:
                return request(*arguments, expected_status_codes=_DONE, **named)
            except RequestNetworkException as error:
                if once or time.monotonic() + wait > until or self._is_untrusted(error):
                    raise self._failure(error) from None
            except UnexpectedStatusCodeException as error:
                wait = max(wait, _retry_after(error.source))
                again = _NOT_DONE if once else (*_NOT_DONE, *_OPEN)
                if error.source.status_code not in again or time.monotonic() + wait > until:
                    raise self._refusal(error.source) from None
            except SCIMClientException as error:
                raise self._strange(str(error)) from None
            time.sleep(wait)
            wait = min(wait * 2, _LONGEST_WAIT)

    def _refusal(self, response: Any) -> DirectoryError:
        status = response.status_code
        code, what, remedy = _MEANING.get(status, (Code.OUT_OF_REACH, f"the service answered {status}", ""))
        try:
            body = response.json()
        except ValueError:
            body = None
        detail = text(body.get("detail")) if isinstance(body, dict) else ""
        if detail:
            what = f"{what}: {detail[:_LETTERS]}"
        if status not in (401, 429) and (status < 500 or status == 501):
            return DirectoryError(code, what, where=self._where, remedy=remedy)
        error = WholeServiceError(code, what, where=self._where, remedy=remedy)
        error.is_open = status in (500, *_OPEN)
        return error

    def _failure(self, error: RequestNetworkException) -> DirectoryError:
        if self._is_untrusted(error):
            what = "the certificate of the service is not trusted"
            remedy = "name the file of the authority that signed it: ca-file"
            return WholeServiceError(Code.CERTIFICATE, what, where=self._where, remedy=remedy)
        why = str(error.__cause__ or error)[:_LETTERS]
        what, remedy = f"the service cannot be reached: {why}", "is the address right, and the service running?"
        failure = WholeServiceError(Code.OUT_OF_REACH, what, where=self._where, remedy=remedy)
        failure.is_open = True
        return failure

    @staticmethod
    def _is_untrusted(error: RequestNetworkException) -> bool:
        return "CERTIFICATE_VERIFY_FAILED" in str(error.__cause__)

    def _strange(self, why: str) -> DirectoryError:
        what = f"what came is no answer of RFC 7644: {why[:_LETTERS]}"
        remedy = "is it the base URL of its endpoints, as https://HOST/scim/v2?"
        strange = WholeServiceError(Code.OUT_OF_REACH, what, where=self._where, remedy=remedy)
        strange.is_open = True
        return strange

    def _record(self, record: object) -> dict[str, Any]:
        if not isinstance(record, dict) or not text(record.get("id")):
            raise self._strange("a record without an identifier")
        return record


def _if_match(version: str) -> dict[str, str]:
    return {"If-Match": version} if version else {}


def _url(endpoint: str, identifier: str) -> str:
    return f"{endpoint}/{quote(identifier, safe='')}"


def _retry_after(response: Any) -> float:
    """The seconds that a service asks to wait for (RFC 9110, 10.2.3)."""
    try:
        return min(max(float(response.headers.get("Retry-After", 0)), 0.0), _LONGEST_WAIT)
    except ValueError:
        return 0.0
