"""A roster of everybody against the directory: who joins, moves, is renamed, leaves, comes back, as one change."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence, Set
from datetime import date
from functools import cached_property

from msgspec import Struct, structs

from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.errors import Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, NAMED
from vandrel.intake.item import Item
from vandrel.jobs.accounts.rename import PARTS, Renamer
from vandrel.jobs.bulk.import_file import ImportRequest, work_out
from vandrel.jobs.bulk.propose import propose_roster
from vandrel.jobs.bulk.roster import Line, Roster, State
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.proposal import Passwords, Proposal, Work
from vandrel.jobs.common.report import Table
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.hierarchy.move import Mover, follow_groups, kind_groups, take_place
from vandrel.jobs.lifecycle.leave import LeaverReturn, LeaverRoutine, is_with_leavers, with_other_accounts
from vandrel.lazy_list import LazyList, LazyPart
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import entry_values
from vandrel.record.attic import Attic
from vandrel.steps.step import Rename
from vandrel.text.people import split_full_name
from vandrel.text.string_prep import prepare

#: The share of the roster that may leave at once unless somebody says more, and the number that always may.
_MOST_SHARE, _MOST = 0.05, 3
#: People of one sort that are shown by name.
_SHOWN = 8
#: What can become of somebody, in the order in which it is told.
_SORTS = ("joins", "comes back", "is renamed", "moves", "changes", "leaves")


class ReconcileRequest(Struct, frozen=True):
    """A roster of everybody.

    Attributes:
        file: the roster, and what its columns mean.
        most_leavers: more leavers than this stop it; None for a twentieth of the roster, and three at the least.
        last_day: the last day of who leaves; None for today. On a later day ``due`` does the rest.
        same: by the key of a row, which account it is, as typed: what somebody has answered.
        new: the keys of rows that are somebody new, though another account has the name.

    """

    file: ImportRequest
    most_leavers: int | None = None
    last_day: date | None = None
    same: Mapping[str, str] = {}
    new: frozenset[str] = frozenset()


def reconcile(context: Context, attic: Attic, request: ReconcileRequest) -> Proposal:
    """Propose what makes the directory what the roster says.

    Raises:
        Refused: the description is not one of this file.
        VandrelError: what reading the file and resolving names raises; ``charter`` where leaving has no rule.

    """
    description = structs.replace(request.file.description, mode="both", object_type=ACCOUNT)
    file = structs.replace(request.file, description=description)
    matcher = _NameMatcher(context, request)
    roster, findings = work_out(context, file, matcher.recognize)
    upkeep = _Upkeep(context, attic, description.key)
    for line in roster.lines:
        if line.state is State.NEW:
            upkeep.give_to(line)
    for line in roster.lines:
        if line.edit is not None and line.state is not State.REFUSED:
            upkeep.bring_up_to_date(line)
    leavers, leaver_findings = _leavers(context, request, roster, matcher.doubtful)
    routine = LeaverRoutine(context, request.last_day or context.charter.today())
    upkeep.leave(leavers, routine)
    findings = [*findings, *leaver_findings, *upkeep.findings]
    new = Roster([line for line in roster.lines if line.state in (State.NEW, State.REFUSED)])
    told_of = {line.item.row for line in new.lines}
    findings += [each for line in roster.lines if line.item.row not in told_of for each in line.item.findings]
    return _as_one(context, request, upkeep, new, findings, routine)


class _NameMatcher:
    """Who a row is whose key nobody has: whoever an answer names; otherwise a name that somebody has is asked about."""

    def __init__(self, context: Context, request: ReconcileRequest) -> None:
        self._context, self._request = context, request
        #: Who may be meant by a row that only a person can match: they do not leave before that is answered.
        self.doubtful: set[DN] = set()

    def recognize(self, item: Item) -> Entry | None:
        """The account of a row; None for somebody new, or where only a person can tell, which the row then says."""
        key = self._key_of(item)
        if (answer := self._request.same.get(key)) is not None:
            return resolve(self._context, answer, (ACCOUNT,))
        alike = self._by_name.get(self._name_of(item), ()) if key not in self._request.new else ()
        if not alike:
            return None
        self.doubtful |= {entry.dn for entry in alike}
        who = " and ".join(self._sentences(entry) for entry in alike[:3])
        field = self._request.file.description.key[0]
        login = self._context.one(alike[0], "login")
        remedy = f"if it is one of them: --same {key}={login}; if it is not: --new {key}"
        item.fault(field, key, Code.AMBIGUOUS, f"nobody has this {field}, and the name is that of {who}", remedy)
        return None

    def _sentences(self, entry: Entry) -> str:
        number = self._context.one(entry, "number")
        created = dict(self._context.dialect.instants(entry)).get("created")
        since = f", since {created.date().isoformat()}" if created is not None else ""
        return f"{self._context.label(entry)}, {f'number {number}' if number else 'without a number'}{since}"

    def _key_of(self, item: Item) -> str:
        return " ".join(item.one(field) for field in self._request.file.description.key)

    def _name_of(self, item: Item) -> tuple[str, str]:
        given, surname = item.one("given"), item.one("surname")
        if not surname and (whole := item.one("full")):
            parts = split_full_name(whole, self._context.charter.particles)
            given, surname = parts.given, parts.surname
        return prepare(given), prepare(surname)

    @cached_property
    def _by_name(self) -> dict[tuple[str, str], list[Entry]]:
        """The accounts by given name and surname: those of the kinds that the roster is about."""
        context, by_name = self._context, defaultdict[tuple[str, str], list[Entry]](list)
        for entry in context.directory.search(context.charter.base, where=context.dialect.filter_for(ACCOUNT)):
            name = (prepare(context.one(entry, "given")), prepare(context.one(entry, "surname")))
            by_name[name].append(entry)
        return by_name


class _Upkeep:
    """What changes for those who are there.

    Attributes:
        edits: the changes, object by object.
        people: what becomes of whom, by sort (`_SORTS`).
        findings: what must be known.

    """

    def __init__(self, context: Context, attic: Attic, key: Sequence[str]) -> None:
        self.edits: list[Edit] = []
        self.people: dict[str, list[str]] = {sort: [] for sort in _SORTS}
        self.findings: list[Finding] = []
        self._context, self._attic, self._key = context, attic, key
        self._editor = Editor(context, of_many=True)
        self._renamer = Renamer(context, self._editor)
        self._movers: dict[str, Mover] = {}

    def give_to(self, line: Line) -> None:
        """Take note of the names that somebody new gets, so that nobody else is given them."""
        if line.draft is None or line.dn is None:
            return
        for target in NAMED:
            if value := line.draft.value(target):
                self._editor.allocator.reserve(target, value, line.dn)
        self._editor.allocator.reserve_name(line.dn)

    def bring_up_to_date(self, line: Line) -> None:
        """One row of somebody who is there: back from the leavers, renamed, moved, or with other fields."""
        assert line.edit is not None
        context, entry = self._context, line.edit.entry
        rules = context.charter.leaving(context.one(entry, "kind"))
        if rules is not None and is_with_leavers(context, entry, rules):
            self._come_back(line, entry)
            return
        kind = line.item.one("kind") or context.one(entry, "kind")
        is_of_new_kind = prepare(kind) != prepare(context.one(entry, "kind"))
        if is_of_new_kind and kind not in context.charter.document.kinds:
            kinds = ", ".join(context.charter.document.kinds)
            line.item.fault(
                "kind", kind, Code.UNKNOWN_KIND, f"there is no kind of account {kind!r}", f"there are: {kinds}"
            )
            line.state = State.REFUSED
            return
        assignments = list(line.assignments) + ([Assignment("kind", "=", (kind,))] if is_of_new_kind else [])
        # Who was found by an answer and not by the key gets the key of the row.
        known_by = {name: line.item.one(name) for name in self._key if line.item.one(name)}
        assignments += [Assignment(name, "=", (value,)) for name, value in known_by.items()
                        if prepare(context.one(entry, name)) != prepare(value)]  # fmt: skip
        if line.state is State.SAME and len(assignments) == len(line.assignments):
            return
        parts = {each.field: each.values[0] for each in assignments if each.field in PARTS and each.values}
        renamed = {name: value for name, value in parts.items() if context.one(entry, name) != value}
        try:
            edit = self._renewed(entry, kind, assignments, renamed)
        except VandrelError as error:
            for finding in error.findings:
                line.item.note(structs.replace(finding, where=Location(row=line.item.row)))
            line.state = State.REFUSED
            return
        if edit.steps:
            is_moved = any(each.field == "place" for each in edit.differences)
            self._add("is renamed" if renamed else "moves" if is_moved else "changes", edit)

    def _renewed(
        self, entry: Entry, kind: str, assignments: Sequence[Assignment], renamed: Mapping[str, str]
    ) -> Edit:  # fmt: skip
        """The change to one account: names by the rules, then what follows from the fields that decide the place."""
        context = self._context
        before = entry_values(context, entry)
        after = before | {each.field: each.values[0] for each in assignments if each.values and each.operator == "="}
        rules = context.charter.document.kinds
        others = [each for each in assignments if each.field not in PARTS]
        if kind in rules and kind != before["kind"]:
            typed = {each.field for each in others}
            others += [Assignment(name, "=", (context.charter.fill(pattern, after),))
                       for name, pattern in rules[kind].sets.items() if name not in typed]  # fmt: skip
        if kind in rules and any(before[name] != after[name] for name in after if name in before):
            old = kind_groups(context, rules[before["kind"]], before) if before["kind"] in rules else []
            new = kind_groups(context, rules[kind], after)
            pairs = [*((name, "") for name in old if name not in new), *(("", name) for name in new if name not in old)]
            others += follow_groups(context, entry, pairs)
        edit = self._renamer.rename(entry, renamed, others=others) if renamed else self._editor.edit(entry, others)
        if kind in rules and before["kind"] in rules:
            homes = [context.charter.place_of(rules[before["kind"]].place, before),
                     context.charter.place_of(rules[kind].place, after)]  # fmt: skip
            # Who stands elsewhere already stands there on purpose; the audit tells of it.
            if homes[0] != homes[1]:
                self._move(edit, entry, places.to_text(homes[1]))
        return edit

    def _move(self, edit: Edit, entry: Entry, home: str) -> None:
        mover = self._movers.get(home) or self._movers.setdefault(home, Mover(self._context, home))
        renamings = [step for step in edit.steps if isinstance(step, Rename)]
        name = renamings[-1].new.name if renamings else mover.free_name(entry)
        edit.steps = [step for step in edit.steps if not isinstance(step, Rename)]
        take_place(edit, mover.move(entry, fields_follow=False, name=name))

    def _come_back(self, line: Line, entry: Entry) -> None:
        """Give back what the routine took, with what the roster says now."""
        earlier = self._attic.leaver(entry.identifier)
        if earlier is None:
            what = f"{self._context.label(entry)} is with the leavers, and what it had before is not known here"
            remedy = "give it back by hand: vandrel enable, move, and edit NAME groups+=..."
            line.item.note(Finding(Code.NOT_FOUND, what, Location(row=line.item.row), remedy))
            line.state = State.REFUSED
            return
        back = LeaverReturn(self._context, self._editor, entry, earlier)
        self._add("comes back", back.person([each for each in line.assignments if each.field not in PARTS]))
        self.edits += back.held()
        self.findings += back.findings

    def leave(self, people: Sequence[Entry], routine: LeaverRoutine) -> None:
        """Those who are in no row: the leaver's routine, or its last day alone where that is still to come."""
        if routine.last_day > self._context.charter.today():
            day = Assignment("ends", "=", (routine.last_day.isoformat(),))
            edits = [self._editor.edit(entry, [day]) for entry in people]
        else:
            edits = routine.edits(people)
            self.findings += routine.findings
        leaving = {entry.dn for entry in people}
        self.people["leaves"] += [self._context.label(edit.entry) for edit in edits if edit.entry.dn in leaving]
        self.edits += edits

    def _add(self, sort: str, edit: Edit) -> None:
        self.edits.append(edit)
        self.people[sort].append(self._context.label(edit.entry))


def _leavers(
    context: Context, request: ReconcileRequest, roster: Roster, doubtful: Set[DN]
) -> tuple[list[Entry], list[Finding]]:  # fmt: skip
    """Who is in no row and has not left yet, with their other accounts; and what speaks against so many."""
    matched = {line.existing for line in roster.lines if line.existing is not None} | doubtful
    people = []
    for missing in roster.missing:
        if missing.dn in matched or (entry := context.directory.get(missing.dn)) is None:
            continue
        rules = context.charter.leaving(context.one(entry, "kind"))
        if rules is None or not is_with_leavers(context, entry, rules):
            people.append(entry)
    allowed = request.most_leavers
    if allowed is None:
        allowed = max(_MOST, round(_MOST_SHARE * len(roster.lines)))
    findings = []
    if len(people) > allowed:
        what = f"{len(people)} people of the directory are in no row, and {allowed} may leave at once"
        remedy = f"is the roster whole? If so: --most-leavers {len(people)}"
        findings.append(Finding(Code.ROWS, what, remedy=remedy))
    return with_other_accounts(context, people), findings


def _as_one(
    context: Context, request: ReconcileRequest, upkeep: _Upkeep, new: Roster, findings: Sequence[Finding],
    routine: LeaverRoutine,
) -> Proposal:  # fmt: skip
    """One proposal of the new people's and of everybody else's."""
    name = request.file.table.path.name
    options = request.file.options
    joining = propose_roster(context, new, ACCOUNT, options, "reconcile", name, findings)
    rest = propose(context, upkeep.edits, (), "reconcile")
    upkeep.people["joins"] = [change.label for change in joining.changes]

    def work(passwords: Passwords) -> Work:
        # Who joins comes first: by the names that others have until they are renamed, and to be pointed at by them.
        first, then = joining.work(passwords), rest.work(Passwords())
        steps = LazyList([LazyPart.of(first.steps), LazyPart.of(then.steps)])
        return Work(steps, [*first.barriers, len(first.steps)], first.findings, first.read | then.read)

    people = sum(map(len, upkeep.people.values()))
    question = "Change 1 person?" if people == 1 else f"Change {people} people?"
    return structs.replace(
        joining, title=f"reconcile with {name}", question=question,
        work=work, changes=[*rest.changes, *joining.changes],
        findings=[*joining.findings, *rest.findings],
        dry_batches=None, outcomes=None, rows=(), leavers=routine.had, tables=[*_tables(upkeep)],
        summary=_summary(upkeep), nothing="The directory is as the roster says.",
        left_out=rest.left_out,
    )  # fmt: skip


def _tables(upkeep: _Upkeep) -> Iterator[Table]:
    """Who is concerned by what, the first ones by name."""
    rows = []
    for sort, people in upkeep.people.items():
        if people:
            more = f" and {len(people) - _SHOWN} more" if len(people) > _SHOWN else ""
            rows.append((sort, str(len(people)), ", ".join(people[:_SHOWN]) + more))
    if rows:
        yield Table("people", "", ("what", "people", "who"), rows)


def _summary(upkeep: _Upkeep) -> list[str]:
    if upkeep.people["leaves"]:
        return ["Whoever comes back: vandrel leave NAME --back"]
    return []
