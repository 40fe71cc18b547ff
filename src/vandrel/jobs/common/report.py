"""What a job that only looks hands back: a report with rows, tables, facts and findings."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

import msgspec
from msgspec import Struct

from vandrel.errors import Finding

#: What stands in a cell; a list is several values, None is nothing.
Cell = str | int | bool | Sequence[str] | None


class Table(Struct, frozen=True):
    """Rows under a title.

    Attributes:
        name: its key for programs that read JSON.
        title: its heading; empty for none.
        columns: the keys of its columns, and their headings where `has_header`.
        rows: a cell for each column.
        has_header: whether people see the headings.
        empty: what people see where there are no rows; empty: not even the title.

    """

    name: str
    title: str
    columns: Sequence[str]
    rows: Sequence[Sequence[Cell]]
    has_header: bool = False
    empty: str = ""


class Branch(Struct):
    """One branch of a drawing: its name, marks, further words, and what hangs below it."""

    name: str
    marks: list[str] = msgspec.field(default_factory=list)
    words: list[str] = msgspec.field(default_factory=list)
    faint: list[str] = msgspec.field(default_factory=list)
    is_unit: bool = True
    below: list[Branch] = msgspec.field(default_factory=list)


class ObjectDetail(Struct):
    """One object in full.

    Attributes:
        title: its name, for people.
        data: gives the object for programs: ``dn``, ``place``, ``type``, ``state``, ``fields``, ``attributes``.
        dn: its distinguished name.
        marks: states to be seen at a glance.
        sentence: whether it can log on, if it is an account.
        topics: topic, field and values as one text.
        lines: further lines.
        tables: further tables.
        is_brief: whether the title stands alone above the tables.

    """

    title: str
    data: Callable[[], dict[str, Any]] = dict
    dn: str = ""
    marks: Sequence[str] = ()
    sentence: str = ""
    topics: Sequence[tuple[str, str, str]] = ()
    week: Sequence[str] = ()
    lines: list[str] = msgspec.field(default_factory=list)
    tables: list[Table] = msgspec.field(default_factory=list)
    is_brief: bool = False


class Report(Struct):
    """What a job found out.

    Attributes:
        command: the verb, for programs that read JSON.
        columns: the columns of the main table.
        rows: its rows.
        title: its heading.
        has_header: whether people see the headings of the main table.
        facts: name and value of single facts, shown above the rows.
        tables: further tables, shown below.
        objects: objects in full.
        drawing: a tree, in place of the rows for people.
        is_for_programs: whether people see the tables in place of the main rows.
        text: text that is put out as it is.
        summary: lines below everything else, left out by --quiet.
        findings: what was found on the way.
        exit_code: the exit code of the program.
        abandons: a job that was broken off and is not to be finished any more; 0 for none.

    """

    command: str
    columns: Sequence[str] = ()
    rows: Iterable[Sequence[Cell]] = ()
    title: str = ""
    has_header: bool = True
    facts: Sequence[tuple[str, Cell]] = ()
    tables: Sequence[Table] = ()
    objects: Sequence[ObjectDetail] = ()
    drawing: Branch | None = None
    is_for_programs: bool = False
    text: str = ""
    summary: Sequence[str] = ()
    findings: Sequence[Finding] = ()
    exit_code: int = 0
    abandons: int = 0


def shown(cell: Cell) -> str:
    """A cell as people read it."""
    if cell is None:
        return ""
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    if isinstance(cell, str):
        return cell
    return str(cell) if isinstance(cell, int) else ", ".join(cell)


def count(number: int, noun: str) -> str:
    """``1 step``, ``3 steps``, ``2 suffixes``, ``4 entries``.

    >>> count(1, "step"), count(2, "suffix"), count(3, "entry")
    ('1 step', '2 suffixes', '3 entries')
    """
    if number == 1:
        return f"1 {noun}"
    if noun.endswith("y") and noun[-2] not in "aeiou":
        return f"{number} {noun[:-1]}ies"
    return f"{number} {noun}{'es' if noun.endswith(('x', 's')) else 's'}"
