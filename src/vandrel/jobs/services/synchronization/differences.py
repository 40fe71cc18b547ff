"""What differs on one object there from what is to be there, and what others have changed on it since it was sent."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from msgspec import Struct

from vandrel.dialects.base import difference
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.fields import ACCOUNT
from vandrel.jobs.common.proposal import FieldChange
from vandrel.jobs.services.synchronization.outgoing import Outgoing, Pair
from vandrel.jobs.services.synchronization.there import NAME, STANDS, VERSION, complete, is_bare, remember
from vandrel.objects.context import Context
from vandrel.objects.view import shown_values
from vandrel.record.links import Link, LinksBefore
from vandrel.steps.step import Rename, Set, Step
from vandrel.text.string_prep import prepare

#: The values of an object there, field by field.
Values = Mapping[str, tuple[str, ...]]


class Difference(Struct, frozen=True):
    """What changes on one object there, field by field, and the steps: a new name first."""

    entry: Entry
    dn: DN
    changes: tuple[FieldChange, ...]
    steps: tuple[Step, ...]


class Conflict(Struct, frozen=True):
    """A field that somebody changed there since it was sent: what was sent, what is there, what would be sent now."""

    label: str
    field: str
    last_sent: str
    there: str
    here: str


class Compared(NamedTuple):
    """What changes on an object there, the values that it has then, and what others have changed that stays."""

    difference: Difference
    values: Values
    conflicts: list[Conflict]


class Differences:
    """Compares objects there with what is to be there, one by one."""

    def __init__(
        self, there: Context, links: LinksBefore, values_of: Callable[[Outgoing], Values], *, mark: str, overwrite: bool
    ) -> None:  # fmt: skip
        """Prepare.

        Args:
            there: the other directory.
            links: what was sent before.
            values_of: gives all values that an object is to have.
            mark: the attribute in which a copy keeps the identifier of its original; empty for none.
            overwrite: whether what was changed there since it was sent is written over.

        """
        self._there, self._links, self._values_of = there, links, values_of
        self._mark, self._overwrite = mark, overwrite

    def is_as_sent(self, pair: Pair, entry: Entry) -> bool:
        """Whether what is to be there is what was sent last, and nobody has changed it since."""
        if not is_bare(entry):
            return False
        link = self._links[pair.outgoing.identifier]
        return is_as_sent(link, self._values_of(pair.outgoing), pair.outgoing.stands, str(pair.dn))

    def of(self, pair: Pair, entry: Entry) -> Compared:
        """What changes on an object there, its counterpart."""
        there, conflicts = self._there, list[Conflict]()
        renamed = self._renamed(self.complete(entry, pair.outgoing.identifier), pair.dn)
        after = Entry(pair.dn, {name: list(values) for name, values in renamed.attributes.items()})
        changes, steps = list[FieldChange](), list[Step]()
        values = self._values_of(pair.outgoing)
        new_values = dict(values)
        for name, value in values.items():
            before = tuple(there.dialect.read(entry, name))
            if self._is_alike(name, before, value) or self._waits_for_password(name, entry, value):
                continue
            if self._is_written_otherwise(pair, name, before, value):
                continue
            if (conflict := self._in_conflict(pair, name, before, value)) is not None:
                conflicts.append(conflict)
                new_values[name] = self._links[pair.outgoing.identifier].values[name]
                continue
            there.dialect.write(after, name, value)
            changes.append(FieldChange(name, self._for_people(name, before), self._for_people(name, value)))
        if pair.dn != entry.dn:
            steps.append(Rename(entry.dn, pair.dn))
            for change in there.dialect.changes_with_name(entry, pair.dn.name):
                after.attributes[change.attribute] = list(change.added)
            if pair.dn.name != entry.dn.name:
                changes.append(FieldChange("name", (entry.dn.name,), (pair.dn.name,)))
            if pair.dn.parent != entry.dn.parent:
                was, will_be = there.place(entry.dn.parent), there.place(pair.dn.parent)
                changes.append(FieldChange("place", (was,), (will_be,)))
        here, mark = pair.outgoing.identifier, self._mark
        if mark and here not in entry.texts(mark):
            after.attributes[mark] = [here]
            changes.append(FieldChange(f"@{mark}", tuple(entry.texts(mark)), (here,)))
        if parts := difference(renamed, after):
            steps.append(Set(pair.dn, tuple(parts)))
        return Compared(Difference(entry, pair.dn, tuple(changes), tuple(steps)), new_values, conflicts)

    def complete(self, entry: Entry, here: str) -> Entry:
        """An account with its attributes, where no more than its name was read: as it was sent."""
        if is_bare(entry):
            link = self._links[here]
            complete(self._there, ACCOUNT, link, entry)
            remember(self._there, entry.dn, link)
        return entry

    def _renamed(self, entry: Entry, dn: DN) -> Entry:
        """An entry as it is once it has its new name: the value that names it goes, and the new one comes."""
        attribute = self._there.directory.schema.attribute_name(dn.naming_attribute)
        others = [value for value in entry.values_of(attribute) if value not in (entry.dn.name, dn.name)]
        return Entry(dn, entry.attributes | {attribute: [dn.name, *others]})

    def _in_conflict(self, pair: Pair, name: str, before: tuple[str, ...], value: tuple[str, ...]) -> Conflict | None:
        """That somebody has changed there what was sent; None where nobody has, or it is written over."""
        link = self._links.get(pair.outgoing.identifier)
        last_sent = link.values.get(name) if link is not None else None
        if last_sent is None or self._overwrite or self._is_alike(name, before, last_sent):
            return None
        label = self._there.label(pair.entry) if pair.entry is not None else pair.dn.name
        texts = (", ".join(self._for_people(name, each)) or "(empty)" for each in (last_sent, before, value))
        return Conflict(label, name, *texts)

    def _is_written_otherwise(self, pair: Pair, name: str, before: Sequence[str], value: Sequence[str]) -> bool:
        """Whether the other side has what was sent before, in its own spelling: sent again, it would be no other."""
        link = self._links.get(pair.outgoing.identifier)
        was_sent = link is not None and link.values.get(name) == tuple(value)
        return was_sent and sorted(map(prepare, before)) == sorted(map(prepare, value))

    def _waits_for_password(self, name: str, entry: Entry, value: Sequence[str]) -> bool:
        """Whether an account cannot be enabled before it has its first password."""
        dialect = self._there.dialect
        return (name == "enabled" and tuple(value) == ("yes",) and dialect.enables_last
                and not dialect.has_password(entry))  # fmt: skip

    def _is_alike(self, name: str, one: Sequence[str], other: Sequence[str]) -> bool:
        """Whether values are the same; servers keep many of them in no order."""
        if tuple(one) == tuple(other):
            return True
        return self._there.fields[name].many and sorted(one) == sorted(other)

    def _for_people(self, name: str, values: Sequence[str]) -> tuple[str, ...]:
        return tuple(shown_values(self._there.fields[name], values))


def is_as_sent(link: Link, values: Values, stands: tuple[str, str], name: str) -> bool:
    """Whether an account that is to have these values, this place and this name there was sent so."""
    was, now = link.values, {**values, STANDS: stands, NAME: (name,)}
    return len(now) == len(was) - (VERSION in was) and all(was.get(key) == value for key, value in now.items())


def is_in_place(link: Link, stands: tuple[str, str]) -> bool:
    """Whether an account was sent to this place and by this name, and the link tells what it is called there since."""
    return NAME in link.values and link.values.get(STANDS) == stands
