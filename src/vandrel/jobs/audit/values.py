"""Rules on what fields say: addresses, names that were typed carelessly, offices in two places, people twice."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from itertools import compress

from vandrel.charter.name_limits import NAME_LIMITS
from vandrel.directory.entry import Entry
from vandrel.jobs.audit.rule import Fault, Weight, edit, rule
from vandrel.jobs.audit.survey import Survey
from vandrel.text import addresses
from vandrel.text.string_prep import prepare

#: Names that people read.
_READ = ("given", "middle", "surname", "display", "title", "department", "company", "office")
#: What does not show: in a value; and in many values, between which stands what is in none of them.
_UNSEEN = "[\u00ad\u200b\u2060\ufeff]"
_STRAY = re.compile(f"^\\s|\\s$|\\s{{2}}|\u00a0|{_UNSEEN}")
_STRAY_AMONG = re.compile(f"(?:^|\0)\\s|\\s(?:\0|$)|\\s{{2}}|\u00a0|{_UNSEEN}")
#: Where an office is.
_WHERE = ("street", "postcode", "site", "country")


@rule("suffix-unknown", Weight.FAULT, "The principal name is of no domain of the organization.")
def suffix_unknown(survey: Survey) -> Iterator[Fault]:
    """Accounts whose principal name has a suffix that the charter does not have."""
    suffixes = {prepare(suffix) for suffix in survey.context.charter.document.suffixes}
    for entry, principal in survey.with_value("principal"):
        local, at, suffix = principal.rpartition("@")
        if at and prepare(suffix) not in suffixes:
            better = f"{local}@{survey.context.charter.document.suffixes[0]}"
            remedy = edit(survey, entry, f"principal={better}")
            yield Fault(entry, f"the charter has no suffix {suffix}", remedy)


@rule("address-foreign", Weight.ADVICE, "Mail about work leaves the organization.")
def address_foreign(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts with an address of a domain that the charter does not have, where their kind builds one."""
    charter = survey.context.charter
    ladders = (charter.naming("mail", kind).rungs for kind in charter.document.kinds)
    literal = {rung.text.rpartition("@")[2] for rungs in ladders for rung in rungs}
    suffixes = {prepare(suffix) for suffix in (*charter.document.suffixes, *literal)}
    for entry, mail in survey.with_value("mail"):
        domain = mail.rpartition("@")[2]
        if domain and prepare(domain) not in suffixes and survey.kind(entry) and survey.is_enabled(entry):
            yield Fault(entry, f"its address is at {domain}", edit(survey, entry, "mail=..."))


@rule("address-misshapen", Weight.FAULT, "No mail arrives there, and outside services refuse it.")
def address_misshapen(survey: Survey) -> Iterator[Fault]:
    """Accounts and groups whose mail address is none."""
    groups = ((group, survey.one(group, "mail")) for group in survey.groups)
    for entry, mail in (*survey.with_value("mail"), *groups):
        if mail and (why := NAME_LIMITS["mail"].fault(mail)):
            yield Fault(entry, f"mail {why}: {mail}", edit(survey, entry, "mail=..."))


@rule("address-missing", Weight.ADVICE, "It is on no list, and outside services leave it out.")
def address_missing(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts without a mail address, of a kind most of which have one."""
    for entry in survey.without_what_most_have("mail"):
        yield Fault(entry, "no mail address", edit(survey, entry, "mail=..."))


@rule("alias-of-another", Weight.GRAVE, "Mail for one arrives at the other, or nowhere.")
def alias_of_another(survey: Survey) -> Iterator[Fault]:
    """Accounts with a further address that is the address of somebody else."""
    having = [(entry, aliases) for entry, aliases in zip(survey.accounts, survey.all_values("alias"), strict=True)
              if aliases]  # fmt: skip
    owners: dict[str, list[Entry]] = {}
    for entry, mail in zip(survey.accounts, survey.prepared("mail"), strict=True) if having else ():
        owners.setdefault(mail, []).append(entry)
    for group in survey.groups if having else ():
        owners.setdefault(prepare(survey.one(group, "mail")), []).append(group)
    for entry, aliases in having:
        for alias in aliases:
            kind, address = addresses.split(alias)
            others = [owner for owner in owners.get(prepare(address), ()) if owner.dn != entry.dn] if not kind else []
            if others:
                what = f"its alias {address} is the address of {survey.context.label(others[0])}"
                yield Fault(entry, what, edit(survey, entry, f"alias-={address}"))


@rule("person-twice", Weight.ADVICE, "One of the two is forgotten when the person leaves.")
def person_twice(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts of one kind and department that have the same full name."""
    columns = survey.prepared("full"), survey.kinds, survey.prepared("department"), survey.column("site")
    keys = list(compress(zip(*columns, strict=True), survey.enabled))
    several = {key for key, times in Counter(keys).items() if times > 1 and key[0] and key[1]}
    same: dict[tuple[str, ...], list[Entry]] = {}
    for entry, key in zip(compress(survey.accounts, survey.enabled), keys, strict=True) if several else ():
        if key in several:
            same.setdefault(key, []).append(entry)
    for entries in same.values():
        for entry in entries:
            others = ", ".join(survey.one(other, "login") for other in entries if other is not entry)
            yield Fault(entry, f"the same name, kind and department as {others}")


@rule("stray-spaces", Weight.ADVICE, "Searches and comparisons go past it.")
def stray_spaces(survey: Survey) -> Iterator[Fault]:
    """Accounts with spaces around or twice within a value that people read, or characters that do not show."""
    for name in _READ:
        if not _STRAY_AMONG.search("\0".join(dict.fromkeys(survey.column(name)))):  # as a rule
            continue
        for entry, value in survey.with_value(name):
            if _STRAY.search(value):
                clean = " ".join(re.sub(_UNSEEN, "", value).split())
                remedy = edit(survey, entry, f"{name}={clean}")
                yield Fault(entry, f"{name} {value!r}", remedy)


@rule("name-in-one-case", Weight.ADVICE, "It looks careless wherever people read it.")
def name_in_one_case(survey: Survey) -> Iterator[Fault]:
    """Accounts whose given name or surname is in capitals alone, or begins with none."""
    for name in ("given", "surname"):
        for entry, value in survey.with_value(name):
            is_odd = (value.isupper() or value.islower()) and len(value) > 2 and value.isascii() and value.isalpha()
            if is_odd and survey.kind(entry) not in survey.impersonal_kinds:
                remedy = edit(survey, entry, f"{name}={value.title()}")
                yield Fault(entry, f"{name} {value}", remedy)


@rule("office-in-two-places", Weight.ADVICE, "Outside services decide by the address.")
def office_in_two_places(survey: Survey) -> Iterator[Fault]:
    """Accounts whose office most others have with another address."""
    if not any(survey.column("office")):
        return
    offices = list(zip(survey.prepared("office"), survey.prepared("company"), strict=True))
    for name in _WHERE:
        addresses_had = list(zip(offices, survey.column(name), strict=True))
        usual: dict[tuple[str, str], Counter[str]] = {}
        for (office, value), times in Counter(addresses_had).items():
            if office[0] and value:
                usual.setdefault(office, Counter())[value] = times
        best_of = {}
        for office, counted in usual.items():
            (best, times), all_of = counted.most_common(1)[0], counted.total()
            if times * 10 >= all_of * 8 and all_of > max(4, times):
                best_of[office] = best, f"where {times} of {all_of} in the same office have {best}"
        for entry, (office, value) in zip(survey.accounts, addresses_had, strict=True) if best_of else ():
            best, why = best_of.get(office, ("", ""))
            if best and value and value != best:
                yield Fault(entry, f"{name} {value}, {why}", edit(survey, entry, f"{name}={best}"))
