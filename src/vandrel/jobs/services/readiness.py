"""Whether people are ready for a service: what its profile demands, what is wrong, and what mends it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator
from itertools import groupby

from msgspec import Struct

from vandrel.directory import place as places
from vandrel.directory.entry import Entry
from vandrel.fields import NAMED
from vandrel.jobs.audit.mend import mend_faults
from vandrel.jobs.audit.rule import Fault, command, edit
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common.proposal import Proposal
from vandrel.jobs.common.report import Report, Table, count
from vandrel.jobs.services.profile import Profile
from vandrel.jobs.services.suffixes import proven_on, why_not_routable
from vandrel.objects.context import Context
from vandrel.text.countries import COUNTRIES
from vandrel.text.string_prep import prepare
from vandrel.text.transliterate import to_ascii

#: Objects of one demand that people see; all stand in the JSON.
_SHOWN = 10


class ReadinessRequest(Struct, frozen=True):
    """The demands, what they are called, and the unit in or below which people count; empty for all."""

    profile: Profile
    name: str
    under: str = ""


class Unready(Struct, frozen=True):
    """One demand, and somebody who does not meet it."""

    demand: str
    fault: Fault


_Check = Callable[["_People"], Iterator[Fault]]
_CHECKS: dict[str, _Check] = {}


def _demand(name: str) -> Callable[[_Check], _Check]:
    def register(check: _Check) -> _Check:
        _CHECKS[name] = check
        return check

    return register


class _People:
    """Those who are looked at, the directory, and the demands."""

    def __init__(self, survey: Survey, request: ReadinessRequest) -> None:
        self.survey, self.profile = survey, request.profile
        base = survey.context.charter.base
        top = places.to_dn(places.parse(request.under), base) if request.under else base
        kinds = request.profile.kinds
        of_kind = [entry for entry in survey.accounts if not kinds or survey.one(entry, "kind") in kinds]
        self.chosen = [entry for entry in of_kind if entry.dn.is_within(top) and survey.is_enabled(entry)]

    def one(self, entry: Entry, field: str) -> str:
        """The first value of a field."""
        return self.survey.one(entry, field)


def _unready(people: _People) -> list[Unready]:
    """Everybody who does not meet a demand, demand by demand; disabled accounts are not looked at."""
    return [Unready(name, fault) for name, check in _CHECKS.items() for fault in check(people)]


def readiness(context: Context, request: ReadinessRequest) -> Report:
    """Say who is not ready and why, with what mends it."""
    people = _People(Survey(context), request)
    faults = _unready(people)
    rows, tables = [], []
    for name, same in groupby(faults, key=lambda each: each.demand):
        display_rows = []
        for each in same:
            entry = each.fault.entry
            rows.append((name, context.label(entry), context.place(entry.dn.parent), str(entry.dn), each.fault.what,
                         each.fault.remedy))  # fmt: skip
            display_rows.append((context.label(entry), each.fault.what, each.fault.remedy))
        more = [(f"and {len(display_rows) - _SHOWN} more", "", "")] if len(display_rows) > _SHOWN else []
        tables.append(
            Table(name, f"{name} ({len(display_rows)})", ("who", "what", "remedy"), [*display_rows[:_SHOWN], *more])
        )
    concerned = len({each.fault.entry.dn.key for each in faults})
    looked_at = len(people.chosen)
    ready = f"{looked_at - concerned} of {count(looked_at, 'account')} ready for {request.name}"
    summary = [f"{ready}: {request.profile.about}." if request.profile.about else f"{ready}."]
    if any(each.fault.mended_by for each in faults):
        summary.append(f"vandrel ready {request.name} --mend makes what needs no answer.")
    columns = ("demand", "label", "place", "dn", "what", "remedy")
    return Report("ready", columns, rows, tables=tables, is_for_programs=True, summary=summary)


def make_ready(context: Context, request: ReadinessRequest) -> Proposal:
    """Propose what mends all that needs nobody's answer, as one change."""
    faults = (each.fault for each in _unready(_People(Survey(context), request)))
    return mend_faults(context, faults, "ready", f"make ready for {request.name}")


# --- the demands


@_demand("suffix")
def _suffix(people: _People) -> Iterator[Fault]:
    charter = people.survey.context.charter
    if people.profile.suffix == "any":
        return
    good = next((each for each in charter.document.suffixes if not _why_not(people, each)), "")
    for entry in people.chosen:
        login, _, suffix = people.one(entry, "principal").rpartition("@")
        if not suffix or not (why := _why_not(people, suffix)):
            continue
        is_told = people.profile.principal_is_mail and people.one(entry, "mail")  # then it becomes the address
        mended = edit(people.survey, entry, f"principal={login}@{good}") if good and not is_told else ()
        yield Fault(entry, f"the suffix {suffix}: {why}", mended)


def _why_not(people: _People, suffix: str) -> str:
    charter = people.survey.context.charter
    if why := why_not_routable(charter, suffix):
        return why
    is_proven = people.profile.suffix != "proven" or proven_on(charter, suffix)
    return "" if is_proven else "not recorded as ours (vandrel suffixes prove)"


@_demand("principal-is-mail")
def _principal_is_mail(people: _People) -> Iterator[Fault]:
    if not people.profile.principal_is_mail:
        return
    suffixes = {suffix.lower() for suffix in people.survey.context.charter.document.suffixes}
    owners = {prepare(people.one(entry, "principal")): entry.dn.key for entry in people.survey.accounts}
    for entry in people.chosen:
        # As it is once characters that the service forbids are out of it.
        principal, mail = people.one(entry, "principal"), _allowed(people, "mail", people.one(entry, "mail"))
        if not mail or prepare(principal) == prepare(mail):
            continue
        holder = owners.get(prepare(mail), entry.dn.key)
        can = mail.rpartition("@")[2].lower() in suffixes and holder == entry.dn.key
        mended = edit(people.survey, entry, f"principal={mail}") if can else ()
        yield Fault(entry, f"logs on as {principal or 'nobody'}, and the mail address is {mail}", mended)


@_demand("required")
def _required(people: _People) -> Iterator[Fault]:
    for field in people.profile.requires:
        for entry in people.chosen:
            if people.one(entry, field):
                continue
            kind, better = people.survey.kind(entry), ""
            if field in NAMED and kind and field not in ("mail", "login", "principal"):
                better = people.survey.first_choice(entry, field)
            yield Fault(entry, f"{field} is empty", edit(people.survey, entry, f"{field}={better or '...'}"))


@_demand("twice")
def _twice(people: _People) -> Iterator[Fault]:
    """Of everybody in the directory, for a service that knows one of two will meet the other."""
    dialect = people.survey.context.dialect
    by_value: dict[str, dict[str, tuple[Entry, str]]] = defaultdict(dict)
    for entry in people.survey.accounts:
        for field in people.profile.compares:
            for value in dialect.read(entry, field):
                by_value[_folded(value)].setdefault(entry.dn.key, (entry, f"{field} {value}"))
    chosen = {entry.dn.key for entry in people.chosen}
    for same in by_value.values():
        for key, (entry, text) in same.items() if len(same) > 1 else ():
            others = ", ".join(
                f"{people.one(other, 'login')} ({what})" for each, (other, what) in same.items() if each != key
            )
            if key in chosen:
                yield Fault(entry, f"{text} is also that of {others}")


def _folded(value: str) -> str:
    """As a service compares that knows no case, and takes a letter with a mark for the letter."""
    return to_ascii(value).lower()


@_demand("characters")
def _characters(people: _People) -> Iterator[Fault]:
    for field, forbidden in people.profile.forbids.items():
        for entry in people.chosen:
            value = people.one(entry, field)
            strange = sorted({char for char in value if char in forbidden or not char.isprintable()})
            if strange:
                better = _allowed(people, field, value)
                mended = edit(people.survey, entry, f"{field}={better}") if better.partition("@")[0] else ()
                yield Fault(entry, f"{field} {value!r} has {' '.join(strange)} in it", mended)


def _allowed(people: _People, field: str, value: str) -> str:
    """A value without the characters that the service forbids in the field."""
    forbidden = people.profile.forbids.get(field, "")
    return "".join(char for char in value if char not in forbidden and char.isprintable())


@_demand("length")
def _length(people: _People) -> Iterator[Fault]:
    for field, most in people.profile.lengths.items():
        for entry in people.chosen:
            value = people.one(entry, field)
            if len(value) > most:
                mended = edit(people.survey, entry, f"{field}=...")
                yield Fault(entry, f"{field} has {len(value)} characters, and {most} are the most", mended)


@_demand("location")
def _location(people: _People) -> Iterator[Fault]:
    field = people.profile.location
    for entry in people.chosen if field else ():
        value = people.one(entry, field)
        if value.upper() not in COUNTRIES:
            what = f"{field} is {value!r}, which is no country of ISO 3166-1" if value else f"{field} is empty"
            yield Fault(entry, what, edit(people.survey, entry, f"{field}=..."))


@_demand("photo")
def _photo(people: _People) -> Iterator[Fault]:
    most, dialect = people.profile.photo_limit, people.survey.context.dialect
    attribute = dialect.attribute("photo", "account")
    for entry in people.chosen if most and attribute else ():
        for value in entry.values_of(attribute):
            if isinstance(value, bytes) and len(value) > most:
                what = f"the photograph has {len(value):,} bytes, and {most:,} are the most"
                yield Fault(entry, what, command("edit", people.one(entry, "login"), "photo=..."))


@_demand("person-twice")
def _person_twice(people: _People) -> Iterator[Fault]:
    """One person with two accounts of one kind has two seats and two histories there."""
    same: dict[tuple[str, ...], list[Entry]] = defaultdict(list)
    for entry in people.chosen:
        number = people.one(entry, "number")
        if number:
            same[people.one(entry, "kind"), number].append(entry)
    for entries in same.values():
        for entry in entries if len(entries) > 1 else ():
            others = ", ".join(people.one(other, "login") for other in entries if other is not entry)
            yield Fault(entry, f"the number {people.one(entry, 'number')} is that of {others} as well")
