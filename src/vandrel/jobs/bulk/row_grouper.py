"""Which rows of a file are alike, so that most need not be worked out in full."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from itertools import compress, repeat

import msgspec
from msgspec import Struct

from vandrel.charter.document import Kind
from vandrel.charter.pattern import parse
from vandrel.fields import ACCOUNT, NAMED
from vandrel.intake.item import Cell, Item, RowBlock, cells_of
from vandrel.jobs.accounts.create import Creator
from vandrel.jobs.bulk.group_batch import GroupBatch, Names
from vandrel.jobs.common import field_values as given_values
from vandrel.jobs.common.draft import BatchDraft, Draft, SharedValues
from vandrel.jobs.common.posix_allocator import PosixAllocator
from vandrel.objects.context import Context

#: Rows, in their order, whose names are worked out together: their columns take more memory than what comes of them.
_MOST = 50_000


def _has_braces(item: Item) -> bool:
    return any("{" in value for values in item.fields.values() for value in values)


def own_fields(context: Context, kind: Kind, names: Collection[str]) -> list[str]:
    """Which of these fields an account may have to itself: nothing but names is built from them."""
    patterns = [parse(pattern) for pattern in (*kind.sets.values(), *kind.groups, kind.place or "") if pattern]
    built_upon = frozenset[str]().union(*(pattern.fields() for pattern in patterns))
    if any("ascii" in item.style for pattern in patterns for item in pattern.placeholders()):
        built_upon |= {"language"}
    return [
        name for name in names
        if name in context.fields and name not in built_upon
        and (name in NAMED or given_values.plain(context, context.fields[name], ACCOUNT))
    ]  # fmt: skip


class Layout(Struct, frozen=True, eq=False):
    """Which fields a group of like rows has: those with a value of their own in each row, and the others."""

    own: Sequence[str]
    others: Sequence[str]
    #: Of the others, and the language, those that names are built from.
    telling: Sequence[str]


class Batch(Struct, eq=False):
    """Rows whose names are worked out together, once the first of them has been in full.

    Attributes:
        layout: which fields they have.
        items: the rows.
        names: their names; None until they are wanted, and once all rows have theirs.
        left: rows that nobody has asked for yet.
        done: rows whose cells nobody reads any more.
        links: what it is to the groups that its rows are of.

    """

    layout: Layout
    items: list[Item] = msgspec.field(default_factory=list)
    names: Names | None = None
    left: int = 0
    done: list[Item] = msgspec.field(default_factory=list)
    links: list[GroupBatchLink] = msgspec.field(default_factory=list)

    def add(self, item: Item) -> int:
        """Take one more row; its place among them."""
        self.items.append(item)
        self.left = len(self.items)
        return self.left - 1

    def row_asked_for(self) -> None:
        """Take note that somebody has asked for a row: when all were, what was worked out for them is let go."""
        self.left -= 1
        if not self.left:
            self.names = None
            for link in self.links:
                link.likeness = None
            for item in self.done:
                item.let_go()
            if self.done:  # a row that is left to itself keeps no others
                for item in self.items:
                    item.stand_alone()
            self.items, self.done = [], []


class Group(Struct, eq=False):
    """Rows that have the same but for what is their own.

    ``first`` is the number of the first of them; the model is the first that was worked out in full.
    """

    first: int
    model: Draft | None = None
    #: What its rows have in common, by the fields of which each has one of its own.
    shared: dict[tuple[str, ...], SharedValues] = msgspec.field(default_factory=dict)


class GroupBatchLink(Struct, eq=False):
    """The rows of one group in one batch."""

    group: Group
    batch: Batch
    likeness: GroupBatch | None = None


class RowGrouper:
    """The rows of a file that may go by a likeness: new accounts that have the same but for what is their own."""

    def __init__(
        self, context: Context, creator: Creator, kind: str, items: Sequence[Item], *, lets_go: bool = False
    ) -> None:  # fmt: skip
        """Sort the rows; `kind` is that of rows that do not say theirs.

        With `lets_go`, nobody reads the cells of a row that went by a likeness once it has its names.
        """
        self._lets_go = lets_go
        self._context, self._creator, self._kind = context, creator, kind
        self._layouts: dict[tuple[str, ...], Layout | None] = {}
        #: What has an `int` in its key is of so many times `_MOST` rows.
        self._batches: dict[tuple[Layout, tuple[Cell, ...], int], Batch] = {}
        self._groups: dict[tuple[Layout, tuple[Cell, ...]], Group] = {}
        self._strands: dict[tuple[Layout, tuple[Cell, ...], tuple[Cell, ...], int], GroupBatchLink] = {}
        #: For each row, where it belongs and which of its batch it is.
        self._places: list[tuple[GroupBatchLink, int] | None] = [None] * len(items)
        together: dict[int, list[int]] = {}
        alone: dict[tuple[str, ...], list[int]] = {}
        for number, item in enumerate(items):
            if (item.findings and item.stops) or (item.has_patterns and _has_braces(item)):
                if lets_go:
                    item.stand_alone()
                continue
            if item.block is not None and item.own is None:
                together.setdefault(id(item.block), []).append(number)
            else:
                alone.setdefault((item.one("kind") or kind, *item.fields), []).append(number)
        for (own_kind, *names), numbers in alone.items():
            self._sort(own_kind, names, items, numbers)
        for numbers in together.values():
            self._group_block(items[numbers[0]].block, items, numbers)  # type: ignore[arg-type]

    def _group_block(self, block: RowBlock, items: Sequence[Item], numbers: Sequence[int]) -> None:
        """Sort rows that were read together by the fields that they have."""
        names, columns = list(block.columns), block.columns.values()
        filled = list(zip(*(map(bool, column) for column in columns), strict=True))
        kinds = block.columns.get("kind")
        object_types: dict[tuple[str, tuple[bool, ...]], list[int]] = {}
        if kinds is None and len(masks := set(filled)) == 1:
            object_types[self._kind, masks.pop()] = list(numbers)
            numbers = ()
        for number in numbers:
            place = items[number].place
            kind = str(kinds[place] or self._kind) if kinds is not None else self._kind
            object_types.setdefault((kind, filled[place]), []).append(number)
        for (kind, mask), some in object_types.items():
            self._sort(kind, list(compress(names, mask)), items, some)

    def _sort(self, kind: str, names: Sequence[str], items: Sequence[Item], numbers: Sequence[int]) -> None:
        """Sort rows that have the same fields by what is in them."""
        layout = self._laid_out(kind, names)
        if layout is None:
            return
        rows = [items[number] for number in numbers]
        others, telling = (
            list(zip(*cells_of(rows, fields), strict=True)) if fields else repeat((), len(rows))
            for fields in (layout.others, layout.telling)
        )
        for number, item, key, values in zip(numbers, rows, others, telling, strict=True):
            part = number // _MOST
            strand = self._strands.get((layout, key, values, part)) or self._group_batch(layout, key, values, number)
            self._places[number] = strand, strand.batch.add(item)

    def _group_batch(
        self, layout: Layout, key: tuple[Cell, ...], values: tuple[Cell, ...], number: int
    ) -> GroupBatchLink:  # fmt: skip
        part = number // _MOST
        group = self._groups.setdefault((layout, key), Group(number))
        batch = self._batches.setdefault((layout, values, part), Batch(layout))
        link = self._strands[layout, key, values, part] = GroupBatchLink(group, batch)
        batch.links.append(link)
        return link

    def _laid_out(self, kind: str, names: Sequence[str]) -> Layout | None:
        """Of these fields of rows, those that are their own, and the others; None where a name is not their own."""
        which = (kind, *names)
        if which not in self._layouts:
            spec = self._context.charter.document.kinds.get(kind)
            own = own_fields(self._context, spec, names) if spec is not None else []
            others = [name for name in names if name not in own]
            has_numbers = PosixAllocator(self._context).rules(kind) is not None  # each row has its own
            if spec is None or has_numbers or any(name in NAMED for name in others):
                self._layouts[which] = None
            else:
                typed = tuple(name for name in NAMED if name in own)
                built_from = {"language"}.union(*(rule.fields() for _, rule, _ in self._creator.order(kind, typed)))
                telling = [name for name in names if name in built_from and (name == "language" or name in others)]
                self._layouts[which] = Layout(own, others, telling)
        return self._layouts[which]

    def firsts(self) -> list[int]:
        """Of each group of rows, the first."""
        return [group.first for group in self._groups.values()]

    def draft(self, number: int) -> BatchDraft | None:
        """The account of a row by its likeness, where there is one already and the row is nothing out of the way."""
        strand, place = self._places[number] or (None, 0)
        if strand is None:
            return None
        draft = None
        if strand.group.model is not None:
            if strand.likeness is None:
                strand.likeness = self._likeness(strand.group, strand.group.model, strand.batch)
            draft = strand.likeness.draft(place)
        if draft is not None:
            self._places[number] = None  # it is asked for once
            if self._lets_go:
                strand.batch.done.append(strand.batch.items[place])
        strand.batch.row_asked_for()
        return draft

    def _likeness(self, group: Group, model: Draft, batch: Batch) -> GroupBatch:
        context, creator = self._context, self._creator
        if batch.names is None:
            batch.names = Names(context, creator, model, batch.layout.own, batch.items)
        names = batch.names
        if not names.fit(creator.visible_values(model)):
            names = Names(context, creator, model, batch.layout.own, batch.items)
        if (shared := group.shared.get(names.own)) is None:
            shared = group.shared[names.own] = SharedValues.of(model, names.own)
        return GroupBatch(creator, shared, names)

    def learn(self, number: int, draft: Draft) -> None:
        """A row was worked out in full: those that are like it need not be."""
        strand, _ = self._places[number] or (None, 0)
        if strand is not None and strand.group.model is None and not draft.findings and draft.dn is not None:
            strand.group.model = draft
