"""What is to be in the other directory beside what is there: who is new, who differs, who goes, what others changed."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property
from itertools import chain
from typing import NamedTuple, TypeVar

from msgspec import Struct, structs

from vandrel.dialects.base import difference
from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.packing import object_of
from vandrel.directory.spilled import Spill, SpilledMap, SpilledSet
from vandrel.errors import Code, Finding, Location
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.common.proposal import FieldChange
from vandrel.jobs.common.report import count
from vandrel.jobs.services.profile import Profile
from vandrel.jobs.services.synchronization.counterparts import Counterparts
from vandrel.jobs.services.synchronization.outgoing import Outgoing, Selection
from vandrel.jobs.services.synchronization.there import (
    AT_ONCE,
    MEMBERS,
    NAME,
    STANDS,
    VERSION,
    complete,
    is_bare,
    read_there,
    remember,
)
from vandrel.lazy_list import LazyMap
from vandrel.objects.context import Context
from vandrel.objects.namesakes import Namesakes
from vandrel.objects.view import shown_values
from vandrel.record.links import Link, LinksBefore
from vandrel.steps.step import Rename, Set, Step
from vandrel.text.string_prep import prepare

_T = TypeVar("_T")

#: The share of those copied before who may go at once unless somebody says more, and the number that always may.
_MOST_SHARE, _MOST = 0.05, 3
#: What happens to who goes.
GONE = {"disable": "disabled", "delete": "deleted"}


def _stands(outgoing: Outgoing) -> tuple[str, ...]:
    return places.to_text(outgoing.place), outgoing.name


class SynchronizeRequest(Struct, frozen=True):
    """What goes where.

    Attributes:
        profile: who is sent, and how they are written there.
        name: what the profile is called.
        under: a unit; of what the profile sends, only what stands in or below it.
        same: by logon name or name here, whom it is there: what somebody has answered.
        new: logon names or names of those here who are nobody there yet.
        most_gone: more than these who go at once stop it; None for what the profile says.
        overwrite: whether what was changed there since it was sent is written over.
        recent: whether only what was changed there since the last run is read, and all else taken to be as it was sent.
        passwords: whether new accounts get a generated first password.

    """

    profile: Profile
    name: str
    under: str = ""
    same: Mapping[str, str] = {}
    new: frozenset[str] = frozenset()
    most_gone: int | None = None
    overwrite: bool = False
    recent: bool = False
    passwords: bool = False


class Pair(NamedTuple):
    """One object that is sent, its counterpart there, None for a new one, and the name that it is to have there."""

    outgoing: Outgoing
    entry: Entry | None
    dn: DN
    #: The identifier of the copy that was made before, and was deleted there since; empty for none.
    was: str = ""


class _Row(Struct, frozen=True):
    """A pair as it waits: the counterpart by what it is known by, empty for none."""

    outgoing: Outgoing
    there: str
    dn: DN
    was: str


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


class _Called(Struct, frozen=True):
    """The name that an object is to have there, and its identifier if it has that name now; else empty."""

    dn: DN
    identifier: str


class _Sent(Struct, frozen=True):
    """What the next run needs to know of the object of a pair: its identifier there, and the values that it has."""

    number: int
    identifier: str
    values: dict[str, tuple[str, ...]]


class Comparison:
    """Everybody who is sent, beside what is there; what is known of each of them waits in a temporary file.

    Attributes:
        pairs: those who are sent, accounts first; who is not there, and may not log on here, is not among them.
        gone: who was copied there before and is not sent any more.
        findings: what must be known, and what stops it.
        conflicts: what others changed there since it was sent.
        left_out: how many are not sent because they may not log on.
        strangers: what people call the accounts there that came from elsewhere.

    """

    def __init__(
        self, here: Context, there: Context, links_before: LinksBefore, request: SynchronizeRequest,
        since: datetime | None = None,
    ) -> None:  # fmt: skip
        """Read both directories; the other only as far as it was changed `since`, if that is given."""
        spill = self.spill = Spill()
        self.findings: list[Finding] = []
        self.conflicts: list[Conflict] = []
        self._sent = spill.list(_Sent)
        self.left_out = 0
        self._here, self._there, self._links_before, self._request = here, there, links_before, request
        self._rules = request.profile.copying
        selection = Selection(here, there, request.profile, request.under)
        outgoing = {
            ACCOUNT: spill.list(Outgoing, selection.people()), GROUP: spill.list(Outgoing, selection.groups())
        }  # fmt: skip
        self._counterparts: dict[str, Counterparts] = {}
        for of in (ACCOUNT, GROUP):
            counterparts = self._counterparts[of] = Counterparts(
                spill, there, read_there(there, of, links_before, outgoing[of], self._rules, since), of, self._rules,
                links_before, is_recent=since is not None,
            )  # fmt: skip
            counterparts.match(outgoing[of], request.same, request.new)
        self.findings += selection.findings
        self.findings += (finding for each in self._counterparts.values() for finding in each.findings)
        #: The members of the groups that are sent as they are to be, by the keys of the groups' names there.
        self._members: SpilledMap[tuple[str, ...]] = spill.map(tuple[str, ...])
        #: What those that are sent are called there, by the keys of their names here.
        self._names: SpilledMap[_Called] = spill.map(_Called)
        #: The keys of the names of those there that change, or are pointed at.
        self.read = spill.set()
        #: The units there in which they are to stand, by the keys of their names.
        self._units: dict[str, DN] = {}
        rows, self._accounts = spill.list(_Row), 0
        for of in (ACCOUNT, GROUP):
            for pair in self._paired(outgoing[of], self._counterparts[of]):
                there_now = object_of(pair.entry) if pair.entry is not None else ""
                rows.append(_Row(pair.outgoing, there_now, pair.dn, pair.was))
                known_as = pair.entry.identifier if pair.entry is not None and pair.entry.dn == pair.dn else ""
                self._names[pair.outgoing.dn.key] = _Called(pair.dn, known_as)
                stays = pair.entry is not None and pair.dn is pair.entry.dn
                if not stays and pair.dn.parent_key not in self._units:
                    self._units[pair.dn.parent_key] = pair.dn.parent
                self._accounts += of == ACCOUNT
        self._rows = rows
        self.pairs: Sequence[Pair] = LazyMap(rows, self._pair)
        self._gone = self._not_sent(outgoing[ACCOUNT])
        self.gone = [entry for _, entry in self._gone]
        others = self._counterparts[ACCOUNT].strangers() if since is None else ()
        self.strangers = spill.list(str, map(there.label, others))

    def _pair(self, row: _Row) -> Pair:
        counterparts = self._counterparts[row.outgoing.object_type]
        entry = counterparts.entry(row.there, row.outgoing.identifier) if row.there else None
        return Pair(row.outgoing, entry, row.dn, row.was)

    def each_pair(self) -> Iterator[Pair]:
        """All pairs, one after the other."""
        return map(self._pair, self._with_links(self._rows, lambda row: row.outgoing))

    def _with_links(self, some: Sequence[_T], outgoing_of: Callable[[_T], Outgoing]) -> Iterator[_T]:
        """Each of these, the links of some of which are read together."""
        for start in range(0, len(some), AT_ONCE):
            part = some[start : start + AT_ONCE]
            self._links_before.look_ahead([outgoing_of(each).identifier for each in part])
            yield from part

    @cached_property
    def _names_there(self) -> SpilledSet:
        """The keys of the names that are in use there, or will be: looked at once anybody gets another one."""
        return self.spill.set(dn.key for counterparts in self._counterparts.values() for dn in counterparts.names())

    def _paired(self, outgoing: Sequence[Outgoing], counterparts: Counterparts) -> Iterator[Pair]:
        for each in self._with_links(outgoing, lambda each: each):
            if each.identifier in counterparts.doubtful:
                continue
            entry = counterparts.matched(each.identifier)
            if entry is None and not each.is_enabled:
                self.left_out += 1
            else:
                link = self._links_before.get(each.identifier) if entry is None else None
                yield Pair(each, entry, self._name_there(each, entry), link.there if link is not None else "")

    def _name_there(self, each: Outgoing, entry: Entry | None) -> DN:
        """The name that an object is to have there; beside another of the same name, the logon name tells them apart.

        An object whose name is the one that was sent stays where somebody there has moved it since.
        """
        there, link = self._there, self._links_before.get(each.identifier)
        if entry is not None and link is not None and link.values.get(STANDS) == _stands(each):
            return entry.dn
        attribute = there.dialect.naming_attribute(each.object_type)
        parent = places.to_dn(each.place, there.charter.base)
        dn, login = parent.child(attribute, each.name), next(iter(each.fields.get("login", ())), "")
        is_its_own = entry is not None and dn.key == entry.dn.key
        if dn.key in self._names_there and not is_its_own and login and login != each.name:
            dn = parent.child(attribute, f"{each.name} ({login})")
        if entry is not None and dn.key == entry.dn.key:
            return entry.dn
        self._names_there.add(dn.key)
        return dn

    def _not_sent(self, people: Sequence[Outgoing]) -> list[tuple[str, Entry]]:
        """Who was copied there before and is not sent any more; and what speaks against so many."""
        if self._rules.gone == "leave" or self._request.under:
            return []
        accounts = self._counterparts[ACCOUNT]
        sent = self.spill.set(each.identifier for each in people)
        known, unsent = 0, list[tuple[str, Entry]]()
        for here in accounts.known_before(others=self._counterparts[GROUP]):
            known += 1
            if here not in sent and (entry := accounts.matched(here)) is not None:
                unsent.append((here, self._complete(entry, here)))
        if self._rules.gone == "disable":
            unsent = [(here, entry) for here, entry in unsent if self._there.one(entry, "enabled") != "no"]
        most = self._rules.most_gone if self._request.most_gone is None else self._request.most_gone
        if most is None:
            most = max(_MOST, int(known * _MOST_SHARE))
        if not people and known:
            what = f"nobody is sent, and {count(known, 'account')} there came from here"
            remedy = "see whether this identity still sees the units: vandrel tree"
            self.findings.append(Finding(Code.REFUSED, what, Location(server=self._here.directory.location), remedy))
        elif len(unsent) > most:
            what = f"{count(len(unsent), 'account')} would be {GONE[self._rules.gone]} there, and {most} may be at once"
            self.findings.append(Finding(Code.REFUSED, what, remedy=f"if it is right: --most-gone {len(unsent)}"))
        return unsent

    # --- what is to be there

    def values(self, each: Outgoing) -> dict[str, tuple[str, ...]]:
        """All values of an object there; of those that name other objects, the ones that are sent as well."""
        values = dict(each.fields)
        for name, pointed in each.pointing.items():
            if name != "members":
                values[name] = tuple(map(str, self._sent_as(pointed)))
        if each.object_type == ACCOUNT:
            values["enabled"] = ("yes",) if each.is_enabled else ("no",)
        return values

    def _sent_as(self, pointed: Iterable[str]) -> Iterator[DN]:
        """The names there of those objects here that are sent as well."""
        return (each.dn for each in self._called(pointed))

    def _called(self, pointed: Iterable[str]) -> Iterator[_Called]:
        found = (self._names.get(names.parse(text).key) for text in pointed)
        return (each for each in found if each is not None)

    def _look_up(self, called: Iterable[_Called]) -> None:
        """Take note of objects there that are pointed at: that they exist, and what they are known by."""
        for each in called:
            if each.identifier:
                self.read.add(each.dn.key)
                self._there.directory.remember(each.dn, each.identifier)

    def link(self, pair: Pair, identifier: str, values: Mapping[str, tuple[str, ...]] | None = None) -> Link:
        """What the next run needs to know of one object."""
        link_values = self.values(pair.outgoing) if values is None else values
        more: dict[str, tuple[str, ...]] = {STANDS: _stands(pair.outgoing), NAME: (str(pair.dn),)}
        if pair.outgoing.object_type == GROUP:
            more[MEMBERS] = self._members.get(pair.dn.key, ())
        return Link(pair.outgoing.identifier, identifier, {**link_values, **more})

    def links(self) -> Iterator[tuple[DN, Link]]:
        """What the next run needs to know of those who are there already, once they have been compared."""
        for sent in self._sent:
            pair = self.pairs[sent.number]
            yield pair.dn, self.link(pair, sent.identifier, sent.values)

    def links_of_disabled(self) -> Iterator[tuple[DN, Link]]:
        """The same of those who are not sent any more and were disabled: that they are is nobody else's doing."""
        for here, entry in self._gone:
            if (link := self._links_before.get(here)) is not None:
                yield entry.dn, structs.replace(link, values={**link.values, "enabled": ("no",)})

    def _is_as_sent(self, pair: Pair, entry: Entry) -> bool:
        """Whether what is to be there is what was sent last, and nobody has changed it since."""
        if not is_bare(entry):
            return False
        link = self._links_before[pair.outgoing.identifier]
        now = {**self.values(pair.outgoing), STANDS: _stands(pair.outgoing), NAME: (str(pair.dn),)}
        was = link.values
        return len(now) == len(was) - (VERSION in was) and all(was.get(name) == values for name, values in now.items())

    def missing_units(self) -> list[DN]:
        """The units that are missing there, from the top down."""
        base = self._there.charter.base
        above: dict[str, DN] = {}
        for unit in self._units.values():
            missing = unit
            while missing.is_below(base) and missing.key not in above:
                above[missing.key] = missing
                missing = missing.parent
        present = self._there.directory.existing(above.values())
        return sorted((dn for dn in above.values() if dn not in present), key=lambda dn: (len(dn), dn.key))

    def compare(self, number: int, pair: Pair) -> bool:
        """Whether the object of a pair that is there is to change; takes note of what the next run needs to know."""
        if pair.entry is not None and self._is_as_sent(pair, pair.entry):
            return False
        self._look_up(self._called(chain.from_iterable(pair.outgoing.pointing.values())))
        if pair.entry is None:
            return False
        self.read.add(pair.entry.dn.key)
        conflicts = list[Conflict]()
        difference, values = self._difference(pair, pair.entry, conflicts)
        self.conflicts += conflicts
        self._sent.append(_Sent(number, pair.entry.identifier, values))
        return bool(difference.changes)

    def difference(self, number: int) -> Difference:
        """What changes on the object of a pair that is there."""
        pair = self.pairs[number]
        assert pair.entry is not None
        return self._difference(pair, pair.entry, [])[0]

    def _difference(
        self, pair: Pair, entry: Entry, conflicts: list[Conflict]
    ) -> tuple[Difference, dict[str, tuple[str, ...]]]:  # fmt: skip
        """What changes, and the values that the object has then."""
        there = self._there
        renamed = self._renamed(self._complete(entry, pair.outgoing.identifier), pair.dn)
        after = Entry(pair.dn, {name: list(values) for name, values in renamed.attributes.items()})
        changes, steps = list[FieldChange](), list[Step]()
        values = self.values(pair.outgoing)
        new_values = dict(values)
        for name, value in values.items():
            before = tuple(there.dialect.read(entry, name))
            if self._is_alike(name, before, value) or self._waits_for_password(name, entry, value):
                continue
            if self._is_written_otherwise(pair, name, before, value):
                continue
            if (conflict := self._in_conflict(pair, name, before, value)) is not None:
                conflicts.append(conflict)
                new_values[name] = self._links_before[pair.outgoing.identifier].values[name]
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
        here, mark = pair.outgoing.identifier, self._rules.identifier
        if mark and here not in entry.texts(mark):
            after.attributes[mark] = [here]
            changes.append(FieldChange(f"@{mark}", tuple(entry.texts(mark)), (here,)))
        if parts := difference(renamed, after):
            steps.append(Set(pair.dn, tuple(parts)))
        return Difference(entry, pair.dn, tuple(changes), tuple(steps)), new_values

    def _complete(self, entry: Entry, here: str) -> Entry:
        """An account with its attributes, where no more than its name was read: as it was sent."""
        if is_bare(entry):
            link = self._links_before[here]
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
        link = self._links_before.get(pair.outgoing.identifier)
        last_sent = link.values.get(name) if link is not None else None
        if last_sent is None or self._request.overwrite or self._is_alike(name, before, last_sent):
            return None
        label = self._there.label(pair.entry) if pair.entry is not None else pair.dn.name
        texts = (", ".join(self._for_people(name, each)) or "(empty)" for each in (last_sent, before, value))
        return Conflict(label, name, *texts)

    def _is_written_otherwise(self, pair: Pair, name: str, before: Sequence[str], value: Sequence[str]) -> bool:
        """Whether the other side has what was sent before, in its own spelling: sent again, it would be no other."""
        link = self._links_before.get(pair.outgoing.identifier)
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

    # --- memberships

    def memberships(
        self, new_entries: Mapping[str, Entry], deleted: Iterable[Entry]
    ) -> Iterator[tuple[Entry, Step, FieldChange]]:  # fmt: skip
        """Who comes into the groups that are sent, and who goes; members that did not come from here stay.

        Args:
            new_entries: the groups that are new, by the keys of their names there.
            deleted: who is deleted there, and so leaves without a step.

        """
        going = {entry.dn.key for entry in deleted}
        for pair in map(self.pairs.__getitem__, range(self._accounts, len(self.pairs))):
            group = pair.entry if pair.entry is not None else new_entries[pair.dn.key]
            called = {each.dn: each for each in self._called(pair.outgoing.pointing["members"])}
            members, present = called.keys(), [*map(names.parse, self._there.dialect.members(group))]
            if members != set(present):
                ours, are_ours = self._ours
                # By the names that they have once those are changed which change.
                present = [ours.get(dn.key, dn) for dn in present]
            else:
                are_ours = ()
            self._members[pair.dn.key] = tuple(map(str, present))
            add = sorted(members - set(present), key=lambda dn: dn.key)
            remove = [dn for dn in present if dn not in members and dn.key in are_ours and dn.key not in going]
            if not add and not remove:
                continue
            self._look_up([called[dn] for dn in add])
            if pair.entry is not None:
                self.read.add(group.dn.key)
            now: dict[str, list[Value]] = {self._there.dialect.member_attribute(group): [*map(str, present)]}
            renamed = Entry(pair.dn, group.attributes | (now if present else {}))
            changes = self._there.dialect.member_change(renamed, add, remove)
            leaving = set(remove)
            then = [*(dn for dn in present if dn not in leaving), *add]
            self._members[pair.dn.key] = tuple(map(str, then))
            named = Namesakes(self._there).around([*map(str, present)], [*map(str, then)], of_many=True)
            change = FieldChange("members", *named)
            yield group, Set(pair.dn, tuple(changes)), change

    @cached_property
    def _ours(self) -> tuple[Mapping[str, DN], Container[str]]:
        """The names of what came from here: by the keys of the names now, what they will be; and the keys of those."""
        ours: SpilledMap[DN] = self.spill.map(DN)
        # Where only a part is sent, or who goes is left alone, nothing is said of the others.
        is_partial = self._request.under or self._rules.gone == "leave"
        for of, counterparts in () if is_partial else self._counterparts.items():
            for here in counterparts.known_before(others=self._counterparts[GROUP] if of == ACCOUNT else ()):
                if (entry := counterparts.matched(here)) is not None:
                    ours[entry.dn.key] = entry.dn
        for pair in self.pairs:
            if pair.entry is not None:
                ours[pair.entry.dn.key] = pair.dn
        return ours, self.spill.set(dn.key for dn in ours.values())
