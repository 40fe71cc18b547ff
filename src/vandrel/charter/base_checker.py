"""What all checks of a charter share: the document, the source that it was read from, and what patterns may use."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import date

from vandrel.charter.document import Document
from vandrel.charter.pattern import Pattern, PatternError, parse
from vandrel.fields import COMPUTED, FIELDS
from vandrel.text.nearest import did_you_mean
from vandrel.text.schema_errors import is_hole
from vandrel.text.yaml_source import Path, Source

#: How kinds, roles and pools are named.
WORD = re.compile(r"[a-z][a-z0-9-]*")


class BaseChecker:
    """A document that is being checked; every fault is noted in its source."""

    def __init__(self, document: Document, source: Source) -> None:
        self.document = document
        self.source = source
        self.fields = set(FIELDS) | set(document.fields)
        self.usable = self.fields | set(COMPUTED) | set(document.lists)
        # What a fault of structure took away is not reported again as unknown.
        settings = source.data if isinstance(source.data, dict) else {}
        self.kinds = {*document.kinds, *_keys(settings.get("kinds"))}
        self.group_kinds = {*document.groups, *_keys(settings.get("groups"))}

    def pattern(self, text: str, path: Path, usable: Iterable[str] | None = None) -> Pattern | None:
        """A pattern that was read; None where it cannot be, or uses what it may not: that is noted."""
        if is_hole(text):
            return None
        try:
            pattern = parse(text)
        except PatternError as error:
            self.source.fault(path, error.why, error.findings[0].remedy, letter=error.position)
            return None
        allowed = self.usable if usable is None else set(usable)
        for field in sorted(pattern.fields() - allowed):
            hint = did_you_mean(field, allowed) or f"the fields are: {', '.join(sorted(allowed))}"
            self.source.fault(
                path, f"the pattern uses the unknown field {field!r}", hint, letter=text.find("{" + field) + 1
            )
        return pattern

    def day(self, text: str, path: Path) -> None:
        """See to it that a text is a day."""
        try:
            date.fromisoformat(text)
        except ValueError:
            if not is_hole(text):
                self.source.fault(path, f"{text!r} is no day", "write one as 2027-06-30")


def _keys(value: object) -> list[str]:
    return [str(key) for key in value] if isinstance(value, dict) else []
