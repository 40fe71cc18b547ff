"""What patterns see of an object: built here and nowhere else, for objects that exist and for new ones."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from vandrel.charter.charter import Charter
from vandrel.charter.pattern import parse
from vandrel.directory.entry import Entry
from vandrel.fields import FieldCatalog, Shape
from vandrel.objects.context import Context

#: Fields that no pattern reads: they are names of other objects, files or secrets.
_NOT_TEXT = (Shape.MEMBERSHIPS, Shape.ROLES, Shape.SECRET, Shape.OCTETS)


@lru_cache(maxsize=8)
def _readable(fields: tuple[str, ...]) -> dict[str, str]:
    return dict.fromkeys(fields, "")


def empty_values(fields: FieldCatalog) -> dict[str, str]:
    """An empty text for every field, since what is missing is empty."""
    return dict(_readable(tuple(fields)))


def computed_values(charter: Charter, kind: str = "", principal: str = "") -> dict[str, str]:
    """The words that are no fields (`vandrel.fields.COMPUTED`).

    Args:
        charter: the charter.
        kind: the kind of account; empty for groups, units, and accounts of no kind.
        principal: the principal name that the account has already, whose suffix it keeps.

    """
    document = charter.document
    suffix = principal.rpartition("@")[2]
    if not suffix:
        suffix = (document.kinds[kind].suffix if kind in document.kinds else "") or document.suffixes[0]
    today = charter.today()
    return {"suffix": suffix, "domain": charter.domain, "year": str(today.year), "today": today.isoformat()}


def new_values(context: Context, values: Mapping[str, str], kind: str = "") -> dict[str, str]:
    """What patterns see of a new object.

    Args:
        context: the charter.
        values: first values by field; words like ``stem`` may be among them.
        kind: its kind, if it is an account.

    Returns:
        A text for every field, and for every computed word but ``count``.

    """
    return charter_values(context.charter, values, kind)


def charter_values(charter: Charter, values: Mapping[str, str], kind: str = "") -> dict[str, str]:
    """The same where there is no directory."""
    return {**empty_values(charter.fields), **computed_values(charter, kind), **values}


def entry_values(context: Context, entry: Entry) -> dict[str, str]:
    """What patterns see of an object that exists: its own suffix stays."""
    values = empty_values(context.fields)
    for name, field in context.fields.items():
        if field.shape not in _NOT_TEXT:
            values[name] = context.one(entry, name)
    return values | computed_values(context.charter, values["kind"], values["principal"])


def needed_values(context: Context, entry: Entry, pattern: str) -> dict[str, str]:
    """The same, of the fields alone that one pattern reads."""
    values = {name: context.one(entry, name) for name in parse(pattern).fields() if name in context.fields}
    return values | computed_values(context.charter, context.one(entry, "kind"), context.one(entry, "principal"))
