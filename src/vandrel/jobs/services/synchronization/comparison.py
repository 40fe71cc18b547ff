"""What is to be in the other directory beside what is there: who is new, who differs, who goes, what others changed."""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property, partial
from itertools import chain

from msgspec import Struct, structs

from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.spilled import Spill, SpilledMap, SpilledSet
from vandrel.errors import Code, Finding, Location
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.common.report import count
from vandrel.jobs.services.profile import Profile
from vandrel.jobs.services.synchronization.counterparts import Counterparts
from vandrel.jobs.services.synchronization.differences import Conflict, Difference, Differences, is_as_sent, is_in_place
from vandrel.jobs.services.synchronization.outgoing import Outgoing, Pair, Selection
from vandrel.jobs.services.synchronization.there import (
    AT_ONCE,
    MEMBERS,
    NAME,
    STANDS,
    changed_there,
    read_there,
    with_links,
)
from vandrel.lazy_list import LazyList, LazyMap, LazyPart
from vandrel.objects.context import Context
from vandrel.record.links import Link, LinksBefore

#: The share of those copied before who may go at once unless somebody says more, and the number that always may.
_MOST_SHARE, _MOST = 0.05, 3
#: What happens to who goes.
GONE = {"disable": "disabled", "delete": "deleted"}


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


class _Row(Struct, frozen=True):
    """A pair as it waits: which of those that are sent it is, and the name that it is to have there."""

    number: int
    dn: DN


class Called(Struct, frozen=True):
    """The name that an object is to have there, as text, and its identifier if it has that name now; else empty."""

    name: str
    identifier: str

    @property
    def dn(self) -> DN:
        """The name."""
        return DN.read(self.name)


class _Sent(Struct, frozen=True):
    """What the next run needs to know of the object of a pair: its identifier there, and the values that it has."""

    number: int
    identifier: str
    values: dict[str, tuple[str, ...]]


class Comparison:
    """Everybody who is sent, beside what is there; what is known of each of them waits in a temporary file.

    Attributes:
        spill: where it waits.
        settled: how many accounts are there as they were sent, and are to stay so: nothing more is known of them.
        pairs: the others who are sent, accounts first; who is not there, and may not log on here, is not among them.
        gone: who was copied there before and is not sent any more, by the identifier here.
        findings: what must be known, and what stops it.
        conflicts: what others changed there since it was sent.
        contested: how many objects would change, had not others changed on them all that differs.
        left_out: how many are not sent because they may not log on.
        strangers: what people call the accounts there that came from elsewhere.
        members: the members of the groups that are sent as they are to be, by the keys of the groups' names there.
        read: the keys of the names of those there that change, or are pointed at.

    """

    def __init__(
        self, here: Context, there: Context, links_before: LinksBefore, request: SynchronizeRequest,
        since: datetime | None = None,
    ) -> None:  # fmt: skip
        """Read both directories; the other only as far as it was changed `since`, if that is given."""
        spill = self.spill = Spill()
        self.findings: list[Finding] = []
        self.conflicts: list[Conflict] = []
        self.left_out, self.settled, self.contested = 0, 0, 0
        self._here, self._there, self._links_before, self._request = here, there, links_before, request
        self._rules = request.profile.copying
        self._differences = Differences(
            there, links_before, self.values, mark=self._rules.identifier, overwrite=request.overwrite
        )
        selection = Selection(here, there, request.profile, request.under)
        self._outgoing = {ACCOUNT: spill.list(Outgoing), GROUP: spill.list(Outgoing)}
        #: What those that are sent are called there, by the keys of their names here.
        self._names: SpilledMap[Called] = spill.map(Called)
        self._counterparts: dict[str, Counterparts] = {}
        for of in self._outgoing:
            changed = changed_there(there, of, since) if since is not None else None
            some = selection.people() if of == ACCOUNT else selection.groups()
            unknown = self._take_all(some, of) if changed is None else self._take_unsettled(some, of, changed)
            entries = read_there(there, of, links_before, unknown, self._rules, changed)
            counterparts = self._counterparts[of] = Counterparts(
                spill, there, entries, of, self._rules, links_before, is_recent=since is not None
            )
            counterparts.match(unknown, request.same, request.new)
        self.findings += selection.findings
        self.findings += (finding for each in self._counterparts.values() for finding in each.findings)
        self._sent = spill.list(_Sent)
        self.members: SpilledMap[tuple[str, ...]] = spill.map(tuple[str, ...])
        self.read = spill.set()
        #: How many accounts that are sent are there.
        self._there_already = self.settled
        #: The units there in which they are to stand, by the keys of their names.
        self._units: dict[str, DN] = {}
        self._rows = {of: spill.list(_Row, self._paired(of)) for of in self._outgoing}
        self.pairs: Sequence[Pair] = LazyList(
            [LazyPart.of(LazyMap(rows, partial(self._pair, of))) for of, rows in self._rows.items()]
        )
        self.gone = self._not_sent()
        others = self._counterparts[ACCOUNT].strangers() if since is None else ()
        self.strangers = spill.list(str, map(there.label, others))

    def _take_all(self, some: Iterable[Outgoing], of: str) -> Sequence[Outgoing]:
        """Keep those of a type that are sent; it must be found out of all of them who they are there."""
        for each in some:
            self._outgoing[of].append(each)
        return self._outgoing[of]

    def _take_unsettled(self, some: Iterable[Outgoing], of: str, changed: Iterable[Entry]) -> Sequence[Outgoing]:
        """Keep those of a type that are sent, without those that are there as they were sent, and are to stay so.

        Returns those of whom it must be found out who they are there: of the others, it is taken that they are there.

        `changed` is what was changed there.
        """
        outgoing, unlinked = self._outgoing[of], array("L")
        touched = {entry.identifier for entry in changed}
        touched |= {entry.text(self._rules.identifier) for entry in changed if self._rules.identifier}
        # Those of whom it must be seen first what those are called there whom they point at.
        waiting = self.spill.list(Outgoing)
        for each, link in with_links(some, self._links_before):
            if link is None or not link.values:
                unlinked.append(len(outgoing))
            elif of == ACCOUNT and touched.isdisjoint((link.here, link.there)) and is_in_place(link, each.stands):
                self._names[each.dn.key] = Called(link.values[NAME][0], link.there)
                if any(each.pointing.values()):
                    waiting.append(each)
                    continue
                if self._settle(each, link):
                    continue
            outgoing.append(each)
        for each, link in with_links(waiting, self._links_before):
            if link is None or not self._settle(each, link):
                outgoing.append(each)
        return LazyMap(unlinked, outgoing.__getitem__)

    def _settle(self, each: Outgoing, link: Link) -> bool:
        """Count an account that is in its place, if it is to be as it was sent, and all that it points at is in place.

        Then no more than its name there need be known.
        """
        pointed = chain.from_iterable(each.pointing.values())
        if any(names.parse(text).key not in self._names for text in pointed):
            return False
        is_settled = is_as_sent(link, self.values(each), each.stands, link.values[NAME][0])
        self.settled += is_settled
        return is_settled

    # --- who is whom

    def _paired(self, of: str) -> Iterator[_Row]:
        counterparts, outgoing = self._counterparts[of], self._outgoing[of]
        for number, (each, _) in enumerate(with_links(outgoing, self._links_before)):
            if each.identifier in counterparts.doubtful:
                continue
            entry = counterparts.matched(each.identifier)
            if entry is None and not each.is_enabled:
                self.left_out += 1
                continue
            self._there_already += of == ACCOUNT and entry is not None
            yield _Row(number, self._called_there(each, entry))

    def _called_there(self, each: Outgoing, entry: Entry | None) -> DN:
        """The name that an object is to have there, of which note is taken."""
        dn = self._name_there(each, entry)
        keeps_it = entry is not None and dn is entry.dn
        self._names[each.dn.key] = Called(str(dn), entry.identifier if entry is not None and keeps_it else "")
        if not keeps_it and dn.parent_key not in self._units:
            self._units[dn.parent_key] = dn.parent
        return dn

    def _name_there(self, each: Outgoing, entry: Entry | None) -> DN:
        """The name that an object is to have there; beside another of the same name, the logon name tells them apart.

        An object whose name is the one that was sent stays where somebody there has moved it since.
        """
        there, link = self._there, self._links_before.get(each.identifier)
        if entry is not None and link is not None and link.values.get(STANDS) == each.stands:
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

    @cached_property
    def _names_there(self) -> SpilledSet:
        """The keys of the names that are in use there, or will be: looked at once anybody gets another one."""
        return self.spill.set(dn.key for counterparts in self._counterparts.values() for dn in counterparts.names())

    def each_pair(self) -> Iterator[Pair]:
        """The pairs, one after the other."""
        for of, rows in self._rows.items():
            for start in range(0, len(rows), AT_ONCE):
                part = rows[start : start + AT_ONCE]
                first = part[0].number
                outgoing = self._outgoing[of][first : part[-1].number + 1]
                self._links_before.look_ahead([each.identifier for each in outgoing])
                for row in part:
                    yield self._pair_of(outgoing[row.number - first], row.dn)

    def standing(self) -> Iterator[DN]:
        """The names there of all that is sent and keeps its name."""
        return (each.dn for each in self._names.values() if each.identifier)

    def groups(self) -> Iterator[Pair]:
        """The groups among the pairs."""
        return (self._pair(GROUP, row) for row in self._rows[GROUP])

    def _pair(self, of: str, row: _Row) -> Pair:
        return self._pair_of(self._outgoing[of][row.number], row.dn)

    def _pair_of(self, outgoing: Outgoing, dn: DN) -> Pair:
        entry = self._counterparts[outgoing.object_type].matched(outgoing.identifier)
        link = self._links_before.get(outgoing.identifier) if entry is None else None
        return Pair(outgoing, entry, dn, link.there if link is not None else "")

    def known_before(self, of: str) -> Iterator[Entry]:
        """What was copied there by earlier runs and is there still, of a type."""
        entries = map(self._counterparts[of].matched, self._originals(of))
        return (entry for entry in entries if entry is not None)

    def _originals(self, of: str) -> Iterator[str]:
        return self._counterparts[of].known_before(others=self._counterparts[GROUP] if of == ACCOUNT else ())

    def _not_sent(self) -> dict[str, Entry]:
        """Who was copied there before and is not sent any more; and what speaks against so many."""
        if self._rules.gone == "leave" or self._request.under:
            return {}
        people, accounts = self._outgoing[ACCOUNT], self._counterparts[ACCOUNT]
        known, unsent = sum(1 for _ in self._originals(ACCOUNT)), dict[str, Entry]()
        if known != self._there_already - accounts.recognized:
            sent = self.spill.set(each.identifier for each in people)
            standing = self.spill.set(each.identifier for each in self._names.values())
            for here in self._originals(ACCOUNT):
                if here in sent:
                    continue
                entry = accounts.matched(here)
                if entry is not None and entry.identifier not in standing:
                    unsent[here] = self._differences.complete(entry, here)
        if self._rules.gone == "disable":
            unsent = {here: entry for here, entry in unsent.items() if self._there.one(entry, "enabled") != "no"}
        most = self._rules.most_gone if self._request.most_gone is None else self._request.most_gone
        if most is None:
            most = max(_MOST, int(known * _MOST_SHARE))
        if not people and not self.settled and known:
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
        return (each.dn for each in self.called(pointed))

    def called(self, pointed: Iterable[str]) -> Iterator[Called]:
        """What those of these objects here are called there that are sent as well."""
        found = (self._names.get(names.parse(text).key) for text in pointed)
        return (each for each in found if each is not None)

    def look_up(self, called: Iterable[Called]) -> None:
        """Take note of objects there that are pointed at: that they exist, and what they are known by."""
        for each in called:
            if each.identifier:
                self.read.add(each.dn.key)
                self._there.directory.remember(each.dn, each.identifier)

    def link(self, pair: Pair, identifier: str, values: Mapping[str, tuple[str, ...]] | None = None) -> Link:
        """What the next run needs to know of one object."""
        link_values = self.values(pair.outgoing) if values is None else values
        more: dict[str, tuple[str, ...]] = {STANDS: pair.outgoing.stands, NAME: (str(pair.dn),)}
        if pair.outgoing.object_type == GROUP:
            more[MEMBERS] = self.members.get(pair.dn.key, ())
        return Link(pair.outgoing.identifier, identifier, {**link_values, **more})

    def links(self) -> Iterator[tuple[DN, Link]]:
        """What the next run needs to know of those who are there already, once they have been compared."""
        for sent in self._sent:
            pair = self.pairs[sent.number]
            yield pair.dn, self.link(pair, sent.identifier, sent.values)

    def links_of_disabled(self) -> Iterator[tuple[DN, Link]]:
        """The same of those who are not sent any more and were disabled: that they are is nobody else's doing."""
        for here, entry in self.gone.items():
            if (link := self._links_before.get(here)) is not None:
                yield entry.dn, structs.replace(link, values={**link.values, "enabled": ("no",)})

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
        if pair.entry is not None and self._differences.is_as_sent(pair, pair.entry):
            return False
        self.look_up(self.called(chain.from_iterable(pair.outgoing.pointing.values())))
        if pair.entry is None:
            return False
        self.read.add(pair.entry.dn.key)
        compared = self._differences.of(pair, pair.entry)
        self.conflicts += compared.conflicts
        self._sent.append(_Sent(number, pair.entry.identifier, dict(compared.values)))
        is_to_change = bool(compared.difference.changes)
        self.contested += bool(compared.conflicts) and not is_to_change
        return is_to_change

    def difference(self, number: int) -> Difference:
        """What changes on the object of a pair that is there."""
        pair = self.pairs[number]
        assert pair.entry is not None
        return self._differences.of(pair, pair.entry).difference
