"""Thousands of new accounts that are alike: worked out column by column, from one that was worked out in full.

What comes of it is what the full way makes of each; whatever is out of the ordinary is left to that.
"""

from __future__ import annotations

from collections.abc import Collection, Container, Iterable, Mapping, Sequence
from functools import lru_cache, partial
from itertools import compress, repeat

import msgspec
from msgspec import Struct

from vandrel.charter.document import Kind
from vandrel.charter.naming import NamingRule
from vandrel.charter.pattern import parse
from vandrel.directory.dn import LEVEL
from vandrel.errors import VandrelError
from vandrel.fields import ACCOUNT, FIELDS, NAMED
from vandrel.intake.item import Cell, Item, Sheaf, cells_of
from vandrel.jobs import values as given_values
from vandrel.jobs.create import Creator
from vandrel.jobs.draft import Alike, Draft, Shared
from vandrel.jobs.house import House
from vandrel.jobs.register import Column
from vandrel.text import people
from vandrel.text.prep import prepare, prepare_all

_first_letters = lru_cache(maxsize=4096)(people.initials)


def own_fields(house: House, kind: Kind, names: Collection[str]) -> list[str]:
    """Which of these fields an account may have to itself: nothing but names is built from them."""
    patterns = [*kind.sets.values(), *kind.groups, *([kind.place] if kind.place else [])]
    built_upon = frozenset[str]().union(*(parse(pattern).fields() for pattern in patterns))
    return [
        name for name in names
        if name in FIELDS and name not in built_upon and given_values.plain(house, FIELDS[name], ACCOUNT)
    ]  # fmt: skip


class Climb(Struct):
    """An account whose names are chosen anew: its values, and which of its names have changed.

    ``free`` has names that hang on one that was chosen: found free with it, when those had changed.
    """

    values: dict[str, str]
    changed: set[str] = set()
    free: dict[str, tuple[str, frozenset[str]]] = {}

    def ready(self, target: str, rule: NamingRule) -> str:
        """The name that was found free already; empty where there is none, or what it is built from has changed."""
        name, changed = self.free.get(target, ("", frozenset()))
        return name if name and rule.fields() & self.changed <= changed else ""


class Likeness:
    """Accounts that differ in their own fields and names alone."""

    def __init__(self, house: House, creator: Creator, model: Draft, own: Sequence[str], rows: Sequence[Item]) -> None:
        """Work out the columns.

        Args:
            house: where.
            creator: who worked out the model, and knows which names are given.
            model: the account that these are like; it has no findings, and none of its names was typed.
            own: the fields of which each has a value of its own.
            rows: the rows, of which the values beside `own` are the model's.

        """
        assert model.dn is not None
        self._house, self._creator, self._model = house, creator, model
        self._order = creator.order(model.kind)
        self._rules = {target: rule for target, rule, _ in self._order}
        self._unit = model.dn.parent
        count = len(rows)
        columns: dict[str, Sequence[str]] = {}
        sound = [True] * count
        for name, cells in zip(own, cells_of(rows, own), strict=True):
            # Of several values the likeness has none: the row is not sound.
            plain = set(map(type, cells)) == {str}
            columns[name] = cells if plain else [cell if isinstance(cell, str) else "" for cell in cells]  # type: ignore[assignment]
        if "initials" in model.derived and "initials" not in own:
            columns["initials"] = self._initials(columns, count)
        self._seen = creator.seen(model)
        self._legal = frozenset(filter(self._is_legal, self._rules))
        for target, rule, _ in self._order:
            columns[target] = rule.firsts(columns, self._seen, count)
        for name, column in columns.items():
            if not (name in self._legal or self._passes(name, column)):
                sound = [so_far and self._passes(name, (value,)) for so_far, value in zip(sound, column, strict=True)]
        for column in columns.values():
            if not all(column):
                sound = [so_far and bool(value) for so_far, value in zip(sound, column, strict=True)]
        self._sound = sound
        self._shared = Shared(model, model.values(), tuple(columns), {name: n for n, name in enumerate(columns)})
        self._rows = list(zip(*columns.values(), strict=True))
        self._keys = prepare_all(columns["name"])
        #: For each name that must be unique, its attributes; the first is the one under which it is given.
        self._unique = {
            target: found for target, _, _ in self._order if (found := self._claims(target, columns[target]))
        }
        register = creator.register
        before = f"{self._unit.key}{LEVEL}cn="
        self._siblings = register.siblings(before)
        self._reserving = [(found[0].keys, found[0].given) for found in self._unique.values()]
        #: Where to look for names that are taken. What the directory has does not change meanwhile.
        self._claimed: list[tuple[list[str], Container[str]]] = [(self._keys, self._siblings)]
        for claim in (claim for found in self._unique.values() for claim in found):
            self._claimed += [(claim.keys, claim.given)]
            self._claimed += [(claim.keys, claim.held)] if not claim.held.keys().isdisjoint(claim.keys) else []
        self._held_siblings = register.held_siblings(before)
        if not self._held_siblings.isdisjoint(self._keys):
            self._claimed.append((self._keys, self._held_siblings))
        fields = frozenset[str]().union(*(rule.fields() for rule in self._rules.values()), ("language",))
        #: What naming rules see that all have in common.
        self._in_common = {name: self._seen[name] for name in fields if self._seen.get(name)}

    def _claims(self, target: str, names: Sequence[str]) -> list[Column]:
        return self._creator.register.columns(target, names)

    def _is_legal(self, target: str) -> bool:
        """Whether the schema takes all that a naming rule can make."""
        attribute = self._house.dialect.attribute(target, ACCOUNT)
        return bool(attribute) and self._house.directory.schema.takes_text(attribute, self._rules[target].greatest)

    def _passes(self, name: str, values: Sequence[str]) -> bool:
        """Whether a quick look at values is enough; at names, which the charter built, the schema's alone."""
        attribute = self._house.dialect.attribute(name, ACCOUNT)
        return not attribute or self._house.directory.schema.passes(attribute, values)

    def _initials(self, columns: Mapping[str, Sequence[str]], count: int) -> list[str]:
        firsts: list[Sequence[str]] = []
        for name in ("given", "middle", "surname"):
            if name in columns:
                part = columns[name]
                firsts.append([value[:1].upper() if value.isalnum() else _first_letters(value) for value in part])
            elif letters := _first_letters(self._model.value(name)):
                firsts.append([letters] * count)
        most = self._creator.longest("initials")
        return ["".join(row)[:most] for row in zip(*firsts, strict=True)] if firsts else [""] * count

    def draft(self, number: int) -> Alike | None:
        """The account of one row, its names given to it; None where that takes the full way."""
        own = self._rows[number]
        if not self._sound[number]:
            return None
        for keys, names in self._claimed:
            if keys[number] in names:
                return self._by_the_ladders(number, own)
        made = Alike(self._shared, own)
        for keys, given in self._reserving:
            given[keys[number]] = made
        self._siblings.add(self._keys[number])
        return made

    def _by_the_ladders(self, number: int, own: tuple[str, ...]) -> Alike | None:
        """The same where a name is taken: each name that is, and each built from one that changes, is chosen anew."""
        register = self._creator.register
        climb = Climb(self._in_common | dict(zip(self._shared.own, own, strict=True)))
        values, changed = climb.values, climb.changed
        for target, rule, tied in self._order:
            name = climb.ready(target, rule) if climb.free else ""
            if not name:
                taken = partial(self._taken, climb, target, tied)
                known = values[target]
                if not changed:
                    if not (
                        self._is_hit(number, target) or (tied and any(self._is_hit(number, name) for name in tied))
                    ):
                        continue
                elif not rule.fields().isdisjoint(changed):
                    known = ""
                elif not taken(known):
                    continue
                try:
                    name = rule.choose(values, taken, known).chosen.value
                except VandrelError:
                    return None  # it is told the full way
            if not (target in self._legal or self._passes(target, (name,))):
                return None
            if name != values[target]:
                changed.add(target)
                values[target] = name
        made = Alike(self._shared, tuple([values[name] for name in self._shared.own]))
        for target, claims in self._unique.items():
            if target in changed:
                register.reserve(target, values[target], made)
            else:
                claims[0].given[claims[0].keys[number]] = made
        self._siblings.add(prepare(values["name"]))
        return made

    def _is_hit(self, number: int, target: str) -> bool:
        """Whether the first candidate for a name is taken itself."""
        if target == "name":
            return self._keys[number] in self._siblings or self._keys[number] in self._held_siblings
        for claim in self._unique.get(target, ()):
            key = claim.keys[number]
            if key in claim.given or key in claim.held:
                return True
        return False

    def _taken(self, climb: Climb, target: str, tied: Sequence[str], name: str) -> str:
        """Whether a name cannot be had, as `vandrel.jobs.create.Creator.why` finds it, without the words."""
        register = self._creator.register
        if target == "name":
            return "" if register.is_sibling_free(f"{self._unit.key}{LEVEL}cn={prepare(name)}") else "taken"
        if target in self._unique and not register.is_free(target, name):
            return "taken"
        for other in tied:
            made = next(self._rules[other].candidates({**climb.values, target: name}), None)
            if made is None:
                continue
            if not register.is_free(other, made.value):
                return "taken"
            climb.free[other] = made.value, frozenset((*climb.changed, target))
        return ""


class Layout(Struct, frozen=True):
    """Which fields rows of one sort have: those of which each has its own, the others, and the rows by those."""

    own: Sequence[str]
    others: Sequence[str]
    rows: dict[tuple[Cell, ...], list[Item]] = msgspec.field(default_factory=dict)


class Alikes:
    """The rows of a file that may go by a likeness: new accounts that have the same but for what is their own."""

    def __init__(self, house: House, creator: Creator, kind: str, items: Iterable[Item]) -> None:
        """Sort the rows; `kind` is that of rows that do not say theirs."""
        self._house, self._creator, self._kind = house, creator, kind
        self._layouts: dict[tuple[str, ...], Layout | None] = {}
        self._ready: dict[int, tuple[Likeness, int]] = {}
        by_sheaf: dict[int, tuple[Sheaf, list[Item]]] = {}
        for item in items:
            if item.findings and item.stops:
                continue
            if item.sheaf is not None and item.own is None:
                by_sheaf.setdefault(id(item.sheaf), (item.sheaf, []))[1].append(item)
            elif (layout := self._layout(item)) is not None:
                layout.rows.setdefault(_others(item, layout), []).append(item)
        for sheaf, rows in by_sheaf.values():
            self._sort(sheaf, rows)

    def _sort(self, sheaf: Sheaf, items: Sequence[Item]) -> None:
        """Sort rows that were read together: first by the fields that they have, then by what is in them."""
        names, columns = list(sheaf.columns), sheaf.columns.values()
        filled = list(zip(*(map(bool, column) for column in columns), strict=True))
        kinds = sheaf.columns.get("kind")
        sorts: dict[tuple[Cell, tuple[bool, ...]], list[Item]] = {}
        if kinds is None and len(masks := set(filled)) == 1:
            sorts[self._kind, masks.pop()] = list(items)
            items = ()
        for item in items:
            kind = (kinds[item.place] if kinds is not None else "") or self._kind
            sorts.setdefault((kind, filled[item.place]), []).append(item)
        for (kind, mask), rows in sorts.items():
            layout = self._laid_out(str(kind), list(compress(names, mask)))
            if layout is None:
                continue
            places = [item.place for item in rows]
            others = [map(sheaf.columns[name].__getitem__, places) for name in layout.others]
            for item, key in zip(rows, zip(*others, strict=True) if others else repeat(()), strict=False):
                layout.rows.setdefault(key, []).append(item)

    def _laid_out(self, kind: str, names: Sequence[str]) -> Layout | None:
        """Of these fields of rows, those that are their own, and the others; None where a name was typed."""
        which = (kind, *names)
        if which not in self._layouts:
            known = self._house.charter.document.kinds.get(kind)
            if known is None or any(name in NAMED for name in names):
                self._layouts[which] = None
            else:
                own = own_fields(self._house, known, names)
                self._layouts[which] = Layout(own, [name for name in names if name not in own])
        return self._layouts[which]

    def _layout(self, item: Item) -> Layout | None:
        return self._laid_out(item.one("kind") or self._kind, list(item.fields))

    def draft(self, item: Item) -> Alike | None:
        """The account of a row by its likeness, where there is one already and the row is nothing out of the way."""
        likeness, number = self._ready.pop(item.row, (None, 0))
        return likeness.draft(number) if likeness is not None else None

    def learn(self, item: Item, draft: Draft) -> None:
        """A row was worked out in full: those that are like it need not be."""
        layout = self._layout(item)
        if layout is None or draft.findings or draft.dn is None:
            return
        others = [other for other in layout.rows.pop(_others(item, layout), ()) if other is not item]
        if others:
            likeness = Likeness(self._house, self._creator, draft, layout.own, others)
            self._ready |= {other.row: (likeness, number) for number, other in enumerate(others)}


def _others(item: Item, layout: Layout) -> tuple[Cell, ...]:
    return tuple([cell for (cell,) in cells_of((item,), layout.others)])
