"""Who there is whom here: by the identifier that a copy keeps, by the links of earlier runs, or by what both have."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from functools import cached_property

from vandrel.directory.entry import Entry
from vandrel.errors import NOTE, Code, Finding, Location
from vandrel.fields import ACCOUNT
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.services.profile import Copying
from vandrel.jobs.services.synchronization.outgoing import Outgoing
from vandrel.objects.context import Context
from vandrel.record.links import Link
from vandrel.text.string_prep import prepare


class Counterparts:
    """Finds the counterparts of objects, each once.

    Attributes:
        findings: whom only a person can match.
        matched: by the identifier of an object here, what it is there.
        doubtful: the identifiers of those here whom only a person can match.

    """

    def __init__(
        self, there: Context, entries: Iterable[Entry], object_type: str, rules: Copying, links: Mapping[str, Link]
    ) -> None:
        """Take all objects of a type there, and the links of earlier runs."""
        self.findings: list[Finding] = []
        self.matched: dict[str, Entry] = {}
        self.doubtful: set[str] = set()
        self._there, self._rules, self._links = there, rules, links
        self._fields = rules.match if object_type == ACCOUNT else ["name"]
        #: The objects there: by the identifier that they keep of their original, and by their own.
        self._by_mark: dict[str, Entry] = {}
        self.by_identifier: dict[str, Entry] = {}
        for entry in entries:
            self.by_identifier[entry.identifier] = entry
            if rules.identifier and (mark := entry.text(rules.identifier)):
                self._by_mark[mark] = entry
        self._linked = {link.there for link in links.values()} | {e.identifier for e in self._by_mark.values()}

    @cached_property
    def _by_value(self) -> dict[tuple[str, str], list[Entry]]:
        """The objects there by the values by which people are told apart: looked at if anybody is not known yet."""
        by_value: dict[tuple[str, str], list[Entry]] = defaultdict(list)
        for entry in self.by_identifier.values():
            for field in self._fields:
                for value in self._there.dialect.read(entry, field):
                    by_value[field, prepare(value)].append(entry)
        return by_value

    def match(self, outgoing: Iterable[Outgoing], same: Mapping[str, str], new: frozenset[str]) -> None:
        """Find everybody's counterpart; the sure ones first, so that nobody is taken for somebody else."""
        unmatched = []
        for each in outgoing:
            here = each.identifier
            link = self._links.get(here)
            entry = self._by_mark.get(here) or (self.by_identifier.get(link.there) if link is not None else None)
            if entry is None:
                unmatched.append(each)
            else:
                self.matched[here] = entry
        for each in unmatched:
            self._recognize(each, same, new)

    def known_before(self) -> dict[str, Entry]:
        """What was copied there by earlier runs and is there still, by the identifier of its original."""
        by_here = {here: self.by_identifier[link.there] for here, link in self._links.items()
                 if link.there in self.by_identifier}  # fmt: skip
        return by_here | self._by_mark

    def strangers(self) -> list[Entry]:
        """What is there and is nobody's counterpart, now or before."""
        ours = {entry.identifier for entry in self.matched.values()} | self._linked
        return [entry for identifier, entry in self.by_identifier.items() if identifier not in ours]

    def _recognize(self, each: Outgoing, same: Mapping[str, str], new: frozenset[str]) -> None:
        here, key = each.identifier, self._key(each)
        if key in same:
            self.matched[here] = resolve(self._there, same[key], (each.object_type,))
            return
        candidates: dict[str, Entry] = {}
        is_sure = False
        for field in self._fields:
            values = (each.name,) if field == "name" else each.fields.get(field, ())
            alike = {e.identifier: e for value in values for e in self._by_value.get((field, prepare(value)), ())
                     if e.identifier not in self._linked}  # fmt: skip
            if not candidates:
                is_sure = len(alike) == 1 and (field in ("number", "name") or self._fits(each, *alike.values()))
            candidates |= alike
        if not candidates or key in new:
            return
        if is_sure and len(candidates) == 1:
            self.matched[here] = next(iter(candidates.values()))
            self._linked.add(self.matched[here].identifier)
            return
        self.doubtful.add(here)
        who = " and ".join(self._there.label(entry) for entry in list(candidates.values())[:3])
        what = f"whether {key} is {who} there cannot be told, so it is left out"
        first = next(iter(candidates.values()))
        word = self._there.one(first, "login") or first.dn.name
        remedy = f"if it is: --same {key}={word}; if it is somebody else: --new {key}"
        self.findings.append(Finding(Code.AMBIGUOUS, what, Location(dn=str(each.dn)), remedy, NOTE))

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
