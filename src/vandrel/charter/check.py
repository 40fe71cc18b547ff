"""Faults of meaning: what a charter says that cannot be, though each piece of it has the right form."""

from __future__ import annotations

import pathlib
import re
from collections.abc import Iterable
from datetime import date
from zoneinfo import ZoneInfo, available_timezones

from vandrel.charter.base_checker import WORD, BaseChecker
from vandrel.charter.charter import RESERVED_KINDS, Charter, naming_of
from vandrel.charter.document import REQUIRED, Document, Leaving, Names, NamingLike, Passwords, Unit
from vandrel.charter.hierarchy import DesignedUnit, expand
from vandrel.charter.name_limits import NAME_LIMITS, NameLimits, is_suffix
from vandrel.charter.pattern import STYLE_WORDS, Pattern, PatternError, parse
from vandrel.charter.service_checker import ServiceChecker
from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.errors import VandrelError
from vandrel.fields import COMPUTED, FIELDS, NAMED, Shape
from vandrel.text.nearest import did_you_mean, listed
from vandrel.text.schema_errors import is_hole
from vandrel.text.string_prep import prepare
from vandrel.text.yaml_source import Path, Source

_DAY = re.compile(r"(\d\d)-(\d\d)")

#: Fields that a kind may not set or require: they are not texts that are known beforehand.
_FIELD_NAME = re.compile(r"[a-z][a-z0-9-]*")
_NOT_TEXT = {name for name, field in FIELDS.items() if field.shape in (Shape.SECRET, Shape.MEMBERSHIPS, Shape.ROLES)}


class Checker(BaseChecker):
    """Walks a document and notes every fault in the source that it was read from."""

    def __init__(self, document: Document, source: Source) -> None:
        super().__init__(document, source)
        self.incomplete = False  # a branch is missing, so the hierarchy has fewer units than was meant

    def run(self) -> None:
        """Note every fault."""
        self._top()
        self._lists()
        self._own_fields()
        self._names(self.document.names, ("names",))
        self._passwords(self.document.passwords, ("passwords",))
        design = self._hierarchy()
        self._kinds(design)
        self._leaving(self.document.leaving, ("leaving",), design)
        self._group_kinds(design)
        ServiceChecker(self.document, self.source).run()

    def _own_fields(self) -> None:
        """Fields that the organization declares: new names, forms that can be read, values in one way only."""
        for name, spec in self.document.fields.items():
            path = ("fields", name)
            if name in FIELDS or name in COMPUTED or name == "place":
                what, remedy = f"{name} is a built-in field", "give yours another name"
                self.source.fault(path, what, remedy, key=True)
            elif not _FIELD_NAME.fullmatch(name):
                what = f"{name!r} is no name of a field: lower-case letters, digits and hyphens"
                self.source.fault(path, what, "write one as locker or safety-course", key=True)
            if spec.values and spec.form:
                self.source.fault((*path, "form"), "values and form are both given", "keep one of the two", key=True)
            try:
                re.compile(spec.form)
            except re.error as error:
                self.source.fault((*path, "form"), f"this is no regular expression: {error.msg}")

    # --- the top

    def _top(self) -> None:
        document, fault = self.document, self.source.fault
        for key in REQUIRED:
            if not getattr(document, key) and (key,) not in self.source.keys:
                fault((), f"{key} is missing", f"every charter has the keys {listed(REQUIRED, 'and')}")
            elif not getattr(document, key) and not self._noted((key,)):
                fault((key,), f"{key} is empty")
        if document.base:
            try:
                names.parse(document.base)
            except VandrelError as error:
                fault(("base",), str(error), error.findings[0].remedy)
        try:
            ZoneInfo(document.time_zone)
        except (KeyError, ValueError, OSError):
            hint = did_you_mean(document.time_zone, available_timezones())
            fault(("time-zone",), f"there is no time zone {document.time_zone!r}", hint or "write one as Europe/Oslo")
        if document.language and not re.fullmatch(r"[A-Za-z]{2,3}(-[A-Za-z0-9]+)*", document.language):
            fault(("language",), f"{document.language!r} is no language tag", "write de, nb, tr, el ...")
        for index, suffix in enumerate(document.suffixes):
            if not is_hole(suffix) and not is_suffix(suffix):
                fault(("suffixes", index), f"{suffix!r} is no domain", "write one as marrowick.example")
        self._twice(document.suffixes, ("suffixes",))

    def _noted(self, path: Path) -> bool:
        where = self.source.values.get(path)
        return where is not None and any((f.where.line, f.where.column) == where for f in self.source.faults)

    def _twice(self, words: list[str], path: Path) -> None:
        places_by_key: dict[str, str] = {}
        for index, word in enumerate(words):
            key = prepare(word)
            if key in places_by_key and not is_hole(word):
                self.source.fault((*path, index), f"{word!r} stands here for the second time", "keep one of the two")
            places_by_key[key] = word

    def _lists(self) -> None:
        for name, words in self.document.lists.items():
            path = ("lists", name)
            if not WORD.fullmatch(name):
                self.source.fault(
                    path, f"{name!r} is no name of a list", "lower-case letters, digits and hyphens", key=True
                )
            elif name in COMPUTED or name in NAMED:
                self.source.fault(path, f"{name!r} has a meaning of its own and cannot name a list", key=True)
            if not words:
                self.source.fault(path, f"the list {name!r} has no words", "a unit repeated over it would not exist")
            self._twice(words, path)

    # --- patterns

    def _naming(self, spec: NamingLike, target: NameLimits, path: Path, usable: Iterable[str] | None = None) -> None:
        naming = naming_of(spec)
        for index, text in enumerate(naming.ladder):
            at = (
                path
                if isinstance(spec, str)
                else (*path, index)
                if isinstance(spec, list)
                else (*path, "ladder", index)
            )
            pattern = self.pattern(text, at, usable)
            if pattern is None:
                continue
            if pattern.counter and index < len(naming.ladder) - 1 and not self._other_fields(naming.ladder, index):
                self.source.fault(at, "a rung that counts never ends, so no rung after it is reached", "put it last")
            if target.at and "@" not in text:
                self.source.fault(at, f"{target.name} needs an @ and a domain", "end it with @{domain} or @{suffix}")
        for word in naming.style.split():
            if word not in STYLE_WORDS:
                hint = did_you_mean(word, STYLE_WORDS) or f"the words are: {', '.join(STYLE_WORDS)}"
                self.source.fault(
                    (*path, "style"), f"{word!r} is no word of a style", hint, letter=naming.style.find(word)
                )
        if naming.longest > target.longest:
            self.source.fault(
                (*path, "longest"),
                f"{naming.longest} is out of range: {target.name} takes {target.longest} characters at most",
            )

    @staticmethod
    def _other_fields(ladder: list[str], index: int) -> bool:
        """Whether a later rung needs less than this one: it is there for names for which this one is empty."""
        try:
            needed = parse(ladder[index]).fields() - {"count"}
            return any(not needed <= parse(later).fields() for later in ladder[index + 1 :])
        except PatternError:
            return True

    def _names(self, patterns: Names, path: Path) -> None:
        for target in NAMED:
            spec = getattr(patterns, target)
            if spec is not None:
                self._naming(spec, NAME_LIMITS[target], (*path, target))
        self._circle(patterns, path)

    def _circle(self, patterns: Names, path: Path) -> None:
        """Names that are built from each other."""
        uses: dict[str, set[str]] = {}
        for target in NAMED:
            spec = getattr(patterns, target)
            try:
                ladder = naming_of(spec).ladder if spec is not None else []
                uses[target] = {field for text in ladder for field in parse(text).fields()} & set(NAMED)
            except PatternError:
                uses[target] = set()
        for target in NAMED:
            trail = [target]
            while len(uses[trail[-1]]) and len(trail) <= len(NAMED):
                following = target if target in uses[trail[-1]] else min(uses[trail[-1]])
                trail.append(following)
                if following == target:
                    self.source.fault(
                        (*path, target), f"names are built from each other in a circle: {' from '.join(trail)}"
                    )
                    return

    def _passwords(self, rules: Passwords, path: Path) -> None:
        if rules.minimum_age and rules.maximum_age and rules.minimum_age >= rules.maximum_age:
            self.source.fault(
                (*path, "minimum-age"),
                f"it may not be changed for {rules.minimum_age} days and must be after {rules.maximum_age}",
                "minimum-age must be less than maximum-age",
            )
        if rules.generated is not None and rules.length is not None and rules.generated < rules.length:
            self.source.fault(
                (*path, "generated"),
                f"generated passwords have {rules.generated} characters, and {rules.length} is the least",
            )

    # --- hierarchy

    def _hierarchy(self) -> tuple[DesignedUnit, ...]:
        faults = len(self.source.faults)
        units = list(_units(self.document))
        for path, name, unit in units:
            self._unit_patterns(path, name, unit)
        sound = faults == len(self.source.faults)
        for path, _, unit in units:
            if unit is not None:
                self._unit_references(path, unit)
        return self._designed() if sound else ()

    def _unit_patterns(self, path: Path, name: str, unit: Unit | None) -> None:
        """The patterns of one unit: its name, the names of its groups, the teams that administer it."""
        if path[0] == "hierarchy" or len(path) > 2:
            self._pattern_of_unit(name, path)
        if unit is None:
            return
        for kind, stems in unit.groups.items():
            for index, stem in enumerate(stems):
                self.pattern(stem, (*path, "groups", kind, index), self.document.lists)
        for team in unit.delegation:
            self.pattern(team, (*path, "delegation", team), self.document.lists)

    def _unit_references(self, path: Path, unit: Unit) -> None:
        """The kinds and the branch that one unit names."""
        document, fault = self.document, self.source.fault
        for index, kind in enumerate(unit.holds):
            if kind not in self.kinds and kind != "computer" and not is_hole(kind):
                hint = did_you_mean(kind, self.kinds) or f"the kinds are: {', '.join(sorted(self.kinds))}"
                fault((*path, "holds", index), f"there is no kind {kind!r}", hint)
        for kind in unit.groups.keys() - self.group_kinds:
            hint = did_you_mean(kind, self.group_kinds) or "the charter has no kinds of group"
            fault((*path, "groups", kind), f"there is no kind of group {kind!r}", hint, key=True)
        if unit.branch and unit.branch not in document.branches:
            self.incomplete = True
            hint = did_you_mean(unit.branch, document.branches) or "the charter has no such branch"
            fault((*path, "branch"), f"there is no branch {unit.branch!r}", hint)

    def _designed(self) -> tuple[DesignedUnit, ...]:
        """All units of the hierarchy, written out; none where a fault stands in the way."""
        try:
            design = tuple(expand(self.document))
        except RecursionError:
            self.source.fault(("branches",), "a branch hangs below itself", "take one of the 'branch:' lines out")
            return ()
        except PatternError as error:
            self.source.fault(("hierarchy",), f"the hierarchy cannot be drawn: {error}")
            return ()
        keys = set()
        for unit in design:
            key = places.key(unit.place)
            if key in keys:
                what = f"{places.to_text(unit.place)} stands here for the second time"
                self.source.fault(unit.path, what, "siblings cannot share a name", key=True)
            keys.add(key)
            if why := NAME_LIMITS["unit"].fault(unit.place[-1]):
                self.source.fault(unit.path, f"the unit name {unit.place[-1]!r} {why}", key=True)
        return design

    def _pattern_of_unit(self, name: str, path: Path) -> Pattern | None:
        try:
            pattern = parse(name)
        except PatternError as error:
            self.source.fault(path, error.why, error.findings[0].remedy, key=True, letter=error.position)
            return None
        for field in sorted(pattern.fields() - self.document.lists.keys()):
            hint = did_you_mean(field, self.document.lists) or f"the lists are: {', '.join(self.document.lists)}"
            self.source.fault(path, f"there is no list {field!r} to repeat this unit over", hint, key=True)
        return pattern

    # --- kinds

    def _kinds(self, design: tuple[DesignedUnit, ...]) -> None:
        document, fault = self.document, self.source.fault
        for name, kind in document.kinds.items():
            path: Path = ("kinds", name)
            if not WORD.fullmatch(name):
                fault(path, f"{name!r} is no name of a kind", "lower-case letters, digits and hyphens", key=True)
            if name in RESERVED_KINDS:
                fault(path, f"{name!r} has a meaning of its own and cannot name a kind of account", key=True)
            if not kind.place:
                if not self._noted((*path, "place")):
                    fault(path, f"the kind {name!r} has no place", "write one as place: /Ferries/{site}", key=True)
            else:
                self._place(kind.place, (*path, "place"), design)
            for index, required in enumerate(kind.requires):
                if required not in self.usable - COMPUTED.keys() and not is_hole(required):
                    fault(
                        (*path, "requires", index),
                        f"there is no field {required!r}",
                        did_you_mean(required, self.usable),
                    )
            self._sets(kind.sets, (*path, "sets"))
            for index, text in enumerate(kind.groups):
                self.pattern(text, (*path, "groups", index))
            self._leaving(kind.leaving, (*path, "leaving"), design)
            self._names(kind.names, (*path, "names"))
            self._passwords(kind.password, (*path, "password"))
            self._end(kind.ends, (*path, "ends"))
            if kind.suffix and kind.suffix not in document.suffixes:
                fault(
                    (*path, "suffix"),
                    f"{kind.suffix!r} is none of the suffixes",
                    did_you_mean(kind.suffix, document.suffixes),
                )

    def _sets(self, sets: dict[str, str], path: Path) -> None:
        for key, text in sets.items():
            if key not in self.fields or key in _NOT_TEXT:
                what = f"{key!r} is no field that can be set"
                self.source.fault((*path, key), what, did_you_mean(key, self.fields), key=True)
            self.pattern(text, (*path, key))

    def _leaving(self, leaving: Leaving | None, path: Path, design: tuple[DesignedUnit, ...]) -> None:
        if leaving is None:
            return
        if leaving.place:
            self._place(leaving.place, (*path, "place"), design)
        for index, text in enumerate(leaving.stays_in):
            self.pattern(text, (*path, "stays-in", index))
        self._sets(leaving.sets, (*path, "sets"))

    def _place(self, text: str, path: Path, design: tuple[DesignedUnit, ...]) -> None:
        if not text.startswith("/"):
            self.source.fault(path, "a place begins with '/'", f"write /{text}")
            return
        pattern = self.pattern(text, path)
        if pattern is None or not design:
            return
        open_fields = pattern.fields()
        if open_fields - self.document.lists.keys():
            return  # depends on more than the lists: only a person can tell
        if self.incomplete and prepare(text.split("/")[1]) in {prepare(unit.place[0]) for unit in design}:
            return  # the unit may hang on the missing branch, and that is reported already
        if not self._reachable(text, open_fields, design):
            choices = [places.to_text(unit.place) for unit in design]
            self.source.fault(path, f"no unit of the hierarchy is {text!r}", did_you_mean(text, choices))

    def _reachable(self, text: str, fields: frozenset[str], design: tuple[DesignedUnit, ...]) -> bool:
        """Whether some choice of words from the lists makes the pattern a unit of the design."""
        charter = Charter(self.document, pathlib.Path())
        designed = {places.key(unit.place) for unit in design}
        choices: list[dict[str, str]] = [{}]
        for field in sorted(fields):
            choices = [{**choice, field: word} for choice in choices for word in self.document.lists[field]]
        return any(places.key(charter.place_of(text, choice)) in designed for choice in choices)

    def _end(self, ends: int | str | None, path: Path) -> None:
        if isinstance(ends, int) and ends < 0:
            self.source.fault(path, f"{ends} is out of range: days from today")
        if isinstance(ends, str):
            match = _DAY.fullmatch(ends)
            try:
                # A day that every year has.
                date(2025, int(match[1]), int(match[2])) if match else date(0, 0, 0)
            except ValueError:
                self.source.fault(
                    path, f"{ends!r} is no day of the year", "write a number of days, or a day as '09-30'"
                )

    def _group_kinds(self, design: tuple[DesignedUnit, ...]) -> None:
        for name, kind in self.document.groups.items():
            path: Path = ("groups", name)
            self._naming(kind.name, NAME_LIMITS["group"], (*path, "name"), self.usable)
            if not kind.place:
                self.source.fault(
                    path, f"the kind of group {name!r} has no place", "write one as place: /Groups", key=True
                )
            else:
                self._place(kind.place, (*path, "place"), design)
            if kind.mail:
                self._naming(kind.mail, NAME_LIMITS["mail"], (*path, "mail"))


def _units(document: Document) -> Iterable[tuple[Path, str, Unit | None]]:
    """(path, name, unit) of every unit that the document writes, branches included."""
    todo: list[tuple[Path, str, Unit | None]] = [
        (("branches", name), name, unit) for name, unit in document.branches.items()
    ]
    todo += [(("hierarchy", name), name, unit) for name, unit in document.hierarchy.items()]
    while todo:
        path, name, unit = todo.pop(0)
        yield path, name, unit
        if unit is not None:
            todo += [((*path, "units", child), child, below) for child, below in unit.units.items()]
