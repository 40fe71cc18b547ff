"""Guests of a service: invited in the name of somebody here, reminded, and looked after until they have answered."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime
from enum import StrEnum

from msgspec import Struct

from vandrel.charter.name_limits import NAME_LIMITS
from vandrel.directory import gentime
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Present
from vandrel.directory.operations import Change
from vandrel.errors import Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.proposal import Action, FieldChange, ObjectChange, Proposal, fixed
from vandrel.jobs.common.report import Report, count
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.common.selection import Selection, select
from vandrel.objects.context import Context
from vandrel.steps.step import Add, Set, Step

_INVITED, _ENDS, _ANSWERED, _SPONSOR = (
    "vandrelInvited", "vandrelInvitationEnds", "vandrelAnswered", "vandrelSponsorName",
)  # fmt: skip
_COLUMNS = ("guest", "name", "state", "invited", "answer until", "accepted", "sponsor", "sponsor is")
#: The kind of account that a guest is, where the charter has it.
_KIND = "guest"


class State(StrEnum):
    """How far an invitation has come."""

    PENDING = "pending"
    ACCEPTED = "accepted"
    EXPIRED = "expired"


class Sponsor(StrEnum):
    """What is seen of whoever answers for a guest."""

    HERE = "here"
    DISABLED = "disabled"
    NOT_FOUND = "not found"
    NOBODY = "nobody"


class Invitation(Struct, frozen=True):
    """Who is invited, in whose name, and values of fields."""

    address: str
    sponsor: str
    assignments: Sequence[Assignment] = ()


def list_guests(here: Context, there: Context) -> Report:
    """Every guest of a service, how far the invitation has come, and whether somebody here still answers for them."""
    _must_have_guests(there)
    rows, states, without = [], Counter[str](), 0
    for entry in sorted(_guests(there), key=lambda entry: entry.dn.key):
        state, sponsor = _state(entry), _sponsor(here, entry)
        states[state] += 1
        without += sponsor is not Sponsor.HERE
        days = (_day(there, entry, name) for name in (_INVITED, _ENDS, _ANSWERED))
        login, full = there.one(entry, "login"), there.one(entry, "full")
        rows.append((login, full, str(state), *days, entry.text(_SPONSOR), str(sponsor)))
    by_state = ", ".join(f"{states[state]} {state}" for state in State if states[state])
    summary = [f"{count(len(rows), 'guest')}: {by_state}."] if rows else ["No guest yet."]
    if without:
        summary.append(f"{count(without, 'guest')} for whom nobody here answers any more.")
    return Report("guests", _COLUMNS, rows, summary=summary)


def invite(here: Context, there: Context, invitation: Invitation) -> Proposal:
    """Propose to invite somebody to a service.

    Raises:
        VandrelError: ``refused`` where the service knows no guests; ``bad-value`` for what is no address, ``taken``
            where it is known there; ``not-found`` for the sponsor, ``refused`` where that one is disabled.

    """
    _must_have_guests(there)
    address = invitation.address
    if why := NAME_LIMITS["mail"].fault(address):
        raise VandrelError(Code.BAD_VALUE, f"the address {why}", where=Location(text=address))
    sponsor = resolve(here, invitation.sponsor, (ACCOUNT,))
    if here.one(sponsor, "enabled") == "no":
        what, where = f"{here.label(sponsor)} is disabled, and can answer for nobody", Location(dn=str(sponsor.dn))
        raise VandrelError(Code.REFUSED, what, where=where, remedy="name another: --sponsor NAME")
    dn = there.charter.base.child("uid", address)
    if there.directory.existing([dn]) or there.directory.find_owners({"mail": [address]}):
        what, remedy = "the service knows this address already", "vandrel guests remind sends an invitation again"
        raise VandrelError(Code.TAKEN, what, where=Location(text=address), remedy=remedy)
    fields = _fields(there, invitation)
    by = here.one(sponsor, "principal") or here.one(sponsor, "login")
    attributes = there.dialect.new_entry(ACCOUNT, dn, fields) | {_INVITED: [gentime.now()], _SPONSOR: [by]}
    changes = [FieldChange(name, after=tuple(values)) for name, values in fields.items()]
    changes.append(FieldChange("sponsor", after=(here.label(sponsor),)))
    change = ObjectChange(Action.CREATE, ACCOUNT, dn, address, there.place(dn.parent), tuple(changes))
    return Proposal(
        "guests", f"invite {address}", f"Invite {address} to {there.directory.location}?",
        fixed([Add(dn, attributes)]), changes=[change],
        afterwards="Whether it is answered: vandrel guests --into " + there.directory.location,
    )  # fmt: skip


def remind(there: Context, selection: Selection) -> Proposal:
    """Propose to send invitations again that are not answered: those that are named, or all of them.

    Raises:
        VandrelError: ``refused`` where the service knows no guests; ``not-found``.

    """
    _must_have_guests(there)
    chosen = select(there, selection, (ACCOUNT,)) if selection.names else []
    if not selection.names:
        chosen = [entry for entry in _guests(there) if _state(entry) is not State.ACCEPTED]
    steps: list[Step] = []
    changes = []
    for entry in chosen:
        steps.append(Set(entry.dn, (Change(_INVITED, tuple(entry.texts(_INVITED)), (gentime.now(),)),)))
        today = there.charter.today().isoformat()
        field = FieldChange("invited", (_day(there, entry, _INVITED),), (f"again, {today}",))
        place = there.place(entry.dn.parent)
        changes.append(ObjectChange(Action.CHANGE, ACCOUNT, entry.dn, there.label(entry), place, (field,)))
    whom = count(len(chosen), "guest")
    return Proposal(
        "guests", f"remind {whom}", f"Remind {whom}?", fixed(steps), changes=changes, is_atomic=False,
        findings=list(_not_to_be_reminded(there, chosen)), nothing="No invitation waits for an answer.",
    )  # fmt: skip


def _not_to_be_reminded(there: Context, entries: Iterable[Entry]) -> Iterator[Finding]:
    for entry in entries:
        accepted = _state(entry) is State.ACCEPTED
        why = f"has accepted on {_day(there, entry, _ANSWERED)}" if accepted else ""
        why = why if entry.text(_INVITED) else "is no guest"
        if why:
            yield Finding(Code.REFUSED, f"{there.label(entry)} {why}", Location(dn=str(entry.dn)), "leave them out")


def _fields(there: Context, invitation: Invitation) -> dict[str, Sequence[str]]:
    """The values of the new account. Raises `VandrelError` ``unknown-field``."""
    typed = {there.fields.named(each.field, ACCOUNT).name: each.values for each in invitation.assignments}
    full = " ".join(value for field in ("given", "surname") for value in typed.get(field, ()))
    fields: dict[str, Sequence[str]] = {"login": (invitation.address,), "mail": (invitation.address,)}
    fields |= {"full": (full,), "display": (full,)} if full else {}
    fields |= {"kind": (_KIND,)} if _KIND in there.charter.document.kinds else {}
    return fields | typed


def _must_have_guests(there: Context) -> None:
    """Raise `VandrelError` ``refused`` for a directory that knows no invitations."""
    if there.directory.schema.attribute(_INVITED) is None:
        what, where = "only a service takes invitations", Location(server=there.directory.location)
        raise VandrelError(Code.REFUSED, what, where=where, remedy="name one: --into CONNECTION")


def _guests(there: Context) -> list[Entry]:
    where = And((there.dialect.filter_for(ACCOUNT), Present(_INVITED)))
    return list(there.directory.search(there.charter.base, where=where))


def _day(there: Context, entry: Entry, name: str) -> str:
    moment = gentime.parse(entry.text(name))
    return moment.astimezone(there.charter.zone).date().isoformat() if moment is not None else ""


def _state(entry: Entry) -> State:
    if entry.text(_ANSWERED):
        return State.ACCEPTED
    ends = gentime.parse(entry.text(_ENDS))
    return State.EXPIRED if ends is not None and ends < datetime.now(UTC) else State.PENDING


def _sponsor(here: Context, entry: Entry) -> Sponsor:
    """What is seen of the sponsor, by the principal name or the logon name that the invitation has."""
    if not (name := entry.text(_SPONSOR)):
        return Sponsor.NOBODY
    attributes = [
        attribute for field in ("principal", "login") if (attribute := here.dialect.attribute(field, ACCOUNT))
    ]
    owners = here.directory.find_owners({attribute: [name] for attribute in attributes})
    person = here.directory.get(next(iter(owners.values()))) if owners else None
    if person is None:
        return Sponsor.NOT_FOUND
    return Sponsor.DISABLED if here.one(person, "enabled") == "no" else Sponsor.HERE
