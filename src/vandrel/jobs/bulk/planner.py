"""Many objects from a tabular file: who is new, who changes, what is wrong, worked out for the whole file at once."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import date
from operator import itemgetter

from msgspec import structs
from msgspec.structs import asdict, astuple

from vandrel.charter.passwords import check as check_password
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, GROUP, OBJECT_TYPES, UNIT, Shape
from vandrel.gc_control import gc_paused
from vandrel.intake.description import PLACE, Description
from vandrel.intake.item import Item, firsts_of, named_in
from vandrel.jobs.accounts.create import Creator
from vandrel.jobs.bulk import file_checks as file_wide
from vandrel.jobs.bulk.roster import Line, Missing, Roster, State
from vandrel.jobs.bulk.row_grouper import RowGrouper
from vandrel.jobs.bulk.unchanged_cells import drop_unchanged
from vandrel.jobs.common import create_object
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.directory_index import DirectoryIndex, Key
from vandrel.jobs.common.draft import BatchDraft, Derived, Draft
from vandrel.jobs.common.edit import Editor
from vandrel.jobs.common.posix_allocator import PosixAllocator
from vandrel.jobs.common.resolve import NoSingleMatch, resolve
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import new_values
from vandrel.text.nearest import listed
from vandrel.text.people import split_full_name
from vandrel.text.string_prep import prepare

#: Who a row without a match by its key is, all the same; None for nobody. It may find fault with the row.
Recognize = Callable[[Item], Entry | None]


class Planner:
    """Works out the rows of one file against the charter and the directory."""

    def __init__(
        self, context: Context, described: Description, today: date, recognize: Recognize | None = None,
        *, is_file: bool = True,
    ) -> None:  # fmt: skip
        self._context = context
        self._is_file = is_file
        self._numbers = PosixAllocator(context)
        self._recognize = recognize
        if described.object_type == UNIT:  # whichever columns it is told by
            described = structs.replace(described, key=[PLACE])
        self._described = described
        self._today = today
        self._resolved: dict[tuple[str, str], str | Finding] = {}
        self._mates: dict[str, list[Line]] = {}
        #: Rows that are refused before they are worked out, by what others may call them.
        self._refused: dict[str, Line] = {}
        self._refers = False
        fields = {described.column(name).field for name in described.columns} | {*described.constants, *described.built}
        #: Whether names of people come as a whole, and not in parts.
        self._whole_names = described.object_type == ACCOUNT and "full" in fields and not fields & {"given", "surname"}

    def plan(self, items: Iterable[Item]) -> Roster:
        """Work out all rows. New names are given in the order of the key, whichever way the file is sorted."""
        with gc_paused():
            return self._plan(list(items))

    def _plan(self, items: Sequence[Item]) -> Roster:
        for item in items if self._described.object_type == UNIT else ():
            _one_place(item)
        self._refers = any(self._is_reference(name) for name in named_in(items))
        file_wide.lost_zeros(items)
        keys = file_wide.keys(self._context, self._described, items)
        kinds = set(firsts_of(items, "kind"))
        ledger = DirectoryIndex(
            self._context, self._described.key, set(keys),
            {kind or self._described.kind for kind in kinds} - {""}, self._described.object_type,
        )  # fmt: skip
        is_anybody_there = bool(ledger.found) or self._recognize is not None
        lines = list(map(Line, items))
        new: list[tuple[Key, Line]] = []
        there: list[tuple[Line, Entry]] = []
        for line, key in zip(lines, keys, strict=True):
            item = line.item
            matches = self._matches(item, key, ledger, kinds) if is_anybody_there else ()
            if len(matches) == 1 and self._described.mode != "create":
                drop_unchanged(self._context, item, matches[0], self._described.key)
            if item.findings and item.stops:
                if self._refers:
                    self._refused |= dict.fromkeys(map(prepare, _names_of(item)), line)
                continue
            if len(matches) > 1:
                fields = " and ".join(self._described.key)
                what = f"{len(matches)} objects have this {fields}: {matches[0].dn}, {matches[1].dn}"
                item.fault(self._described.key[0], " ".join(key), Code.AMBIGUOUS, what, "mend one of them first")
            elif matches:
                there.append((line, matches[0]))
            elif self._described.mode == "update":
                what, remedy = "nobody is found by it, and nobody is to be created", "mode: both creates who is missing"
                item.fault(self._first_key(), " ".join(key), Code.NOT_FOUND, what, remedy)
            else:
                new.append((key, line))
        if self._described.object_type == ACCOUNT:
            file_wide.numbers(self._context, self._described, [line.item for _, line in new], ledger)
            refused = [line for _, line in new if line.item.stops]
            new = [pair for pair in new if not pair[1].item.stops]
            for line in refused if self._refers else ():
                self._refused |= dict.fromkeys(map(prepare, _names_of(line.item)), line)
        self._draft(new, ledger)
        editor = Editor(self._context, of_many=True)
        for line, entry in there:
            self._existing(line, entry, editor)
        update = self._described.mode != "create"
        return Roster(lines, [Missing(key, dn) for key, dn in ledger.others] if update else [])

    def _matches(self, item: Item, key: Key, ledger: DirectoryIndex, kinds: Collection[str]) -> Sequence[Entry]:
        """Whoever a row can mean: by its key, or whoever it is recognized as."""
        matches: Sequence[Entry] = ledger.found.get(key, ()) if key else ()
        if len(matches) > 1 and self._described.object_type == ACCOUNT:
            return self._of_kind(item, matches, kinds)
        if not matches and self._recognize is not None and (entry := self._recognize(item)) is not None:
            return (entry,)
        return matches

    def _of_kind(self, item: Item, matches: Sequence[Entry], kinds: Collection[str]) -> Sequence[Entry]:
        """Of accounts with the same key, those of the row's kind; where it has none, those of the file's kinds."""
        for kinds_now in ({item.one("kind") or self._described.kind}, kinds):
            if alike := [entry for entry in matches if self._context.one(entry, "kind") in kinds_now]:
                return alike
        return matches

    def _is_reference(self, name: str) -> bool:
        field = self._context.fields.get(name)
        return field is not None and field.shape is Shape.REFERENCE and self._described.object_type in field.on

    def _first_key(self) -> str:
        return self._described.key[0] if self._described.key else "name"

    # --- who exists

    def _existing(self, line: Line, entry: Entry, editor: Editor) -> None:
        line.existing, line.login = entry.dn, self._context.one(entry, "login")
        if self._described.mode == "create":
            line.state = State.THERE
            return
        item = line.item
        # That another row has the same is worth a word of new people alone.
        item.findings = tuple(finding for finding in item.findings if finding.is_fatal or finding.code != Code.TWICE)
        if self._whole_names and self._is_called(entry, item.one("full")):
            del item.fields["full"]
        assignments = list(self._assignments(item))
        if item.stops:
            return
        try:
            edit = editor.edit(entry, assignments)
        except VandrelError as error:
            self._note(item, error.findings)
            return
        line.assignments = assignments
        self._note(item, [finding for finding in edit.findings if finding.is_fatal])
        place, stands = item.one(PLACE), self._context.place(entry.dn.parent)
        if place and self._described.object_type != UNIT and prepare(place) != prepare(stands):
            what = f"it stands in {stands}"
            mend = f"vandrel move {self._context.typed(entry.dn)} --to {place}"
            item.fault(PLACE, place, Code.PLACE, what, mend, severity=NOTE)
        if not item.stops:
            line.edit = edit
            line.state = State.CHANGED if edit.steps else State.SAME

    def _is_called(self, entry: Entry, whole: str) -> bool:
        """Whether somebody's name is this one, in whichever order its parts are written."""
        parts = split_full_name(whole, self._context.charter.particles)
        own = " ".join(self._context.one(entry, name) for name in ("given", "middle", "surname", "generation"))
        full_name = " ".join(astuple(parts))
        return bool(whole) and (
            prepare(full_name) == prepare(own) or prepare(whole) == prepare(self._context.one(entry, "full"))
        )

    def _assignments(self, item: Item) -> Iterator[Assignment]:
        """What a row says of somebody who is there: whom it names is looked up, in the file and in the directory."""
        for name, values in list(item.fields.items()):
            if name in (PLACE, "kind") or name in self._described.key or not values:
                continue
            shape = self._context.fields[name].shape if name in self._context.fields else Shape.TEXT
            targets: Iterable[str | Line | None] = values
            if self._is_reference(name):
                targets = [self._target(item, name, value) for value in values]
            elif shape is Shape.MEMBERSHIPS:
                targets = [self._one(name, value, item, (GROUP,)) for value in values]
            # What a file does not list is not taken away.
            listed = shape in (Shape.MEMBERSHIPS, Shape.ROLES) or name == "members"
            names = [self._name_of(item, name, one) for one in targets if one is not None]
            if values_named := tuple(filter(None, names)):  # of nobody who can be meant, what is there stays
                yield Assignment(name, "+=" if listed else "=", values_named, literal=True)

    # --- who is new

    def _draft(self, new: list[tuple[Key, Line]], ledger: DirectoryIndex) -> None:
        creator = Creator(self._context, self._today, ledger)
        if self._whole_names:
            self._take_names_apart([line.item for _, line in new])
        for _, line in new if self._described.built else ():
            self._build(line.item)
        if self._refers:
            for key, line in new:
                # A group is called by the name that it gets, and not only by the word in its row.
                for name in {*_names_of(line.item), *(key if self._described.object_type == GROUP else ())}:
                    self._mates.setdefault(prepare(name), []).append(line)
        pending: list[tuple[Line, str, list[str | Line]]] = []
        coming: set[DN] = set()
        # A key is nobody else's; what has none goes by all that it has.
        if all(key for key, _ in new):
            new.sort(key=itemgetter(0))
        else:
            new.sort(key=lambda pair: pair[0] or ("", *_by_content(pair[1].item)))
        items = [line.item for _, line in new]
        alike = (
            RowGrouper(self._context, creator, self._described.kind, items, lets_go=self._recognize is None)
            if self._described.object_type == ACCOUNT
            else None
        )
        if alike is not None:
            creator.foresee(self._as_typed(items[number]) for number in alike.firsts())
        for number, (_, line) in enumerate(new):
            draft = alike.draft(number) if alike else None
            if draft is not None:
                line.draft = draft
                if line.item.secret is not None:
                    self._check_secret(line.item, draft)
                elif not line.item.findings:
                    line.state = State.NEW
                    continue
            else:
                waiting = len(pending)
                self._in_full(line, creator, pending, coming)
                if alike and isinstance(line.draft, Draft) and len(pending) == waiting and not line.item.stops:
                    alike.learn(number, line.draft)
                if line.dn is None:
                    continue
            if not (line.item.findings and line.item.stops):
                line.state = State.NEW
        for line, field, targets in pending:
            names = [name for target in targets if (name := self._name_of(line.item, field, target))]
            if isinstance(line.draft, Draft):
                line.draft.derived[field] = Derived(field, tuple(names), "typed")

    def _name_of(self, item: Item, field: str, target: str | Line) -> str:
        """The name of whom a row means; empty, which is told, where that is a row that is refused itself."""
        if isinstance(target, str):
            return target
        if target.state is State.NEW:
            return str(target.dn)
        what = f"row {target.item.row}, which is meant, is refused itself: left out here"
        item.fault(field, item.one(field), Code.REFUSED, what, "mend that row first", severity=NOTE)
        return ""

    def _take_names_apart(self, items: Iterable[Item]) -> None:
        columns: Mapping[str, str] = {}
        for item in items:
            columns = columns or {**item.columns, **dict.fromkeys(_PARTS, item.columns.get("full", "full"))}
            item.columns = columns
            if whole := item.fields.pop("full", ()):
                parts = asdict(split_full_name(whole[0], self._context.charter.particles))
                item.fields.update({name: (part,) for name, part in parts.items() if part})

    def _in_full(
        self, line: Line, creator: Creator, pending: list[tuple[Line, str, list[str | Line]]], coming: set[DN]
    ) -> None:  # fmt: skip
        """One row by itself; `coming` are the units that the file makes."""
        try:
            draft = self._drafted(line, creator, pending)
        except VandrelError as error:
            self._note(line.item, error.findings)
            return
        line.draft = draft
        if draft.dn is not None and self._described.object_type == UNIT:
            coming.add(draft.dn)
        # The unit that holds it may stand in another row, which comes before.
        mended = draft.dn is not None and draft.dn.parent in coming
        self._note(line.item, [f for f in draft.findings if not (mended and f.code == Code.NO_PARENT)])

    def _build(self, item: Item) -> None:
        """The values that the description builds from others."""
        charter = self._context.charter
        for name, pattern in self._described.built.items():
            own = {field: texts[0] for field, texts in item.fields.items() if texts}
            values = new_values(self._context, own | item.words, item.one("kind") or self._described.kind)
            try:
                item.fields[name] = (charter.fill(pattern, values),)
            except VandrelError as error:
                self._note(item, error.findings)

    def _as_typed(self, item: Item) -> tuple[str, Mapping[str, Sequence[str]]]:
        """The kind of an account in a row, and its fields without the names of others."""
        fields = {
            name: values for name, values in item.fields.items() if not self._is_reference(name) and name != "kind"
        }
        return item.one("kind") or self._described.kind, fields

    def _drafted(self, line: Line, creator: Creator, pending: list[tuple[Line, str, list[str | Line]]]) -> Draft:
        item, object_type = line.item, self._described.object_type
        references = {name: item.fields[name] for name in item.fields if self._is_reference(name)}
        kind, typed_fields = self._as_typed(item)
        fields = dict(typed_fields)
        if "groups" in fields:
            groups = [self._one("groups", value, item, (GROUP,)) for value in fields["groups"]]
            fields["groups"] = tuple(filter(None, groups))
        resolved: dict[str, tuple[str, ...]] = {}
        for name, typed in references.items():
            targets = [one_target for value in typed if (one_target := self._target(item, name, value)) is not None]
            resolved[name] = tuple(t if isinstance(t, str) else _LATER for t in targets)
            if any(isinstance(target, Line) for target in targets):
                pending.append((line, name, targets))
        if object_type == ACCOUNT:
            draft = creator.draft(kind, fields, resolved, literal=not item.has_patterns)
            self._check_secret(item, draft)
            return draft
        fields |= {name: now for name, dns in resolved.items() if (now := tuple(dn for dn in dns if dn != _LATER))}
        if object_type == GROUP:
            stem = item.one("name") or item.one("display")
            fields.pop("name", None)
            return create_object.group(
                self._context, stem, {**fields, "kind": (kind,)} if kind else fields, self._numbers
            )
        if object_type == UNIT:
            return create_object.unit(self._context, item.one(PLACE), {n: v for n, v in fields.items() if n != PLACE})
        return create_object.computer(self._context, item.one("name"), {n: v for n, v in fields.items() if n != "name"})

    def _check_secret(self, item: Item, draft: Draft | BatchDraft) -> None:
        if item.secret is None or draft.rules is None:
            return
        findings = check_password(item.secret, draft.rules, login=draft.value("login"), full=draft.value("full"),
                               words=[self._context.charter.document.organization])  # fmt: skip
        broken = [finding for finding in findings if finding.is_fatal] or findings
        if broken:
            what, remedy = (
                "; ".join(filter(None, texts)) for texts in zip(*((f.what, f.remedy) for f in broken), strict=True)
            )
            item.fault("password", "", Code.PASSWORD, what, remedy, severity=broken[0].severity)

    def _target(self, item: Item, field: str, value: str) -> str | Line | None:
        """Whom a value means: somebody of the same file, or somebody in the directory."""
        mates = self._mates.get(prepare(value), ())
        if len(mates) > 1:
            what = f"{len(mates)} rows are called so: {listed([str(mate.item.row) for mate in mates[:4]], 'and')}"
            item.fault(field, value, Code.AMBIGUOUS, what, "write the number of the one who is meant")
            return None
        if mates:
            return mates[0]
        refused = self._refused.get(prepare(value))
        if refused is not None and isinstance(self._looked_up(field, value, OBJECT_TYPES), Finding):
            return refused
        return self._one(field, value, item, OBJECT_TYPES)

    def _looked_up(self, field: str, value: str, object_types: tuple[str, ...]) -> str | Finding:
        """The name of the one object of these types that a value means, or why not; each value is looked up once."""
        if (field, value) not in self._resolved:
            try:
                self._resolved[field, value] = str(resolve(self._context, value, object_types).dn)
            except VandrelError as error:
                self._resolved[field, value] = _with_candidates(error, value, object_types)
        return self._resolved[field, value]

    def _one(self, field: str, value: str, item: Item, object_types: tuple[str, ...]) -> str | None:
        """The name of the one object of these types that a value means; a finding where there is none."""
        entry = self._looked_up(field, value, object_types)
        if isinstance(entry, str):
            return entry
        item.fault(field, value, entry.code, entry.what, entry.remedy)
        return None

    def _note(self, item: Item, findings: Iterable[Finding]) -> None:
        for finding in findings:
            field = finding.where.field
            if not field and finding.code in (Code.NO_PARENT, Code.BAD_NAME):
                field = PLACE
            header = item.columns.get(field, field) or "-"
            value = ", ".join(item.fields.get(field, ()))[:120]
            remedy = _ASSIGNED.sub(" in this cell", finding.remedy) if self._is_file else finding.remedy
            item.note(
                Finding(
                    finding.code,
                    finding.what,
                    Location(row=item.row, header=header),
                    remedy,
                    severity=finding.severity,
                    value=value,
                )
            )


#: What a remedy says to whoever types a command; in a file it is a cell.
_ASSIGNED = re.compile(r": [a-z-]+=\.\.\.")


def _with_candidates(error: VandrelError, value: str, object_types: Sequence[str]) -> Finding:
    """What a name could have meant, in the remedy: no list stands above it here."""
    finding = error.findings[0]
    if not isinstance(error, NoSingleMatch):
        return finding
    if error.code == Code.AMBIGUOUS:
        names = ", ".join(candidate.name for candidate in error.candidates[:3])
        more = " ..." if len(error.candidates) > 3 else ""
        return structs.replace(finding, what=f"{value!r} fits several", remedy=f"write one of them: {names}{more}")
    what = finding.what if len(object_types) == 1 else f"nobody and nothing is called {value!r}"
    near = listed([candidate.name for candidate in error.candidates[:3]])
    ask = f"did you mean {near}?" if near else "give a number, a logon name or a mail address that exists"
    return structs.replace(finding, what=what, remedy=ask)


#: What a whole name is taken apart into.
_PARTS = ("given", "middle", "surname", "generation")

#: Stands for the name of a file-mate that is not worked out yet.
_LATER = "cn=later"


def _names_of(item: Item) -> set[str]:
    """By what the others of the file may call somebody."""
    both = (item.one("given"), item.one("surname"))
    names = [item.one(name) for name in ("number", "login", "mail", "full", "name")]
    return {*names, " ".join(both) if all(both) else ""} - {""}


def _one_place(item: Item) -> None:
    """A unit by its own place: with a name beside it, the place is where that stands."""
    if name := item.one("name"):
        above = item.one(PLACE).rstrip("/")
        item.fields[PLACE] = (f"{above}/{name.replace('/', chr(92) + '/')}",)
        del item.fields["name"]


def _by_content(item: Item) -> tuple[str, ...]:
    return tuple(f"{name}={'|'.join(values)}" for name, values in sorted(item.fields.items()))
