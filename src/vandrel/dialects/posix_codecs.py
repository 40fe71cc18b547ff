"""What RFC 2307 keeps of an account beside what a directory has anyway: its first group, and its last day."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from typing import TYPE_CHECKING, cast

from vandrel.dialects.base import BaseDialect
from vandrel.dialects.codec import DateCodec, PosixCodec, put
from vandrel.directory import dn as names
from vandrel.directory.entry import Entry, Value
from vandrel.fields import ACCOUNT

if TYPE_CHECKING:
    from vandrel.dialects.standard import StandardDialect

#: The first day on which an account is out, as the number of days since the beginning of 1970 (RFC 2307, section 3).
SHADOW_END = "shadowExpire"
_SHADOW_CLASS = "shadowAccount"
_BEGINNING = date(1970, 1, 1)


class EndCodec(DateCodec):
    """The last day: an instant of ours, and beside it the day that Unix systems look at; or that one alone."""

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The last day; that of Unix systems where there is no other."""
        values = super().read(dialect, entry, attribute) if attribute != SHADOW_END else []
        return values or [day for value in entry.texts(SHADOW_END) if (day := _last_day(value))]

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """An instant, or the number of the day after."""
        if attribute != SHADOW_END:
            return super().store(dialect, attribute, values)
        return [str((date.fromisoformat(value) - _BEGINNING).days + 1) for value in values]

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Both, for accounts of Unix systems; the object class comes with the first day."""
        is_unix = entry.has_class("posixAccount") and dialect.schema.object_class(_SHADOW_CLASS) is not None
        if attribute != SHADOW_END:
            super().write(dialect, entry, attribute, values)
        if attribute != SHADOW_END and not is_unix and not entry.has_class(_SHADOW_CLASS):
            return
        if values and not entry.has_class(_SHADOW_CLASS):
            put(entry, "objectClass", [*entry.values_of("objectClass"), _SHADOW_CLASS])
        put(entry, SHADOW_END, self.store(dialect, SHADOW_END, values))


def _last_day(value: str) -> str:
    """The day before the one of this number; empty for what stands for no day (-1) or lies out of range."""
    try:
        number = int(value)
        return (_BEGINNING + timedelta(days=number - 1)).isoformat() if number > 0 else ""
    except (ValueError, OverflowError):
        return ""


class FirstGroupCodec(PosixCodec):
    """The first group of an account, by its number."""

    at_creation = False

    def read(self, dialect: BaseDialect, entry: Entry, attribute: str) -> list[str]:
        """The names of the groups with this number: one, as a rule."""
        number = entry.text(attribute)
        if not number or dialect.object_type_of(entry) != ACCOUNT:
            return []
        return cast("StandardDialect", dialect).groups_numbered(number)

    def store(self, dialect: BaseDialect, attribute: str, values: Sequence[str]) -> list[Value]:
        """The number of the group."""
        entries = (dialect.directory.get(names.parse(value)) for value in values)
        return [number for group in entries if group is not None and (number := group.text(attribute))]

    def write(self, dialect: BaseDialect, entry: Entry, attribute: str, values: Sequence[str]) -> None:
        """Set another one that has a number; nobody is without."""
        if numbers := self.store(dialect, attribute, values):
            put(entry, attribute, numbers)
