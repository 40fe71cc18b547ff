"""The rows of a tabular file, worked out: who is new, who changes, what is wrong, and who is missing."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from enum import Enum

import msgspec
from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.errors import Finding
from vandrel.intake.item import Item
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.directory_index import Key
from vandrel.jobs.common.draft import BatchDraft, Draft
from vandrel.jobs.common.edit import Edit


class State(Enum):
    """What becomes of a row."""

    NEW = "new"
    CHANGED = "changes"
    SAME = "as it is"
    THERE = "there already"
    REFUSED = "refused"


class Line(Struct):
    """One row, worked out."""

    item: Item
    state: State = State.REFUSED
    draft: Draft | BatchDraft | None = None
    edit: Edit | None = None
    existing: DN | None = None
    login: str = ""
    assignments: Sequence[Assignment] = ()

    @property
    def name(self) -> str:
        """What it is called: by its logon name, if it has one, or else by the name of its entry."""
        login = self.login or (self.draft.value("login") if self.draft is not None else "")
        return login or (self.dn.name if self.dn is not None else "")

    @property
    def dn(self) -> DN | None:
        """The name of the object that is there, or that is to be."""
        return self.existing or (self.draft.dn if self.draft is not None else None)


def last_row(lines: Sequence[Line]) -> int:
    """The row of the last of these, which stand as in the file; 0 for none."""
    return lines[-1].item.row if lines else 0


class Missing(Struct, frozen=True):
    """Somebody who exists and stands in no row."""

    key: Key
    dn: DN


class Roster(Struct):
    """The whole file: its lines in the order of the file, and who is missing from it."""

    lines: list[Line]
    missing: list[Missing] = msgspec.field(default_factory=list)

    def findings(self) -> Iterator[Finding]:
        """The findings of all rows."""
        for line in self.lines:
            yield from line.item.findings

    def counts(self) -> Counter[State]:
        """How many rows have each state."""
        return Counter(line.state for line in self.lines)
