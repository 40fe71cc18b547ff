"""Kinds of group as a directory shows them."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Sequence
from typing import Any

from vandrel.charter.pattern import escaped
from vandrel.directory import place as places
from vandrel.directory.entry import Entry
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common.report import count
from vandrel.jobs.drafting.evidence import MOST, Noted, free_name, share
from vandrel.jobs.drafting.kinds import place_of
from vandrel.text.string_prep import prepare


def find_group_kinds(survey: Survey, domain: str) -> dict[str, Any]:
    """Kinds of group: by what the groups say of themselves, or by place, purpose and scope.

    Args:
        survey: the directory.
        domain: the domain of mail addresses.

    """
    by_pattern: dict[tuple[str, ...], list[Entry]] = defaultdict(list)
    for group in survey.groups:
        place = place_of(survey, group)
        if place is None:
            continue
        kind = survey.one(group, "kind")
        looks = (places.to_text(place), survey.one(group, "purpose"), survey.one(group, "scope"))
        by_pattern[(kind,) if kind else looks].append(group)
    kinds: dict[str, Any] = {}
    for by, groups in sorted(by_pattern.items(), key=lambda item: -len(item[1])):
        name = by[0] if len(by) == 1 else free_name("-".join(filter(None, by[1:])) or "groups", kinds)
        if re.fullmatch(r"[a-z][a-z0-9-]*", name):
            kinds[name] = _group_kind(survey, groups, domain)
    return kinds


def _group_kind(survey: Survey, groups: Sequence[Entry], domain: str) -> Noted:
    def most(values: Sequence[str]) -> tuple[str, str]:
        value, times = Counter(values).most_common(1)[0]
        return value, share(times, len(groups))

    names = [group.dn.name for group in groups]
    marks = Counter(name.partition("-")[0] + "-" if "-" in name[:9] else "" for name in names)
    mark, times = marks.most_common(1)[0]
    pattern = escaped(mark) + "{stem}" if mark and times >= MOST * len(names) and len(names) > 1 else "{stem}"
    lower = sum(re.fullmatch(r"[a-z0-9-]+", name) is not None for name in names)
    style = "ascii lower hyphens" if lower >= MOST * len(names) else ""
    place, of_place = most([places.to_text(place_of(survey, group) or ()) for group in groups])
    purpose, _ = most([survey.one(group, "purpose") for group in groups])
    scope, _ = most([survey.one(group, "scope") for group in groups])
    mails = [(survey.one(group, "mail"), group.dn.name) for group in groups]
    by_name = sum(prepare(mail) == prepare(f"{name}@{domain}") for mail, name in mails)
    fit = sum(name.startswith(mark) for name in names) if pattern != "{stem}" else len(names)
    settings: dict[str, Any] = {
        "name": Noted({"ladder": [pattern], "style": style} if style else pattern, share(fit, len(names))),
        "place": Noted(escaped(place), of_place), "purpose": purpose if purpose == "distribution" else None,
        "scope": scope or None,
        "mail": Noted("{name}@{domain}", share(by_name, len(names))) if by_name >= MOST * len(names) else None,
    }  # fmt: skip
    return Noted({key: value for key, value in settings.items() if value is not None}, count(len(groups), "group"))
