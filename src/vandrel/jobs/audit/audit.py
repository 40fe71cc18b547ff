"""An audit: the rules over the directory read once, exceptions passed over, beside the last run."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import date
from importlib import import_module
from itertools import groupby

from msgspec import Struct, structs

from vandrel.charter.document import AuditException
from vandrel.directory import place as places
from vandrel.directory.packing import object_of
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.jobs.audit.rule import RULES, Fault, Rule, Weight
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common.report import Report, Table, count
from vandrel.objects.context import Context
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare

#: The modules with rules.
_ROOMS = ("accounts", "logon", "power", "seats", "structure", "values")
#: Faults of one rule that people see; all stand in the JSON.
_SHOWN = 10
_ORDER = list(Weight)


class AuditRequest(Struct, frozen=True):
    """Which rules, all if none is named; the unit in or below which objects count; the least weight."""

    rules: Sequence[str] = ()
    under: str = ""
    weight: str = ""

    @property
    def is_whole(self) -> bool:
        """Whether everything is looked at."""
        return not (self.rules or self.under or self.weight)


class KnownFault(Struct, frozen=True):
    """A fault as it is remembered: the rule, the identifier or name of the object, and the day it was first found."""

    rule: str
    object: str
    since: str


def all_rules() -> dict[str, Rule]:
    """The rules by name, the gravest first."""
    for room in _ROOMS:
        import_module(f"vandrel.jobs.audit.{room}")
    return dict(sorted(RULES.items(), key=lambda item: (_ORDER.index(item[1].weight), item[0])))


def list_rules() -> Report:
    """What an audit looks at, rule by rule."""
    rows = [(each.name, str(each.weight), each.about, each.why) for each in all_rules().values()]
    return Report("audit", ("rule", "weight", "finds", "why"), rows)


class FoundFault(Struct, frozen=True):
    """One fault of an audit: the rule, what breaks it, since when it is known, and whether it is new."""

    rule: Rule
    fault: Fault
    since: str
    is_new: bool


class Audit(Struct, frozen=True):
    """What an audit has found.

    Attributes:
        survey: the directory, read once.
        rules: the rules that were looked at.
        faults: what breaks them, rule by rule, the gravest first.
        excepted: how many faults the charter's exceptions pass over.
        number_gone: how many that the last audit of everything found are there no more; None where that is not known.
        is_first: whether nothing was remembered.
        findings: exceptions that have run out.

    """

    survey: Survey
    rules: Sequence[Rule]
    faults: Sequence[FoundFault]
    excepted: int
    number_gone: int | None
    is_first: bool
    findings: Sequence[Finding]

    @property
    def remembered(self) -> list[KnownFault]:
        """What is to be remembered for the next time."""
        return [KnownFault(each.rule.name, object_of(each.fault.entry), each.since) for each in self.faults]

    @property
    def summary(self) -> str:
        """How much was found, in words."""
        by_weight = Counter(str(each.rule.weight) for each in self.faults)
        parts = ", ".join(f"{by_weight[weight]} {weight}" for weight in map(str, _ORDER) if by_weight[weight])
        excepted = f"; {count(self.excepted, 'exception')} of the charter" if self.excepted else ""
        return f"{count(len(self.rules), 'rule')}: {parts or 'nothing found'}{excepted}."

    @property
    def changes(self) -> str:
        """What is new and what is gone since the last time, in words; empty the first time."""
        if self.is_first:
            return ""
        suffix = f", {self.number_gone} gone" if self.number_gone is not None else ""
        return f"{sum(each.is_new for each in self.faults)} new since the last audit{suffix}."


def known_since(result: Audit, day: date) -> Audit:
    """The same audit with those of its faults alone that were first found on this day or later."""
    return structs.replace(result, faults=[each for each in result.faults if each.since >= day.isoformat()])


def audit(context: Context, request: AuditRequest, earlier: Sequence[KnownFault] | None) -> Audit:
    """Audit the directory.

    Args:
        context: the charter and the directory.
        request: what is looked at.
        earlier: what the last audit of everything found; None where there was none.

    Raises:
        VandrelError: ``usage`` for a rule that there is not.

    """
    rules = _chosen(request)
    survey = Survey(context)
    since = {(each.rule, each.object): each.since for each in earlier or ()}
    exceptions = _Exceptions(context, survey.today)
    faults, excepted = list[FoundFault](), 0
    for each, is_excepted in _judged(survey, rules, request, exceptions):
        excepted += is_excepted
        if not is_excepted:
            key = (each.rule.name, object_of(each.fault.entry))
            first = since.get(key, survey.today.isoformat())
            faults.append(FoundFault(each.rule, each.fault, first, key not in since))
    still = {(each.rule.name, object_of(each.fault.entry)) for each in faults}
    number_gone = len(since.keys() - still) if request.is_whole else None
    return Audit(survey, rules, faults, excepted, number_gone, earlier is None, exceptions.findings)


def as_report(result: Audit) -> Report:
    """What an audit has found, for people and for programs."""
    context = result.survey.context
    rows = [_row(context, each) for each in result.faults]
    tables = []
    for rule, faults in groupby(result.faults, key=lambda each: each.rule):
        display_rows = []
        for each in faults:
            mark = "new" if each.is_new and not result.is_first else ""
            display_rows.append((mark, context.label(each.fault.entry), *_sentence(each.fault)))
        tables.append(_table(rule, display_rows))
    columns = ("rule", "weight", "type", "label", "place", "dn", "what", "remedy", "since", "new")
    return Report(
        "audit", columns, rows, tables=tables, is_for_programs=True,
        summary=[result.summary, *filter(None, [result.changes])], findings=result.findings,
        exit_code=Code.FAULTS_FOUND.exit_code if rows else 0,
    )  # fmt: skip


def _sentence(fault: Fault) -> tuple[str, str]:
    return fault.what, fault.remedy


def _row(context: Context, each: FoundFault) -> tuple[str | bool, ...]:
    """A fault for programs: rule, weight, type, label, place, name, what is wrong, and what mends it."""
    entry, rule = each.fault.entry, each.rule
    object_type, place = context.object_type(entry) or "object", context.place(entry.dn.parent)
    label = context.label(entry)
    return (rule.name, str(rule.weight), object_type, label, place, str(entry.dn), *_sentence(each.fault), each.since,
            each.is_new)  # fmt: skip


def _table(rule: Rule, display_rows: Sequence[tuple[str, ...]]) -> Table:
    """The faults of one rule for people: the first ones, and how many more."""
    more = [("", f"and {len(display_rows) - _SHOWN} more", "", "")] if len(display_rows) > _SHOWN else []
    title = f"{rule.name} ({rule.weight}): {rule.about}"
    return Table(rule.name, title, ("", "object", "what", "remedy"), [*display_rows[:_SHOWN], *more])


class BrokenRule(Struct, frozen=True):
    """A rule, and what breaks it."""

    rule: Rule
    fault: Fault


def broken_rules(survey: Survey, request: AuditRequest) -> Iterator[BrokenRule]:
    """The faults that some rules find, without those that are excepted.

    Raises:
        VandrelError: ``usage`` for a rule that there is not.

    """
    exceptions = _Exceptions(survey.context, survey.today)
    judged = _judged(survey, _chosen(request), request, exceptions)
    yield from (each for each, is_excepted in judged if not is_excepted)


def _judged(
    survey: Survey, rules: Sequence[Rule], request: AuditRequest, exceptions: _Exceptions
) -> Iterator[tuple[BrokenRule, bool]]:  # fmt: skip
    """What breaks rules, rule by rule in the order of names; and whether the charter excepts it."""
    for rule in rules:
        for fault in sorted(rule.check(survey), key=lambda fault: fault.entry.dn.key):
            if _is_under(survey.context, fault, request.under):
                yield BrokenRule(rule, fault), exceptions.holds(rule, fault)


def _chosen(request: AuditRequest) -> list[Rule]:
    rules = all_rules()
    for name in request.rules:
        if name not in rules:
            remedy = did_you_mean(name, rules) or "vandrel audit --rules lists them"
            raise VandrelError(Code.USAGE, f"there is no rule {name!r}", where=Location(text=name), remedy=remedy)
    least = _ORDER.index(Weight(request.weight)) if request.weight else len(_ORDER)
    return [rule for rule in rules.values()
            if (not request.rules or rule.name in request.rules) and _ORDER.index(rule.weight) <= least]  # fmt: skip


def _is_under(context: Context, fault: Fault, under: str) -> bool:
    return not under or fault.entry.dn.is_within(places.to_dn(places.parse(under), context.charter.base))


class _Exceptions:
    """The exceptions of the charter; ``findings`` tells of those whose time is over."""

    def __init__(self, context: Context, today: date) -> None:
        self._context = context
        self._by_rule: dict[str, list[AuditException]] = {}
        self.findings: list[Finding] = []
        for each in context.charter.document.exceptions:
            if each.until and each.until < today.isoformat():
                what = f"the exception from {each.rule} has run out on {each.until}: {each.reason}"
                remedy = f"ask {each.owner}" if each.owner else "mend it, or give it another day"
                self.findings.append(Finding(Code.CHARTER, what, remedy=remedy, severity=NOTE))
                continue
            self._by_rule.setdefault(each.rule, []).append(each)

    def holds(self, rule: Rule, fault: Fault) -> bool:
        """Whether a fault is passed over."""
        if rule.name not in self._by_rule:
            return False
        entry, context = fault.entry, self._context
        called = {
            prepare(name) for name in (context.one(entry, "login"), entry.dn.name, context.place(entry.dn)) if name
        }
        return any(not each.of or called & set(map(prepare, each.of)) for each in self._by_rule[rule.name])


def remembered(content: object) -> list[KnownFault] | None:
    """What an audit has left to be remembered; None where that is not what it reads."""
    faults = content.get("faults") if isinstance(content, dict) else None
    if not isinstance(faults, list):
        return None
    return [KnownFault(str(each[0]), str(each[1]), str(each[2])) for each in faults if len(each) == 3]
