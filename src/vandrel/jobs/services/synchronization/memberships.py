"""Who comes into the groups that are sent, and who goes."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping
from functools import cached_property

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.spilled import SpilledMap
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.common.proposal import FieldChange
from vandrel.jobs.services.synchronization.comparison import Comparison
from vandrel.objects.context import Context
from vandrel.objects.namesakes import Namesakes
from vandrel.steps.step import Set, Step


class Memberships:
    """What changes in the groups that are sent; members that did not come from here stay."""

    def __init__(self, there: Context, comparison: Comparison, *, says_of_others: bool) -> None:
        """Prepare.

        Args:
            there: the other directory.
            comparison: everybody who is sent; gets the members that each group has then.
            says_of_others: whether anything is said of those who came from here and are not sent any more: not where
                only a part is sent, or who goes is left alone.

        """
        self._there, self._comparison, self._says_of_others = there, comparison, says_of_others

    def changes(
        self, new_entries: Mapping[str, Entry], deleted: Iterable[Entry]
    ) -> Iterator[tuple[Entry, Step, FieldChange]]:  # fmt: skip
        """The groups of which somebody comes or goes, each with the step and as people see it.

        Args:
            new_entries: the groups that are new, by the keys of their names there.
            deleted: who is deleted there, and so leaves without a step.

        """
        comparison, dialect = self._comparison, self._there.dialect
        going = {entry.dn.key for entry in deleted}
        for pair in comparison.groups():
            group = pair.entry if pair.entry is not None else new_entries[pair.dn.key]
            called = {each.dn: each for each in comparison.called(pair.outgoing.pointing["members"])}
            members, present = called.keys(), [*map(names.parse, dialect.members(group))]
            are_ours: Container[str] = ()
            if members != set(present):
                ours, are_ours = self._ours
                # By the names that they have once those are changed which change.
                present = [ours.get(dn.key, dn) for dn in present]
            comparison.members[pair.dn.key] = tuple(map(str, present))
            add = sorted(members - set(present), key=lambda dn: dn.key)
            remove = [dn for dn in present if dn not in members and dn.key in are_ours and dn.key not in going]
            if not add and not remove:
                continue
            comparison.look_up([called[dn] for dn in add])
            if pair.entry is not None:
                comparison.read.add(group.dn.key)
            now: dict[str, list[Value]] = {dialect.member_attribute(group): [*map(str, present)]}
            renamed = Entry(pair.dn, group.attributes | (now if present else {}))
            changes = dialect.member_change(renamed, add, remove)
            leaving = set(remove)
            then = [*(dn for dn in present if dn not in leaving), *add]
            comparison.members[pair.dn.key] = tuple(map(str, then))
            named = Namesakes(self._there).around([*map(str, present)], [*map(str, then)], of_many=True)
            yield group, Set(pair.dn, tuple(changes)), FieldChange("members", *named)

    @cached_property
    def _ours(self) -> tuple[Mapping[str, DN], Container[str]]:
        """The names of what came from here: by the keys of the names now, what they will be; and the keys of those."""
        comparison = self._comparison
        ours: SpilledMap[DN] = comparison.spill.map(DN)
        for of in (ACCOUNT, GROUP) if self._says_of_others else ():
            for entry in comparison.known_before(of):
                ours[entry.dn.key] = entry.dn
        for dn in comparison.standing():
            ours[dn.key] = dn
        for pair in comparison.each_pair():
            if pair.entry is not None:
                ours[pair.entry.dn.key] = pair.dn
        return ours, comparison.spill.set(dn.key for dn in ours.values())
