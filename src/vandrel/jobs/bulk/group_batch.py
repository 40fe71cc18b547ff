"""Thousands of new accounts that are alike: worked out column by column, from one that was worked out in full.

What comes of it is what the full way makes of each; whatever is out of the ordinary is left to that.
"""

from __future__ import annotations

from collections.abc import Collection, Container, Iterable, Mapping, Sequence
from functools import lru_cache, partial
from itertools import repeat

from msgspec import Struct

from vandrel.charter.naming import NamingRule
from vandrel.charter.value_columns import Many
from vandrel.directory.dn import LEVEL
from vandrel.errors import VandrelError
from vandrel.fields import ACCOUNT, NAMED
from vandrel.intake.item import Item, cells_of
from vandrel.jobs.accounts.create import Creator
from vandrel.jobs.common import field_values as given_values
from vandrel.jobs.common.draft import BatchDraft, Draft, SharedValues
from vandrel.objects.context import Context
from vandrel.text import people
from vandrel.text.string_prep import prepare, prepare_all

_first_letters = lru_cache(maxsize=4096)(people.initials)


class NameRetry(Struct):
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


class Names:
    """The first choice for each name of many accounts, of which naming rules see the same but for what is their own.

    Attributes:
        own: the fields of which each account has a value of its own, names among them.
        rows: those values of each account.
        sound: whether nothing is out of the ordinary about an account.
        typed: the names that every row gives itself.
        order: the others, as `vandrel.jobs.accounts.create.Creator.order` has it.
        rules: the naming rules by their targets.
        legal: the names of which the schema takes all that their rules can make.
        in_common: what naming rules see that all accounts have in common.
        keys: the prepared values of ``name``.
        unique: for each name that must be unique, its attributes; the first is the one under which it is given.
        claims: where else to look for names that are taken. What the directory has does not change meanwhile.

    """

    def __init__(
        self, context: Context, creator: Creator, model: Draft, own: Sequence[str], items: Sequence[Item]
    ) -> None:
        """Work out the columns.

        Args:
            context: the charter and the directory.
            creator: who worked out the model, and knows which names are given.
            model: an account that these are like as far as naming rules see it.
            own: the fields of which each has a value of its own.
            items: the rows.

        """
        self._context = context
        self.typed = tuple(name for name in NAMED if name in own)
        self.order = creator.order(model.kind, self.typed)
        self.rules = {target: rule for target, rule, _ in self.order}
        self.legal = frozenset(filter(self._is_legal, self.rules))
        count = len(items)
        columns = self._given(creator, model, own, items)
        visible = creator.visible_values(model)
        # The language is one of what all have in common, even where each row says it.
        visible |= {"language": columns["language"].values[0]} if "language" in columns else {}
        for target, rule, _ in self.order:
            columns[target] = rule.firsts(columns, visible, count)
        self.own = tuple(columns)
        self._built_from = frozenset[str]().union(*(rule.fields() for rule in self.rules.values()), ("language",))
        self.in_common = self._common_to(visible)
        values = {name: column.values for name, column in columns.items()}
        self.sound = [True] * count
        self._judge(context, model.kind, columns)
        self.rows = list(zip(*values.values(), strict=True))
        self.keys = prepare_all(values["name"])
        columns_of = creator.register.columns
        self.unique = {
            target: claims for target in (*self.typed, *self.rules) if (claims := columns_of(target, values[target]))
        }
        self.claims: list[tuple[list[str], Container[str]]] = []
        for claim in (claim for claims in self.unique.values() for claim in claims):
            self.claims += [(claim.keys, claim.given)]
            self.claims += [(claim.keys, claim.owners)] if not claim.owners.keys().isdisjoint(claim.keys) else []

    @staticmethod
    def _given(creator: Creator, model: Draft, own: Sequence[str], items: Sequence[Item]) -> dict[str, Many]:
        """The columns that the rows give, and the initials that follow from them."""
        columns: dict[str, Many] = {}
        for name, cells in zip(own, cells_of(items, own), strict=True):
            # Of several values there are no columns: the row is not sound.
            plain = set(map(type, cells)) == {str}
            columns[name] = Many(cells if plain else [cell if isinstance(cell, str) else "" for cell in cells])  # type: ignore[arg-type]
        if "initials" in model.derived and "initials" not in own:
            most = creator.longest("initials")
            columns["initials"] = Many([letters[:most] for letters in _initials(columns, model, len(items))])
        return columns

    def _judge(self, context: Context, kind: str, columns: Mapping[str, Many]) -> None:
        """Mark the rows with a value that is missing, too long, misshapen or not what its rule would give."""
        for name in self.typed:
            rule = context.charter.naming(name, kind)
            if not self._fits(name, rule, columns[name]):
                self._unsound([self._is_fine(name, rule, value) for value in columns[name].values])
        for name, column in columns.items():
            if not (name in self.legal or self.passes(name, column.distinct)):
                self._unsound([self.passes(name, (value,)) for value in column.values])
            if not all(column.distinct):
                self._unsound(list(map(bool, column.values)))

    def _unsound(self, fine: Iterable[bool]) -> None:
        self.sound = [so_far and this for so_far, this in zip(self.sound, fine, strict=True)]

    def _fits(self, name: str, rule: NamingRule, column: Many) -> bool:
        """Whether nothing is to be said against typed names: what is not alike in them needs no second look."""
        first = self._is_fine(name, rule, column.values[0])
        return first and rule.are_sound(column) and not (rule.reserved and any(map(rule.reserves, column.values)))

    def _is_fine(self, name: str, rule: NamingRule, value: str) -> bool:
        field = self._context.fields[name]
        sound = value == value.strip() and not rule.reserves(value)
        return sound and not given_values.check(self._context, field, (value,), ACCOUNT)

    def fit(self, visible: Mapping[str, str]) -> bool:
        """Whether these are the first choices for accounts of which naming rules see this, beside what is their own."""
        return self.in_common == self._common_to(visible)

    def _common_to(self, visible: Mapping[str, str]) -> dict[str, str]:
        return {name: visible[name] for name in self._built_from.difference(self.own) if visible.get(name)}

    def _is_legal(self, target: str) -> bool:
        attribute = self._context.dialect.attribute(target, ACCOUNT)
        return bool(attribute) and self._context.directory.schema.takes_text(attribute, self.rules[target].greatest)

    def passes(self, name: str, values: Collection[str]) -> bool:
        """Whether a quick look at values is enough; at names, which the charter built, the schema's alone."""
        attribute = self._context.dialect.attribute(name, ACCOUNT)
        return not attribute or self._context.directory.schema.passes(attribute, values)


def _initials(columns: Mapping[str, Many], model: Draft, count: int) -> Iterable[str]:
    firsts: list[Iterable[str]] = []
    for name in ("given", "middle", "surname"):
        if name in columns:
            values = columns[name].values
            if columns[name].few:
                firsts.append(map(_first_letters, values))
            else:
                firsts.append([value[:1].upper() if value.isalnum() else _first_letters(value) for value in values])
        elif letters := _first_letters(model.value(name)):
            firsts.append(repeat(letters, count))
    return map("".join, zip(*firsts, strict=False)) if firsts else repeat("", count)


class GroupBatch:
    """Accounts that differ from a model in their own fields and names alone."""

    def __init__(self, creator: Creator, shared: SharedValues, names: Names) -> None:
        """Begin; the model has no findings."""
        model = shared.model
        assert model.dn is not None
        self._names, self._register = names, creator.register
        self._sound, self._rows, self._keys = names.sound, names.rows, names.keys
        self._shared = shared
        before = f"{model.dn.parent.key}{LEVEL}{model.dn.naming_attribute.lower()}="
        self._siblings, self._values_in_use = creator.register.siblings(before), creator.register.held_siblings(before)
        self._claims = [(names.keys, self._siblings), *names.claims]
        if self._values_in_use:
            self._claims.append((names.keys, self._values_in_use))
        self._reserving = [(claims[0].keys, claims[0].given) for claims in names.unique.values()]

    def draft(self, number: int) -> BatchDraft | None:
        """The account of one row, its names given to it; None where that takes the full way."""
        if not self._sound[number]:
            return None
        own = self._rows[number]
        for keys, owners in self._claims:
            if keys[number] in owners:
                return self._retry(number, own)
        batch = BatchDraft.of(self._shared, own)
        self._rows[number] = ()  # they are kept packed from here on
        for keys, numbers in self._reserving:
            numbers[keys[number]] = batch
        self._siblings.add(self._keys[number])
        return batch

    def _retry(self, number: int, own: tuple[str, ...]) -> BatchDraft | None:
        """The same where a name is taken: each name that is, and each built from one that changes, is chosen anew."""
        names = self._names
        if any(self._is_hit(number, target) for target in names.typed):
            return None  # it is told the full way
        climb = NameRetry(names.in_common | dict(zip(names.own, own, strict=True)))
        values, changed = climb.values, climb.changed
        for target, rule, tied in names.order:
            name = climb.ready(target, rule) if climb.free else ""
            if not name:
                current = values[target]
                is_taken = partial(self._owner_of, climb, target, tied)
                if not changed:
                    if not any(self._is_hit(number, other) for other in (target, *tied)):
                        continue
                elif not rule.fields().isdisjoint(changed):
                    current = ""
                elif not is_taken(current):
                    continue
                try:
                    name = rule.choose(values, is_taken, current, self._counted(target, tied)).chosen.value
                except VandrelError:
                    return None  # it is told the full way
            if not (target in names.legal or names.passes(target, (name,))):
                return None
            if name != values[target]:
                changed.add(target)
                values[target] = name
        batch = BatchDraft.of(self._shared, [values[name] for name in names.own])
        self._rows[number] = ()
        for target, claims in names.unique.items():
            if target in changed:
                self._register.reserve(target, values[target], batch)
            else:
                claims[0].given[claims[0].keys[number]] = batch
        self._siblings.add(prepare(values["name"]))
        return batch

    def _counted(self, target: str, tied: Sequence[str]) -> dict[str, int] | None:
        """How far the counters of a name have come, where whether it is taken hangs on nothing but itself."""
        names = self._names
        if target not in names.unique:
            return None
        alone = all(names.rules[other].fields() <= {target, *names.in_common} for other in tied)
        return self._register.counted.setdefault(target, {}) if alone else None

    def _is_hit(self, number: int, target: str) -> bool:
        """Whether the first candidate for a name is taken itself."""
        if target == "name":
            return self._names.keys[number] in self._siblings or self._names.keys[number] in self._values_in_use
        for claim in self._names.unique.get(target, ()):
            key = claim.keys[number]
            if key in claim.given or key in claim.owners:
                return True
        return False

    def _owner_of(self, climb: NameRetry, target: str, tied: Sequence[str], name: str) -> str:
        """Whether a name cannot be had, as `vandrel.jobs.accounts.create.Creator.why` finds it, without the words."""
        if target == "name":
            key = prepare(name)
            return "taken" if key in self._siblings or key in self._values_in_use else ""
        if target in self._names.unique and not self._register.is_free(target, name):
            return "taken"
        if not tied:
            return ""
        visible = {**climb.values, target: name}
        for other in tied:
            candidate = next(self._names.rules[other].candidates(visible), None)
            if candidate is None:
                continue
            if not self._register.is_free(other, candidate.value):
                return "taken"
            climb.free[other] = candidate.value, frozenset((*climb.changed, target))
        return ""
