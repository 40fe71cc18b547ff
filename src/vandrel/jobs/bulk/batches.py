"""The steps that make the rows of a file, some at a time."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from collections.abc import Set as Keys
from functools import partial

from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.directory.entry import Value
from vandrel.directory.member_lists import BY_NAME
from vandrel.directory.operations import Change
from vandrel.directory.spilled import Spill
from vandrel.fields import ACCOUNT, COMPUTER
from vandrel.jobs.bulk.roster import Line, State
from vandrel.jobs.common import create_object
from vandrel.jobs.common.account_steps import account_steps
from vandrel.jobs.common.draft import Draft
from vandrel.jobs.common.edit_order import in_order
from vandrel.lazy_list import LazyList, LazyPart
from vandrel.objects.context import Context
from vandrel.secret import Secret
from vandrel.steps.step import Add, Set, Step

#: Rows that are made together, with their passwords and groups, before the next ones.
TOGETHER = 1000


class Batch(Struct):
    """Steps of some rows, and where a new turn must begin: after what the others build upon."""

    steps: list[Step]
    barrier: int


class Batches:
    """The steps of all rows that are to be made, a thousand rows at a time: objects, passwords, then memberships.

    Attributes:
        left_out: how many names of rows that are made later were left out of the batches that were worked out.

    """

    def __init__(
        self, context: Context, lines: Sequence[Line], secret: Callable[[Line], Secret | None], object_type: str,
        hand_out: str = "", absent: Keys[str] = frozenset(),
    ) -> None:  # fmt: skip
        """Prepare.

        `secret` gives the password of a new account, or None; `hand_out` names the file where generated ones stand;
        `absent` are the keys of names of objects that other rows make later: nothing can point at them yet.
        """
        self._context, self._secret, self._object_type, self._hand_out = context, secret, object_type, hand_out
        self._absent = absent
        self._lines = [line for line in lines if line.state in (State.NEW, State.CHANGED)]
        new = (line.dn for line in self._lines if line.state is State.NEW)
        self._new_keys = Spill().set(dn.key for dn in new if dn is not None)
        self.left_out = 0

    def __iter__(self) -> Iterator[Batch]:
        """Work out all batches, one after the other."""
        return (batch for batch, _ in self._with_chunks())

    def plan(self) -> tuple[Sequence[Step], list[int]]:
        """All steps, of which those of new accounts are worked out again as they are looked at; and the barriers."""
        parts: list[LazyPart[Step]] = []
        barriers: list[int] = []
        end = 0
        for batch, chunk in self._with_chunks():
            is_pure = self._object_type == ACCOUNT and chunk and all(line.edit is None for line in chunk)
            again = LazyPart(len(batch.steps), partial(self._created_again, chunk))
            parts.append(again if is_pure else LazyPart.of(batch.steps))
            barriers += [end + batch.barrier, end + len(batch.steps)]
            end += len(batch.steps)
        return LazyList(parts), barriers

    def _with_chunks(self) -> Iterator[tuple[Batch, Sequence[Line]]]:
        apart = self._splitter()
        for start in range(0, len(self._lines), TOGETHER):
            chunk = self._lines[start : start + TOGETHER]
            steps = self._created(chunk, apart)
            edits = list(apart.edits(in_order(self._context, [line.edit for line in chunk if line.edit is not None])))
            barrier = next((n for n, step in enumerate(steps) if not self._is_creation(step)), len(steps))
            self.left_out = apart.left_out
            if steps or edits:
                yield Batch([*steps, *edits], barrier), chunk
        for start in range(0, len(apart.later), TOGETHER):
            yield Batch(apart.later[start : start + TOGETHER], 0), ()

    def _splitter(self) -> _ReferenceSplitter:
        return _ReferenceSplitter(self._context, self._new_keys, self._absent)

    def _created_again(self, chunk: Sequence[Line]) -> Sequence[Step]:
        return self._created(chunk, self._splitter())

    def _created(self, chunk: Sequence[Line], apart: _ReferenceSplitter) -> list[Step]:
        """The steps that make the new objects of some rows."""
        new = [line for line in chunk if line.draft is not None and line.state is State.NEW]
        if self._object_type == ACCOUNT:
            drafts = [(line.draft, self._secret(line)) for line in new if line.draft]
            return apart.creations(account_steps(self._context, drafts, self._hand_out))
        return apart.creations([step for line in new if line.draft for step in self._of_object(line)])

    def _of_object(self, line: Line) -> list[Step]:
        assert isinstance(line.draft, Draft)
        steps = create_object.steps(self._context, line.draft, self._object_type)
        groups = line.item.fields.get("groups", ()) if self._object_type == COMPUTER else ()
        return [*steps, *create_object.join_groups(self._context, line.draft, groups)] if groups else steps

    def _is_creation(self, step: Step) -> bool:
        return isinstance(step, Add) or (isinstance(step, Set) and step.dn.key in self._new_keys)


class _ReferenceSplitter:
    """Takes names of file-mates out of steps: there may be a circle of people who report, and some may come later.

    Those who are made now go into steps of their own, at the end; those who are not are left out.
    """

    def __init__(self, context: Context, new_keys: Keys[str], absent: Keys[str]) -> None:
        self._schema, self._new_keys, self._absent = context.directory.schema, new_keys, absent
        # Where a group must have a member, it has its members from birth.
        self._at_creation = {*BY_NAME} if context.dialect.members_at_creation else set[str]()
        self.later: list[Step] = []
        self.left_out = 0

    def creations(self, steps: Sequence[Step]) -> list[Step]:
        """New objects without names of file-mates."""
        return [self._creation(step) if isinstance(step, Add) else step for step in steps]

    def _creation(self, step: Add) -> Add:
        attributes = step.attributes
        for name in self._schema.references_in(step.attributes):
            now, mates = self._sorted(name, attributes[name])
            if name in self._at_creation:
                now, mates = [*now, *mates], []
            if mates:
                self.later.append(_adding(step.dn, name, mates))
            if len(now) < len(attributes[name]):
                rest = {name: now} if now else {}
                attributes = {key: values for key, values in attributes.items() if key != name} | rest
        return step if attributes is step.attributes else Add(step.dn, attributes)

    def edits(self, steps: Sequence[Step]) -> Iterator[Step]:
        """Changes that do not point at file-mates."""
        for step in steps:
            if not isinstance(step, Set):
                yield step
                continue
            changes, late = [], []
            for change in step.changes:
                now, mates = self._sorted(change.attribute, change.added)
                whole = len(now) == len(change.added)
                if whole or (now and not mates):
                    changes.append(change if whole else Change(change.attribute, change.removed, tuple(now)))
                elif mates:
                    late.append(Change(change.attribute, change.removed, (*now, *mates)))
            if changes:
                yield Set(step.dn, tuple(changes))
            if late:
                self.later.append(Set(step.dn, tuple(late)))

    def _sorted(self, attribute: str, values: Sequence[Value]) -> tuple[list[Value], list[Value]]:
        """What can be pointed at now, and file-mates who can be at the end."""
        if not self._schema.is_reference(attribute):
            return list(values), []
        keyed = [(value, str(self._schema.key(attribute, value)) if value else "") for value in values]
        late = [value for value, key in keyed if key in self._absent]
        self.left_out += len(late)
        return (
            [value for value, key in keyed if key not in self._new_keys and value not in late],
            [value for value, key in keyed if key in self._new_keys],
        )


def _adding(dn: DN, name: str, values: Sequence[str | bytes]) -> Step:
    return Set(dn, (Change(name, added=tuple(values)),))
