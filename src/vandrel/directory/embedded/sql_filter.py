"""Filters as SQL over the index of values, so that a search touches only what can fit."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from vandrel.directory.embedded import derived
from vandrel.directory.filter import And, Compare, Extensible, Filter, Not, Or, Present, Substring
from vandrel.directory.schema import Schema

_LAST = "\U0010ffff"
#: SQLite takes patterns of up to 50,000 octets; longer ones are left to the evaluation of the filter.
_LONGEST_GLOB = 5000


class Condition(Struct, frozen=True):
    """An SQL condition on ``entry.id``.

    Attributes:
        sql: finds the entries by the index of values.
        values: what stands for its question marks.
        exact: false where the condition lets through more than the filter, so that each entry must be asked again.
        selective: false where it lets through everything.
        of_one: the same, with the same values, to look at one entry after the other that something else has found.
        is_wide: whether it mostly finds a large part of all entries, as an object class does.

    """

    sql: str
    values: tuple[object, ...] = ()
    exact: bool = True
    selective: bool = True
    of_one: str = ""
    is_wide: bool = False

    @property
    def look(self) -> str:
        """The SQL to look at one entry."""
        return self.of_one or self.sql


EVERY = Condition("1", exact=False, selective=False)
ALL = Condition("1", selective=False)
NONE = Condition("0")


def _glob(initial: str, middle: list[str], final: str) -> str:
    def quote(text: str) -> str:
        return "".join(f"[{char}]" if char in "*?[" else char for char in text)

    return "*".join([quote(initial), *map(quote, middle), quote(final)])


class Compiler:
    """Turns filters into conditions; ``number_of`` gives the number of an attribute that is indexed, or None.

    ``table_of`` says which table holds the values of an attribute: ``value`` or ``reference``.
    """

    def __init__(
        self, schema: Schema, number_of: Callable[[str], int | None], table_of: Callable[[str], tuple[str, str]]
    ) -> None:
        self._schema = schema
        self._number_of = number_of
        self._table_of = table_of

    def compile(self, item: Filter) -> Condition:
        """The condition for a filter."""
        match item:
            case And(parts):
                return self._both([self.compile(part) for part in parts])
            case Or(parts):
                return self._either([self.compile(part) for part in parts])
            case Not(part):
                inner = self.compile(part)
                # Undefined must not become true, so the negation of a leaf that is exact asks again as well.
                if inner.exact and inner.selective:
                    return Condition(f"NOT ({inner.look})", inner.values, exact=False)
                return EVERY
            case _:
                return self._leaf(item)

    @staticmethod
    def _both(parts: list[Condition]) -> Condition:
        useful = [part for part in parts if part.selective]
        if not useful:
            return Condition("1", exact=all(part.exact for part in parts), selective=False)
        is_wide = all(part.is_wide for part in useful)
        # What finds half of all entries would be listed in full before the few that fit are taken from it.
        clauses = [part.sql if is_wide or not part.is_wide else part.look for part in useful]
        return Condition(
            " AND ".join(f"({sql})" for sql in clauses),
            tuple(value for part in useful for value in part.values),
            all(part.exact for part in parts),
            of_one=" AND ".join(f"({part.look})" for part in useful),
            is_wide=is_wide,
        )

    @staticmethod
    def _either(parts: list[Condition]) -> Condition:
        if not parts:
            return NONE
        if not all(part.selective for part in parts):
            return ALL if any(part.exact and not part.selective for part in parts) else EVERY
        return Condition(
            " OR ".join(f"({part.sql})" for part in parts),
            tuple(value for part in parts for value in part.values),
            all(part.exact for part in parts),
            of_one=" OR ".join(f"({part.look})" for part in parts),
            is_wide=any(part.is_wide for part in parts),
        )

    def _leaf(self, item: Compare | Present | Substring | Extensible) -> Condition:
        if isinstance(item, Extensible):
            return EVERY
        if not self._schema.is_defined(item):
            return NONE
        name = self._schema.attribute_name(item.attribute)
        if name in derived.DERIVED:
            return self._of_derived(item, name)
        # A value of a subtype is one of its supertype (RFC 4512, section 2.5).
        names = self._schema.subtypes(name)
        if len({self._schema.normalizer(name) for name in names}) > 1:
            return EVERY  # the index compares by the rule of the subtype, the filter by that of the supertype
        return self._either([self._of_one(item, name) for name in names])

    def _of_derived(self, item: Compare | Present | Substring, name: str) -> Condition:
        if isinstance(item, Compare):
            return Condition(*derived.condition(name, self._schema.key(name, item.value)))
        return ALL  # every entry has one

    def _of_one(self, item: Compare | Present | Substring, name: str) -> Condition:
        if name == "objectClass" and isinstance(item, Present):
            return ALL  # every entry has one (RFC 4512, 2.4)
        number = self._number_of(name)
        if number is None:
            return EVERY
        table, column = self._table_of(name)
        head = f"id IN (SELECT entry FROM {table} WHERE attribute = ?"
        match item:
            case Present():
                return Condition(f"{head})", (number,))
            case Compare(_, operator, value):
                if operator == "~=":
                    operator = "="
                compared = f"AND {column} {operator} ?"
                of_one = f"EXISTS (SELECT 1 FROM {table} WHERE attribute = ? {compared} AND entry = id)"
                values = (number, self._schema.key(name, value))
                return Condition(f"{head} {compared})", values, of_one=of_one, is_wide=name == "objectClass")
            case Substring():
                return self._substring(item, head, column, number)

    def _substring(self, item: Substring, head: str, column: str, number: int) -> Condition:
        initial, middle, final = self._schema.substring_parts(item)
        sql, values = head, [number]
        bounds: list[object] = [*values]
        if initial:
            sql += f" AND {column} >= ? AND {column} < ?"
            bounds += [initial, initial + _LAST]
        if sum(map(len, (initial, *middle, final))) > _LONGEST_GLOB:
            return EVERY
        if middle or final:
            sql += f" AND {column} GLOB ?"
            bounds.append(_glob(initial, middle, final))
        return Condition(f"{sql})", tuple(bounds))
