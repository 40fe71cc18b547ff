"""What the stand-in keeps: people and groups in a file, and those who were deleted, for thirty days."""

from __future__ import annotations

import json
import re
import secrets
import sqlite3
from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Annotated, Any

from scim2_models import (
    URN,
    EnterpriseUser,
    Extension,
    Group,
    InvalidValueException,
    Mutability,
    NotFoundException,
    Resource,
    ResourceType,
    SearchRequest,
    UniquenessException,
    User,
)
from scim2_server.memory import InMemoryStorage, utcnow
from scim2_server.storage import SearchPage

from vandrel import safe_file
from vandrel.directory.service.mapping import GUEST

_TABLES = """
CREATE TABLE IF NOT EXISTS record(type TEXT NOT NULL, id TEXT NOT NULL, body TEXT NOT NULL, PRIMARY KEY(type, id));
CREATE TABLE IF NOT EXISTS deleted(id TEXT PRIMARY KEY, at TEXT NOT NULL, body TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS invitation(id TEXT PRIMARY KEY, code TEXT NOT NULL);
"""
_SINCE = re.compile(r'meta\.lastModified ge "([^"]+)"', re.IGNORECASE)
_KEPT = timedelta(days=30)
#: How long an invitation can be answered.
_OPEN = timedelta(days=14)


class Guest(Extension):
    """What the stand-in knows of guests, beyond RFC 7643: an invitation, which is pending until it is answered."""

    __schema__ = URN(GUEST)

    invited: str | None = None
    """When they were invited, in the notation of RFC 3339; a later moment reminds them."""

    ends: Annotated[datetime | None, Mutability.read_only] = None
    """Until when they can answer."""

    answered: Annotated[datetime | None, Mutability.read_only] = None
    """When they accepted."""

    sponsor: str | None = None
    """Who answers for them."""


Person = User[EnterpriseUser | Guest]
_MODELS: dict[str, type[Resource[Any]]] = {"User": Person, "Group": Group}


class FileStorage(InMemoryStorage):
    """The library's storage in memory, with each write in a file as well.

    Attributes:
        suffixes: suffixes of user names that are proven; none: any will do.
        products: products with the number of their seats; an entitlement is a seat.
        url: the base URL, for the messages.
        folder: where the file is, and the messages.

    """

    def __init__(self, path: Path, suffixes: frozenset[str], products: Mapping[str, int]) -> None:
        """Open the file, which is made where there is none."""
        super().__init__()
        self.suffixes, self.products = suffixes, products
        self.url = ""
        self.folder = path.parent
        path.touch(mode=0o600)
        self._db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
        self._db.executescript("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;" + _TABLES)
        rows = self._db.execute("SELECT type, body FROM record").fetchall()
        self.resources = [_MODELS[kind].model_validate(json.loads(body)) for kind, body in rows]
        # Versions go on from where they were.
        self.versions = iter(range(1 + max(map(_version, self.resources), default=0), 1 << 62))  # type: ignore[assignment]

    def search(
        self, resource_types: list[ResourceType], search_request: SearchRequest[Any], *, position: Any = None
    ) -> SearchPage:  # fmt: skip
        """Search. What was changed since a moment is found by its time, and not by asking each record the filter."""
        asked = _SINCE.fullmatch(str(search_request.filter or ""))
        since = _moment(asked[1]) if asked else None
        if since is None:
            return super().search(resource_types, search_request, position=position)
        with self.lock:
            changed = InMemoryStorage(self.clock)
            changed.resources = [each for each in self.resources if (at := _changed_at(each)) is None or at >= since]
            return changed.search(resource_types, search_request, position=position)

    def create(self, resource_type: ResourceType, resource: Resource[Any]) -> Resource[Any]:
        """Create a record, if a seat is left for what it is entitled to; a guest is invited."""
        self._check(resource, None)
        self._invite(resource, None)
        created = self._persisted(resource_type, super().create(resource_type, resource))
        self._write_to(created)
        return created

    def update(
        self, resource_type: ResourceType, resource: Resource[Any], *, expected_version: str | None = None
    ) -> Resource[Any]:  # fmt: skip
        """Change a record, if a seat is left for what it is entitled to; a guest with a new invitation is reminded."""
        self._check(resource, resource.id)
        before = self.get(resource_type, resource.id or "")
        is_new = self._invite(resource, before)
        changed = self._persisted(
            resource_type, super().update(resource_type, resource, expected_version=expected_version)
        )
        if is_new:
            self._write_to(changed)
        return changed

    def delete(
        self, resource_type: ResourceType, resource_id: str, *, expected_version: str | None = None
    ) -> None:  # fmt: skip
        """Delete a record; a person can be brought back for thirty days. Groups let go of whoever is deleted."""
        with self._together():
            body = _text(self.get(resource_type, resource_id))
            super().delete(resource_type, resource_id, expected_version=expected_version)
            self._db.execute("DELETE FROM record WHERE type = ? AND id = ?", (resource_type.name, resource_id))
            if resource_type.name == "User":
                now = utcnow().isoformat()
                self._db.execute("INSERT OR REPLACE INTO deleted VALUES(?, ?, ?)", (resource_id, now, body))
            for group in [each for each in self.resources if isinstance(each, Group)]:
                if any(member.value == resource_id for member in group.members or ()):
                    remaining = [member for member in group.members or () if member.value != resource_id]
                    changed = group.model_copy(deep=True, update={"members": remaining or None})
                    self._persisted(_type_of("Group"), super().update(_type_of("Group"), changed))

    def deleted(self) -> Iterator[dict[str, Any]]:
        """The people who were deleted in the last thirty days, with the time of it."""
        oldest = (utcnow() - _KEPT).isoformat()
        self._db.execute("DELETE FROM deleted WHERE at < ?", (oldest,))
        for at, body in self._db.execute("SELECT at, body FROM deleted ORDER BY at").fetchall():
            yield {**json.loads(body), "deleted": datetime.fromisoformat(at).isoformat()}

    def restore(self, identifier: str) -> Resource[Any]:
        """Bring a person back, with the same identifier."""
        with self.lock, self._together():
            row = self._db.execute("SELECT body FROM deleted WHERE id = ?", (identifier,)).fetchone()
            if row is None:
                raise NotFoundException(detail=f"nobody of the identifier {identifier} was deleted")
            person = _MODELS["User"].model_validate(json.loads(row[0]))
            values = self._values_of(person)
            self._check_uniqueness(person, values)
            self._check(person, identifier)
            assert person.meta is not None
            person.meta.version, person.meta.last_modified = self.next_version(), self.clock()
            self._store(person, values)
            self._db.execute("DELETE FROM deleted WHERE id = ?", (identifier,))
            return self._persisted(_type_of("User"), person.model_copy(deep=True))

    def purge(self, identifier: str) -> None:
        """Forget a person who was deleted."""
        if not self._db.execute("DELETE FROM deleted WHERE id = ?", (identifier,)).rowcount:
            raise NotFoundException(detail=f"nobody of the identifier {identifier} was deleted")

    def answer(self, code: str) -> Resource[Any]:
        """Accept an invitation, by the code that its message has."""
        with self.lock, self._together():
            row = self._db.execute("SELECT id FROM invitation WHERE code = ?", (code,)).fetchone()
            person = next((each for each in self.resources if row is not None and each.id == row[0]), None)
            guest = person[Guest] if isinstance(person, User) else None
            if guest is None or guest.ends is None:
                raise NotFoundException(detail="there is no such invitation")
            if guest.ends < utcnow():
                raise InvalidValueException(detail="the invitation has run out")
            assert person is not None
            changed = person.model_copy(deep=True)
            changed[Guest].answered = changed[Guest].answered or utcnow()
            return self._persisted(_type_of("User"), super().update(_type_of("User"), changed))

    def _invite(self, resource: Resource[Any], before: Resource[Any] | None) -> bool:
        """Work out what the service says of an invitation; whether a message goes out."""
        guest = resource[Guest] if isinstance(resource, User) else None
        was = before[Guest] if isinstance(before, User) else None
        moment = _moment(guest.invited or "") if guest is not None else None
        if guest is None or moment is None:  # what is no moment invites nobody
            return False
        guest.answered = was.answered if was is not None else None
        is_new = was is None or was.invited != guest.invited
        guest.ends = moment + _OPEN if is_new else was.ends if was is not None else None
        return is_new and guest.answered is None

    def _write_to(self, person: Resource[Any]) -> None:
        """Put the message to a guest into the folder of messages: the stand-in sends none."""
        guest = person[Guest] if isinstance(person, User) else None
        if guest is None or guest.ends is None or not isinstance(person, User):
            return
        code = secrets.token_urlsafe(16)
        self._db.execute("INSERT OR REPLACE INTO invitation VALUES(?, ?)", (person.id, code))
        folder = self.folder / "messages"
        folder.mkdir(mode=0o700, exist_ok=True)
        text = f"To: {person.user_name}\nUntil: {guest.ends:%Y-%m-%d}\nTo accept: POST {self.url}/Answers/{code}\n"
        safe_file.write(folder / f"{person.id}.txt", text.encode(), "message", replace=True)

    def seats(self) -> list[dict[str, Any]]:
        """The products, with how many seats there are and are given."""
        counts = Counter(each for person in self.resources for each in _entitlements(person))
        return [{"name": name, "seats": seats, "given": counts[name]} for name, seats in self.products.items()]

    def _check(self, resource: Resource[Any], identifier: str | None) -> None:
        if not isinstance(resource, User):
            return
        suffix = (resource.user_name or "").rpartition("@")[2].lower()
        is_invited = resource[Guest] is not None and bool(resource[Guest].invited)  # guests come from anywhere
        if self.suffixes and suffix not in self.suffixes and not is_invited:
            raise InvalidValueException(detail=f"the suffix {suffix or '(none)'} is not proven to be yours")
        products = set(_entitlements(resource))
        if not self.products:
            return
        if unknown := products - self.products.keys():
            raise InvalidValueException(detail=f"there is no product {sorted(unknown)[0]}")
        for name in sorted(products):
            number = sum(name in _entitlements(each) for each in self.resources if each.id != identifier)
            if number >= self.products[name]:
                raise UniquenessException(detail=f"all {number} seats of {name} are given")

    def _persisted(self, resource_type: ResourceType, resource: Resource[Any]) -> Resource[Any]:
        sql = "INSERT OR REPLACE INTO record VALUES(?, ?, ?)"
        self._db.execute(sql, (resource_type.name, resource.id, _text(resource)))
        return resource

    @contextmanager
    def _together(self) -> Iterator[None]:
        self._db.execute("SAVEPOINT step")
        try:
            yield
        except BaseException:
            self._db.execute("ROLLBACK TO step")
            raise
        finally:
            self._db.execute("RELEASE step")


def _moment(value: str) -> datetime | None:
    try:
        moment = datetime.fromisoformat(value)
    except ValueError:
        return None
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)


def _entitlements(resource: Resource[Any]) -> list[str]:
    return [each.value for each in (resource.entitlements or ()) if each.value] if isinstance(resource, User) else []


def _text(resource: Resource[Any]) -> str:
    return resource.model_dump_json()


def _changed_at(resource: Resource[Any]) -> datetime | None:
    """When a record was changed; None where that cannot be compared."""
    at = resource.meta.last_modified if resource.meta is not None else None
    return at if at is not None and at.tzinfo is not None else None


def _version(resource: Resource[Any]) -> int:
    digits = "".join(filter(str.isdecimal, (resource.meta.version or "") if resource.meta else ""))
    return int(digits or 0)


def _type_of(name: str) -> ResourceType:
    return ResourceType.from_resource(_MODELS[name])
