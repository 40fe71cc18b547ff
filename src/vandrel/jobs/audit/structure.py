"""Rules on groups, units and references, and on who holds power."""

from __future__ import annotations

from collections.abc import Iterator

from vandrel.charter.hierarchy import DesignedUnit
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.errors import VandrelError
from vandrel.fields import ACCOUNT
from vandrel.jobs.audit.rule import Fault, Weight, rule
from vandrel.jobs.audit.survey import Survey
from vandrel.steps.references import own_references, references_of
from vandrel.text.string_prep import prepare


@rule("dangling", Weight.FAULT, "A new object of that name gets what the old one had.")
def dangling(survey: Survey) -> Iterator[Fault]:
    """Objects that point at what is not there."""
    own = set(own_references(survey.context.directory))
    base = survey.context.charter.base
    for entry in survey.entries.values():
        for name, target in references_of(entry.attributes, survey.context.directory.schema):
            if name in own and target.is_within(base) and target.key not in survey.entries:
                yield Fault(entry, f"{name} points at {target.name}, which is not there")


@rule("group-empty", Weight.ADVICE, "What it is good for is forgotten, and its rights are not.")
def group_empty(survey: Survey) -> Iterator[Fault]:
    """Groups without a member that no kind, role or unit of the charter fills."""
    known = {prepare(name) for name in survey.power}
    designed = {prepare(stem) for unit in survey.context.charter.design for _, stem in unit.groups}
    for group in survey.groups:
        words = prepare(group.dn.name)
        by_design = any(stem.replace(" ", "-") in words for stem in designed)
        if not survey.members[group.dn.key] and words not in known and not by_design:
            yield Fault(group, "nobody is in it", f"vandrel delete {group.dn.name}")


@rule("group-circle", Weight.FAULT, "Who is in one of them is in all, which nobody meant.")
def group_circle(survey: Survey) -> Iterator[Fault]:
    """Groups that are in themselves, through others."""
    for group in survey.groups:
        if group.dn.key in survey.all_groups_of(group.dn.key):
            inner = next((dn.name for dn in survey.members[group.dn.key] if group.dn.key in survey.all_groups_of(dn.key)
                          or dn == group.dn), "...")  # fmt: skip
            yield Fault(group, "it is in itself", f"vandrel edit {group.dn.name} members-={inner}")


@rule("power-of-the-gone", Weight.GRAVE, "Whoever enables the account has the power at once.")
def power_of_the_gone(survey: Survey) -> Iterator[Fault]:
    """Accounts that are out, and hold power."""
    for entry in survey.accounts:
        if not survey.is_enabled(entry) and (powers := survey.powers_of(entry)):
            login = survey.one(entry, "login")
            yield Fault(entry, f"out, and in {', '.join(powers)}", f"vandrel edit {login} groups-={powers[0]}")


@rule("power-with-mail", Weight.ADVICE, "What arrives by mail runs with the power of whoever opens it.")
def power_with_mail(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts that hold power and have a mail address."""
    for entry in survey.accounts:
        if survey.is_enabled(entry) and survey.one(entry, "mail") and (powers := survey.powers_of(entry)):
            reach = survey.power[prepare(powers[0])]
            yield Fault(entry, f"in {', '.join(powers)} ({reach}), and has an address")


@rule("power-never-ends", Weight.GRAVE, "The most wanted password is the oldest one.")
def power_never_ends(survey: Survey) -> Iterator[Fault]:
    """Accounts that hold power with a password that never grows old."""
    for entry in survey.accounts:
        if survey.one(entry, "password-never-expires") == "yes" and (powers := survey.powers_of(entry)):
            login = survey.one(entry, "login")
            what = f"in {', '.join(powers)}, with a password that never grows old"
            yield Fault(entry, what, f"vandrel edit {login} password-never-expires=no")


@rule("unit-unprotected", Weight.FAULT, "One slip deletes it with all that is in it.")
def unit_unprotected(survey: Survey) -> Iterator[Fault]:
    """Units that the charter protects, and that are not protected."""
    for unit in survey.units:
        designed = _designed(survey, unit.dn)
        if designed is not None and designed.protected and survey.one(unit, "protected") != "yes":
            place = survey.context.place(unit.dn)
            yield Fault(unit, "not protected", f'vandrel protect "{place}"')


@rule("unit-empty", Weight.ADVICE, "It is in the way, and its delegations stay in force.")
def unit_empty(survey: Survey) -> Iterator[Fault]:
    """Units outside of the charter's hierarchy with nothing below them."""
    for unit in survey.units:
        if not survey.children[unit.dn.key] and _designed(survey, unit.dn) is None:
            place = survey.context.place(unit.dn)
            release = f'vandrel release "{place}" && ' if survey.one(unit, "protected") == "yes" else ""
            yield Fault(unit, "nothing stands below it", f'{release}vandrel delete "{place}"')


@rule("unit-not-designed", Weight.ADVICE, "Whoever builds by the charter does not know of it.")
def unit_not_designed(survey: Survey) -> Iterator[Fault]:
    """Units with something in them that the charter's hierarchy does not have."""
    for unit in survey.units:
        if survey.children[unit.dn.key] and _designed(survey, unit.dn) is None:
            yield Fault(unit, "the charter's hierarchy does not have it")


@rule("wrong-kind-in-unit", Weight.ADVICE, "Policies and delegations there are made for others.")
def wrong_kind_in_unit(survey: Survey) -> Iterator[Fault]:
    """Accounts in a unit that the charter makes for other kinds."""
    for entry in survey.accounts:
        designed = _designed(survey, entry.dn.parent)
        kind = survey.one(entry, "kind")
        if designed is not None and designed.holds and kind not in designed.holds:
            what = f"{kind or 'of no kind'}, in a unit for {' and '.join(designed.holds)}"
            yield Fault(entry, what)


@rule("direct-in-domain-local", Weight.ADVICE, "People belong in global groups, and those in domain-local ones.")
def direct_in_domain_local(survey: Survey) -> Iterator[Fault]:
    """Domain-local groups for security with people in them directly."""
    for group in survey.groups:
        if survey.one(group, "scope") != "domain-local" or survey.one(group, "purpose") == "distribution":
            continue
        people = [dn.name for dn in survey.members[group.dn.key] if (entry := survey.entries.get(dn.key)) is not None
                  and survey.context.object_type(entry) == ACCOUNT]  # fmt: skip
        if people:
            more = f" and {len(people) - 3} more" if len(people) > 3 else ""
            yield Fault(group, f"directly in it: {', '.join(people[:3])}{more}")


def _designed(survey: Survey, dn: DN) -> DesignedUnit | None:
    try:
        return survey.context.charter.designed(places.parse(survey.context.place(dn)))
    except VandrelError:  # a name that is no place of units
        return None
