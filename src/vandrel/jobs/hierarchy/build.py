"""The hierarchy: the design beside what exists, and building what is missing."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from enum import Enum

from msgspec import Struct, structs

from vandrel.charter.hierarchy import DesignedUnit
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.place import Place
from vandrel.errors import Code, Finding
from vandrel.fields import ACCOUNT, GROUP, UNIT
from vandrel.jobs.common import create_object
from vandrel.jobs.common.new_object import new_object_steps
from vandrel.jobs.common.posix_allocator import PosixAllocator
from vandrel.jobs.common.proposal import Action, FieldChange, ObjectChange, Proposal, fixed
from vandrel.jobs.common.report import Branch, Report, Table, count
from vandrel.jobs.hierarchy.moved_branches import MovedUnit, by_name, moved_units
from vandrel.objects.context import Context
from vandrel.steps.step import Add, Rename, Set, Step
from vandrel.text.nearest import listed
from vandrel.text.string_prep import prepare

#: Places that are named where a unit could belong to several.
_NAMED = 3


class State(Enum):
    """How a unit of the design and the directory stand to each other."""

    BUILT = "built"
    MISSING = "missing"
    UNPROTECTED = "not protected"
    EXTRA = "not in the charter"
    MISPLACED = "misplaced"


class UnitState(Struct, frozen=True):
    """One unit, designed or found; ``elsewhere`` is where a misplaced one belongs, and where a missing one stands."""

    place: Place
    state: State
    about: str = ""
    accounts: int = 0
    elsewhere: str = ""


class MisplacedAccount(Struct, frozen=True):
    """An account that stands where the design does not want it, and why."""

    dn: DN
    where: str
    why: str


class Comparison(Struct, frozen=True):
    """The design beside the directory."""

    units: tuple[UnitState, ...]
    moved: tuple[MovedUnit, ...]
    groups: tuple[str, ...]
    strays: tuple[MisplacedAccount, ...]
    steps: tuple[Step, ...]
    findings: tuple[Finding, ...]


def compare(context: Context) -> Comparison:
    """Compare the charter's hierarchy with the directory; ``steps`` build what is missing and protect what is not."""
    base = context.charter.base
    existing = {
        dn_places(context, entry): entry
        for entry in context.directory.search(base, where=context.dialect.filter_for(UNIT))
        if not context.dialect.is_servers_own(entry)
    }
    by_key = {places.key(place): (place, entry) for place, entry in existing.items()}
    found_accounts = context.directory.search(base, where=context.dialect.filter_for(ACCOUNT))
    accounts = [entry for entry in found_accounts if not context.dialect.is_servers_own(entry)]
    counts: dict[str, int] = {}
    for account in accounts:
        counts[account.dn.parent.key] = counts.get(account.dn.parent.key, 0) + 1
    states = [_designed_state(context, unit, by_key, counts, base) for unit in context.charter.design]
    missing = [state.place for state in states if state.state is State.MISSING]
    strange = [place for place, _ in by_key.values() if context.charter.designed(place) is None]
    moved = moved_units(missing, strange)
    homes, stands = {each.now: each.home for each in moved}, {each.home: each.now for each in moved}
    states = [
        structs.replace(state, elsewhere=places.to_text(stands[state.place])) if state.place in stands else state
        for state in states
    ]
    missing_by_name = by_name(missing)
    for place in strange:
        could_be = [home for home in missing_by_name.get(prepare(place[-1]), ()) if home not in stands]
        belongs = [homes[place]] if place in homes else could_be
        how = State.MISPLACED if belongs else State.EXTRA
        number = counts.get(places.to_dn(place, base).key, 0)
        elsewhere = listed(map(places.to_text, belongs[:_NAMED]))
        states.append(UnitState(place, how, accounts=number, elsewhere=elsewhere))
    states.sort(key=lambda state: _order(state.place, context.charter.design))
    steps, groups, findings = _steps(context, states, moved)
    return Comparison(
        tuple(states), tuple(moved), tuple(groups), tuple(_strays(context, accounts, homes)), tuple(steps),
        tuple(findings),
    )  # fmt: skip


def dn_places(context: Context, entry: Entry) -> Place:
    """The place of an entry; empty outside of the base."""
    return places.parse(context.place(entry.dn)) if entry.dn.is_within(context.charter.base) else ()


def _designed_state(
    context: Context,
    unit: DesignedUnit,
    existing: dict[tuple[str, ...], tuple[Place, Entry]],
    counts: dict[str, int],
    base: DN,
) -> UnitState:
    hit = existing.get(places.key(unit.place))
    if hit is None:
        return UnitState(unit.place, State.MISSING, unit.about)
    number = counts.get(places.to_dn(unit.place, base).key, 0)
    protected = context.dialect.read(hit[1], "protected") == ["yes"] or context.dialect.why_not_kept("protected", UNIT)
    return UnitState(
        unit.place, State.UNPROTECTED if unit.protected and not protected else State.BUILT, unit.about, number
    )


def _order(place: Place, design: Sequence[DesignedUnit]) -> tuple[tuple[int, str], ...]:
    """Designed units in the order of the charter; strangers behind their designed siblings."""
    ranks = _ranks(design)
    return tuple(
        (ranks.get(places.key(place[: depth + 1]), len(design)), prepare(place[depth])) for depth in range(len(place))
    )


def _ranks(design: Sequence[DesignedUnit]) -> dict[tuple[str, ...], int]:
    return {places.key(unit.place): rank for rank, unit in enumerate(design)}


def _strays(context: Context, accounts: Sequence[Entry], homes: Mapping[Place, Place]) -> list[MisplacedAccount]:
    """The accounts that stand where they do not belong; those in a unit that goes home are judged by that."""
    strays = []
    for account in accounts:
        where = context.place(account.dn.parent)
        kind = context.one(account, "kind")
        place = places.parse(where) if where.startswith("/") else ()
        unit = context.charter.designed(homes.get(place, place)) if place else None
        if where == "/":
            why = "it stands in no unit"
        elif unit is None:
            why = "its unit is not in the charter"
        elif unit.holds and kind not in unit.holds:
            why = f"the unit holds {' and '.join(unit.holds)}, and this is {kind or 'of no kind'}"
        else:
            continue
        strays.append(MisplacedAccount(account.dn, where, why))
    return strays


def _steps(
    context: Context, states: Sequence[UnitState], moved: Sequence[MovedUnit]
) -> tuple[list[Step], list[str], list[Finding]]:  # fmt: skip
    steps: list[Step] = []
    base = context.charter.base
    if not context.directory.existing([base]):
        steps.append(Add(base, top_entry(base, context.charter.document.organization)))
    standing = {each.home: each for each in moved}
    moves: list[Rename] = []
    for state in states:
        unit = context.charter.designed(state.place)
        dn = places.to_dn(state.place, base)
        if state.place in standing:
            old = places.to_dn(standing[state.place].now, base)
            if not standing[state.place].comes_along:
                now = old
                for move in moves:
                    now = now.moved(move.dn, move.new) if now.is_within(move.dn) else now
                moves.append(Rename(now, dn))
                steps.append(moves[-1])
            steps += _protection(context, old, dn) if unit is not None and unit.protected else ()
        elif state.state is State.MISSING and unit is not None:
            fields = {"protected": ["yes"] if unit.protected else ["no"], "notes": [unit.about] if unit.about else []}
            steps += new_object_steps(context, UNIT, dn, fields)
        elif state.state is State.UNPROTECTED:
            steps += _protection(context, dn, dn)
    groups, findings = _group_steps(context)
    return (
        steps + [step for _, steps_of_group in groups for step in steps_of_group],
        [name for name, _ in groups],
        findings,
    )


def _protection(context: Context, now: DN, later: DN) -> Iterator[Step]:
    """Protect a unit that stands at `now` and will be at `later`, unless it is, or none is kept here."""
    entry = context.directory.get(now)
    if entry is None or context.dialect.why_not_kept("protected", UNIT):
        return
    if context.dialect.read(entry, "protected") != ["yes"]:
        yield Set(later, tuple(context.dialect.changes(entry, "protected", ["yes"])))


def _group_steps(context: Context) -> tuple[list[tuple[str, list[Step]]], list[Finding]]:
    """The groups of the design that do not exist yet; the units that hold them count as there."""
    present = {
        prepare(entry.dn.name)
        for entry in context.directory.search(context.charter.base, where=context.dialect.filter_for(GROUP))
    }
    groups: list[tuple[str, list[Step]]] = []
    findings: list[Finding] = []
    numbers = PosixAllocator(context)
    for unit in context.charter.design:
        for kind, stem in unit.groups:
            name = create_object.first_name(context, kind, stem)
            if prepare(name) in present:
                continue
            present.add(prepare(name))
            draft = create_object.group(context, stem, {"kind": [kind], "name": [name]}, numbers)
            # That the unit does not exist yet is what this very plan mends.
            findings += [finding for finding in draft.findings if finding.code != Code.NO_PARENT]
            groups.append((name, create_object.steps(context, draft, GROUP)))
    return groups, findings


def top_entry(base: DN, organization: str) -> dict[str, list[str | bytes]]:
    """The attributes of the entry at the top, by its naming attribute (RFC 2247 for ``dc``)."""
    kind = base.naming_attribute.lower()
    if kind == "dc":
        return {"objectClass": ["top", "organization", "dcObject"], "o": [organization], "dc": [base.name]}
    if kind == "ou":
        return {"objectClass": ["top", "organizationalUnit"], "ou": [base.name]}
    return {"objectClass": ["top", "organization"], "o": list(dict.fromkeys([base.name, organization]))}


class DrawRequest(Struct, frozen=True):
    """Whether only what is not as designed is drawn."""

    differences: bool = False


def draw(context: Context, request: DrawRequest) -> Report:
    """Draw the design beside what exists."""
    comparison = compare(context)
    rows = [
        (places.to_text(unit.place), unit.state.value, unit.accounts, unit.elsewhere or None)
        for unit in comparison.units
    ]
    missing = [(", ".join(comparison.groups),)] if comparison.groups else []
    strays = [(stray.dn.name, stray.where, stray.why, str(stray.dn)) for stray in comparison.strays]
    counts = Counter(unit.state for unit in comparison.units)
    figures = ", ".join(f"{counts[state]} {state.value}" for state in State if counts[state])
    summary = [f"{count(len(comparison.units), 'unit')}: {figures}."]
    if comparison.steps:
        moves = ", moves what stands elsewhere" if comparison.moved else ""
        summary.append(f"vandrel hierarchy build makes what is missing{moves}, and protects what is to be protected.")
    return Report(
        "hierarchy", ("place", "state", "accounts", "belongs"), rows,
        drawing=_drawing(context, comparison, differences=request.differences),
        tables=[
            Table("missing_groups", "Groups of the design that are missing", ("groups",), missing),
            Table("strays", "Accounts where they do not belong", ("name", "place", "why", "dn"), strays),
        ],
        summary=summary,
    )  # fmt: skip


def _drawing(context: Context, comparison: Comparison, *, differences: bool) -> Branch:
    root = Branch(f"{context.charter.document.organization}  {context.charter.base}")
    branches: dict[tuple[str, ...], Branch] = {(): root}
    along = {place for each in comparison.moved if each.comes_along for place in (each.now, each.home)}
    homes = {each.home for each in comparison.moved if each.comes_along}
    off = [unit.place for unit in comparison.units if unit.state is not State.BUILT and unit.place not in along]
    differing = {place[:depth] for place in off for depth in range(1, len(place) + 1)}
    for unit in comparison.units:
        if (differences and unit.place not in differing) or unit.place in homes:
            continue
        branch = Branch(unit.place[-1], is_unit=False)
        if unit.state is not State.BUILT and unit.place not in along:  # as designed, or with what holds it: no word
            verb = "stands at" if unit.state is State.MISSING else "belongs at"
            branch.marks += [unit.state.value, *([f"{verb} {unit.elsewhere}"] if unit.elsewhere else [])]
        branch.words += [count(unit.accounts, "account")] if unit.accounts else []
        branch.faint += [unit.about] if unit.about else []
        branches.get(unit.place[:-1], root).below.append(branch)
        branches[unit.place] = branch
    return root


def build(context: Context) -> Proposal:
    """Propose to make what the design has and the directory lacks, and to protect what is to be protected.

    What the directory has elsewhere is moved to where it belongs, with all that is in it.
    """
    comparison, base = compare(context), context.charter.base
    standing = {each.home: each for each in comparison.moved}
    changes = [
        _planned(context, places.to_dn(unit.place, base), unit)
        for unit in comparison.units
        if unit.state is State.UNPROTECTED or (unit.state is State.MISSING and unit.place not in standing)
    ]
    changes += [_move(context, each, comparison.steps) for each in comparison.moved if not each.comes_along]
    for step in comparison.steps:
        if isinstance(step, Add) and step.dn.name in comparison.groups:
            place = context.place(step.dn.parent)
            changes.append(ObjectChange(Action.CREATE, GROUP, step.dn, step.dn.name, place, ()))
    return Proposal(
        "hierarchy build", "build the hierarchy", f"Make {count(len(comparison.steps), 'change')}?",
        fixed(comparison.steps), changes=changes, findings=comparison.findings,
    )  # fmt: skip


def _move(context: Context, unit: MovedUnit, steps: Sequence[Step]) -> ObjectChange:
    dn, home = (places.to_dn(place, context.charter.base) for place in (unit.now, unit.home))
    fields = [FieldChange("place", (places.to_text(unit.now[:-1]),), (places.to_text(unit.home[:-1]),))]
    if any(isinstance(step, Set) and step.dn == home for step in steps):
        fields.append(FieldChange("protected", ("no",), ("yes",)))
    return ObjectChange(Action.CHANGE, UNIT, dn, dn.name, context.place(dn.parent), tuple(fields))


def _planned(context: Context, dn: DN, unit: UnitState) -> ObjectChange:
    place = context.place(dn.parent)
    if unit.state is State.UNPROTECTED:
        protected = FieldChange("protected", ("no",), ("yes",))
        return ObjectChange(Action.CHANGE, UNIT, dn, dn.name, place, (protected,))
    design = context.charter.designed(unit.place)
    is_protected = design is not None and design.protected and not context.dialect.why_not_kept("protected", UNIT)
    values = {"protected": "yes" if is_protected else "", "notes": unit.about}
    fields = tuple(FieldChange(name, after=(value,), rule="charter") for name, value in values.items() if value)
    return ObjectChange(Action.CREATE, UNIT, dn, dn.name, place, fields)
