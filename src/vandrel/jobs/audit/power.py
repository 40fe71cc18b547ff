"""Rules on who holds power, by which way, and who could come by it."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import compress

from vandrel.directory import dn as names
from vandrel.jobs.audit.rule import Fault, Weight, command, edit, login_of, rule
from vandrel.jobs.audit.survey import Survey
from vandrel.objects.delegation import reached_by
from vandrel.text.string_prep import prepare


@rule("power-of-the-gone", Weight.GRAVE, "Whoever enables the account has the power at once.")
def power_of_the_gone(survey: Survey) -> Iterator[Fault]:
    """Accounts that are out, and hold power."""
    for entry, is_enabled in zip(survey.accounts, survey.enabled, strict=True):
        if not is_enabled and (powers := survey.powers_of(entry)):
            yield Fault(entry, f"out, and in {', '.join(powers)}", edit(survey, entry, f"groups-={powers[0]}"))


@rule("power-with-mail", Weight.ADVICE, "What arrives by mail runs with the power of whoever opens it.")
def power_with_mail(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts that hold power and have a mail address."""
    for entry, (mail,) in survey.enabled_rows("mail"):
        if mail and (powers := survey.powers_of(entry)):
            reach = survey.power[prepare(powers[0])]
            yield Fault(entry, f"in {', '.join(powers)} ({reach}), and has an address")


@rule("power-never-ends", Weight.GRAVE, "The most wanted password is the oldest one.")
def power_never_ends(survey: Survey) -> Iterator[Fault]:
    """Accounts that hold power with a password that never grows old."""
    for entry, never in survey.with_value("password-never-expires"):
        if never == "yes" and (powers := survey.powers_of(entry)):
            what = f"in {', '.join(powers)}, with a password that never grows old"
            yield Fault(entry, what, edit(survey, entry, "password-never-expires=no"))


@rule("power-within-reach", Weight.GRAVE, "Whoever may reset the password has the power as well.")
def power_within_reach(survey: Survey) -> Iterator[Fault]:
    """Accounts that hold power, where a team may reset passwords."""
    reached: dict[str, str] = {}
    for entry in compress(survey.accounts, survey.enabled):
        if powers := survey.powers_of(entry):
            unit = entry.dn.parent_key
            if unit not in reached:
                reached[unit] = reached_by(survey.context, entry.dn)
            dialect, by = survey.context.dialect, reached[unit]
            if by and dialect.shielded_from(entry):
                by = reached_by(survey.context, entry.dn, entry)
            if by:
                remedy = (("hierarchy", "delegate"),) if dialect.can_shield else ()
                yield Fault(entry, f"in {powers[0]}, and within reach of {by}", remedy)


@rule("power-by-owning", Weight.GRAVE, "Whoever owns a group can join it.")
def power_by_owning(survey: Survey) -> Iterator[Fault]:
    """Groups that carry power, with an owner who does not hold it."""
    for group in survey.groups:
        if prepare(group.dn.name) not in survey.power:
            continue
        owners = [names.parse(value) for value in survey.context.dialect.read(group, "owner") if value]
        outside = [owner for owner in owners if group.dn.key not in survey.all_groups_of(owner.key)]
        if outside:
            what = f"owned by {outside[0].name}, who is not in it"
            yield Fault(group, what, edit(survey, group, f"owner-={outside[0]}"))


@rule("power-without-name", Weight.ADVICE, "Nobody sees by its kind what the account can do.")
def power_without_name(survey: Survey) -> Iterator[Fault]:
    """Accounts that hold power, of a kind that is not one of administrators, where the charter has such kinds."""
    if not survey.administrative_kinds:
        return
    for entry, kind in zip(survey.accounts, survey.kinds, strict=True):
        if kind not in survey.administrative_kinds and (powers := survey.powers_of(entry)):
            yield Fault(entry, f"{kind or 'of no kind'}, and in {powers[0]}")


@rule("name-without-power", Weight.ADVICE, "It promises what it cannot do, and is attacked all the same.")
def name_without_power(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts of a kind of administrators that hold neither power nor a role."""
    for entry, kind in compress(zip(survey.accounts, survey.kinds, strict=True), survey.enabled):
        if kind not in survey.administrative_kinds:
            continue
        if not survey.powers_of(entry) and not survey.has_role(entry):
            yield Fault(entry, "an administrator's, without power or role", command("disable", login_of(survey, entry)))


@rule("power-far-away", Weight.ADVICE, "Who joins the innermost group does not know what comes with it.")
def power_far_away(survey: Survey) -> Iterator[Fault]:
    """Groups that hold power through two or more others."""
    for group in survey.groups:
        depth = survey.distance_to_power(group)
        if depth > 1:
            yield Fault(group, f"a group with power is {depth} steps above it")
