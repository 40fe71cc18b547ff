"""Many objects from a tabular file: who is new, who changes, what is wrong, worked out for the whole file at once."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import date
from enum import Enum
from functools import partial

import msgspec
from msgspec import Struct, structs

from vandrel.charter.passwords import check as check_password
from vandrel.collector import at_rest
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.errors import Finding, VandrelError
from vandrel.fields import ACCOUNT, COMPUTER, FIELDS, GROUP, UNIT, Shape
from vandrel.intake.convert import Item
from vandrel.intake.description import PLACE, Description
from vandrel.intake.finding import RowFinding
from vandrel.jobs import create_object
from vandrel.jobs.assignments import Assignment
from vandrel.jobs.create import Creator
from vandrel.jobs.create import steps as account_steps
from vandrel.jobs.draft import Alike, Derived, Draft
from vandrel.jobs.edit import Edit, Editor, in_order
from vandrel.jobs.house import House
from vandrel.jobs.ledger import Key, Ledger, key_of
from vandrel.jobs.likeness import Alikes
from vandrel.jobs.resolve import SORTS, NotOne, resolve
from vandrel.secret import Secret
from vandrel.steps.step import Add, Set, Step
from vandrel.text.nearest import listed
from vandrel.text.prep import prepare

#: Rows that are made together, with their passwords and groups, before the next ones.
TOGETHER = 1000
#: Fields in which hardly two people have the same.
_TELLING = ("given", "surname", "phone", "name")
#: Fields whose numbers may begin with zeros, which a spreadsheet strips.
_WITH_ZEROS = ("number", "badge", "postcode")
#: Differing digits in one column from which on leading zeros must have been lost.
_FEW = 3


class State(Enum):
    """What becomes of a row."""

    NEW = "new"
    CHANGED = "changes"
    SAME = "as it is"
    THERE = "there already"
    REFUSED = "refused"


class Line(Struct):
    """One row, worked out."""

    item: Item
    state: State = State.REFUSED
    draft: Draft | Alike | None = None
    edit: Edit | None = None
    dn: DN | None = None


class Missing(Struct, frozen=True):
    """Somebody who exists and stands in no row."""

    key: Key
    dn: DN


class Roster(Struct):
    """The whole file: its lines in the order of the file, and who is missing from it."""

    lines: list[Line]
    missing: list[Missing] = msgspec.field(default_factory=list)

    def findings(self) -> Iterator[RowFinding]:
        for line in self.lines:
            yield from line.item.findings

    def counts(self) -> Counter[State]:
        return Counter(line.state for line in self.lines)


class Planner:
    """Works out the rows of one file against the charter and the directory."""

    def __init__(self, house: House, described: Description, today: date) -> None:
        self._house = house
        self._described = described
        self._today = today
        self._resolved: dict[tuple[str, str], str | Finding] = {}
        self._mates: dict[str, Line] = {}

    def plan(self, items: Iterable[Item]) -> Roster:
        """Work out all rows. New names are given in the order of the key, whichever way the file is sorted."""
        with at_rest():
            return self._plan(items)

    def _plan(self, items: Iterable[Item]) -> Roster:
        lines = [Line(item) for item in items]
        self._columns_as_a_whole(lines)
        keys = self._keys(lines)
        kinds = {line.item.one("kind") or self._described.kind for line in lines} - {""}
        ledger = Ledger(self._house, self._described.key, set(keys.values()), kinds, self._described.sort)
        new: list[tuple[Key, Line]] = []
        editor = Editor(self._house)
        for line in lines:
            if line.item.stops:
                continue
            key = keys.get(line.item.row, ())
            found = ledger.found.get(key, []) if key else []
            if len(found) > 1:
                what = (
                    f"{len(found)} objects have this {' and '.join(self._described.key)}: {found[0].dn}, {found[1].dn}"
                )
                line.item.fault(self._described.key[0], " ".join(key), "ambiguous", what, "mend one of them first")
            elif found:
                self._existing(line, found[0], editor)
            elif self._described.mode == "update":
                line.item.fault(
                    self._first_key(), " ".join(key), "not-found", "nobody is found by it, and nobody is to be created",
                    "mode: both creates who is missing",
                )  # fmt: skip
            else:
                new.append((key, line))
        # A key is nobody else's; what has none goes by all that it has.
        new.sort(key=lambda pair: (pair[0], () if pair[0] else _by_content(pair[1].item)))
        self._draft([line for _, line in new], ledger)
        update = self._described.mode != "create"
        return Roster(lines, [Missing(key, dn) for key, dn in ledger.others] if update else [])

    # --- the file as a whole

    def _first_key(self) -> str:
        return self._described.key[0] if self._described.key else "name"

    def _keys(self, lines: Sequence[Line]) -> dict[int, Key]:
        """The key of each row; a row without one, and one that stands there again, is at fault."""
        fields = self._described.key
        found: dict[int, Key] = {}
        first: dict[Key, int] = {}
        look: dict[tuple[object, ...], list[Item]] = {}
        for line in lines:
            item = line.item
            if not fields or item.stops:
                continue
            key = key_of(fields, partial(self._as_kept, item) if self._described.sort == GROUP else item.values)
            if not any(key):
                what = f"{fields[0]} is empty, by which a row is recognized when the file is read again"
                item.fault(fields[0], "", "required", what, "give it")
                continue
            if key in first:
                what = f"the same {' and '.join(fields)} stands in row {first[key]}"
                item.fault(fields[0], " ".join(key), "twice", what, "take one of the two rows out")
                continue
            first[key], found[item.row] = item.row, key
            if len(item.fields) - len(fields) > _FEW:
                self._look_alike(item, look)
        return found

    def _look_alike(self, item: Item, seen: dict[tuple[object, ...], list[Item]]) -> None:
        """Whether all but the key stands in another row as well; `seen` has the rows so far by some of their fields."""
        others = seen.setdefault(tuple(map(item.fields.get, _TELLING)), [])
        fields = self._described.key
        for other in others:
            if all(
                item.fields.get(name) == other.fields.get(name) for name in {*item.fields, *other.fields} - {*fields}
            ):
                what = f"all but the {' and '.join(fields)} is as in row {other.row}: the same person twice?"
                value = " ".join(map(item.one, fields))
                item.fault(fields[0], value, "twice", what, "take one out, if they are one", fatal=False)
                return
        others.append(item)

    def _as_kept(self, item: Item, field: str) -> tuple[str, ...]:
        """The values of a field as the directory has them: the name of a group is made from the word in its row."""
        values = item.values(field)
        if field != "name" or not values:
            return values
        kind = item.one("kind") or self._described.kind or next(iter(self._house.charter.document.groups), "")
        try:
            return (create_object.first_name(self._house, kind, values[0]),)
        except VandrelError:
            return values  # the draft says what is wrong

    @staticmethod
    def _columns_as_a_whole(lines: Sequence[Line]) -> None:
        """Numbers that have lost their leading zeros: others of the column have them, and are longer."""
        for field in _WITH_ZEROS:
            found = [(line, value) for line in lines if (value := line.item.one(field)).isdecimal()]
            padded = {len(value) for _, value in found if value.startswith("0")}
            if len(padded) != 1:
                continue
            width = padded.pop()
            for line, value in found:
                if len(value) < width:
                    what = f"{len(value)} digits where others have {width}: leading zeros are lost"
                    line.item.fault(field, value, "zeros-lost", what, f"write {value.zfill(width)}; or pad: {width}")

    # --- who exists

    def _existing(self, line: Line, entry: Entry, editor: Editor) -> None:
        line.dn = entry.dn
        if self._described.mode == "create":
            line.state = State.THERE
            return
        item = line.item
        try:
            edit = editor.edit(entry, list(self._assignments(item)))
        except VandrelError as error:
            self._note(item, error.findings)
            return
        self._note(item, [finding for finding in edit.findings if finding.fatal])
        place = item.one(PLACE)
        if place and prepare(place) != prepare(self._house.place(entry.dn.parent)):
            what = f"it stands in {self._house.place(entry.dn.parent)}"
            item.fault(PLACE, place, "place", what, f"vandrel move NAME --to {place}", fatal=False)
        if not item.stops:
            line.edit = edit
            line.state = State.CHANGED if edit.steps else State.SAME

    def _assignments(self, item: Item) -> Iterator[Assignment]:
        for name, values in item.fields.items():
            if name in (PLACE, "kind") or name in self._described.key or not values:
                continue
            operator = "+=" if name in FIELDS and FIELDS[name].shape is Shape.MEMBERSHIPS else "="
            yield Assignment(name, operator, tuple(values))

    # --- who is new

    def _draft(self, lines: Sequence[Line], ledger: Ledger) -> None:
        creator = Creator(self._house, self._today, ledger)
        named = set[str]().union(*(line.item.fields for line in lines))
        if any(_is_reference(name, self._described.sort) for name in named):
            for line in lines:
                self._mates |= {prepare(name): line for name in _names_of(line.item) if name}
        pending: list[tuple[Line, str, list[str | Line]]] = []
        coming: set[DN] = set()
        for line in lines if self._described.built else ():
            self._build(line.item)
        alike = Alikes(
            self._house, creator, self._described.kind, [line.item for line in lines if self._described.sort == ACCOUNT]
        )
        for line in lines:
            line.draft = alike.draft(line.item)
            if line.draft is None:
                waiting = len(pending)
                try:
                    line.draft = self._drafted(line, creator, pending)
                except VandrelError as error:
                    self._note(line.item, error.findings)
                    continue
                if len(pending) == waiting and not line.item.stops:
                    alike.learn(line.item, line.draft)
            if isinstance(line.draft, Alike):
                self._check_secret(line.item, line.draft)
            line.dn = line.draft.dn
            if self._described.sort == UNIT and line.dn is not None:
                coming.add(line.dn)
            if line.draft.findings:
                # The unit that holds it may stand in another row, which comes before.
                mended = line.dn is not None and line.dn.parent in coming
                self._note(line.item, [f for f in line.draft.findings if not (mended and f.code == "no-parent")])
            line.state = State.REFUSED if line.item.stops or line.dn is None else State.NEW
        for line, field, targets in pending:
            names = [str(target.dn) if isinstance(target, Line) else target for target in targets]
            if isinstance(line.draft, Draft):
                line.draft.derived[field] = Derived(field, tuple(name for name in names if name != "None"), "typed")

    def _build(self, item: Item) -> None:
        """The values that the description builds from others."""
        charter = self._house.charter
        for name, pattern in self._described.built.items():
            values = {**dict.fromkeys(FIELDS, ""), "domain": charter.domain, "suffix": charter.domain}
            values |= {field: given[0] for field, given in item.fields.items() if given} | item.words
            try:
                item.fields[name] = (charter.fill(pattern, values),)
            except VandrelError as error:
                self._note(item, error.findings)

    def _drafted(self, line: Line, creator: Creator, pending: list[tuple[Line, str, list[str | Line]]]) -> Draft:
        item, sort = line.item, self._described.sort
        references = {name: item.fields[name] for name in item.fields if _is_reference(name, sort)}
        given = {name: values for name, values in item.fields.items() if name not in references and name != "kind"}
        if "groups" in given:
            groups = [self._one("groups", value, item, (GROUP,)) for value in given["groups"]]
            given["groups"] = tuple(filter(None, groups))
        resolved: dict[str, tuple[str, ...]] = {}
        for name, typed in references.items():
            targets = [found for value in typed if (found := self._target(item, name, value)) is not None]
            resolved[name] = tuple(t if isinstance(t, str) else _LATER for t in targets)
            if any(isinstance(target, Line) for target in targets):
                pending.append((line, name, targets))
        kind = item.one("kind") or self._described.kind
        if sort == ACCOUNT:
            draft = creator.draft(kind, given, resolved)
            self._check_secret(item, draft)
            return draft
        given |= resolved
        if sort == GROUP:
            stem = item.one("name") or item.one("display")
            given.pop("name", None)
            return create_object.group(self._house, stem, {**given, "kind": (kind,)} if kind else given)
        if sort == UNIT:
            place = item.one(PLACE) or f"/{item.one('name')}"
            return create_object.unit(self._house, place, {n: v for n, v in given.items() if n not in (PLACE, "name")})
        return create_object.computer(self._house, item.one("name"), {n: v for n, v in given.items() if n != "name"})

    def _check_secret(self, item: Item, draft: Draft | Alike) -> None:
        if item.secret is None or draft.rules is None:
            return
        found = check_password(item.secret, draft.rules, login=draft.value("login"), full=draft.value("full"),
                               words=[self._house.charter.document.organization])  # fmt: skip
        broken = [finding for finding in found if finding.fatal] or found
        if broken:
            what, remedy = (
                "; ".join(filter(None, texts)) for texts in zip(*((f.what, f.remedy) for f in broken), strict=True)
            )
            item.fault("password", "", "password", what, remedy, fatal=broken[0].fatal)

    def _target(self, item: Item, field: str, value: str) -> str | Line | None:
        """Whom a value means: somebody of the same file, or somebody in the directory."""
        mate = self._mates.get(prepare(value))
        if mate is not None:
            return mate
        return self._one(field, value, item, SORTS)

    def _one(self, field: str, value: str, item: Item, sorts: tuple[str, ...]) -> str | None:
        """The name of the one object of these sorts that a value means; each value is looked for once."""
        if (field, value) not in self._resolved:
            try:
                self._resolved[field, value] = str(resolve(self._house, value, sorts).dn)
            except VandrelError as error:
                self._resolved[field, value] = _told(error)
        found = self._resolved[field, value]
        if isinstance(found, str):
            return found
        item.fault(field, value, found.code, found.what, found.remedy)
        return None

    def _note(self, item: Item, findings: Iterable[Finding]) -> None:
        for finding in findings:
            field = finding.where if finding.where in FIELDS or finding.where in (PLACE, "groups") else ""
            if not field and finding.code in ("no-parent", "bad-name"):
                field = PLACE
            known = item.columns.get(field, field) or "-"
            value = ", ".join(item.fields.get(field, ()))[:120]
            item.findings.append(
                RowFinding(item.row, known, value, finding.code, finding.what, finding.remedy, finding.fatal)
            )


def _told(error: VandrelError) -> Finding:
    """What a name could have meant, in the remedy: no list stands above it here."""
    finding = error.findings[0]
    if isinstance(error, NotOne) and error.candidates:
        names = listed([candidate.name for candidate in error.candidates[:3]])
        ask = f"write one of them: {names} ..." if error.code == "ambiguous" else f"did you mean {names}?"
        return structs.replace(finding, remedy=ask)
    return structs.replace(finding, remedy="give a number, a logon name or a mail address that exists")


#: Stands for the name of a file-mate that is not worked out yet.
_LATER = "cn=later"


def _is_reference(name: str, sort: str) -> bool:
    return name in FIELDS and FIELDS[name].shape is Shape.REFERENCE and sort in FIELDS[name].on


def _names_of(item: Item) -> Iterator[str]:
    """By what the others of the file may call somebody."""
    yield from (item.one(name) for name in ("number", "login", "mail", "full"))
    if item.one("given") and item.one("surname"):
        yield f"{item.one('given')} {item.one('surname')}"


def _by_content(item: Item) -> tuple[str, ...]:
    return tuple(f"{name}={'|'.join(values)}" for name, values in sorted(item.fields.items()))


# --- making it


class Batch(Struct):
    """Steps of some rows, and where a new turn must begin: after what the others build upon."""

    steps: list[Step]
    cut: int
    lines: list[Line]


def batches(
    house: House, lines: Sequence[Line], secret: Callable[[Line], Secret | None], sort: str, kept: str = ""
) -> Iterator[Batch]:
    """The steps of all rows that are to be made, a thousand rows at a time: objects, passwords, then memberships.

    `secret` gives the password of a new account, or None; `kept` names the file where generated ones stand.
    """
    wanted = [line for line in lines if line.state in (State.NEW, State.CHANGED)]
    later: list[Step] = []
    known = {line.dn.key for line in wanted if line.dn is not None and line.state is State.NEW}
    for start in range(0, len(wanted), TOGETHER):
        chunk = wanted[start : start + TOGETHER]
        new = [line for line in chunk if line.draft is not None and line.state is State.NEW]
        if sort == ACCOUNT:
            made = account_steps(house, [(line.draft, secret(line)) for line in new if line.draft], kept)
        else:
            made = [step for line in new if line.draft for step in _objects(house, line, sort)]
        made, references = _references_apart(house, made, known)
        later += references
        edits = in_order(house, [line.edit for line in chunk if line.edit is not None])
        cut = next((n for n, step in enumerate(made) if not _is_birth(step, known)), len(made))
        if made or edits:
            yield Batch([*made, *edits], cut, chunk)
    for start in range(0, len(later), TOGETHER):
        yield Batch(later[start : start + TOGETHER], 0, [])


def _objects(house: House, line: Line, sort: str) -> list[Step]:
    assert isinstance(line.draft, Draft)
    made = create_object.steps(house, line.draft, sort)
    groups = line.item.fields.get("groups", ())
    return [*made, *create_object.join_groups(house, line.draft, groups)] if sort == COMPUTER else made


def _is_birth(step: Step, known: set[str]) -> bool:
    return isinstance(step, Add) or (isinstance(step, Set) and step.dn.key in known)


def _references_apart(house: House, steps: list[Step], known: set[str]) -> tuple[list[Step], list[Step]]:
    """Names of file-mates go into steps of their own, at the end: there may be a circle of people who report."""
    schema, apart, made = house.directory.schema, [], []
    for step in steps:
        if isinstance(step, Add):
            for name in schema.references_in(step.attributes) - {"member"}:
                mates = [v for v in step.attributes[name] if str(schema.key(name, v)) in known]
                if mates:
                    rest = [value for value in step.attributes[name] if value not in mates]
                    attributes = {k: v for k, v in step.attributes.items() if k != name} | (
                        {name: rest} if rest else {}
                    )
                    step = Add(step.dn, attributes)  # noqa: PLW2901
                    apart.append(_adding(step.dn, name, mates))
        made.append(step)
    return made, apart


def _adding(dn: DN, name: str, values: Sequence[str | bytes]) -> Step:
    from vandrel.directory.operations import Change

    return Set(dn, (Change(name, added=tuple(values)),))
