"""Who there is whom here: by the identifier that a copy keeps, by the links of earlier runs, or by what both have."""

from __future__ import annotations

from array import array
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.packing import object_of
from vandrel.directory.spilled import Spill, SpilledMap, SpilledSet
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import ACCOUNT
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.services.profile import Copying
from vandrel.jobs.services.synchronization.outgoing import Outgoing
from vandrel.jobs.services.synchronization.there import bare_entry, with_links
from vandrel.objects.context import Context
from vandrel.record.links import Link, LinksBefore
from vandrel.text.string_prep import prepare


class Counterparts:
    """Finds the counterparts of objects, each once.

    Attributes:
        findings: whom only a person can match.
        doubtful: the identifiers of those here whom only a person can match.

    """

    def __init__(
        self, spill: Spill, there: Context, entries: Iterable[Entry], object_type: str, rules: Copying,
        links: LinksBefore, *, is_recent: bool,
    ) -> None:  # fmt: skip
        """Take all objects of a type there, and the links of earlier runs.

        With `is_recent`, accounts that are not among the objects are taken to be as they were sent.
        """
        self.findings: list[Finding] = []
        self.doubtful: set[str] = set()
        self._spill, self._there, self._rules, self._links = spill, there, rules, links
        self._has_bare = is_recent and object_type == ACCOUNT
        self._fields = rules.match if object_type == ACCOUNT else ["name"]
        #: By the identifier of an object here, what was recognized there as the same.
        self._recognized: SpilledMap[str] = spill.map(str)
        #: The objects there by what they are known by (`object_of`), and that by the identifiers of their originals.
        self._entries: SpilledMap[Entry] = spill.map(Entry)
        self._by_mark: SpilledMap[str] = spill.map(str)
        for entry in entries:
            there_now = object_of(entry)
            self._entries[there_now] = entry
            if rules.identifier and (mark := entry.text(rules.identifier)):
                self._by_mark[mark] = there_now

    @cached_property
    def _by_value(self) -> SpilledMap[list[str]]:
        """The objects there by the values by which people are told apart: looked at if anybody is not known yet."""
        by_value: SpilledMap[list[str]] = self._spill.map(list[str])
        for entry in self._entries.values():
            for field in self._fields:
                for value in self._there.dialect.read(entry, field):
                    key = _form(field, value)
                    by_value[key] = [*by_value.get(key, ()), object_of(entry)]
        return by_value

    @cached_property
    def _linked(self) -> SpilledSet:
        """Those there that are somebody's counterparts, now or before."""
        return self._spill.set([*(there for _, there in self._links.identifiers()), *self._by_mark.values()])

    def match(self, outgoing: Sequence[Outgoing], same: Mapping[str, str], new: frozenset[str]) -> None:
        """Find everybody's counterpart; the sure ones first, so that nobody is taken for somebody else."""
        each_known = enumerate(with_links(outgoing, self._links))
        unmatched = array("L", (n for n, (each, _) in each_known if self._known(each.identifier) is None))
        for number in unmatched:
            self._recognize(outgoing[number], same, new)

    def matched(self, here: str) -> Entry | None:
        """What an object here is there; None where it is not there."""
        there = self._recognized.get(here)
        return self._entries[there] if there is not None else self._known(here)

    def _known(self, here: str) -> Entry | None:
        """The same of those who need not be recognized: by the identifier that it keeps, or by what was sent before."""
        if (there := self._by_mark.get(here)) is not None:
            return self._entries[there]
        link = self._links.get(here)
        return self._entries.get(link.there) or self._bare(link) if link is not None else None

    def _bare(self, link: Link) -> Entry | None:
        return bare_entry(self._there, link, self._rules) if self._has_bare else None

    def known_before(self, others: Container[str] = ()) -> Iterator[str]:
        """The originals of what was copied there by earlier runs and is there still, by their identifiers.

        `others` are identifiers of objects there of another type.
        """
        yield from self._by_mark
        for here, there in self._links.identifiers():
            if here not in self._by_mark and (there in self._entries or (self._has_bare and there not in others)):
                yield here

    def names(self) -> Iterator[DN]:
        """The names of all objects there."""
        yield from (entry.dn for entry in self._entries.values())
        for link in self._links.all() if self._has_bare else ():
            if link.there not in self._entries and (bare := self._bare(link)) is not None:
                yield bare.dn

    def __contains__(self, there: object) -> bool:
        return there in self._entries

    @property
    def recognized(self) -> int:
        """How many are there that nobody had sent before."""
        return len(self._recognized)

    def strangers(self) -> Iterator[Entry]:
        """What is there and is nobody's counterpart, now or before."""
        return (entry for there, entry in self._entries.items() if there not in self._linked)

    def _recognize(self, each: Outgoing, same: Mapping[str, str], new: frozenset[str]) -> None:
        here, key = each.identifier, self._key(each)
        if key in same:
            entry = resolve(self._there, same[key], (each.object_type,))
            self._entries[object_of(entry)] = entry
            self._match(here, entry)
            return
        candidates: dict[str, Entry] = {}
        is_sure = False
        for field in self._fields:
            values = (each.name,) if field == "name" else each.fields.get(field, ())
            alike = {there: self._entries[there]
                     for value in values for there in self._by_value.get(_form(field, value), ())
                     if there not in self._linked}  # fmt: skip
            if not candidates:
                is_sure = len(alike) == 1 and (field in ("number", "name") or self._fits(each, *alike.values()))
            candidates |= alike
        if not candidates or key in new:
            return
        if is_sure and len(candidates) == 1:
            self._match(here, next(iter(candidates.values())))
            return
        self.doubtful.add(here)
        who = " and ".join(self._there.label(entry) for entry in list(candidates.values())[:3])
        what = f"whether {key} is {who} there cannot be told, so it is left out"
        first = next(iter(candidates.values()))
        word = self._there.one(first, "login") or first.dn.name
        remedy = f"if it is: --same {key}={word}; if it is somebody else: --new {key}"
        self.findings.append(Finding(Code.AMBIGUOUS, what, Location(dn=str(each.dn)), remedy, NOTE))

    def _match(self, here: str, entry: Entry) -> None:
        self._recognized[here] = object_of(entry)
        self._linked.add(object_of(entry))

    @staticmethod
    def _key(each: Outgoing) -> str:
        return next(iter(each.fields.get("login", ())), each.name)

    def _fits(self, each: Outgoing, entry: Entry) -> bool:
        """Whether nothing speaks against it: neither another number nor, where there is none, another surname."""
        for field in ("number", "surname"):
            mine, theirs = next(iter(each.fields.get(field, ())), ""), self._there.one(entry, field)
            if mine and theirs:
                return prepare(mine) == prepare(theirs)
        return False


def _form(field: str, value: str) -> str:
    return f"{field}={prepare(value)}"
