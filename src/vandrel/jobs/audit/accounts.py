"""Rules on accounts: their state, their fields, their names and their place."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from datetime import timedelta
from itertools import compress

from vandrel.directory.entry import Entry
from vandrel.jobs.audit.rule import Fault, Weight, command, edit, login_of, rule
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common.number_allocator import NumberKey, number_key
from vandrel.jobs.common.report import count
from vandrel.jobs.lifecycle.leave import is_with_leavers
from vandrel.text.string_prep import prepare

#: Days without a logon after which an account counts as unused, and with which a new one is left alone.
_UNUSED, _NEW = 90, 30
#: Names that are judged by the charter's rules.
_NAMED = ("login", "principal", "mail", "display")
#: Values of which one spelling is the usual one.
_SPELLED = ("office", "company", "division", "title")


@rule("out-but-in-groups", Weight.FAULT, "Whoever is enabled again by a slip has all rights at once.")
def out_but_in_groups(survey: Survey) -> Iterator[Fault]:
    """Accounts that are disabled or past their last day, and still in groups."""
    for (entry, (back, starts)), is_enabled in zip(survey.rows("back", "starts"), survey.enabled, strict=True):
        groups = survey.groups_of.get(entry.dn.key, []) if not (is_enabled or back or starts) else ()
        if groups and survey.context.dialect.has_password(entry) is not False:
            few = ", ".join(sorted(group.dn.name for group in groups)[:3])
            yield Fault(
                entry, f"out, and in {count(len(groups), 'group')}: {few}", command("leave", login_of(survey, entry))
            )


@rule("ended-not-left", Weight.ADVICE, "The charter's routine for leavers was not carried out.")
def ended_not_left(survey: Survey) -> Iterator[Fault]:
    """Accounts past their last day that are not where leavers belong."""
    for entry, ended in survey.with_value("ends"):
        rules = survey.context.charter.leaving(survey.one(entry, "kind"))
        if not rules or not rules.place or ended >= survey.today.isoformat():
            continue
        if not is_with_leavers(survey.context, entry, rules):
            yield Fault(entry, f"its last day was {ended}", command("leave", login_of(survey, entry)))


@rule("unused", Weight.ADVICE, "Nobody would notice if somebody else used it.")
def unused(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts that nobody has logged on with for ninety days, where the directory tells."""
    if not survey.context.dialect.tells_last_logon:
        return
    for entry in compress(survey.accounts, survey.enabled):
        instants = dict(survey.context.dialect.instants(entry))
        last, created = instants.get("last logon"), instants.get("created")
        if last is None or created is None:
            continue
        if last.date() < survey.today - timedelta(days=_UNUSED) and created.date() < survey.today - timedelta(
            days=_NEW
        ):
            remedy = command("disable", login_of(survey, entry))
            yield Fault(entry, f"last logon {last.date().isoformat()}", remedy)


@rule("password-never-old", Weight.FAULT, "A password that leaked once stays good for ever.")
def password_never_old(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts of people whose password never grows old."""
    for entry, (never,) in survey.enabled_rows("password-never-expires"):
        if never == "yes":
            remedy = edit(survey, entry, "password-never-expires=no")
            yield Fault(entry, "its password never grows old", remedy)


@rule("password-reversible", Weight.GRAVE, "Whoever reads the server's database can read the password.")
def password_reversible(survey: Survey) -> Iterator[Fault]:
    """Accounts whose password is kept so that it can be read."""
    for entry, reversible in survey.with_value("password-reversible"):
        if reversible == "yes":
            remedy = edit(survey, entry, "password-reversible=no")
            yield Fault(entry, "its password is kept so that it can be read", remedy)


@rule("kind-unknown", Weight.FAULT, "No rule of the charter holds for it.")
def kind_unknown(survey: Survey) -> Iterator[Fault]:
    """Accounts of no kind that the charter knows."""
    for (entry, (kind,)), charters in zip(survey.rows("kind"), survey.kinds, strict=True):
        if not charters:
            what = f"the charter has no kind {kind!r}" if kind else "it is of no kind"
            yield Fault(entry, what, edit(survey, entry, "kind=..."))


@rule("field-missing", Weight.FAULT, "The charter requires it for this kind, and others count upon it.")
def field_missing(survey: Survey) -> Iterator[Fault]:
    """Accounts without a field that their kind requires."""
    kinds = survey.context.charter.document.kinds
    required = {name: [field for field in kind.requires if field in survey.context.fields]
                for name, kind in kinds.items()}  # fmt: skip
    fields = sorted({field for each in required.values() for field in each})
    for kind, (entry, values) in zip(survey.kinds, survey.rows(*fields), strict=True) if fields else ():
        if kind and not all(values):
            empty = {field for field, value in zip(fields, values, strict=True) if not value}
            if lacking := [field for field in required[kind] if field in empty]:
                remedy = edit(survey, entry, *[f"{name}=..." for name in lacking])
                yield Fault(entry, f"no {', '.join(lacking)}", remedy)


@rule("not-in-list", Weight.FAULT, "Places, groups and names are built from these words.")
def not_in_list(survey: Survey) -> Iterator[Fault]:
    """Accounts with a value that the charter's list does not have."""
    for name, words in survey.context.charter.document.lists.items():
        for entry, value in survey.with_value(name):
            if value not in words:
                remedy = edit(survey, entry, f"{name}=...")
                yield Fault(entry, f"{name} {value!r} is none of the list", remedy)


@rule("spelling", Weight.ADVICE, "Lists and searches take two spellings for two things.")
def spelling(survey: Survey) -> Iterator[Fault]:
    """Accounts with another spelling of a value that most write otherwise."""
    for name in _SPELLED:
        times = Counter(survey.column(name))
        spellings: dict[str, list[str]] = {}
        for value in times:
            spellings.setdefault(_bare(value), []).append(value)
        # Of those that come equally often, the first is the usual one.
        usual = {value: best for several in spellings.values() if (best := max(several, key=times.__getitem__))
                 for value in several if times[best] > times[value]}  # fmt: skip
        for entry, value in survey.with_value(name) if usual else ():
            if best := usual.get(value, ""):
                remedy = edit(survey, entry, f"{name}={best}")
                yield Fault(entry, f"{name} {value!r}, where most have {best!r}", remedy)


def _bare(value: str) -> str:
    return "".join(char for char in prepare(value) if char.isalnum())


@rule("misplaced", Weight.FAULT, "What is delegated, and what policies hold, goes by the place.")
def misplaced(survey: Survey) -> Iterator[Fault]:
    """Accounts that do not stand where their kind belongs."""
    kinds = survey.context.charter.document.kinds.items()
    homes = survey.by_patterns({name: [kind.place] for name, kind in kinds}, survey.home)
    for entry, home_of in compress(zip(survey.accounts, homes, strict=True), survey.enabled):
        for home in home_of:
            if entry.dn.parent_key == home.key:
                continue
            there = survey.context.place(home)
            what = f"in {survey.context.place(entry.dn.parent)}, and belongs to {there}"
            if home.key in survey.entries:
                yield Fault(entry, what, command("move", login_of(survey, entry), "--to", there))
            else:
                yield Fault(entry, f"{what}, which is not there")


@rule("name-not-by-rule", Weight.ADVICE, "People look for each other by the rule.")
def name_not_by_rule(survey: Survey) -> Iterator[Fault]:
    """Accounts with a name that no rung of the charter's rule gives."""
    judged = set[int]()
    for target in _NAMED:  # others are built from those before
        for number in set(_not_by_rule(survey, target)) - judged:
            entry = survey.accounts[number]
            value, better = survey.one(entry, target), survey.first_choice(entry, target)
            remedy = edit(survey, entry, f"{target}={better}") if better else ()
            yield Fault(entry, f"{target} {value} is not by the rule", remedy)
            judged.add(number)


def _not_by_rule(survey: Survey, target: str) -> Iterator[int]:
    """The numbers of the accounts that have a name which no rung of the rule of their kind gives."""
    columns = survey.column(target), survey.column("language"), survey.column("principal")
    alike: dict[tuple[str, str, str], list[int]] = {}
    for number, (kind, name, language, principal) in enumerate(zip(survey.kinds, *columns, strict=True)):
        if kind and name:
            alike.setdefault((kind, language, principal.rpartition("@")[2]), []).append(number)
    for (kind, language, suffix), numbers in alike.items():
        rule_ = survey.context.charter.naming(target, kind)
        # What the name itself was, and in which year it was given, is not known.
        fields = rule_.fields() - {target, "year", "today"}
        computed = survey.computed(kind, f"@{suffix}")
        shared = {name: value for name, value in computed.items() if name in fields} | {"language": language}
        values = {name: list(map(survey.column(name).__getitem__, numbers))
                  for name in fields if name in survey.context.fields and name != "language"}  # fmt: skip
        names_ = [columns[0][number] for number in numbers]
        yield from (numbers[number] for number in rule_.unexplained(names_, values, shared))


@rule("number-twice", Weight.FAULT, "Payroll and personnel lists cannot tell the two apart.")
def number_twice(survey: Survey) -> Iterator[Fault]:
    """Accounts that share an employee number where the charter has it unique: of one kind, or at all."""
    sharing: dict[NumberKey, list[Entry]] = {}
    for number, entries in survey.shared("number"):
        for entry in entries:
            if (key := number_key(survey.context, survey.one(entry, "kind"), number)) is not None:
                sharing.setdefault(key, []).append(entry)
    for (_, number), same in sharing.items():
        if len(same) > 1:
            logins = ", ".join(sorted(survey.one(entry, "login") for entry in same))
            yield from (Fault(e, f"number {number} is that of {logins}", edit(survey, e, "number=...")) for e in same)


def _twice(survey: Survey, field: str) -> Iterator[Fault]:
    for value, entries in survey.shared(field):
        logins = ", ".join(sorted(survey.one(entry, "login") for entry in entries))
        for entry in entries:
            remedy = edit(survey, entry, f"{field}=...")
            yield Fault(entry, f"{field} {value} is that of {logins}", remedy)


@rule("address-twice", Weight.GRAVE, "Mail for one arrives at the other, or nowhere.")
def address_twice(survey: Survey) -> Iterator[Fault]:
    """Accounts that share a mail address."""
    yield from _twice(survey, "mail")


@rule("phone-twice", Weight.ADVICE, "One of them is likely somebody else's.")
def phone_twice(survey: Survey) -> Iterator[Fault]:
    """Accounts that share a mobile number."""
    yield from _twice(survey, "mobile")


@rule("manager-out", Weight.ADVICE, "Requests for leave and access go to nobody.")
def manager_out(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts whose manager is disabled or past the last day."""
    for entry, (manager,) in survey.enabled_rows("manager"):
        above = survey.entries.get(survey.target(manager).key) if manager else None
        if above is not None and not survey.is_enabled(above):
            what = f"{survey.context.label(above)} is its manager, and out"
            yield Fault(entry, what, edit(survey, entry, "manager=..."))


@rule("manager-circle", Weight.FAULT, "Nobody is at the top of such a chain.")
def manager_circle(survey: Survey) -> Iterator[Fault]:
    """Accounts that are above themselves in the chain of managers."""
    above = {entry.dn.key: survey.target(manager).key for entry, manager in survey.with_value("manager")}
    for entry, _ in survey.with_value("manager"):
        visited, key = set[str](), above.get(entry.dn.key, "")
        while key and key != entry.dn.key and key not in visited:
            visited.add(key)
            key = above.get(key, "")
        if key == entry.dn.key:
            remedy = edit(survey, entry, "manager=...")
            yield Fault(entry, f"its own manager, through {count(len(visited), 'other')}", remedy)


@rule("group-of-kind-missing", Weight.ADVICE, "It lacks what all others of the kind have.")
def group_of_kind_missing(survey: Survey) -> Iterator[Fault]:
    """Enabled accounts that are not in a group that their kind joins."""
    kinds = survey.context.charter.document.kinds.items()
    names = {prepare(group.dn.name) for group in survey.all_groups}

    def named(entry: Entry, pattern: str) -> tuple[str, str]:
        name = survey.filled(entry, pattern)
        return name, prepare(name)

    groups = survey.by_patterns({name: kind.groups for name, kind in kinds}, named)
    for entry, groups_of_kind in compress(zip(survey.accounts, groups, strict=True), survey.enabled):
        have = survey.group_names_of(entry) if groups_of_kind else frozenset()
        if lacking := [name for name, key in groups_of_kind if key not in have and key in names]:
            remedy = edit(survey, entry, f"groups+={','.join(lacking)}")
            yield Fault(entry, f"not in {', '.join(lacking)}", remedy)
