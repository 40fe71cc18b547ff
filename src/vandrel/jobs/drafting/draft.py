"""Draft a charter from a directory that was filled without one: what it shows, what each line rests on."""

from __future__ import annotations

import shlex
from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence
from difflib import SequenceMatcher
from itertools import takewhile
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct, structs

from vandrel.charter.charter import Charter
from vandrel.charter.document import Document
from vandrel.charter.load import CharterFaults, from_text
from vandrel.charter.name_limits import is_suffix
from vandrel.charter.pattern import parse
from vandrel.dialects import dialect_for
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.filter import And, Not, Present, to_text
from vandrel.directory.port import Directory
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, NAMED
from vandrel.jobs.audit.audit import AuditRequest, BrokenRule, broken_rules
from vandrel.jobs.audit.infer import InferredConvention, conforming, infer
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common.report import Report, Table, count
from vandrel.jobs.drafting.evidence import ENOUGH, MOST, Noted, comment, share, write
from vandrel.jobs.drafting.group_kinds import find_group_kinds
from vandrel.jobs.drafting.kinds import PLACED_BY, DraftedKind, find_kinds, is_field, place_of
from vandrel.jobs.drafting.own_fields import find_own_fields
from vandrel.jobs.drafting.posix import drafted_group_classes, drafted_posix
from vandrel.jobs.drafting.units import Branches, described, find_units, must_have
from vandrel.objects.context import Context
from vandrel.text.string_prep import prepare

#: Spellings that are this much alike may be one word; the rarer one is then this many times rarer at the least.
_ALIKE, _RARER = 0.82, 4
#: Of more words nobody looks whether two of them are alike.
_MOST_WORDS = 400
#: Objects that a comment names.
_NAMED_OBJECTS = 5
#: The rules of the audit that compare with what is drafted; the others are about the directory alone.
_BY_CHARTER = (
    "delegation-strange", "delegation-not-in-force", "end-missing", "field-missing", "group-kind-unknown",
    "group-name-not-by-rule", "group-of-kind-missing", "kind-unknown", "misplaced", "name-not-by-rule", "not-in-list",
    "number-twice", "suffix-unknown", "unit-missing", "unit-not-designed", "unit-unprotected", "wrong-kind-in-unit",
)  # fmt: skip
#: What no directory says, and a person must.
_UNTOLD = """\
# What no directory can tell, and this file leaves at its default (docs/charter.md):
#   the time zone of dates and the language of names
#   what happens when somebody leaves, and for how long the attic keeps what was deleted
#   which groups carry power, and which make up an administrative role
#   which names are never given, and what a copy takes along
#   password rules that hold for one kind only, and where first passwords come from
#   groups that are to be made together with a unit"""


class DraftRequest(Struct, frozen=True):
    """The organization's name; empty for what the directory says."""

    organization: str = ""


class Draft(Struct, frozen=True):
    """A drafted charter: its text, and the report on it."""

    text: str
    report: Report


def draft_charter(directory: Directory, base: DN, request: DraftRequest) -> Draft:
    """Draft a charter from all that stands at and below `base`.

    Raises:
        VandrelError: ``refused`` where there is no account to learn from.

    """
    suffix = ".".join(str(rdn[0][1]) for rdn in base.rdns if rdn[0][0].lower() == "dc") or "example.com"
    bare = Charter(Document(organization="?", base=str(base), suffixes=[suffix]), Path("draft"))
    survey = Survey(Context(bare, directory, dialect_for(directory, bare)))
    if not survey.accounts:
        raise VandrelError(
            Code.REFUSED, f"there is no account at or below {base} that this identity sees",
            where=Location(dn=str(base)), remedy="vandrel charter new writes a charter to start from",
        )  # fmt: skip
    suffixes = _suffixes(survey, suffix)
    with_suffixes = Charter(msgspec.structs.replace(bare.document, suffixes=list(suffixes)), bare.source)
    survey = Survey(Context(with_suffixes, directory, survey.context.dialect), survey.entries.values())
    drafter = _Drafter(survey, request, suffixes)
    text = write(drafter.document())
    try:
        charter = from_text(text, bare.source)
    except CharterFaults as error:  # what the directory has cannot be a charter as it is: somebody must decide
        faulty = "".join(f"#   {comment(str(finding.what))}\n" for finding in error.findings)
        whole = f"{_head(survey)}{text}\n# This is not by the rules for charters yet:\n{faulty}#\n{_UNTOLD}\n"
        return Draft(whole, structs.replace(drafter.report([]), findings=_as_notes(error.findings)))
    judged = Survey(Context(charter, directory, dialect_for(directory, charter)), survey.entries.values())
    faults = list(broken_rules(judged, AuditRequest(_BY_CHARTER)))
    return Draft(_head(survey) + text + "\n" + _exceptions(survey, faults) + _UNTOLD + "\n", drafter.report(faults))


def _as_notes(findings: Iterable[Finding]) -> list[Finding]:
    return [Finding(each.code, f"in the draft: {each.what}", remedy=each.remedy, severity=NOTE) for each in findings]


def _head(survey: Survey) -> str:
    types = ((survey.accounts, "account"), (survey.groups, "group"), (survey.units, "unit"))
    counts = ", ".join(count(len(entries), noun) for entries, noun in types)
    return (
        f"# A draft, from {counts} that could be seen. A comment says what a line rests on.\n"
        "# '# ?' is a question that the directory does not answer. vandrel charter check, then make it yours.\n"
    )


def _exceptions(survey: Survey, faults: Sequence[BrokenRule]) -> str:
    by_rule: dict[str, list[str]] = defaultdict(list)
    for each in faults:
        by_rule[each.rule.name].append(survey.context.label(each.fault.entry))
    if not by_rule:
        return "# Everything in the directory is by these rules.\n#\n"
    lines = ["# What is not by these rules (vandrel audit RULE tells more):"]
    width = max(map(len, by_rule))
    for name, labels in sorted(by_rule.items(), key=lambda item: -len(item[1])):
        few = ", ".join(labels[:_NAMED_OBJECTS]) + (" ..." if len(labels) > _NAMED_OBJECTS else "")
        lines.append(f"#   {name:{width}}  {len(labels):,}: {comment(few)}")
    return "\n".join(lines) + "\n#\n"


def _suffixes(survey: Survey, otherwise: str) -> dict[str, int]:
    """The suffixes of principal names with how many have them, the most frequent first; without any, those of mail."""
    named = [survey.one(entry, "principal") for entry in survey.accounts]
    if not any(named):
        named = [survey.one(entry, "mail") for entry in survey.accounts]
    used = Counter(name.rpartition("@")[2].lower() for name in named)
    legal = {suffix: times for suffix, times in used.most_common() if is_suffix(suffix)}
    more = dict.fromkeys(survey.context.dialect.registered_suffixes() or (), 0)
    return {**legal, **{each: 0 for each in more if each not in legal and is_suffix(each)}} or {otherwise: 0}


class _Drafter:
    """Works one draft out, part by part."""

    def __init__(self, survey: Survey, request: DraftRequest, suffixes: Mapping[str, int]) -> None:
        self._survey, self._request, self._suffixes = survey, request, suffixes
        self._kinds, self._is_said = find_kinds(survey)
        self._lists: dict[str, Noted] = {}
        self._conventions: list[tuple[str, InferredConvention]] = []

    def document(self) -> dict[str, Any]:
        """The whole draft."""
        survey = self._survey
        self._lists = {name: noted for name in PLACED_BY if (noted := self._words(name)) is not None}
        words = {name: noted.value for name, noted in self._lists.items()}
        general, own = self._names()
        units = find_units(survey, self._kinds, words)
        there = {prepare(survey.context.place(unit.dn)) for unit in survey.units}
        for kind in self._kinds:
            if prepare(kind.place.value) not in there:
                must_have(units, kind)
        branches = Branches(units)
        suffixes = ", ".join(f"{each} {times:,}" for each, times in self._suffixes.items())
        document: dict[str, Any] = {
            "vandrel": 1,
            "organization": self._organization(),
            "base": str(survey.context.charter.base),
            "suffixes": Noted(list(self._suffixes), suffixes),
            "named-by": self._named_by(),
            "group-classes": drafted_group_classes(survey),
            "lists": self._lists,
            "fields": find_own_fields(survey),
            "names": general,
            "passwords": self._passwords(),
            "number-unique": self._number_unique(),
            "posix": drafted_posix(survey, self._kinds),
            "kinds": Noted({kind.name: self._kind(kind, own.get(kind.name, {})) for kind in self._kinds},
                           questions=() if self._is_said else self._unmarked()),
            "groups": find_group_kinds(survey, next(iter(self._suffixes))),
            "branches": branches.described(),
            "hierarchy": described(units, branches),
        }  # fmt: skip
        return {key: value for key, value in document.items() if value not in ({}, None)}

    def report(self, faults: Sequence[BrokenRule]) -> Report:
        """What was drafted, and how much of the directory is by it."""
        kinds = [(kind.name, str(len(kind.entries)), kind.place.value, kind.place.note) for kind in self._kinds]
        ladders = [
            (of, item.target, item.rungs[0].pattern if item.rungs else "", f"{item.conforming} of {item.accounts}")
            for of, item in self._conventions
        ]  # fmt: skip
        rules = Counter(each.rule.name for each in faults)
        broken = [(name, str(times)) for name, times in rules.most_common()]
        tables = [
            Table("kinds", "Kinds of account", ("kind", "accounts", "place", "stand there"), kinds, has_header=True),
            Table("names", "Names", ("of", "field", "first pattern", "conform"), ladders, has_header=True),
            Table("exceptions", "Not by the draft", ("rule", "objects"), broken, has_header=True,
                  empty="nothing: all of it is by the draft"),
        ]  # fmt: skip
        rows = [("kind", *row) for row in kinds]
        rows += [(f"names {of}".strip(), field, "", says, rests) for of, field, says, rests in ladders]
        rows += [("exception", name, times, "", "") for name, times in broken]
        return Report(
            "charter draft", ("part", "name", "objects", "says", "rests_on"), rows, tables=tables, is_for_programs=True
        )  # fmt: skip

    # --- parts

    def _organization(self) -> Noted | str:
        if self._request.organization:
            return self._request.organization
        top = self._survey.entries.get(self._survey.context.charter.base.key)
        name = (top.text("o") or top.text("displayName")) if top is not None else ""
        if name:
            return name
        return Noted(self._survey.context.charter.base.name.title(), questions=("what is its name?",))

    def _named_by(self) -> Noted | None:
        accounts = self._survey.accounts
        login = self._survey.context.dialect.attribute("login", ACCOUNT).lower()
        by_login = sum(entry.dn.naming_attribute.lower() == login for entry in accounts)
        if by_login >= MOST * len(accounts):
            return Noted("login", share(by_login, len(accounts)))
        questions = (f"{share(by_login, len(accounts))} accounts are named by their logon name: by mistake?",)
        return Noted("name", questions=questions) if by_login else None

    def _words(self, field: str) -> Noted | None:
        """The words of a list: a field after which units are named; None for any other."""
        if not any(f"{{{field}}}" in kind.place.value for kind in self._kinds):
            return None
        spelled: dict[str, Counter[str]] = defaultdict(Counter)
        for value, times in Counter(self._survey.column(field)).items():
            if value:
                spelled[prepare(value)][value] = times
        total = {key: sum(forms.values()) for key, forms in spelled.items()}
        units = {prepare(unit.dn.name) for unit in self._survey.units}
        words, questions = [], []
        often = [key for key in total if total[key] >= _RARER] if len(total) <= _MOST_WORDS else []
        for key in sorted(total, key=lambda each: -total[each]):
            word = spelled[key].most_common(1)[0][0]
            questions += [f"{odd!r} is written {times} times: is it {word!r}?"
                          for odd, times in spelled[key].items() if odd != word]  # fmt: skip
            near = next((other for other in often if total[other] >= _RARER * total[key]
                         and SequenceMatcher(None, key, other).ratio() >= _ALIKE), "")  # fmt: skip
            if near and key not in units:
                usual = spelled[near].most_common(1)[0][0]
                questions.append(f"{word!r} is written {total[key]} times: is it {usual!r}?")
            else:
                words.append(word)
        with_it = sum(total.values())
        return Noted(words, f"{share(with_it, len(self._survey.accounts))} accounts have one", tuple(questions))

    def _names(self) -> tuple[dict[str, Any], dict[str, dict[str, Any]]]:
        """The ladders of names for all kinds, and those of kinds that differ."""
        general: dict[str, Any] = {}
        own: dict[str, dict[str, Any]] = defaultdict(dict)
        survey, first = self._survey, self._kinds[0]
        for target in NAMED:
            usual = infer(survey, first.entries, target)
            alike = [kind for kind in self._kinds if kind is first or _is_by(self._survey, kind, usual)]
            if len(alike) > 1:
                usual = infer(survey, [entry for kind in alike for entry in kind.entries], target)
            if not usual.rungs:
                continue
            general[target] = self._ladder("", usual)
            for kind in self._kinds:
                if kind not in alike and (item := infer(survey, kind.entries, target)).rungs:
                    own[kind.name][target] = self._ladder(kind.name, item)
        return general, own

    def _ladder(self, of: str, item: InferredConvention) -> Noted:
        self._conventions.append((of, item))
        patterns = [rung.pattern for rung in item.rungs]
        note = share(item.conforming, item.accounts)
        questions = []
        if item.conforming < MOST * item.accounts:
            few = ", ".join(name for _, name in item.exceptions[:3])
            questions.append(f"no pattern explains {len(item.exceptions)} of them, as {few}: is there one more?")
        if len(patterns) > 1 and not parse(patterns[1]).counter and item.rungs[1].accounts * 2 > item.rungs[0].accounts:
            questions.append(f"two ways are in use: {patterns[0]} {item.rungs[0].accounts} times, "
                             f"{patterns[1]} {item.rungs[1].accounts} times: which is the rule?")  # fmt: skip
        value: Any = patterns[0] if len(patterns) == 1 else patterns
        if item.style:
            value = {"ladder": patterns, "style": item.style}
        return Noted(value, note, tuple(questions))

    def _passwords(self) -> Noted | None:
        layers = self._survey.context.dialect.password_layers(None)
        if not layers:
            return None
        source, rules = layers[-1]
        settings = {key: value for key, value in msgspec.to_builtins(rules).items() if value is not None}
        return Noted(settings, f"from the {source}") if settings else None

    def _number_unique(self) -> Noted | None:
        numbers = Counter(filter(None, self._survey.column("number")))
        if not numbers:
            return None
        in_kind = Counter((kind.name, number) for kind in self._kinds
                          for number in self._survey.values_of(kind.entries, "number") if number)  # fmt: skip
        twice = sum(times > 1 for times in numbers.values())
        if not twice:
            return Noted("everywhere", f"{len(numbers):,} numbers, none twice") if len(numbers) >= ENOUGH else None
        twice_in_kind = sum(times > 1 for times in in_kind.values())
        questions = (f"{count(twice_in_kind, 'number')} stand twice in one kind: by mistake?",) if twice_in_kind else ()
        return Noted("in-kind", f"{count(twice, 'number')} of {len(numbers):,} are in more than one account", questions)

    def _unmarked(self) -> tuple[str, ...]:
        """How the accounts can be told of which kind they are: unit by unit where kinds stand in one branch."""
        above = {kind.name: _literal(kind.place.value) for kind in self._kinds}
        dialect = self._survey.context.dialect
        if not (attribute := dialect.attribute("kind", ACCOUNT)):
            return (f"{dialect.why_not_kept('kind', ACCOUNT)}: name one in attributes:",)
        unmarked = shlex.quote(to_text(And((dialect.filter_for(ACCOUNT), Not(Present(attribute))))))
        lines = ["the accounts do not say of which kind they are, and until they do, no rule for kinds is applied:"]
        for kind in self._kinds:
            own = above[kind.name]
            is_alone = not any(f"{other}/".startswith(f"{own}/") for name, other in above.items() if name != kind.name)
            units = {places.to_text(place) for entry in kind.entries if (place := place_of(self._survey, entry))}
            lines += [
                f"  vandrel edit --where {unmarked} --under {shlex.quote(unit)} kind={kind.name}"
                for unit in ([own] if is_alone else sorted(units))
            ]  # fmt: skip
        return tuple(lines)

    def _kind(self, kind: DraftedKind, names: Mapping[str, Any]) -> Noted:
        groups = [noted.value for noted in kind.groups]
        rests = ", ".join(noted.note for noted in kind.groups)
        suffix = kind.suffix if kind.suffix in list(self._suffixes)[1:] else None
        settings: dict[str, Any] = {
            "place": kind.place, "requires": kind.requires, "names": dict(names), "sets": kind.sets,
            "groups": Noted(groups, rests) if groups else None, "suffix": suffix,
            "ends": kind.ends if kind.ends is not None and kind.ends.value else None,
        }  # fmt: skip
        questions = kind.ends.questions if kind.ends is not None else ()
        settings_used = {key: value for key, value in settings.items() if value not in (None, {})}
        return Noted(settings_used, count(len(kind.entries), "account"), questions)


def _literal(place: str) -> str:
    """The units of a pattern above the first one that a field names."""
    return places.to_text(tuple(takewhile(lambda step: not is_field(step), places.parse(place))))


def _is_by(survey: Survey, kind: DraftedKind, convention: InferredConvention) -> bool:
    """Whether a convention explains the names of another kind as well."""
    named = sum(map(bool, survey.values_of(kind.entries, convention.target)))
    few = max((1 - MOST) * named, 1 if named >= ENOUGH else 0)
    return conforming(survey, kind.entries, convention) >= named - few
