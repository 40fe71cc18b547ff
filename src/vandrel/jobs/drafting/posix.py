"""What accounts and groups have on Unix systems, and which object classes groups have, as the directory shows."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

from vandrel.directory.entry import Entry
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.drafting.evidence import MOST, Noted, share
from vandrel.jobs.drafting.kinds import DraftedKind
from vandrel.text.string_prep import prepare

_CLASSES = ("groupOfNames", "groupOfUniqueNames", "posixGroup")
#: Up to which number a range goes that the directory does not use up.
_HIGHEST = 59_999


def drafted_group_classes(survey: Survey) -> Noted | None:
    """The object classes that most groups have; None where they are those of a charter that says nothing."""
    if not survey.groups:
        return None
    sets = Counter(tuple(name for name in _CLASSES if group.has_class(name)) for group in survey.groups)
    classes = max(sets, key=lambda each: (sets[each], len(each), each))
    times = sets[classes]
    if not classes or classes == ("groupOfNames",):
        return None
    others = [
        f"{' and '.join(each) or 'none of these'}: {number:,}" for each, number in sets.items() if each != classes
    ]
    questions = (f"other groups are otherwise ({'; '.join(others)}): by mistake?",) if others else ()
    return Noted(list(classes), share(times, len(survey.groups)), questions)


def drafted_posix(survey: Survey, kinds: Sequence[DraftedKind]) -> dict[str, Any] | None:
    """Ranges, home, shell and first group; None where no account has a number."""
    one = survey.one
    numbered = [entry for entry in survey.accounts if one(entry, "uid-number").isdecimal()]
    if not numbered:
        return None
    settings: dict[str, Any] = {"uid-numbers": _range(survey, numbered, "uid-number")}
    groups = [group for group in survey.groups if survey.context.one(group, "gid-number").isdecimal()]
    if groups:
        settings["gid-numbers"] = _range(survey, groups, "gid-number")
    by_number = {survey.context.one(group, "gid-number"): group.dn.name for group in groups}
    own_places = _places_of_own_groups(survey, numbered, groups)
    if own_places.total() * 2 > len(numbered):
        place, times = own_places.most_common(1)[0]
        settings["personal-groups"] = Noted(place, share(times, len(numbered)))
    homes, shells, firsts = Counter[str](), Counter[str](), Counter[str]()
    for entry in numbered:
        login = one(entry, "login")
        home = one(entry, "unix-home")
        homes[home.replace(login, "{login}") if login else home] += 1
        shells[one(entry, "shell")] += 1
        firsts[by_number.get(one(entry, "gid-number"), "")] += 1
    for key, counted in (("home", homes), ("shell", shells), ("group", firsts)):
        value, times = counted.most_common(1)[0]
        if value and not (key == "group" and "personal-groups" in settings):
            question = () if times >= MOST * len(numbered) else ("fewer than nine in ten have it: is it the rule?",)
            settings[key] = Noted(value, share(times, len(numbered)), question)
    with_numbers = {entry.dn.key for entry in numbered}
    concerned = [kind.name for kind in kinds
                 if sum(e.dn.key in with_numbers for e in kind.entries) * 2 > len(kind.entries)]  # fmt: skip
    if len(concerned) < len(kinds):
        settings["kinds"] = concerned
    return settings


def _places_of_own_groups(survey: Survey, accounts: Sequence[Entry], groups: Sequence[Entry]) -> Counter[str]:
    """Where the groups stand that have the logon name and the number of an account."""
    one, found = survey.one, Counter[str]()
    by_name = {prepare(group.dn.name): group for group in groups}
    for entry in accounts:
        group = by_name.get(prepare(one(entry, "login")))
        if group is not None and survey.context.one(group, "gid-number") == one(entry, "gid-number"):
            found[survey.context.place(group.dn.parent)] += 1
    return found


def _range(survey: Survey, entries: Sequence[Entry], field: str) -> Noted:
    numbers = [int(survey.context.one(entry, field)) for entry in entries]
    twice = [str(number) for number, times in Counter(numbers).items() if times > 1]
    questions = (f"several have {', '.join(twice[:5])}: by mistake?",) if twice else ()
    return Noted([min(numbers), max(_HIGHEST, *numbers)], f"{len(numbers):,} in use, to {max(numbers)}", questions)
