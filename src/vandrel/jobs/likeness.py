"""Thousands of new accounts that are alike: worked out column by column, from one that was worked out in full.

What comes of it is what the full way makes of each; whatever is out of the ordinary is left to that.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from functools import lru_cache, partial

from vandrel.charter.document import Kind
from vandrel.charter.pattern import parse
from vandrel.directory.dn import DN, LEVEL, escape_value
from vandrel.errors import VandrelError
from vandrel.fields import ACCOUNT, FIELDS, NAMED
from vandrel.intake.convert import Item
from vandrel.jobs import values as given_values
from vandrel.jobs.create import Creator
from vandrel.jobs.draft import Alike, Draft, Shared
from vandrel.jobs.house import House
from vandrel.jobs.register import Column
from vandrel.text import people
from vandrel.text.prep import prepare_all

Values = Mapping[str, tuple[str, ...]]

_first_letters = lru_cache(maxsize=4096)(people.initials)


def own_fields(house: House, kind: Kind, names: Collection[str]) -> list[str]:
    """Which of these fields an account may have to itself: nothing but names is built from them."""
    patterns = [*kind.sets.values(), *kind.groups, *([kind.place] if kind.place else [])]
    built_upon = frozenset[str]().union(*(parse(pattern).fields() for pattern in patterns))
    return [
        name for name in names
        if name in FIELDS and name not in built_upon and given_values.plain(house, FIELDS[name], ACCOUNT)
    ]  # fmt: skip


class Likeness:
    """Accounts that differ in their own fields and names alone."""

    def __init__(
        self, house: House, creator: Creator, model: Draft, own: Sequence[str], rows: Sequence[Values]
    ) -> None:
        """Work out the columns.

        Args:
            house: where.
            creator: who worked out the model, and knows which names are given.
            model: the account that these are like; it has no findings, and none of its names was typed.
            own: the fields of which each has a value of its own.
            rows: the values of each, of which those beside `own` are the model's.

        """
        assert model.dn is not None
        self._house, self._creator, self._model = house, creator, model
        self._order = creator.order(model.kind)
        self._unit = model.dn.parent
        count = len(rows)
        columns: dict[str, Sequence[str]] = {}
        sound = [True] * count
        # All of one row at a time: rows lie far apart, and going through them once for each field takes twice as long.
        each = [[row[name] for name in own] for row in rows]
        for name, given in zip(own, zip(*each, strict=True), strict=True):
            columns[name] = [values[0] for values in given]
            if max(map(len, given)) > 1:
                sound = [so_far and len(values) == 1 for so_far, values in zip(sound, given, strict=True)]
        if "initials" in model.derived and "initials" not in own:
            columns["initials"] = self._initials(columns, count)
        self._seen = creator.seen(model)
        for target, rule, _ in self._order:
            columns[target] = rule.firsts(columns, self._seen, count)
        for name, column in columns.items():
            if not self._passes(name, column):
                sound = [so_far and self._passes(name, (value,)) for so_far, value in zip(sound, column, strict=True)]
        self._sound = sound
        self._shared = Shared(model, model.values(), tuple(columns), {name: n for n, name in enumerate(columns)})
        self._rows = list(zip(*columns.values(), strict=True))
        self._names = list(zip(*self._dns(columns["name"]), strict=True))
        #: For each name that must be unique, its attributes; the first is the one under which it is given.
        self._unique = {
            target: found for target, _, _ in self._order if (found := self._claims(target, columns[target]))
        }
        self._claimed = [(c.keys, c.given, c.held) for found in self._unique.values() for c in found]

    def _claims(self, target: str, names: Sequence[str]) -> list[Column]:
        return self._creator.register.columns(target, names)

    def _passes(self, name: str, values: Sequence[str]) -> bool:
        """Whether a quick look at values is enough; at names, which the charter built, the schema's alone."""
        attribute = self._house.dialect.attribute(name, ACCOUNT)
        return not attribute or self._house.directory.schema.passes(attribute, values)

    def _initials(self, columns: Mapping[str, Sequence[str]], count: int) -> list[str]:
        most = self._creator.longest("initials")
        parts = [columns.get(name) or [self._model.value(name)] * count for name in ("given", "middle", "surname")]
        firsts = [[value[:1].upper() if value.isalnum() else _first_letters(value) for value in part] for part in parts]
        return ["".join(row)[:most] for row in zip(*firsts, strict=True)]

    def draft(self, number: int) -> Alike | None:
        """The account of one row, its names given to it; None where that takes the full way."""
        own = self._rows[number]
        if not (self._sound[number] and all(own)):
            return None
        text, key = self._names[number]
        register = self._creator.register
        if not register.is_sibling_free(key):
            return self._by_the_ladders(own)
        for keys, given, held in self._claimed:
            if keys[number] in given or keys[number] in held:
                return self._by_the_ladders(own)
        dn = DN.stored(text, key)
        for found in self._unique.values():
            found[0].given[found[0].keys[number]] = dn
        register.reserve_name(dn)
        return Alike(self._shared, own, dn)

    def _dns(self, names: Sequence[str]) -> tuple[Iterable[str], Iterable[str]]:
        """The distinguished names of these, and their keys."""
        behind, before = f",{self._unit}", f"{self._unit.key}{LEVEL}cn="
        return (f"cn={escape_value(name)}{behind}" for name in names), (before + key for key in prepare_all(names))

    def _by_the_ladders(self, own: tuple[str, ...]) -> Alike | None:
        """The same where a name is taken: each name that is, and each built from one that changes, is chosen anew."""
        register = self._creator.register
        values = {**self._seen, **dict(zip(self._shared.own, own, strict=True))}
        changed: set[str] = set()
        for target, rule, tied in self._order:
            taken = partial(self._taken, values, target, tied)
            if not rule.fields() & changed and not taken(values[target]):
                continue
            try:
                name = rule.choose(values, taken).chosen.value
            except VandrelError:
                return None  # it is told the full way
            if not self._passes(target, (name,)):
                return None
            if name != values[target]:
                changed.add(target)
                values[target] = name
        (text,), (key,) = self._dns((values["name"],))
        dn = DN.stored(text, key)
        for target in self._unique:
            register.reserve(target, values[target], dn)
        register.reserve_name(dn)
        return Alike(self._shared, tuple(values[name] for name in self._shared.own), dn)

    def _taken(self, values: Mapping[str, str], target: str, tied: Sequence[str], name: str) -> str:
        """Whether a name cannot be had, as `vandrel.jobs.create.Creator.why` finds it, without the words."""
        register = self._creator.register
        if target == "name":
            _, (key,) = self._dns((name,))
            return "" if register.is_sibling_free(key) else "taken"
        if not register.is_free(target, name):
            return "taken"
        for other in tied:
            rule = self._house.charter.naming(other, self._model.kind)
            made = next(rule.candidates({**values, target: name}), None)
            if made is not None and not register.is_free(other, made.value):
                return "taken"
        return ""


class Alikes:
    """The rows of a file that may go by a likeness: new accounts that have the same but for what is their own."""

    def __init__(self, house: House, creator: Creator, kind: str, items: Sequence[Item]) -> None:
        """Sort the rows; `kind` is that of rows that do not say theirs."""
        self._house, self._creator, self._kind = house, creator, kind
        self._layouts: dict[tuple[object, ...], tuple[list[str], list[str]] | None] = {}
        self._like: dict[tuple[object, ...], list[Item]] = {}
        self._ready: dict[int, tuple[Likeness, int]] = {}
        for item in items:
            if not item.stops and (key := self._key(item)) is not None:
                self._like.setdefault(key, []).append(item)

    def _layout(self, item: Item) -> tuple[list[str], list[str]] | None:
        """Of the fields that a row has, those that are its own, and the others; None where a name was typed."""
        kind = item.one("kind") or self._kind
        which = (kind, *item.fields)
        if which not in self._layouts:
            known = self._house.charter.document.kinds.get(kind)
            own = (
                own_fields(self._house, known, item.fields) if known and item.fields.keys().isdisjoint(NAMED) else None
            )
            self._layouts[which] = (own, [name for name in item.fields if name not in own]) if own is not None else None
        return self._layouts[which]

    def _key(self, item: Item) -> tuple[object, ...] | None:
        layout = self._layout(item)
        return (*item.fields, *map(item.fields.__getitem__, layout[1])) if layout is not None else None

    def draft(self, item: Item) -> Alike | None:
        """The account of a row by its likeness, where there is one already and the row is nothing out of the way."""
        likeness, number = self._ready.pop(item.row, (None, 0))
        return likeness.draft(number) if likeness is not None else None

    def learn(self, item: Item, draft: Draft | Alike | None) -> None:
        """A row was worked out in full: those that are like it need not be."""
        layout = self._layout(item)
        if layout is None or not isinstance(draft, Draft) or draft.findings or draft.dn is None:
            return
        others = [other for other in self._like.pop(self._key(item) or (), ()) if other is not item]
        if others:
            likeness = Likeness(self._house, self._creator, draft, layout[0], [other.fields for other in others])
            self._ready |= {other.row: (likeness, number) for number, other in enumerate(others)}
