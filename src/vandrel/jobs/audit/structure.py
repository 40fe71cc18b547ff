"""Rules on groups, units, computers and references."""

from __future__ import annotations

from collections.abc import Iterator

from vandrel.charter.hierarchy import DesignedUnit
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.errors import VandrelError
from vandrel.fields import ACCOUNT, COMPUTER, UNIT
from vandrel.jobs.audit.rule import Fault, Weight, command, edit, rule
from vandrel.jobs.audit.survey import Survey
from vandrel.objects.delegation import on_unit
from vandrel.steps.references import own_references, references_of
from vandrel.text.string_prep import prepare

#: Members from which on two groups that have the same are worth a word.
_ALIKE = 3


@rule("dangling", Weight.FAULT, "A new object of that name gets what the old one had.")
def dangling(survey: Survey) -> Iterator[Fault]:
    """Objects that point at what is not there."""
    own = set(own_references(survey.context.directory))
    base = survey.context.charter.base
    #: What stands below by its name, and is held apart: a server's configuration and its schema.
    apart = [context for context in survey.context.directory.contexts if context.is_below(base)]
    for entry in survey.entries.values():
        unknown = {name: strange for name, values in entry.attributes.items()
                   if name in own and (strange := [value for value in values if not survey.has(value)])}  # fmt: skip
        for name, target in references_of(unknown, survey.context.directory.schema):
            if not target.is_within(base) or any(map(target.is_within, apart)):
                continue
            if target.key not in survey.entries:
                yield Fault(entry, f"{name} points at {target.name}, which is not there")


@rule("group-empty", Weight.ADVICE, "What it is good for is forgotten, and its rights are not.")
def group_empty(survey: Survey) -> Iterator[Fault]:
    """Groups without a member that no kind, role or unit of the charter fills."""
    names = {prepare(name) for name in survey.power}
    designed = {prepare(stem) for unit in survey.context.charter.design for _, stem in unit.groups}
    for group in survey.groups:
        words = prepare(group.dn.name)
        by_design = any(stem.replace(" ", "-") in words for stem in designed)
        if not survey.members[group.dn.key] and words not in names and not by_design:
            yield Fault(group, "nobody is in it", command("delete", group.dn.name))


@rule("group-circle", Weight.FAULT, "Who is in one of them is in all, which nobody meant.")
def group_circle(survey: Survey) -> Iterator[Fault]:
    """Groups that are in themselves, through others."""
    for group in survey.groups:
        if group.dn.key in survey.all_groups_of(group.dn.key):
            inner = next((dn.name for dn in survey.members[group.dn.key] if group.dn.key in survey.all_groups_of(dn.key)
                          or dn == group.dn), "...")  # fmt: skip
            yield Fault(group, "it is in itself", edit(survey, group, f"members-={inner}"))


@rule("unit-unprotected", Weight.FAULT, "One slip deletes it with all that is in it.")
def unit_unprotected(survey: Survey) -> Iterator[Fault]:
    """Units that the charter protects, and that are not protected."""
    for unit in survey.units:
        designed = _designed(survey, unit.dn)
        if designed is not None and designed.protected and survey.one(unit, "protected") != "yes":
            place = survey.context.place(unit.dn)
            yield Fault(unit, "not protected", command("protect", place))


@rule("unit-empty", Weight.ADVICE, "It is in the way, and its delegations stay in force.")
def unit_empty(survey: Survey) -> Iterator[Fault]:
    """Units outside of the charter's hierarchy with nothing below them."""
    for unit in survey.units:
        if not survey.children[unit.dn.key] and _designed(survey, unit.dn) is None:
            place = survey.context.place(unit.dn)
            release = command("release", place) if survey.one(unit, "protected") == "yes" else ()
            yield Fault(unit, "nothing stands below it", (*release, *command("delete", place)))


@rule("unit-not-designed", Weight.ADVICE, "Whoever builds by the charter does not know of it.")
def unit_not_designed(survey: Survey) -> Iterator[Fault]:
    """Units with something in them that the charter's hierarchy does not have."""
    for unit in survey.units:
        if survey.children[unit.dn.key] and _designed(survey, unit.dn) is None:
            yield Fault(unit, "the charter's hierarchy does not have it")


@rule("wrong-kind-in-unit", Weight.ADVICE, "Policies and delegations there are made for others.")
def wrong_kind_in_unit(survey: Survey) -> Iterator[Fault]:
    """Accounts in a unit that the charter makes for other kinds."""
    homes: dict[str, DesignedUnit | None] = {}
    for entry, (kind,) in survey.rows("kind"):
        key = entry.dn.parent_key
        if key not in homes:
            homes[key] = _designed(survey, entry.dn.parent)
        designed = homes[key]
        if designed is not None and designed.holds and kind not in designed.holds:
            what = f"{kind or 'of no kind'}, in a unit for {' and '.join(designed.holds)}"
            yield Fault(entry, what)


@rule("direct-in-domain-local", Weight.ADVICE, "People belong in global groups, and those in domain-local ones.")
def direct_in_domain_local(survey: Survey) -> Iterator[Fault]:
    """Domain-local groups for security with people in them directly."""
    for group in survey.groups:
        if survey.one(group, "scope") != "domain-local" or survey.one(group, "purpose") == "distribution":
            continue
        inside = (survey.entries.get(dn.key) for dn in survey.members[group.dn.key])
        people = [entry for entry in inside if entry is not None and survey.context.object_type(entry) == ACCOUNT]
        if people:
            more = f" and {len(people) - 3} more" if len(people) > 3 else ""
            yield Fault(group, f"directly in it: {', '.join(map(survey.context.label, people[:3]))}{more}")


@rule("group-name-not-by-rule", Weight.ADVICE, "People look for groups by the rule.")
def group_name_not_by_rule(survey: Survey) -> Iterator[Fault]:
    """Groups of a kind whose name no rung of the kind's rule gives."""
    for group in survey.groups:
        kind = survey.one(group, "kind")
        if kind not in survey.context.charter.document.groups:
            continue
        rule_ = survey.context.charter.group_naming(kind)
        if rule_.explain(group.dn.name, {}) is None:
            yield Fault(group, f"not named as a {kind}: {rule_.rungs[0].text}", edit(survey, group, "name=..."))


@rule("group-kind-unknown", Weight.ADVICE, "No rule of the charter holds for it.")
def group_kind_unknown(survey: Survey) -> Iterator[Fault]:
    """Groups of a kind that the charter does not have, where most are of one that it has."""
    kinds = survey.context.charter.document.groups
    strange = [group for group in survey.groups if survey.one(group, "kind") not in kinds]
    for group in strange if len(strange) * 2 < len(survey.groups) else ():
        kind = survey.one(group, "kind")
        what = f"the charter has no kind of group {kind!r}" if kind else "it is of no kind"
        yield Fault(group, what, edit(survey, group, "kind=..."))


@rule("group-all-out", Weight.ADVICE, "Nobody uses it, and its rights wait for whoever is enabled.")
def group_all_out(survey: Survey) -> Iterator[Fault]:
    """Groups whose members are all disabled or past their last day."""
    out = {entry.dn.key for entry, is_enabled in zip(survey.accounts, survey.enabled, strict=True) if not is_enabled}

    def is_out(key: str) -> bool:
        entry = survey.entries[key]
        return survey.context.object_type(entry) == ACCOUNT and not survey.is_enabled(entry)

    for group in survey.groups:
        keys = [dn.key for dn in survey.members[group.dn.key] if dn.key in survey.entries]
        if keys and all(key in out or is_out(key) for key in keys):
            yield Fault(group, f"all {len(keys)} members are out" if len(keys) > 1 else "its one member is out")


@rule("group-twice", Weight.ADVICE, "Whoever takes people out of one forgets the other.")
def group_twice(survey: Survey) -> Iterator[Fault]:
    """Groups with the same members, three or more, and the same purpose, which no kind of account fills."""
    same: dict[tuple[str, frozenset[str]], list[Entry]] = {}
    for group in survey.groups:
        keys = frozenset(dn.key for dn in survey.members[group.dn.key])
        if len(keys) >= _ALIKE:
            same.setdefault((survey.one(group, "purpose"), keys), []).append(group)
    for groups in same.values():
        for group in groups if len(groups) > 1 else ():
            others = ", ".join(other.dn.name for other in groups if other is not group)
            yield Fault(group, f"the same members as {others}")


@rule("unit-missing", Weight.FAULT, "Who is created by the charter has no place to stand.")
def unit_missing(survey: Survey) -> Iterator[Fault]:
    """Units of the charter's hierarchy that are not there, told of the unit that is to hold them."""
    for unit in survey.context.charter.design:
        dn = places.to_dn(unit.place, survey.context.charter.base)
        above = survey.entries.get(dn.parent_key)
        if dn.key not in survey.entries and above is not None:
            yield Fault(above, f"{places.to_text(unit.place)} is not there", command("hierarchy", "build"))


@rule("computer-misplaced", Weight.ADVICE, "Policies for computers go by the place.")
def computer_misplaced(survey: Survey) -> Iterator[Fault]:
    """Computers outside of the units that the charter has for them."""
    homes = [places.to_dn(unit.place, survey.context.charter.base) for unit in survey.context.charter.design
             if COMPUTER in unit.holds]  # fmt: skip
    for computer in survey.computers:
        if homes and computer.dn.parent not in homes:
            place = survey.context.place(homes[0])
            remedy = command("move", computer.dn.name, "--to", place)
            yield Fault(computer, f"in {survey.context.place(computer.dn.parent)}", remedy)


@rule("delegation-not-in-force", Weight.FAULT, "The team cannot do what it is counted upon for.")
def delegation_not_in_force(survey: Survey) -> Iterator[Fault]:
    """Units where the directory does not let a team do what the charter says, in directories that can."""
    if survey.context.dialect.why_not_kept("delegation", UNIT):
        return
    for unit in survey.units:
        lacking = [item for item in on_unit(survey.context, unit) if not item.in_force]
        if lacking:
            what = ", ".join(f"{item.team} may not {item.task}" for item in lacking)
            yield Fault(unit, what, command("hierarchy", "delegate"))


@rule("delegation-strange", Weight.GRAVE, "Somebody may do what nobody decided.")
def delegation_strange(survey: Survey) -> Iterator[Fault]:
    """Units where a team may do what the charter does not say."""
    for unit in survey.units:
        strange = [item for item in on_unit(survey.context, unit) if item.in_force and not item.designed]
        if strange:
            words = ",".join(f"{item.team}: {item.task}" for item in strange)
            place = survey.context.place(unit.dn)
            remedy = command("edit", place, f"delegation-={words}")
            yield Fault(unit, f"not in the charter: {words}", remedy)


def _designed(survey: Survey, dn: DN) -> DesignedUnit | None:
    try:
        return survey.context.charter.designed(places.parse(survey.context.place(dn)))
    except VandrelError:  # a name that is no place of units
        return None
