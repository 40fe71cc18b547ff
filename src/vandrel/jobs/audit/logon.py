"""Rules on logging on: passwords that are missing or cannot be changed, dates that were missed, who is locked out."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import chain, compress

from vandrel.jobs.audit.rule import Fault, Weight, command, edit, login_of, rule
from vandrel.jobs.audit.survey import Survey
from vandrel.text.look_alikes import oddities

#: A note that says what a password is.
_WORDS = "pw|pwd|pass|password|passwort|kennwort|passord|lösenord|mot de passe"
_TOLD = re.compile(rf"\b({_WORDS})\b\s*[:=]\s*\S", re.IGNORECASE)


@rule("locked", Weight.ADVICE, "Somebody cannot work, or somebody else guesses.")
def locked(survey: Survey) -> Iterator[Fault]:
    """Accounts that bad attempts have locked."""
    for entry in survey.accounts:
        if survey.context.dialect.is_locked(entry):
            yield Fault(entry, "locked by bad attempts", edit(survey, entry, "locked=no"))


@rule("password-missing", Weight.FAULT, "Its owner cannot log on, and whoever sets a first password can.")
def password_missing(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts that are known to have no password."""
    for entry in compress(survey.accounts, survey.enabled):
        if survey.context.dialect.has_password(entry) is False:
            yield Fault(entry, "enabled, and without a password", command("disable", login_of(survey, entry)))


@rule("change-impossible", Weight.FAULT, "The next logon demands what the account forbids.")
def change_impossible(survey: Survey) -> Iterator[Fault]:
    """Accounts that must change their password and may not."""
    for entry, (change, fixed) in survey.rows("change", "password-fixed"):
        if change == fixed == "yes":
            remedy = edit(survey, entry, "change=no")
            yield Fault(entry, "must change its password, and may not", remedy)


@rule("password-told", Weight.GRAVE, "Whoever reads the directory can log on.")
def password_told(survey: Survey) -> Iterator[Fault]:
    """Objects whose notes seem to tell a password, which is not repeated here."""
    others = (*survey.groups, *survey.computers)
    notes = (survey.context.dialect.read(entry, "notes") for entry in others)
    for entry, texts in zip((*survey.accounts, *others), chain(survey.all_values("notes"), notes), strict=True):
        if texts and any(map(_TOLD.search, texts)):
            yield Fault(entry, "a note seems to tell a password", edit(survey, entry, "notes="))


@rule("start-missed", Weight.FAULT, "Somebody cannot begin to work.")
def start_missed(survey: Survey) -> Iterator[Fault]:
    """Disabled accounts whose first day is over and whose last is not."""
    for entry, starts in survey.with_value("starts"):
        ends, today = survey.one(entry, "ends"), survey.today.isoformat()
        is_time = starts <= today and (not ends or ends >= today)
        if is_time and survey.one(entry, "enabled") == "no" and not survey.one(entry, "back"):
            yield Fault(entry, f"its first day was {starts}", command("enable", login_of(survey, entry)))


@rule("return-missed", Weight.FAULT, "Somebody who is back cannot work.")
def return_missed(survey: Survey) -> Iterator[Fault]:
    """Disabled accounts whose day of return is over."""
    for entry, back in survey.with_value("back"):
        if back <= survey.today.isoformat() and survey.one(entry, "enabled") == "no":
            yield Fault(entry, f"it was to come back on {back}", command("enable", login_of(survey, entry)))


@rule("end-missing", Weight.FAULT, "It stays good after its owner has gone.")
def end_missing(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts without a last day, of a kind that has one."""
    kinds = survey.context.charter.document.kinds
    ending = {kind for kind, spec in kinds.items() if spec.ends is not None}
    for kind, (entry, (ends,)) in zip(compress(survey.kinds, survey.enabled), survey.enabled_rows("ends"), strict=True):
        if kind in ending and not ends:
            yield Fault(entry, f"{kind} without a last day", edit(survey, entry, "ends=..."))


@rule("keeper-out", Weight.FAULT, "Nobody who is here answers for it.")
def keeper_out(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts and groups whose sponsor or owner is out or gone."""
    for name in ("sponsor", "owner"):
        of_groups = (survey.context.dialect.read(group, name) for group in survey.groups)
        every = (*survey.accounts, *survey.groups)
        for entry, values in zip(every, chain(survey.all_values(name), of_groups), strict=True):
            keepers = [survey.entries.get(survey.target(value).key) for value in values if value]
            if not keepers or not survey.is_enabled(entry):
                continue
            if not any(keeper is not None and survey.is_enabled(keeper) for keeper in keepers):
                what = f"no {name} of it is here any more"
                yield Fault(entry, what, edit(survey, entry, f"{name}=..."))


@rule("manager-missing", Weight.ADVICE, "Requests for leave and access go to nobody.")
def manager_missing(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts without a manager, of a kind most of which have one."""
    managers = set(survey.column("manager"))
    lacking = list(survey.without_what_most_have("manager"))
    at_the_top = [entry for entry in lacking if str(entry.dn) in managers]
    for entry in lacking:
        if at_the_top == [entry]:  # there must be one
            continue
        yield Fault(entry, "no manager", edit(survey, entry, "manager=..."))


@rule("hours-none", Weight.ADVICE, "It is enabled, and at no hour of the week.")
def hours_none(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts that may log on at no hour."""
    for entry, (hours,) in survey.enabled_rows("hours"):
        if hours == "none":
            yield Fault(entry, "no hour of the week is allowed to it", edit(survey, entry, "hours=all"))


@rule("look-alike", Weight.FAULT, "People take it for another account.")
def look_alike(survey: Survey) -> Iterator[Fault]:
    """Accounts whose logon name looks like something that it is not."""
    for entry, login in survey.with_value("login"):
        if odd := oddities(login):
            yield Fault(entry, odd[0], edit(survey, entry, "login=..."))


@rule("name-reserved", Weight.FAULT, "The charter gives it to nobody, for people take it for something else.")
def name_reserved(survey: Survey) -> Iterator[Fault]:
    """Accounts with a logon name that the charter reserves."""
    rules = {kind: survey.context.charter.naming("login", kind) for kind in set(survey.kinds)}
    for kind, (entry, (login,)) in zip(survey.kinds, survey.rows("login"), strict=True):
        if login and rules[kind].reserves(login):
            yield Fault(entry, f"{login} is reserved", edit(survey, entry, "login=..."))
