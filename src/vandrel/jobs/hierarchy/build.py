"""The hierarchy: the design beside what exists, and building what is missing."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from enum import Enum

from msgspec import Struct

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
from vandrel.objects.context import Context
from vandrel.steps.step import Add, Set, Step
from vandrel.text.string_prep import prepare


class State(Enum):
    """How a unit of the design and the directory stand to each other."""

    BUILT = "built"
    MISSING = "missing"
    UNPROTECTED = "not protected"
    EXTRA = "not in the charter"
    MISPLACED = "misplaced"


class UnitState(Struct, frozen=True):
    """One unit, designed or found; ``elsewhere`` is where a misplaced one belongs."""

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
    by_key = {_key(place): (place, entry) for place, entry in existing.items()}
    found_accounts = context.directory.search(base, where=context.dialect.filter_for(ACCOUNT))
    accounts = [entry for entry in found_accounts if not context.dialect.is_servers_own(entry)]
    counts: dict[str, int] = {}
    for account in accounts:
        counts[account.dn.parent.key] = counts.get(account.dn.parent.key, 0) + 1
    designed = {_key(unit.place): unit for unit in context.charter.design}
    states = [_designed_state(context, unit, by_key, counts, base) for unit in context.charter.design]
    missing_names: dict[str, list[Place]] = {}
    for state in states:
        if state.state is State.MISSING:
            missing_names.setdefault(prepare(state.place[-1]), []).append(state.place)
    for key, (place, entry) in by_key.items():
        if key not in designed:
            homes = missing_names.get(prepare(place[-1]), [])
            how = State.MISPLACED if homes else State.EXTRA
            elsewhere = places.to_text(homes[0]) if homes else ""
            states.append(UnitState(place, how, accounts=counts.get(entry.dn.key, 0), elsewhere=elsewhere))
    states.sort(key=lambda state: _order(state.place, context.charter.design))
    steps, groups, findings = _steps(context, states)
    return Comparison(
        tuple(states), tuple(groups), tuple(_strays(context, accounts, designed)), tuple(steps), tuple(findings)
    )


def dn_places(context: Context, entry: Entry) -> Place:
    """The place of an entry; empty outside of the base."""
    return places.parse(context.place(entry.dn)) if entry.dn.is_within(context.charter.base) else ()


def _key(place: Place) -> tuple[str, ...]:
    return tuple(map(prepare, place))


def _designed_state(
    context: Context,
    unit: DesignedUnit,
    existing: dict[tuple[str, ...], tuple[Place, Entry]],
    counts: dict[str, int],
    base: DN,
) -> UnitState:
    hit = existing.get(_key(unit.place))
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
        (ranks.get(_key(place[: depth + 1]), len(design)), prepare(place[depth])) for depth in range(len(place))
    )


def _ranks(design: Sequence[DesignedUnit]) -> dict[tuple[str, ...], int]:
    return {_key(unit.place): rank for rank, unit in enumerate(design)}


def _strays(
    context: Context, accounts: Sequence[Entry], designed: dict[tuple[str, ...], DesignedUnit]
) -> list[MisplacedAccount]:
    strays = []
    for account in accounts:
        where = context.place(account.dn.parent)
        kind = context.one(account, "kind")
        unit = designed.get(_key(places.parse(where))) if where.startswith("/") else None
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


def _steps(context: Context, states: Sequence[UnitState]) -> tuple[list[Step], list[str], list[Finding]]:
    steps: list[Step] = []
    base = context.charter.base
    if not context.directory.existing([base]):
        steps.append(Add(base, top_entry(base, context.charter.document.organization)))
    by_place = {_key(unit.place): unit for unit in context.charter.design}
    for state in states:
        unit = by_place.get(_key(state.place))
        dn = places.to_dn(state.place, base)
        if state.state is State.MISSING and unit is not None:
            fields = {"protected": ["yes"] if unit.protected else ["no"], "notes": [unit.about] if unit.about else []}
            steps += new_object_steps(context, UNIT, dn, fields)
        elif state.state is State.UNPROTECTED:
            entry = context.directory.get(dn)
            if entry is not None:
                steps.append(Set(dn, tuple(context.dialect.changes(entry, "protected", ["yes"]))))
    groups, findings = _group_steps(context)
    return steps + [step for _, made in groups for step in made], [name for name, _ in groups], findings


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
        summary.append("vandrel hierarchy build makes what is missing, and protects what is to be protected.")
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
    off = [unit.place for unit in comparison.units if unit.state is not State.BUILT]
    differing = {place[:depth] for place in off for depth in range(1, len(place) + 1)}
    for unit in comparison.units:
        if differences and unit.place not in differing:
            continue
        branch = Branch(unit.place[-1], is_unit=False)
        branch.marks += [unit.state.value] if unit.state is not State.BUILT else []  # as designed needs no word
        branch.marks += [f"belongs at {unit.elsewhere}"] if unit.elsewhere else []
        branch.words += [count(unit.accounts, "account")] if unit.accounts else []
        branch.faint += [unit.about] if unit.about else []
        branches.get(unit.place[:-1], root).below.append(branch)
        branches[unit.place] = branch
    return root


def build(context: Context) -> Proposal:
    """Propose to make what the design has and the directory lacks, and to protect what is to be protected."""
    comparison = compare(context)
    changes = [
        _planned(context, places.to_dn(unit.place, context.charter.base), unit)
        for unit in comparison.units
        if unit.state in (State.MISSING, State.UNPROTECTED)
    ]
    for step in comparison.steps:
        if isinstance(step, Add) and step.dn.name in comparison.groups:
            place = context.place(step.dn.parent)
            changes.append(ObjectChange(Action.CREATE, GROUP, step.dn, step.dn.name, place, ()))
    return Proposal(
        "hierarchy build", "build the hierarchy", f"Make {count(len(comparison.steps), 'change')}?",
        fixed(comparison.steps), changes=changes, findings=comparison.findings,
    )  # fmt: skip


def _planned(context: Context, dn: DN, unit: UnitState) -> ObjectChange:
    place = context.place(dn.parent)
    if unit.state is State.UNPROTECTED:
        fields = (FieldChange("protected", ("no",), ("yes",)),)
        return ObjectChange(Action.CHANGE, UNIT, dn, dn.name, place, fields)
    notes = (FieldChange("notes", after=(unit.about,), rule="charter"),) if unit.about else ()
    return ObjectChange(Action.CREATE, UNIT, dn, dn.name, place, notes)
