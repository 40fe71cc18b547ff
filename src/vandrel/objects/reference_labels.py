"""By which name somebody is found again without doubt, for files that are read back."""

from __future__ import annotations

from functools import cached_property

from vandrel.directory import dn as names
from vandrel.fields import ACCOUNT
from vandrel.objects.context import Context


class ReferenceLabels:
    """Short names in place of distinguished ones; the directory is read once, when the first is asked for."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def of(self, dn: str) -> str:
        """A logon name, or the name of a group or a computer that no other object shares; else the name in full."""
        return self._short.get(names.parse(dn).key, dn)

    @cached_property
    def _short(self) -> dict[str, str]:
        dialect, labels = self._context.dialect, dict[str, str]()
        counts: dict[str, int] = {}
        for entry in self._context.directory.search(self._context.charter.base):
            object_type = dialect.object_type_of(entry)
            if not object_type:
                continue
            short = self._context.one(entry, "login") if object_type == ACCOUNT else entry.dn.name
            labels[entry.dn.key] = short
            counts[short.casefold()] = counts.get(short.casefold(), 0) + 1
        return {key: short for key, short in labels.items() if short and counts[short.casefold()] == 1}
