"""The change that makes another directory what a profile says it should be, worked out as any other."""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from functools import partial
from heapq import nsmallest
from itertools import chain
from typing import Any

from msgspec import Struct, structs

from vandrel.charter.passwords import check
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.operations import Change
from vandrel.directory.spilled import SpilledMap
from vandrel.errors import Finding
from vandrel.fields import ACCOUNT, GROUP, UNIT
from vandrel.gc_control import gc_paused
from vandrel.jobs.common.new_object import new_object_steps
from vandrel.jobs.common.proposal import (
    Action,
    Credential,
    FieldChange,
    LazyChanges,
    ObjectChange,
    Passwords,
    Proposal,
    Work,
    unique,
)
from vandrel.jobs.common.report import Table, count
from vandrel.jobs.lifecycle.delete import changes_of_deletion, work_out_deletion
from vandrel.jobs.services.synchronization.comparison import GONE, Comparison, SynchronizeRequest
from vandrel.jobs.services.synchronization.differences import Difference
from vandrel.jobs.services.synchronization.memberships import Memberships
from vandrel.jobs.services.synchronization.outgoing import Pair
from vandrel.jobs.services.synchronization.there import VERSION
from vandrel.lazy_list import LazyList, LazyPart
from vandrel.objects.context import Context
from vandrel.objects.view import shown_values
from vandrel.record.links import Link, Links
from vandrel.secret import Secret
from vandrel.steps.plan import RunResult
from vandrel.steps.references import addition_apart, with_references
from vandrel.steps.step import Add, Password, Rename, Set, Step

#: What a change concerns, as it is kept until somebody looks at it: a new unit; the number of a pair, for somebody new;
#: its complement, for who differs; a group, or who goes.
_Concerned = DN | int | Difference | ObjectChange

#: How far the clocks of two machines may be apart.
_SKEW = timedelta(minutes=5)
#: Objects up to which each is shown in full, and rows of a table that people see.
_IN_FULL, _SHOWN = 10, 10
#: New objects whose steps are worked out together.
_TOGETHER = 1000


class _NewObject(Struct, frozen=True):
    """A new object as it waits: what it has, and the changes that follow, right after it and once all is there.

    Values are text or octets, and changes what they are made of.
    """

    dn: DN
    attributes: dict[str, list[Any]]
    was: str
    after: list[tuple[str, tuple[Any, ...], tuple[Any, ...], bool]]
    later: list[tuple[str, tuple[Any, ...], tuple[Any, ...], bool]]

    def steps(self, which: int) -> list[Step]:
        """Its steps: those by which it comes to be; or, with 1, those that must follow once all is there."""
        changes = tuple(Change(*each) for each in (self.later if which else self.after))
        steps: list[Step] = [] if which else [Add(self.dn, self.attributes, self.was)]
        return [*steps, Set(self.dn, changes)] if changes else steps


def synchronize(here: Context, there: Context, links: Links, request: SynchronizeRequest) -> Proposal:
    """Propose what makes the other directory what it should be.

    Raises:
        VandrelError: what reading either directory raises; ``ambiguous`` and ``not-found`` for an answer.

    """
    start, last = datetime.now(UTC), links.last_run() if request.recent else None
    since = last - _SKEW if last is not None else None
    with gc_paused():
        comparison = Comparison(here, there, links.read(), request, since)
        return _Change(here, there, links, request, comparison, start).proposal()


class _Change:
    """From a comparison to steps."""

    def __init__(
        self, here: Context, there: Context, links: Links, request: SynchronizeRequest, comparison: Comparison,
        start: datetime,
    ) -> None:  # fmt: skip
        self._here, self._there, self._links, self._request = here, there, links, request
        self._comparison, self._start = comparison, start
        #: The numbers of the pairs that are new, and the complements of those that change.
        self._new, self._changed = array("q"), array("q")
        self._new_groups: dict[str, Entry] = {}
        self._changed_groups = set[str]()
        for number, pair in enumerate(comparison.each_pair()):
            if comparison.compare(number, pair):
                self._changed.append(~number)
                if pair.entry is not None and pair.outgoing.object_type == GROUP:
                    self._changed_groups.add(pair.entry.dn.key)
            elif pair.entry is None:
                self._new.append(number)
                if pair.outgoing.object_type == GROUP:
                    self._new_groups[pair.dn.key] = Entry(pair.dn, self._attributes(pair))
        self._units = comparison.missing_units()
        is_deleting = request.profile.copying.gone == "delete"
        gone = [*comparison.gone.values()]
        self._deletion = work_out_deletion(there, gone) if is_deleting and gone else None
        self._disabled = [] if is_deleting else [self._disabling(entry) for entry in gone]
        says_of_others = not request.under and request.profile.copying.gone != "leave"
        memberships = Memberships(there, comparison, says_of_others=says_of_others)
        self._memberships = list(memberships.changes(self._new_groups, gone if is_deleting else ()))
        findings = [*comparison.findings, *(self._deletion.findings if self._deletion is not None else ())]
        self._findings = unique(findings)
        self._changes = self._all_changes()
        self._is_many = len(self._changes) > _IN_FULL

    def _all_changes(self) -> Sequence[ObjectChange]:
        groups = [Difference(group, group.dn, (change,), ())
                  for group, _, change in self._memberships if group.dn.key not in self._new_groups]  # fmt: skip
        deleted = changes_of_deletion(self._there, self._deletion) if self._deletion is not None else []
        one_by_one: list[_Concerned] = [*self._disabled, *groups, *deleted]
        parts: list[Sequence[_Concerned]] = [self._units, self._new, self._changed, one_by_one]
        objects = LazyList([LazyPart.of(part) for part in parts])
        return LazyChanges(objects, self._change_of_any, _action_of)

    def proposal(self) -> Proposal:
        """The change as a whole."""
        there, request, changes = self._there, self._request, self._changes
        new = self._new_pairs() if request.passwords else ()
        return Proposal(
            "synchronize",
            f"synchronize {request.name} from {self._here.directory.location}",
            f"Change {count(len(changes), 'object')} in {there.directory.location}?",
            self._work,
            changes=changes,
            findings=self._findings,
            credentials=[self._credential(pair) for pair in new if pair.outgoing.object_type == ACCOUNT],
            is_atomic=False,
            is_many=self._is_many,
            tables=self._tables(),
            summary=self._summary(),
            nothing="Nothing to change: it is there as it should be.",
            keep=self._keep_links,
        )

    def _new_pairs(self, start: int = 0, stop: int | None = None) -> Iterator[Pair]:
        """Some of those that are new, or all of them."""
        return map(self._comparison.pairs.__getitem__, self._new[start:stop])

    # --- the steps

    def _work(self, passwords: Passwords) -> Work:
        """Units; new names, so that what follows can point at them; what is new; then what changes, and who goes."""
        there = self._there
        steps = [step for unit in self._units for step in new_object_steps(there, UNIT, unit, {"protected": ("yes",)})]
        differences = (self._comparison.difference(~number) for number in self._changed)
        changing = [step for each in chain(differences, self._disabled) for step in each.steps]
        renames = [step for step in changing if isinstance(step, Rename)]
        steps += with_references(there.directory, there.dialect, renames)
        created = self._creations()
        late = list[Step]()
        for pair in self._new_pairs() if passwords.secrets else ():
            if (secret := passwords.secrets.get(pair.dn)) is not None:
                must_change = bool(there.password_rules(self._kind(pair)).rules["change"].value)
                late.append(Password(pair.dn, secret, must_change, passwords.hand_out if secret.generated else ""))
                if there.dialect.enables_last:
                    entry = Entry(pair.dn, self._attributes(pair))
                    late.append(Set(pair.dn, tuple(there.dialect.changes(entry, "enabled", ("yes",)))))
        barriers = [len(steps), len(steps) + sum(part.length for part in created)]
        others = [step for step in changing if not isinstance(step, Rename)]
        late += with_references(there.directory, there.dialect, others)
        late += [step for _, step, _ in self._memberships]
        late += self._deletion.steps if self._deletion is not None else []
        whole = LazyList([LazyPart.of(steps), *created, LazyPart.of(late)])
        findings = self._findings if self._is_many else ()  # a preview of many leaves out what the job itself found
        return Work(
            whole, sorted({number for number in barriers if 0 < number < len(whole)}), findings, self._comparison.read
        )

    def _creations(self) -> list[LazyPart[Step]]:
        """The steps that make what is new, some at a time; then those by which it points at what was made after it."""
        spill, first, later = self._comparison.spill, list[LazyPart[Step]](), list[LazyPart[Step]]()
        order: SpilledMap[int] = spill.map(int)
        for number, pair in enumerate(self._new_pairs()):
            order[pair.dn.key] = number
        new = spill.list(_NewObject)  # worked out once, and looked at again and again
        for start in range(0, len(self._new), _TOGETHER):
            lengths = [0, 0]
            for number, pair in enumerate(self._new_pairs(start, start + _TOGETHER), start):
                each = self._new_object(pair, partial(_is_coming, order, number))
                new.append(each)
                for which in (0, 1):
                    lengths[which] += len(each.steps(which))
            for which, parts in enumerate((first, later)):
                make = partial(_steps_of, new, start, start + _TOGETHER, which)
                parts.append(LazyPart(lengths[which], make))
        return [*first, *later]

    def _new_object(self, pair: Pair, is_coming: Callable[[str], bool]) -> _NewObject:
        """One new object, and what of it must follow what is coming."""
        dialect = self._there.dialect
        addition = Add(pair.dn, self._attributes(pair), pair.was)
        bare, follows = addition_apart(addition, is_coming, dialect, self._there.directory.schema)
        values = self._comparison.values(pair.outgoing)
        after = dialect.changes_after_creation(pair.outgoing.object_type, values)
        later = follows.changes if isinstance(follows, Set) else ()
        return _NewObject(
            pair.dn, bare.attributes, pair.was, *([*map(structs.astuple, some)] for some in (after, later))
        )

    def _attributes(self, pair: Pair) -> dict[str, list[Value]]:
        fields: dict[str, Sequence[str]] = dict(self._comparison.values(pair.outgoing))
        if pair.outgoing.object_type == ACCOUNT and self._there.dialect.enables_last:
            fields["enabled"] = ("no",)
        attributes = self._there.dialect.new_entry(pair.outgoing.object_type, pair.dn, fields)
        if identifier := self._request.profile.copying.identifier:
            attributes[identifier] = [pair.outgoing.identifier]
        return attributes

    def _disabling(self, entry: Entry) -> Difference:
        changes = tuple(self._there.dialect.changes(entry, "enabled", ("no",)))
        return Difference(entry, entry.dn, (FieldChange("enabled", ("yes",), ("no",)),), (Set(entry.dn, changes),))

    def _kind(self, pair: Pair) -> str:
        return next(iter(pair.outgoing.fields.get("kind", ())), "")

    def _credential(self, pair: Pair) -> Credential:
        fields, rules = pair.outgoing.fields, self._there.password_rules(self._kind(pair))

        def value(name: str) -> str:
            return next(iter(fields.get(name, ())), "")

        def find(secret: Secret) -> list[Finding]:
            words = [self._there.charter.document.organization]
            return check(secret, rules, login=value("login"), full=value("full"), words=words)

        return Credential(pair.dn, rules, "generate", value, find)

    def _keep_links(self, result: RunResult | None) -> None:
        """Keep who is whom, of those that are there now; None where nothing had to be made.

        What was sent is kept only if all of it was made: else nobody could tell a refusal from a later change.
        """
        there, comparison = self._there.directory, self._comparison
        present: SpilledMap[str] = comparison.spill.map(str)
        for start in range(0, len(self._new) if result is not None else 0, _TOGETHER):
            present.update(there.identifiers([pair.dn for pair in self._new_pairs(start, start + _TOGETHER)]))
        is_in_part = result is not None and result.is_in_part
        of_new = ((pair.dn, comparison.link(pair, present[pair.dn.key]))
                  for pair in self._new_pairs() if pair.dn.key in present)  # fmt: skip
        disabled = comparison.links_of_disabled() if self._disabled and not is_in_part else ()
        links = (structs.replace(link, values={} if is_in_part else self._with_version(dn, link))
                 for dn, link in chain(comparison.links(), of_new, disabled))  # fmt: skip
        obsolete = [*comparison.gone] if self._deletion is not None else []
        self._links.keep(links, obsolete, self._start)

    def _with_version(self, dn: DN, link: Link) -> dict[str, tuple[str, ...]]:
        """What was sent, and which version of the object that has made."""
        versions = self._there.directory.versions([dn])
        return {**link.values, VERSION: (versions[dn.key],)} if versions else link.values

    # --- as people see it

    def _change_of_any(self, each: _Concerned) -> ObjectChange:
        """What happens to a new unit, to somebody new, to who differs, or to who is deleted."""
        match each:
            case DN():
                return self._change_of_unit(each)
            case int() if each >= 0:
                return self._change_of_new(self._comparison.pairs[each])
            case int():
                return self._change_of(self._comparison.difference(~each))
            case Difference():
                return self._change_of(each)
        return each

    def _change_of_unit(self, dn: DN) -> ObjectChange:
        return ObjectChange(Action.CREATE, UNIT, dn, dn.name, self._there.place(dn.parent))

    def _change_of_new(self, pair: Pair) -> ObjectChange:
        outgoing = pair.outgoing
        fields = tuple(
            FieldChange(name, after=tuple(shown_values(self._there.fields[name], values)),
                        rule=self._request.profile.copying.build.get(name, ""))
            for name, values in self._comparison.values(outgoing).items() if values
        )  # fmt: skip
        label = next(iter(outgoing.fields.get("full", ())), "") or pair.dn.name
        place, rules = self._there.place(pair.dn.parent), self._request.profile.copying
        rule = rules.place if outgoing.object_type == ACCOUNT else rules.place_of_groups
        fields = (FieldChange("place", after=(place,), rule=rule), *fields)
        return ObjectChange(Action.CREATE, outgoing.object_type, pair.dn, label, place, fields, kind=self._kind(pair))

    def _change_of(self, each: Difference) -> ObjectChange:
        there, new = self._there, each.dn if each.dn != each.entry.dn else None
        label, place = there.label(each.entry), there.place(each.entry.dn.parent)
        object_type = there.object_type(each.entry)
        return ObjectChange(Action.CHANGE, object_type, each.entry.dn, label, place, each.changes, new_dn=new)

    def _tables(self) -> list[Table]:
        conflicts = self._comparison.conflicts
        tables = []
        if conflicts:
            rows = [(each.label, each.field, each.last_sent, each.there, each.here) for each in conflicts[:_SHOWN]]
            title = f"Changed there since it was sent, and left as it is ({len(conflicts)}); --overwrite sends it again"
            tables.append(Table("conflicts", title, ("who", "field", "sent", "there", "here"), rows, has_header=True))
        if back := [pair.dn.name for pair in self._new_pairs() if pair.was]:
            tables.append(_short("deleted", "Deleted there since it was sent: comes back", back))
        if strangers := self._comparison.strangers:
            tables.append(_short("strangers", "There, and not from here: left alone", strangers))
        return tables

    def _summary(self) -> list[str]:
        comparison, when_gone = self._comparison, self._request.profile.copying.gone
        groups = len(self._new_groups)
        regrouped = {group.dn.key for group, _, _ in self._memberships} - self._new_groups.keys()
        others = len(regrouped)
        differing = len(self._new) + len(self._changed) + len(regrouped - self._changed_groups) + comparison.contested
        same = comparison.settled + len(comparison.pairs) - differing
        figures = [
            (len(self._units), count(len(self._units), "unit")),
            (len(self._new) - groups, count(len(self._new) - groups, "account")), (groups, count(groups, "group")),
        ]  # fmt: skip
        counted = ", ".join(word for number, word in figures if number)
        rest = [
            (len(self._changed), "changed"), (others, f"{'group' if others == 1 else 'groups'} with other members"),
            (len(comparison.gone), GONE.get(when_gone, "")),
            (same, "as it should be" if same == 1 else "as they should be"),
        ]  # fmt: skip
        sentences = [f"new: {counted}"] if counted else []
        sentences += [f"{number} {word}" for number, word in rest if number]
        lines = [f"There: {'; '.join(sentences)}."] if sentences else []
        if comparison.left_out:
            lines.append(f"{count(comparison.left_out, 'account')} may not log on here, so not sent.")
        return lines


def _is_coming(order: Mapping[str, int], place: int, key: str) -> bool:
    """Whether an object is made at this place of the order, or after it."""
    return order.get(key, -1) >= place


def _steps_of(new: Sequence[_NewObject], start: int, stop: int, which: int) -> list[Step]:
    return [step for each in new[start:stop] for step in each.steps(which)]


def _action_of(each: _Concerned) -> Action:
    if isinstance(each, ObjectChange):
        return each.action
    is_new = each >= 0 if isinstance(each, int) else isinstance(each, DN)
    return Action.CREATE if is_new else Action.CHANGE


def _short(name: str, title: str, labels: Sequence[str]) -> Table:
    """The first of many labels, in their order."""
    more = [(f"and {len(labels) - _SHOWN} more",)] if len(labels) > _SHOWN else []
    rows = [*((label,) for label in nsmallest(_SHOWN, labels)), *more]
    return Table(name, f"{title} ({len(labels)})", ("who",), rows)
