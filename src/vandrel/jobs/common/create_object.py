"""Creating groups, units and computers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial

from msgspec import Struct

from vandrel.charter.naming import NamingRule
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import COMPUTER, GROUP, UNIT
from vandrel.jobs.common import field_values
from vandrel.jobs.common.draft import PLACE, Derived, Draft
from vandrel.jobs.common.name_allocator import NameAllocator
from vandrel.jobs.common.new_object import creation, new_object_steps
from vandrel.jobs.common.posix_allocator import PosixAllocator
from vandrel.jobs.common.proposal import Proposal, fixed, listed_names, unique, work_out_proposal
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context
from vandrel.objects.namesakes import Namesakes
from vandrel.objects.pattern_values import new_values
from vandrel.steps.step import Set, Step

Given = Mapping[str, Sequence[str]]


def _read(context: Context, draft: Draft, typed: Given, object_type: str) -> None:
    for name, texts in typed.items():
        if name in (PLACE, "groups") or not texts:
            continue
        field = context.fields.named(name, object_type)
        try:
            result = field_values.read(context, field, texts, object_type)
        except VandrelError as error:
            draft.findings += error.findings
            continue
        draft.derived[name] = Derived(name, tuple(result), "typed")
        draft.findings += field_values.check(context, field, result, object_type)


def _stand(context: Context, draft: Draft, dn: DN, register: NameAllocator | None = None) -> None:
    """See to it that the new object has a place to stand and a name of its own there; `register` was asked before."""
    if not context.directory.existing([dn.parent]):
        where = context.place(dn.parent)
        remedy = "vandrel hierarchy build makes the units of the design; or create it: vandrel create unit"
        draft.findings.append(Finding(Code.NO_PARENT, f"there is no unit {where}", Location(place=where), remedy))
    why = (register or NameAllocator(context)).why_sibling(dn)
    if why:
        draft.findings.append(
            Finding(
                Code.TAKEN, f"{dn.name} is {why}", Location(field="name"), "siblings cannot share a name: take another"
            )
        )


def first_name(context: Context, kind: str, stem: str) -> str:
    """The name that a group of this kind has by convention, free or not; a word that has its form already stays.

    Raises:
        VandrelError: ``unknown-kind``; ``empty-name`` where the pattern makes nothing of the stem.

    """
    rule = context.charter.group_naming(kind)
    return rule.choose(_pattern_values(context, _bare(context, rule, stem)), lambda value: "").chosen.value


def _bare(context: Context, rule: NamingRule, word: str) -> str:
    """The stem of a word that has the form of such names already, as ``desks`` of ``team-desks``; else the word."""
    first, second = (next(rule.candidates(_pattern_values(context, stem)), None) for stem in ("xa", "xb"))
    if first is None or second is None:
        return word
    before, behind = first.value.partition("xa")[::2]
    stem = word[len(before) : len(word) - len(behind)]
    if not (before or behind) or not stem or before + stem + behind != word:
        return word
    candidate = next(rule.candidates(_pattern_values(context, stem)), None)
    return stem if candidate is not None and candidate.value == word else word


def _pattern_values(context: Context, stem: str) -> dict[str, str]:
    return new_values(context, {"stem": stem})


def group(context: Context, stem: str, typed: Given, numbers: PosixAllocator | None = None) -> Draft:
    """A new group, named by its kind from a word or two; `numbers` gives those of a whole request.

    Raises:
        VandrelError: ``unknown-kind``, ``unknown-field``, ``empty-name``.

    """
    charter = context.charter
    kind_name = next(iter(typed.get("kind", ())), "") or next(iter(charter.document.groups), "")
    kind = charter.group_kind(kind_name)
    stem = _bare(context, charter.group_naming(kind_name), stem)
    draft = Draft(kind_name)
    _read(context, draft, {name: values for name, values in typed.items() if name != "kind"}, GROUP)
    draft.derived["kind"] = Derived("kind", (kind_name,), "typed" if "kind" in typed else "the charter's first")
    values = _pattern_values(context, stem)
    place = next(iter(typed.get(PLACE, ())), "")
    draft.place = places.parse(place) if place else charter.place_of(kind.place, values)
    draft.derived[PLACE] = Derived(PLACE, (places.to_text(draft.place),), "typed" if place else f"kind {kind_name}")
    parent, register = places.to_dn(draft.place, charter.base), NameAllocator(context)
    if "name" not in draft.derived:
        rule = charter.group_naming(kind_name)
        choice = rule.choose(values, lambda value: register.why_sibling(parent.child("cn", value)))
        passed = tuple(f"{item.candidate} is {item.why}" for item in choice.passed)
        draft.derived["name"] = Derived(
            "name", (choice.chosen.value,), f"{choice.chosen.pattern}  ({rule.source})", passed
        )
    name = draft.value("name")
    draft.derived.setdefault("purpose", Derived("purpose", (kind.purpose,), f"kind {kind_name}"))
    draft.derived.setdefault("scope", Derived("scope", (kind.scope,), f"kind {kind_name}"))
    numbers = numbers or PosixAllocator(context)
    if (posix := numbers.rules_of_groups) is not None and "gid-number" not in draft.derived:
        number = numbers.gid_number(posix)
        draft.derived["gid-number"] = Derived("gid-number", (number,), "the next that is free")
    if kind.mail and "mail" not in draft.derived:
        mail = charter.fill(kind.mail, {**values, "name": name})
        draft.derived["mail"] = Derived("mail", (mail,), f"{kind.mail}  (groups.{kind_name}.mail)")
    if draft.value("mail"):
        why = register.why_taken("mail", draft.value("mail"))
        if why:
            draft.findings.append(
                Finding(Code.TAKEN, f"{draft.value('mail')} is {why}", Location(field="mail"), "give another: mail=...")
            )
    draft.dn = parent.child("cn", name)
    _stand(context, draft, draft.dn, register)
    _tell_what_is_not_kept(context, draft, GROUP)
    return draft


def unit(context: Context, typed: str, typed_fields: Given) -> Draft:
    """A new unit, by its place: ``/Ferries/Northquay/Stores``.

    Raises:
        VandrelError: ``bad-name``, ``unknown-field``.

    """
    place = places.parse(typed)
    if not place:
        raise VandrelError(
            Code.BAD_NAME, "the top cannot be created again", where=Location(text=typed), remedy="write /Ferries/Stores"
        )
    draft = Draft(UNIT, place=place[:-1])
    _read(context, draft, typed_fields, UNIT)
    draft.derived["name"] = Derived("name", (place[-1],), "typed")
    draft.derived.setdefault("protected", Derived("protected", ("yes",), "units are protected from birth"))
    draft.derived[PLACE] = Derived(PLACE, (places.to_text(place[:-1]),), "typed")
    draft.dn = places.to_dn(place, context.charter.base)
    draft.findings += field_values.check(context, context.fields["name"], [place[-1]], UNIT)
    _stand(context, draft, draft.dn)
    _tell_what_is_not_kept(context, draft, UNIT)
    if context.charter.designed(place) is None:
        what = f"{places.to_text(place)} is not in the charter's hierarchy"
        draft.findings.append(
            Finding(Code.REFUSED, what, Location(field=PLACE), "add it there, so that it is no stranger", severity=NOTE)
        )
    return draft


def computer(context: Context, name: str, typed: Given) -> Draft:
    """A computer account, prepared before the machine joins: by its name, in the first unit designed for computers.

    Raises:
        VandrelError: ``bad-name``, ``unknown-field``.

    """
    draft = Draft(COMPUTER)
    _read(context, draft, typed, COMPUTER)
    draft.derived["name"] = Derived("name", (name,), "typed")
    place = next(iter(typed.get(PLACE, ())), "")
    designed = [unit.place for unit in context.charter.design if COMPUTER in unit.holds]
    if place:
        draft.place = places.parse(place)
    elif designed:
        draft.place = designed[0]
    else:
        what = "the charter's hierarchy has no unit for computers"
        draft.findings.append(
            Finding(Code.REQUIRED, what, Location(field=PLACE), "give one: place=/..., or write holds: [computer]")
        )
        return draft
    rule = "typed" if place else "the first that holds computers"
    draft.derived[PLACE] = Derived(PLACE, (places.to_text(draft.place),), rule)
    if place and designed and draft.place not in designed:
        choices = ", ".join(map(places.to_text, designed))
        what = f"{places.to_text(draft.place)} is not designed for computers"
        draft.findings.append(
            Finding(Code.REFUSED, what, Location(field=PLACE), f"those are: {choices}", severity=NOTE)
        )
    draft.dn = places.to_dn(draft.place, context.charter.base).child("cn", name)
    draft.findings += field_values.check(context, context.fields["name"], [name], COMPUTER)
    why = NameAllocator(context).why_taken("login", f"{name.upper()}$")
    if why:
        draft.findings.append(Finding(Code.TAKEN, f"{name} is {why}", Location(field="name"), "take another"))
    _stand(context, draft, draft.dn)
    _tell_what_is_not_kept(context, draft, COMPUTER)
    return draft


def join_groups(context: Context, draft: Draft, names: Sequence[str]) -> list[Step]:
    """The steps that put the new object into these groups.

    Raises:
        VandrelError: ``not-found``, ``ambiguous``.

    """
    assert draft.dn is not None
    groups = [resolve(context, name, (GROUP,)) for name in names]
    return [Set(group.dn, tuple(context.dialect.first_members(group, [draft.dn]))) for group in groups]


def steps(context: Context, draft: Draft, object_type: str) -> list[Step]:
    """The steps that make it."""
    assert draft.dn is not None
    return new_object_steps(context, object_type, draft.dn, _fields(draft, object_type))


def _fields(draft: Draft, object_type: str) -> dict[str, tuple[str, ...]]:
    left_out = {PLACE, "kind"} if object_type in (UNIT, COMPUTER) else {PLACE}
    return {name: derived.values for name, derived in draft.derived.items() if name not in left_out}


def _tell_what_is_not_kept(context: Context, draft: Draft, object_type: str) -> None:
    typed = [name for name, derived in draft.derived.items() if derived.rule == "typed" and name != "kind"]
    draft.findings += context.not_kept(object_type, _fields(draft, object_type), typed)


class ObjectRequest(Struct, frozen=True):
    """New objects of one type.

    Attributes:
        object_type: ``group``, ``unit`` or ``computer``.
        names: the word that a group is made from, places of units, names of computers.
        fields: the values of fields, as typed.

    """

    object_type: str
    names: Sequence[str]
    fields: Given


#: What is asked where no name is given, and an example.
_WHICH = {
    GROUP: ("which group?", 'write the word that it is made from: vandrel create group "Night watch"'),
    UNIT: ("which unit?", "write its place: vandrel create unit /Ferries/Stores"),
    COMPUTER: ("which computer?", "write its name: vandrel create computer NQ-DESK-07"),
}


def create_objects(context: Context, request: ObjectRequest) -> Proposal:
    """Propose new groups, units or computers.

    Raises:
        VandrelError: ``usage`` where none is named, ``unknown-field``, ``unknown-kind``, ``bad-name``.

    """
    if not request.names and not (request.object_type == GROUP and "name" in request.fields):
        what, remedy = _WHICH[request.object_type]
        raise VandrelError(Code.USAGE, what, remedy=remedy)
    return work_out_proposal(context, partial(_proposed, request=request), max(len(request.names), 1))


def _proposed(context: Context, request: ObjectRequest) -> Proposal:
    object_type, fields = request.object_type, request.fields
    if object_type == GROUP:
        drafts = [group(context, " ".join(request.names), fields)]
    else:
        draft_of = unit if object_type == UNIT else computer
        drafts = [draft_of(context, name, fields) for name in request.names]
    named = [draft for draft in drafts if draft.dn is not None]
    joins = fields.get("groups", ()) if object_type == COMPUTER else ()
    namesakes = Namesakes(context)
    names = listed_names([draft.dn.name for draft in named if draft.dn is not None])
    new_names = [
        step for draft in named for step in (*steps(context, draft, object_type), *join_groups(context, draft, joins))
    ]
    return Proposal(
        "create", f"create {object_type} {names}", f"Create {names}?", fixed(new_names),
        changes=[creation(context, draft, object_type, namesakes=namesakes) for draft in named],
        findings=unique(finding for draft in drafts for finding in draft.findings),
    )  # fmt: skip
