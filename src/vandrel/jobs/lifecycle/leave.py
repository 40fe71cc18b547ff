"""The leaver's routine of the charter: carried out, dated, and turned round for whoever comes back."""

from __future__ import annotations

import shlex
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import date
from typing import Any

from msgspec import Struct, structs

from vandrel.charter.document import Leaving
from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.member_lists import BY_NAME
from vandrel.directory.port import Scope
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, GROUP, Shape
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.proposal import Proposal
from vandrel.jobs.common.report import count
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.common.same_person import accounts_of
from vandrel.jobs.common.selection import Selection, select
from vandrel.jobs.hierarchy.move import Mover, take_place
from vandrel.objects.context import Context
from vandrel.objects.namesakes import Namesakes
from vandrel.objects.pattern_values import entry_values, needed_values
from vandrel.record.attic import Attic
from vandrel.steps.references import pointing_at
from vandrel.text.string_prep import prepare

#: What the routine changes in any case, and a return gives back.
_ALWAYS = ("enabled", "ends")


class LeaveRequest(Struct, frozen=True):
    """Who leaves.

    Attributes:
        selection: the accounts.
        on: the last day; None for today. On a later day the routine is carried out by ``due``, the day after.
        successor: who takes mail or reports over, where the charter says so.
        manager: whom the reports get, in place of what the charter says.

    """

    selection: Selection
    on: date | None = None
    successor: str = ""
    manager: str = ""


class ReturnRequest(Struct, frozen=True):
    """Who comes back, and fields with other values than before; a password among them."""

    selection: Selection
    assignments: Sequence[Assignment] = ()


def leave(context: Context, request: LeaveRequest) -> Proposal:
    """Propose the leaver's routine for accounts and for the other accounts of the same people.

    Raises:
        VandrelError: ``charter`` where it has no routine for the kind; what selecting and resolving raise.

    """
    chosen = select(context, request.selection, (ACCOUNT,))
    people = with_other_accounts(context, chosen)
    last_day, of_one = request.on or context.charter.today(), len(people) == 1
    routine = LeaverRoutine(context, last_day, request.successor, request.manager, of_one=of_one)
    for entry in people:
        routine.must_have(entry)
    if routine.last_day > context.charter.today():
        return _dated(context, people, routine)
    edits = routine.edits(people)
    logins = [context.one(entry, "login") for entry in people]  # their places are other ones afterwards
    who = shlex.quote(logins[0]) if len(logins) == 1 and logins[0] else "NAME"
    proposal = propose(context, edits, routine.passwords, "leave", passwords_for=routine.barred, about=people)
    return structs.replace(
        proposal, question=f"Let {count(len(people), 'account')} leave?", leavers=routine.had, is_atomic=False,
        findings=[*proposal.findings, *routine.findings, *_told_of_others(context, people, chosen)],
        afterwards=f"Whoever comes back: vandrel leave {who} --back",
    )  # fmt: skip


def _told_of_others(context: Context, people: Sequence[Entry], chosen: Sequence[Entry]) -> Iterator[Finding]:
    named = {entry.dn for entry in chosen}
    for entry in people:
        if entry.dn not in named:
            what = f"{context.label(entry)} is of the same person, by its number, and leaves too"
            yield Finding(Code.REFUSED, what, Location(dn=str(entry.dn)), severity=NOTE)


def with_other_accounts(context: Context, entries: Sequence[Entry]) -> list[Entry]:
    """The accounts, and all others of the same people."""
    people = {entry.dn.key: entry for entry in entries}
    for entry in entries:
        people |= {other.dn.key: other for other in accounts_of(context, entry)}
    return list(people.values())


def _dated(context: Context, people: Sequence[Entry], routine: LeaverRoutine) -> Proposal:
    """The last day alone: the directory keeps the accounts out from the day after, and ``due`` does the rest."""
    editor, day = Editor(context), routine.last_day.isoformat()
    edits = [editor.edit(entry, [Assignment("ends", "=", (day,))]) for entry in people]
    then = [line for entry in people for line in routine.in_words(entry)]
    proposal = propose(context, edits, (), "leave", about=people)
    summary = ["The day after, vandrel due --carry-out does the rest:", *then]
    question = f"Let {count(len(people), 'account')} leave on {day}?"
    return structs.replace(proposal, title=f"{proposal.title} on {day}", question=question, summary=summary)


class LeaverRoutine:
    """Works out what happens when people leave.

    Attributes:
        last_day: their last day.
        had: what they had before, by the identifiers of their accounts: for their return.
        findings: what must be known.
        barred: the edits of those whose password is taken away, since the server heeds no other mark.

    """

    def __init__(
        self, context: Context, last_day: date, successor: str = "", manager: str = "", *, of_one: bool = False
    ) -> None:  # fmt: skip
        """Begin; with `of_one`, nobody else leaves.

        Raises:
            VandrelError: what resolving the successor and the manager raises.

        """
        self.last_day = last_day
        self.had: dict[str, dict[str, Any]] = {}
        self.findings: list[Finding] = []
        self.barred: list[Edit] = []
        self._context = context
        self._editor = Editor(context, of_one=of_one)
        self._movers: dict[str, Mover] = {}
        self._successor = resolve(context, successor, (ACCOUNT,)) if successor else None
        self._manager = resolve(context, manager, (ACCOUNT,)) if manager else None

    @property
    def passwords(self) -> list[Assignment]:
        """What is to be done with the passwords of those who are barred."""
        return [Assignment("password", "=", ("none",))] if self.barred else []

    def rules(self, entry: Entry) -> Leaving | None:
        """What the charter says for this account; None where it says nothing."""
        return self._context.charter.leaving(self._context.one(entry, "kind"))

    def must_have(self, entry: Entry) -> Leaving:
        """The same, where there must be something.

        Raises:
            VandrelError: ``charter``.

        """
        if (rules := self.rules(entry)) is None:
            what = f"the charter says nothing of leaving, for {self._context.label(entry)}"
            remedy = "write it: leaving: {place: /Leavers, reports: manager, deleted-after: 90}"
            raise VandrelError(Code.CHARTER, what, where=Location(dn=str(entry.dn)), remedy=remedy)
        return rules

    def in_words(self, entry: Entry) -> Iterator[str]:
        """What the routine will do, one line for each part."""
        context, rules = self._context, self.must_have(entry)
        groups = ", ".join(group.dn.name for group in self._groups_left(entry, rules)) or "none"
        how = "without its password" if context.dialect.keeps_out(entry) is False else "disabled"
        yield f"  {context.label(entry)}: {how}; groups left: {groups}"
        if rules.place:
            yield f"    moved to {self._place(entry, rules)}"
        if reports := self._looked_after([entry]).get(entry.dn.key):
            holders = Namesakes(context).shown([str(holder.dn) for holder, _ in reports])
            yield f"    {', '.join(holders)}: to {self._heir_in_words(entry, rules)}"

    def edits(self, people: Sequence[Entry]) -> list[Edit]:
        """The changes to the people, and to whoever points at them.

        Raises:
            VandrelError: ``charter``; ``not-found`` where the place for leavers does not exist.

        """
        edits = [self._person(entry) for entry in people]
        others: dict[DN, tuple[Entry, list[Assignment]]] = {}
        looked_after = self._looked_after(people)
        for entry in people:
            for holder, assignment in self._handed_on(entry, people, looked_after.get(entry.dn.key, ())):
                others.setdefault(holder.dn, (holder, []))[1].append(assignment)
        return [*edits, *(self._editor.edit(holder, assignments) for holder, assignments in others.values())]

    # --- one person

    def _person(self, entry: Entry) -> Edit:
        context, rules = self._context, self.must_have(entry)
        values = entry_values(context, entry)
        ends = min(filter(None, (context.one(entry, "ends"), self.last_day.isoformat())))
        is_barred = context.dialect.keeps_out(entry) is False
        assignments = [] if is_barred else [Assignment("enabled", "=", ("no",))]
        if not context.dialect.why_not_kept("ends", ACCOUNT):
            assignments.append(Assignment("ends", "=", (ends,)))
        leaving = self._groups_left(entry, rules)
        if leaving:
            assignments.append(Assignment("groups", "-=", tuple(str(group.dn) for group in leaving), literal=True))
        assignments += [Assignment(name, "-=", values_, literal=True) for name, values_ in self._seats_left(entry)]
        assignments += [
            Assignment(name, "=", (context.charter.fill(pattern, values),)) for name, pattern in rules.sets.items()
        ]
        mail = context.one(entry, "mail")
        if rules.mail == "to-successor" and self._successor is not None and mail:
            assignments.append(Assignment("mail", "=", ()))
            self._editor.give_up("mail", mail)
        edit = self._editor.edit(entry, assignments)
        if is_barred and context.dialect.has_password(entry) is not False:
            self.barred.append(edit)
            what = f"the server keeps nobody out by a mark: the password of {context.label(entry)} is taken away"
            self.findings.append(Finding(Code.NOT_KEPT, what, Location(dn=str(entry.dn)), severity=NOTE))
        if not is_with_leavers(context, entry, rules):  # else it is known from the time before
            seats = (pool.field for pool in context.charter.document.seats.values() if pool.field)
            self._keep(entry, [*_ALWAYS, *rules.sets, "mail", *seats], leaving)
        if rules.place:
            self._move(edit, entry, self._place(entry, rules))
        return edit

    def _place(self, entry: Entry, rules: Leaving) -> str:
        charter = self._context.charter
        return places.to_text(charter.place_of(rules.place, needed_values(self._context, entry, rules.place)))

    def _move(self, edit: Edit, entry: Entry, place: str) -> None:
        if place not in self._movers:
            self._movers[place] = Mover(self._context, place)
        mover = self._movers[place]
        moved = mover.move(entry, fields_follow=False, name=mover.free_name(entry))
        take_place(edit, moved)

    def _groups_left(self, entry: Entry, rules: Leaving) -> list[Entry]:
        """The groups that are left; the primary one cannot be."""
        context, values = self._context, entry_values(self._context, entry)
        stays = {prepare(context.charter.fill(pattern, values)) for pattern in rules.stays_in}
        return [group for group in self._editor.memberships.left_by(entry) if prepare(group.dn.name) not in stays]

    def _seats_left(self, entry: Entry) -> Iterator[tuple[str, tuple[str, ...]]]:
        """The fields in which seats stand, and what of it goes; those of groups go with the groups."""
        for name, pool in self._context.charter.document.seats.items():
            seats = set(map(prepare, (pool.value or name, *pool.parts.values()))) if pool.field else set[str]()
            has = self._context.dialect.read(entry, pool.field) if pool.field else []
            if freed := tuple(value for value in has if prepare(value) in seats):
                yield pool.field, freed

    def _keep(self, entry: Entry, fields: Sequence[str], groups: Sequence[Entry]) -> None:
        context = self._context
        if identifier := entry.identifier:
            self.had[identifier] = {
                "parent": str(entry.dn.parent), "name": entry.dn.name, "groups": [str(group.dn) for group in groups],
                "fields": {name: context.dialect.read(entry, name) for name in dict.fromkeys(fields)}, "held": [],
            }  # fmt: skip

    # --- what others had of them

    def _required(self, holder: Entry) -> Collection[str]:
        kind = self._context.charter.document.kinds.get(self._context.one(holder, "kind"))
        return kind.requires if kind is not None and self._context.object_type(holder) == ACCOUNT else ()

    def _heir(self, entry: Entry, rules: Leaving) -> DN | None:
        if self._manager is not None:
            return self._manager.dn
        if rules.reports == "successor" and self._successor is not None:
            return self._successor.dn
        manager = self._context.one(entry, "manager")
        return names.parse(manager) if rules.reports == "manager" and manager else None

    def _heir_in_words(self, entry: Entry, rules: Leaving) -> str:
        heir = self._heir(entry, rules)
        return heir.name if heir is not None else "nobody"

    def _looked_after(self, people: Sequence[Entry]) -> dict[str, list[tuple[Entry, str]]]:
        """Who and what stays and has one of these people in a field, as a manager, an owner, a sponsor.

        Returns:
            Objects and fields, by the key of the person's name.

        """
        context, leaving = self._context, {each.dn.key for each in people}
        references = [name for name, field in context.fields.items() if field.shape is Shape.REFERENCE]
        by_person: dict[str, list[tuple[Entry, str]]] = {}
        for pointing in pointing_at(context.directory, [entry.dn for entry in people]):
            if pointing.dn.key in leaving or not pointing.attributes.keys() - {"objectClass", *BY_NAME}:
                continue
            object_type = context.object_type(pointing)
            only = context.dialect.attributes_read(GROUP) if object_type == GROUP else ()
            if (holder := next(context.directory.search(pointing.dn, Scope.BASE, only=only), None)) is None:
                continue
            for name in references:
                if object_type not in context.fields[name].on or name in ("members", "groups", "primary"):
                    continue
                for key in {names.parse(value).key for value in context.dialect.read(holder, name) if value} & leaving:
                    by_person.setdefault(key, []).append((holder, name))
        return by_person

    def _handed_on(
        self, entry: Entry, people: Sequence[Entry], looked_after: Iterable[tuple[Entry, str]]
    ) -> Iterator[tuple[Entry, Assignment]]:  # fmt: skip
        context, rules = self._context, self.must_have(entry)
        heir = self._heir(entry, rules)
        if heir is not None and any(heir == each.dn for each in people):
            heir = None  # the manager leaves too
        earlier = self.had.get(entry.identifier)
        for holder, name in looked_after:
            value = () if heir is None or heir == holder.dn else (str(heir),)
            if not value and name in self._required(holder):
                what = f"stays the {name} of {context.label(holder)}, who must have one, since nobody takes that over"
                remedy = f"--manager NAME; or vandrel edit {context.typed(holder.dn)} {name}=..."
                where = Location(dn=str(entry.dn), field=name)
                self.findings.append(Finding(Code.REQUIRED, f"{context.label(entry)} {what}", where, remedy, NOTE))
                continue
            yield holder, Assignment(name, "=", value, literal=True)
            if earlier is not None:
                earlier["held"].append([str(holder.dn), name, value[0] if value else ""])
        mail = context.one(entry, "mail")
        if rules.mail == "to-successor" and self._successor is not None and mail:
            yield self._successor, Assignment("alias", "+=", (mail,))


def is_with_leavers(context: Context, entry: Entry, rules: Leaving) -> bool:
    """Whether an account stands where its rules put leavers; where that is no other place, whether it is disabled."""
    kind = context.charter.document.kinds.get(context.one(entry, "kind"))
    if not rules.place or (kind is not None and rules.place == kind.place):
        return context.dialect.read(entry, "enabled") == ["no"]
    place = context.charter.place_of(rules.place, needed_values(context, entry, rules.place))
    return entry.dn.parent == places.to_dn(place, context.charter.base)


# --- coming back


def come_back(context: Context, attic: Attic, request: ReturnRequest) -> Proposal:
    """Propose to turn the routine round: the same accounts, groups, place and reports as before.

    Raises:
        VandrelError: ``not-found`` where it is not known what somebody had; what selecting raises.

    """
    people = with_other_accounts(context, select(context, request.selection, (ACCOUNT,)))
    editor = Editor(context, of_one=len(people) == 1)
    edits: list[Edit] = []
    returning: list[Edit] = []
    findings: list[Finding] = []
    for entry in people:
        earlier = attic.leaver(entry.identifier)
        if earlier is None:
            what = f"what {context.label(entry)} had before is not known here"
            remedy = "give it back by hand: vandrel enable, move, and edit NAME groups+=..."
            raise VandrelError(Code.NOT_FOUND, what, where=Location(dn=str(entry.dn)), remedy=remedy)
        back = LeaverReturn(context, editor, entry, earlier)
        returning.append(back.person(request.assignments))
        edits += [returning[-1], *back.held()]
        findings += back.findings
    proposal = propose(context, edits, request.assignments, "leave", passwords_for=returning, about=people)
    title = proposal.title.replace("leave ", "return of ", 1)
    question = f"Bring {count(len(people), 'account')} back?"
    return structs.replace(
        proposal, title=title, question=question, is_atomic=False, findings=[*proposal.findings, *findings]
    )  # fmt: skip


class LeaverReturn:
    """The way back of one account."""

    def __init__(self, context: Context, editor: Editor, entry: Entry, earlier: Mapping[str, Any]) -> None:
        self._context = context
        self._editor = editor
        self._entry = entry
        self._earlier = earlier
        self.findings: list[Finding] = []

    def person(self, assignments: Sequence[Assignment]) -> Edit:
        """The account itself."""
        typed = {assignment.field for assignment in assignments}
        fields = {name: values for name, values in self._earlier["fields"].items() if name not in typed}
        if "".join(fields.get("ends", ())) < self._context.charter.today().isoformat():
            fields["ends"] = []  # whoever comes back does not keep a last day that lies behind
        back = [Assignment(name, "=", tuple(values), literal=True) for name, values in fields.items()]
        groups = [names.parse(text) for text in self._earlier["groups"]]
        there = self._context.directory.existing(groups)
        for missing in (dn for dn in groups if dn not in there):
            self._tell(f"the group {missing.name} is not there any more")
        if there:
            back.append(Assignment("groups", "+=", tuple(map(str, there)), literal=True))
        edit = self._editor.edit(self._entry, [*back, *assignments])
        self._move(edit)
        return edit

    def _move(self, edit: Edit) -> None:
        parent = names.parse(self._earlier["parent"])
        if not self._context.directory.existing([parent]):
            self._tell(f"the unit {self._context.place(parent)} is not there any more: the account stays where it is")
            return
        if parent == self._entry.dn.parent:
            return
        mover = Mover(self._context, self._context.place(parent))
        moved = mover.move(self._entry, fields_follow=False, name=self._earlier["name"])
        take_place(edit, moved)

    def held(self) -> Iterator[Edit]:
        """Who had the person in a field gets it back, unless somebody has changed that since."""
        context = self._context
        for text, name, heir in self._earlier["held"]:
            holder = context.directory.get(names.parse(text))
            if holder is None:
                self._tell(f"{names.parse(text).name}, whose {name} it was, is not there under that name any more")
                continue
            now = [names.parse(value).key for value in context.dialect.read(holder, name) if value]
            if now != ([names.parse(heir).key] if heir else []):
                self._tell(f"{names.parse(text).name} has another {name} by now")
                continue
            # By the name that it still has: what comes after lets names follow.
            yield self._editor.edit(holder, [Assignment(name, "=", (str(self._entry.dn),), literal=True)])

    def _tell(self, what: str) -> None:
        self.findings.append(Finding(Code.DANGLING, what, Location(dn=str(self._entry.dn)), severity=NOTE))
