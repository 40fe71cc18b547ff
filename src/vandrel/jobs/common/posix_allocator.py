"""What new accounts and groups get for Unix systems (RFC 2307): numbers that nobody has, a home, a shell."""

from __future__ import annotations

from functools import cached_property

from vandrel.charter.document import Posix
from vandrel.directory.filter import And, Compare, Present
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, GROUP
from vandrel.objects.context import Context


class PosixAllocator:
    """Gives numbers, each once in a request; what is in use is read when the first is asked for."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._first_groups: dict[str, str] = {}

    def rules(self, kind: str) -> Posix | None:
        """The rules for accounts of a kind; None where such have no part in it, or the directory cannot keep it."""
        posix = self._context.charter.document.posix
        is_concerned = posix is not None and (not posix.kinds or kind in posix.kinds)
        return posix if is_concerned and self._context.dialect.attribute("uid-number", ACCOUNT) else None

    @property
    def rules_of_groups(self) -> Posix | None:
        """The rules for new groups; None where they have no number, by the classes that the charter gives them."""
        charter, dialect = self._context.charter, self._context.dialect
        is_numbered = dialect.name != "standard" or "posixGroup" in charter.group_classes
        return charter.document.posix if is_numbered and dialect.attribute("gid-number", GROUP) else None

    def uid_number(self, posix: Posix, kind: str) -> str:
        """The next number of an account. Raises `VandrelError` ``limit`` where its range is used up."""
        first, last = posix.by_kind.get(kind, posix.uid_numbers)
        used = self._numbers_of_both if posix.personal_groups else self._uid_numbers
        return self._next(used, first, last, "uid-number")

    def gid_number(self, posix: Posix) -> str:
        """The next number of a group. Raises as `uid_number` does."""
        first, last = posix.gid_numbers
        used = self._numbers_of_both if posix.personal_groups else self._gid_numbers
        return self._next(used, first, last, "gid-number")

    def number_of(self, group: str) -> str:
        """The number of a group by its name.

        Raises:
            VandrelError: ``dangling`` where there is no such group, ``required`` where it has no number.

        """
        if group not in self._first_groups:
            dialect = self._context.dialect
            where = And((dialect.filter_for(GROUP), Compare(dialect.attribute("name", GROUP), "=", group)))
            entry = next(self._context.directory.search(self._context.charter.base, where=where), None)
            if entry is None:
                what, remedy = f"there is no group {group}, which posix.group names", "vandrel create group"
                raise VandrelError(Code.DANGLING, what, where=Location(field="gid-number"), remedy=remedy)
            self._first_groups[group] = self._context.one(entry, "gid-number")
        if not self._first_groups[group]:
            what, remedy = f"the group {group} has no number", f"vandrel edit {group} gid-number=..."
            raise VandrelError(Code.REQUIRED, what, where=Location(field="gid-number"), remedy=remedy)
        return self._first_groups[group]

    @staticmethod
    def _next(used: set[int], first: int, last: int, field: str) -> str:
        """Behind the highest that is in use in the range; where that is its end, the first gap."""
        inside = [number for number in used if first <= number <= last]
        number = max(inside, default=first - 1) + 1
        if number > last:
            gap = next((each for each in range(first, last + 1) if each not in used), None)
            if gap is None:
                what, remedy = f"all numbers from {first} to {last} are in use", "widen the range: posix in the charter"
                raise VandrelError(Code.LIMIT, what, where=Location(field=field), remedy=remedy)
            number = gap
        used.add(number)
        return str(number)

    @cached_property
    def _uid_numbers(self) -> set[int]:
        return self._used("uid-number", ACCOUNT)

    @cached_property
    def _gid_numbers(self) -> set[int]:
        return self._used("gid-number", GROUP)

    @cached_property
    def _numbers_of_both(self) -> set[int]:
        """Where an account has a group of its own, that has the account's number."""
        return self._uid_numbers | self._gid_numbers

    def _used(self, field: str, object_type: str) -> set[int]:
        context = self._context
        attribute = context.dialect.attribute(field, object_type)
        entries = context.directory.search(context.charter.base, where=Present(attribute), only=[attribute])
        return {int(value) for entry in entries for value in entry.texts(attribute) if value.isdecimal()}
