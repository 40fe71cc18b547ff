"""Creating groups, units and computers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from vandrel.charter.naming import NamingRule
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.errors import Finding, VandrelError
from vandrel.fields import COMPUTER, FIELDS, GROUP, UNIT
from vandrel.fields import field as field_named
from vandrel.jobs import values as given_values
from vandrel.jobs.create import PLACE
from vandrel.jobs.draft import Derived, Draft
from vandrel.jobs.house import House
from vandrel.jobs.register import Register
from vandrel.jobs.resolve import resolve
from vandrel.steps.step import Set, Step

Given = Mapping[str, Sequence[str]]


def _read(house: House, draft: Draft, given: Given, sort: str) -> None:
    for name, texts in given.items():
        if name in (PLACE, "groups") or not texts:
            continue
        field = field_named(name, sort)
        try:
            read = given_values.read(house, field, texts, sort)
        except VandrelError as error:
            draft.findings += error.findings
            continue
        draft.derived[name] = Derived(name, tuple(read), "typed")
        draft.findings += given_values.check(house, field, read, sort)


def _stand(house: House, draft: Draft, dn: DN) -> None:
    """See to it that the new object has a place to stand and a name of its own there."""
    if not house.directory.existing([dn.parent]):
        where = house.place(dn.parent)
        remedy = "vandrel hierarchy build makes the units of the design; or create it: vandrel create unit"
        draft.findings.append(Finding("no-parent", f"there is no unit {where}", where, remedy))
    why = Register(house).why_sibling(dn)
    if why:
        draft.findings.append(
            Finding("taken", f"{dn.name} is {why}", "name", "siblings cannot share a name: take another")
        )


def first_name(house: House, kind: str, stem: str) -> str:
    """The name that a group of this kind has by convention, free or not; a word that has its form already stays.

    Raises:
        VandrelError: ``unknown-kind``; ``empty-name`` where the pattern makes nothing of the stem.

    """
    rule = house.charter.group_naming(kind)
    return rule.choose(_pattern_values(house, _bare(house, rule, stem)), lambda value: "").chosen.value


def _bare(house: House, rule: NamingRule, word: str) -> str:
    """The stem of a word that has the form of such names already, as ``desks`` of ``gg-desks``; else the word."""
    first, second = (next(rule.candidates(_pattern_values(house, stem)), None) for stem in ("xa", "xb"))
    if first is None or second is None:
        return word
    before, behind = first.value.partition("xa")[::2]
    stem = word[len(before) : len(word) - len(behind)]
    if not (before or behind) or not stem or before + stem + behind != word:
        return word
    made = next(rule.candidates(_pattern_values(house, stem)), None)
    return stem if made is not None and made.value == word else word


def _pattern_values(house: House, stem: str) -> dict[str, str]:
    return {"stem": stem, "suffix": house.charter.domain, "domain": house.charter.domain}


def group(house: House, stem: str, given: Given) -> Draft:
    """A new group, named by its kind from a word or two.

    Raises:
        VandrelError: ``unknown-kind``, ``unknown-field``, ``empty-name``.

    """
    charter = house.charter
    kind_name = next(iter(given.get("kind", ())), "") or next(iter(charter.document.groups), "")
    kind = charter.group_kind(kind_name)
    stem = _bare(house, charter.group_naming(kind_name), stem)
    draft = Draft(kind_name)
    _read(house, draft, {name: values for name, values in given.items() if name != "kind"}, GROUP)
    draft.derived["kind"] = Derived("kind", (kind_name,), "typed" if "kind" in given else "the charter's first")
    values = _pattern_values(house, stem)
    place = next(iter(given.get(PLACE, ())), "")
    draft.place = places.parse(place) if place else charter.place_of(kind.place, values)
    draft.derived[PLACE] = Derived(PLACE, (places.to_text(draft.place),), "typed" if place else f"kind {kind_name}")
    parent = places.to_dn(draft.place, charter.base)
    if "name" not in draft.derived:
        rule = charter.group_naming(kind_name)
        choice = rule.choose(values, lambda value: Register(house).why_sibling(parent.child("cn", value)))
        passed = tuple(f"{item.candidate} is {item.why}" for item in choice.passed)
        draft.derived["name"] = Derived(
            "name", (choice.chosen.value,), f"{choice.chosen.pattern}  ({rule.source})", passed
        )
    name = draft.value("name")
    draft.derived.setdefault("purpose", Derived("purpose", (kind.purpose,), f"kind {kind_name}"))
    draft.derived.setdefault("scope", Derived("scope", (kind.scope,), f"kind {kind_name}"))
    if kind.mail and "mail" not in draft.derived:
        mail = charter.fill(kind.mail, {**values, "name": name})
        draft.derived["mail"] = Derived("mail", (mail,), f"{kind.mail}  (groups.{kind_name}.mail)")
    if draft.value("mail"):
        why = Register(house).why_taken("mail", draft.value("mail"))
        if why:
            draft.findings.append(Finding("taken", f"{draft.value('mail')} is {why}", "mail", "give another: mail=..."))
    draft.dn = parent.child("cn", name)
    _stand(house, draft, draft.dn)
    _tell_what_is_not_kept(house, draft, GROUP)
    return draft


def unit(house: House, typed: str, given: Given) -> Draft:
    """A new unit, by its place: ``/Ferries/Northquay/Stores``.

    Raises:
        VandrelError: ``bad-name``, ``unknown-field``.

    """
    place = places.parse(typed)
    if not place:
        raise VandrelError("bad-name", "the top cannot be created again", where=typed, remedy="write /Ferries/Stores")
    draft = Draft(UNIT, place=place[:-1])
    _read(house, draft, given, UNIT)
    draft.derived["name"] = Derived("name", (place[-1],), "typed")
    draft.derived.setdefault("protected", Derived("protected", ("yes",), "units are protected from birth"))
    draft.derived[PLACE] = Derived(PLACE, (places.to_text(place[:-1]),), "typed")
    draft.dn = places.to_dn(place, house.charter.base)
    draft.findings += given_values.check(house, FIELDS["name"], [place[-1]], UNIT)
    _stand(house, draft, draft.dn)
    _tell_what_is_not_kept(house, draft, UNIT)
    if house.charter.designed(place) is None:
        what = f"{places.to_text(place)} is not in the charter's hierarchy"
        draft.findings.append(Finding("refused", what, PLACE, "add it there, so that it is no stranger", fatal=False))
    return draft


def computer(house: House, name: str, given: Given) -> Draft:
    """A computer account, prepared before the machine joins: by its name, in the first unit designed for computers.

    Raises:
        VandrelError: ``bad-name``, ``unknown-field``.

    """
    draft = Draft(COMPUTER)
    _read(house, draft, given, COMPUTER)
    draft.derived["name"] = Derived("name", (name,), "typed")
    place = next(iter(given.get(PLACE, ())), "")
    designed = [unit.place for unit in house.charter.design if COMPUTER in unit.holds]
    if place:
        draft.place = places.parse(place)
    elif designed:
        draft.place = designed[0]
    else:
        what = "the charter's hierarchy has no unit for computers"
        draft.findings.append(Finding("required", what, PLACE, "give one: place=/..., or write holds: [computer]"))
        return draft
    rule = "typed" if place else "the first that holds computers"
    draft.derived[PLACE] = Derived(PLACE, (places.to_text(draft.place),), rule)
    if place and designed and draft.place not in designed:
        known = ", ".join(map(places.to_text, designed))
        what = f"{places.to_text(draft.place)} is not designed for computers"
        draft.findings.append(Finding("refused", what, PLACE, f"those are: {known}", fatal=False))
    draft.dn = places.to_dn(draft.place, house.charter.base).child("cn", name)
    draft.findings += given_values.check(house, FIELDS["name"], [name], COMPUTER)
    why = Register(house).why_taken("login", f"{name.upper()}$")
    if why:
        draft.findings.append(Finding("taken", f"{name} is {why}", "name", "take another"))
    _stand(house, draft, draft.dn)
    _tell_what_is_not_kept(house, draft, COMPUTER)
    return draft


def join_groups(house: House, draft: Draft, names: Sequence[str]) -> list[Step]:
    """The steps that put the new object into these groups.

    Raises:
        VandrelError: ``not-found``, ``ambiguous``.

    """
    assert draft.dn is not None
    groups = [resolve(house, name, (GROUP,)) for name in names]
    return [Set(group.dn, tuple(house.dialect.first_members(group, [draft.dn]))) for group in groups]


def steps(house: House, draft: Draft, sort: str) -> list[Step]:
    """The steps that make it."""
    assert draft.dn is not None
    return house.adding(sort, draft.dn, _fields(draft, sort))


def _fields(draft: Draft, sort: str) -> dict[str, tuple[str, ...]]:
    left_out = {PLACE, "kind"} if sort in (UNIT, COMPUTER) else {PLACE}
    return {name: derived.values for name, derived in draft.derived.items() if name not in left_out}


def _tell_what_is_not_kept(house: House, draft: Draft, sort: str) -> None:
    typed = [name for name, derived in draft.derived.items() if derived.rule == "typed" and name != "kind"]
    draft.findings += house.not_kept(sort, _fields(draft, sort), typed)
