"""What a directory answers that has no shorter way to it: by searches, and from entries that come whole."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from itertools import islice

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import Compare, Filter, Or, Present
from vandrel.directory.port import Directory
from vandrel.directory.schema import Schema

#: Conditions in one search, since servers take no filter of any size; and names up to which they are looked for at all.
_CONDITIONS, FEW_NAMES = 400, 200
#: Values from which on a list is shortened to what was asked for: each of them would be read again and again.
_LONG = 500


def some_of(
    schema: Schema, entry: Entry | None, attribute: str, values_wanted: Collection[str], others: int
) -> list[Value]:  # fmt: skip
    """What `Directory.some_values` says of an entry that has come whole; of none, the empty list."""
    keys = {schema.key(attribute, value) for value in values_wanted}
    values: list[Value] = []
    rest: list[Value] = []
    for value in entry.values_of(attribute) if entry is not None else ():
        (values if schema.key(attribute, value) in keys else rest).append(value)
    return [*values, *rest[:others]]


def search_pointing(directory: Directory, dns: Sequence[DN], attributes: Sequence[str]) -> Iterator[Entry]:
    """What `Directory.pointing` says, by searches; of long lists, what is not asked for is let go once it has come."""
    wanted = {dn.key for dn in dns} if len(dns) <= FEW_NAMES else None
    if len(dns) > FEW_NAMES:  # one look at everything that points anywhere costs less than thousands of questions
        wheres: list[Filter] = [Or(tuple(Present(name) for name in attributes))]
    else:
        at_once = max(_CONDITIONS // max(len(attributes), 1), 1)
        chunks = (dns[start : start + at_once] for start in range(0, len(dns), at_once))
        wheres = [Or(tuple(Compare(name, "=", str(dn)) for name in attributes for dn in c)) for c in chunks]
    keys: set[str] = set()
    for where in wheres:
        for context in directory.contexts:
            for entry in directory.search(context, where=where, only=[*attributes, "objectClass"]):
                if entry.dn.key not in keys:
                    keys.add(entry.dn.key)
                    if wanted is not None:
                        _shorten(directory.schema, entry, attributes, wanted)
                    yield entry


def _shorten(schema: Schema, entry: Entry, attributes: Sequence[str], wanted: Collection[str]) -> None:
    """Of lists that are long, leave the names of these keys, the empty name, and one other."""
    for name in attributes:
        values = entry.values_of(name)
        if len(values) > _LONG:
            asked_for = [value for value in values if not value or schema.value_key(name, value) in wanted]
            others = set(values).difference(asked_for)
            entry.attributes[name] = [*asked_for, *islice(others, 1)]
