"""Kinds of account as a directory shows them: where they stand, what they are called, which fields they have."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import TypeVar

from vandrel.charter.charter import RESERVED_KINDS
from vandrel.charter.pattern import escaped
from vandrel.directory import place as places
from vandrel.directory.entry import Entry
from vandrel.directory.place import Place
from vandrel.errors import VandrelError
from vandrel.fields import NAMED, Shape
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.drafting.evidence import ENOUGH, MOST, Noted, free_name, share
from vandrel.text.string_prep import prepare

_T = TypeVar("_T")

#: Fields that units are named after, the likeliest first.
PLACED_BY = ("site", "department", "category", "division", "company", "office", "province", "country")
#: The share of accounts that make a field one that is required.
_NEARLY_ALL = 0.98
#: Fields that a kind never requires: worked out by the charter, or missing where somebody has one name only.
_NOT_REQUIRED = frozenset(
    {
        *NAMED,
        "kind",
        "given",
        "initials",
        "language",
        "enabled",
        "change",
        "password",
        "ends",
        "starts",
        "back",
        "uid-number",
        "gid-number",
        "unix-home",
        "shell",
        "primary",
    }
)
#: Accounts that are looked at to find what may be a convention, before it is counted on all of them.
_SAMPLE = 500
#: A mark before the logon names of a kind.
_MARK = re.compile(r"([^\W\d_]{1,8})[-._]")
_WORD = re.compile(r"[^\w]+")


class DraftedKind:
    """Accounts that belong together, and what they have in common.

    Attributes:
        name: its name in the charter.
        entries: its accounts.

    """

    def __init__(self, survey: Survey, name: str, entries: Sequence[Entry]) -> None:
        self._survey = survey
        self.name, self.entries = name, entries

    @cached_property
    def place(self) -> Noted:
        """The pattern of the unit in which they stand."""
        standing = [(entry, place) for entry in self.entries if (place := place_of(self._survey, entry)) is not None]
        depths = Counter(len(place) for _, place in standing)
        if not depths:
            return Noted("/Accounts", questions=("none of them stands in a unit: where do they belong?",))
        depth = max(depths, key=lambda each: depths[each])
        alike = [(entry, place) for entry, place in standing if len(place) == depth]
        # Where leavers and strays stand beside them, the branch of most of them counts.
        first = Counter(place[:1] for _, place in alike).most_common(1)[0][0]
        alike = [(entry, place) for entry, place in alike if place[:1] == first]
        steps = [self._step(sample(alike), index) for index in range(depth)]
        fit = sum(self._fits(entry, place, steps) for entry, place in standing)
        questions = () if fit >= MOST * len(self.entries) else (
            f"only {share(fit, len(self.entries))} stand there; most others in {self._elsewhere(standing, steps)}",
        )  # fmt: skip
        return Noted("/" + "/".join(steps), share(fit, len(self.entries)), questions)

    def _step(self, alike: Sequence[tuple[Entry, Place]], index: int) -> str:
        """One unit of the pattern: the same for all, or named after a field."""
        words = Counter(prepare(place[index]) for _, place in alike)
        word, times = words.most_common(1)[0]
        by_field = {
            field: sum(prepare(self._survey.one(entry, field)) == prepare(place[index]) for entry, place in alike)
            for field in PLACED_BY
        }
        field = max(PLACED_BY, key=lambda each: by_field[each])
        if len(words) > 1 and by_field[field] > times:
            return f"{{{field}}}"
        return escaped(next(place[index] for _, place in alike if prepare(place[index]) == word)).replace("/", "\\/")

    def _fits(self, entry: Entry, place: Place, steps: Sequence[str]) -> bool:
        def said(step: str) -> str:
            return self._survey.one(entry, step[1:-1]) if is_field(step) else step.replace("\\/", "/")

        return len(place) == len(steps) and all(
            prepare(said(step)) == prepare(unit) for step, unit in zip(steps, place, strict=True)
        )

    def _elsewhere(self, standing: Sequence[tuple[Entry, Place]], steps: Sequence[str]) -> str:
        others = Counter(places.to_text(place) for entry, place in standing if not self._fits(entry, place, steps))
        return others.most_common(1)[0][0] if others else "no unit"

    @cached_property
    def _filled(self) -> dict[str, Counter[str]]:
        """How often each text field has which value; the empty value is one of them."""
        fields = self._survey.context.fields
        candidates = [
            name for name, field in fields.items()
            if name not in _NOT_REQUIRED and field.shape in (Shape.TEXT, Shape.REFERENCE, Shape.NUMBER)
            and self._survey.context.dialect.attribute(name, "account")
        ]  # fmt: skip
        return {name: Counter(self._survey.values_of(self.entries, name)) for name in candidates}

    @cached_property
    def sets(self) -> dict[str, Noted]:
        """Fields that have one value for nearly all of them."""
        if len(self.entries) < ENOUGH:
            return {}
        settings = {}
        for name, values in self._filled.items():
            value, times = values.most_common(1)[0]
            is_text = self._survey.context.fields[name].shape is Shape.TEXT
            if value and is_text and times >= _NEARLY_ALL * len(self.entries) and f"{{{name}}}" not in self.place.value:
                settings[name] = Noted(escaped(value), share(times, len(self.entries)))
        return settings

    @cached_property
    def requires(self) -> Noted:
        """Fields that nearly all of them have; the surname in any case."""
        total = len(self.entries)
        have = {name: total - values[""] for name, values in self._filled.items() if name not in self.sets}
        of_place = [field for field in PLACED_BY if f"{{{field}}}" in self.place.value]
        if total < ENOUGH:
            few = f"what else do they need? There {'is' if total == 1 else 'are'} only {total}"
            return Noted(list(dict.fromkeys(["surname", *of_place])), questions=(few,))
        full = [name for name, times in have.items() if times >= _NEARLY_ALL * total]
        rests = share(min((have[name] for name in full), default=0), total)
        return Noted(list(dict.fromkeys(["surname", *full, *of_place])), f"{rests} at the least")

    @cached_property
    def ends(self) -> Noted | None:
        """The day of the year on which they end; None where there is none, or where only a person can tell."""
        days = Counter(day[5:] for day in self._survey.values_of(self.entries, "ends"))
        day, times = days.most_common(1)[0]
        if not day or times < MOST * len(self.entries):
            return None
        if len(self.entries) < ENOUGH:
            rests = share(times, len(self.entries))
            return Noted(None, questions=(f"they end on a day: after how many days? {rests}",))
        return Noted(day, share(times, len(self.entries)))

    @cached_property
    def suffix(self) -> str:
        """The suffix that most of their principal names have; empty for none."""
        principals = self._survey.values_of(self.entries, "principal")
        used = Counter(principal.rpartition("@")[2].lower() for principal in principals)
        return used.most_common(1)[0][0]

    @cached_property
    def groups(self) -> list[Noted]:
        """The groups that nearly all of them are in, by pattern."""
        if len(self.entries) < ENOUGH:
            return []
        built: Counter[str] = Counter()
        looked_at = sample(self.entries)
        for entry in looked_at:
            # In the order of names, so that every run drafts the same.
            names = sorted({group.dn.name for group in self._groups_of(entry)})
            patterns = filter(None, (self._group_pattern(entry, name) for name in names))
            built.update(list(dict.fromkeys([*map(escaped, names), *patterns])))
        likely = [pattern for pattern, times in built.items() if times >= MOST * len(looked_at)]
        counts: dict[str, int] = {}
        for pattern in sorted(likely, key=lambda each: "{" in each.replace("{{", "")):
            fit = [entry for entry in self.entries if self._is_in(entry, pattern)]
            # A pattern with fields in it is left out where a plain name says the same.
            is_new = not any(self._group_pattern(looked_at[0], name) == pattern for name in counts)
            if len(fit) >= MOST * len(self.entries) and is_new:
                counts[pattern] = len(fit)
        return [Noted(name, share(times, len(self.entries))) for name, times in counts.items()]

    def _groups_of(self, entry: Entry) -> Sequence[Entry]:
        return self._survey.groups_of.get(entry.dn.key, ())

    def _is_in(self, entry: Entry, pattern: str) -> bool:
        try:
            name = prepare(self._survey.filled(entry, pattern))
        except VandrelError:  # a field that it needs is empty
            return False
        return any(prepare(group.dn.name) == name for group in self._groups_of(entry))

    def _group_pattern(self, entry: Entry, group: str) -> str:
        """The name of a group with the entry's own words in it replaced by their fields; empty where none is."""
        name, holes = escaped(group), list[str]()
        for field in PLACED_BY:
            value = self._survey.one(entry, field)
            low = value.lower()
            for styled, style in ((value, ""), (low, " lower"), (low.replace(" ", "-"), " lower hyphens")):
                if len(value) > 1 and (match := re.search(rf"(?<![^\W_]){re.escape(styled)}(?![^\W_])", name)):
                    holes.append(f"{{{field}{style}}}")
                    name = f"{name[: match.start()]}\0{len(holes) - 1}\0{name[match.end() :]}"
                    break
        return re.sub("\0(\\d+)\0", lambda match: holes[int(match[1])], name) if holes else ""


def is_field(step: str) -> bool:
    """Whether one unit of a pattern is named after a field."""
    return step.startswith("{") and not step.startswith("{{")


def sample(entries: Sequence[_T]) -> Sequence[_T]:
    """Some of many, evenly spread; all of a few."""
    return entries[:: max(1, len(entries) // _SAMPLE)]


def place_of(survey: Survey, entry: Entry) -> Place | None:
    """The units in which an entry stands, from the top down; None where it stands in none."""
    try:
        place = places.parse(survey.context.place(entry.dn.parent))
    except VandrelError:
        return None
    return place if any(place) else None


def find_kinds(survey: Survey) -> tuple[list[DraftedKind], bool]:
    """The kinds of account, the most frequent first; and whether the accounts say themselves of which one they are."""
    with_kind = [entry for entry in survey.accounts if survey.one(entry, "kind")]
    if with_kind and len(with_kind) >= MOST * len(survey.accounts):
        by_name: dict[str, list[Entry]] = defaultdict(list)
        for entry in with_kind:
            by_name[survey.one(entry, "kind")].append(entry)
        usable = {name: entries for name, entries in by_name.items()
                  if _as_word(name) == name and name not in RESERVED_KINDS}  # fmt: skip
        if usable:
            return _sorted(survey, usable), True
    looks = dict(_by_looks(survey)) or {"accounts": survey.accounts}
    return _sorted(survey, looks), False


def _sorted(survey: Survey, kinds: Mapping[str, Sequence[Entry]]) -> list[DraftedKind]:
    ordered = sorted(kinds.items(), key=lambda item: (-len(item[1]), item[0]))
    return [DraftedKind(survey, name, entries) for name, entries in ordered]


def _by_looks(survey: Survey) -> Iterator[tuple[str, list[Entry]]]:
    """Accounts by the units that they stand in, own fields apart, and by the mark before their logon names."""
    marks = Counter(_mark(survey, entry) for entry in survey.accounts)
    looks: dict[tuple[Place, str], list[Entry]] = defaultdict(list)
    for entry in survey.accounts:
        place = place_of(survey, entry) or ()
        mark = _mark(survey, entry)
        values = {prepare(survey.one(entry, field)) for field in PLACED_BY}
        units = tuple("*" if prepare(unit) in values else unit for unit in place)
        looks[units, mark if marks[mark] >= ENOUGH else ""].append(entry)
    used: set[str] = set()
    for (place, mark), entries in sorted(looks.items(), key=lambda item: -len(item[1])):
        if len(entries) < ENOUGH or not place:
            continue
        plain = [unit for unit in place if unit != "*"]
        stem = _as_word("-".join(filter(None, [mark, *plain[-1:]]))) or "accounts"
        name = free_name(stem, used | RESERVED_KINDS)
        used.add(name)
        yield name, entries


def _mark(survey: Survey, entry: Entry) -> str:
    """The mark before a logon name, unless it is the person's own name."""
    match = _MARK.match(survey.one(entry, "login"))
    own = {prepare(survey.one(entry, "given")), prepare(survey.one(entry, "surname"))}
    return match[1].lower() if match and match[1].lower() not in own else ""


def _as_word(text: str) -> str:
    """Text as the charter takes it for a name: lower case, digits and hyphens."""
    from vandrel.text.transliterate import to_ascii

    return _WORD.sub("-", to_ascii(text, "").lower()).replace("_", "-").strip("-")
