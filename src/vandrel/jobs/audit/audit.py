"""An audit: the rules over the directory read once, exceptions passed over, beside the last run."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date
from importlib import import_module

from msgspec import Struct

from vandrel.charter.document import AuditException
from vandrel.directory import place as places
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.jobs.audit.rule import RULES, Fault, Rule, Weight
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common.report import Report, Table, count
from vandrel.objects.context import Context
from vandrel.record.snapshots import object_of
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare

#: The modules with rules.
_ROOMS = ("accounts", "logon", "power", "structure", "values")
#: Faults of one rule that people see; all stand in the JSON.
_SHOWN = 10
_ORDER = list(Weight)


class AuditRequest(Struct, frozen=True):
    """Which rules, all if none is named; the unit in or below which objects count; the least weight."""

    rules: Sequence[str] = ()
    under: str = ""
    weight: str = ""


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


def audit(
    context: Context, request: AuditRequest, known: Sequence[KnownFault] | None
) -> tuple[Report, list[KnownFault]]:  # fmt: skip
    """Audit the directory.

    Args:
        context: the charter and the directory.
        request: what is looked at.
        known: what the last audit of everything found; None where there was none.

    Returns:
        The report, and what is to be remembered for the next time.

    Raises:
        VandrelError: ``usage`` for a rule that there is not.

    """
    rules = _chosen(request)
    survey = Survey(context)
    since = {(each.rule, each.object): each.since for each in known or ()}
    today = survey.today.isoformat()
    exceptions = _Exceptions(context, survey.today)
    rows, tables, found = list[tuple[str | bool, ...]](), [], list[KnownFault]()
    new = passed = 0
    for rule in rules:
        faults = [fault for fault in rule.check(survey) if _is_under(context, fault, request.under)]
        told = [fault for fault in faults if not exceptions.holds(rule, fault)]
        passed += len(faults) - len(told)
        seen = []
        for fault in sorted(told, key=lambda fault: fault.entry.dn.key):
            name = object_of(fault.entry)
            first = since.get((rule.name, name), today)
            found.append(KnownFault(rule.name, name, first))
            is_new = (rule.name, name) not in since
            new += is_new
            rows.append((*_row(context, rule, fault), first, is_new))
            seen.append(("new" if is_new and known is not None else "", context.label(fault.entry), *_said(fault)))
        tables += [_table(rule, seen)] if seen else []
    whole = not (request.rules or request.under or request.weight)
    gone = len(since.keys() - {(each.rule, each.object) for each in found}) if whole else 0
    summary = [_summary(rows, rules, passed)]
    if known is not None:
        summary.append(f"{new} new since the last audit, {gone} gone." if whole else f"{new} new since the last audit.")
    columns = ("rule", "weight", "type", "label", "place", "dn", "what", "remedy", "since", "new")
    report = Report(
        "audit", columns, rows, tables=tables, is_for_programs=True, summary=summary,
        findings=exceptions.findings, exit_code=Code.FAULTS_FOUND.exit_code if rows else 0,
    )  # fmt: skip
    return report, found if whole else list(known or ())


def _said(fault: Fault) -> tuple[str, str]:
    return fault.what, fault.remedy


def _row(context: Context, rule: Rule, fault: Fault) -> tuple[str, ...]:
    """A fault for programs: rule, weight, type, label, place, name, what is wrong, and what mends it."""
    entry = fault.entry
    object_type, place = context.object_type(entry) or "object", context.place(entry.dn.parent)
    return (rule.name, str(rule.weight), object_type, context.label(entry), place, str(entry.dn), *_said(fault))


def _table(rule: Rule, seen: Sequence[tuple[str, ...]]) -> Table:
    """The faults of one rule for people: the first ones, and how many more."""
    more = [("", f"and {len(seen) - _SHOWN} more", "", "")] if len(seen) > _SHOWN else []
    title = f"{rule.name} ({rule.weight}): {rule.about}"
    return Table(rule.name, title, ("", "object", "what", "remedy"), [*seen[:_SHOWN], *more])


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
    for rule in _chosen(request):
        for fault in rule.check(survey):
            if _is_under(survey.context, fault, request.under) and not exceptions.holds(rule, fault):
                yield BrokenRule(rule, fault)


def _summary(rows: Sequence[Sequence[object]], rules: Sequence[Rule], passed: int) -> str:
    by_weight = {str(weight): sum(row[1] == weight for row in rows) for weight in _ORDER}
    told = ", ".join(f"{number} {weight}" for weight, number in by_weight.items() if number)
    excepted = f"; {count(passed, 'exception')} of the charter" if passed else ""
    return f"{count(len(rules), 'rule')}: {told or 'nothing found'}{excepted}."


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
        entry, context = fault.entry, self._context
        called = {
            prepare(name) for name in (context.one(entry, "login"), entry.dn.name, context.place(entry.dn)) if name
        }
        return any(not each.of or called & set(map(prepare, each.of)) for each in self._by_rule.get(rule.name, ()))


def remembered(content: object) -> list[KnownFault] | None:
    """What an audit has left to be remembered; None where that is not what it reads."""
    faults = content.get("faults") if isinstance(content, dict) else None
    if not isinstance(faults, list):
        return None
    return [KnownFault(str(each[0]), str(each[1]), str(each[2])) for each in faults if len(each) == 3]
