"""What the rows of a file say only together: keys that stand there twice, people who do, zeros that were lost."""

from __future__ import annotations

from collections.abc import Sequence

from vandrel.errors import NOTE, Code, VandrelError
from vandrel.fields import GROUP
from vandrel.intake.description import Description
from vandrel.intake.item import Cell, Item, Values, cells_of, firsts_of, named_in
from vandrel.jobs.common import create_object
from vandrel.jobs.common.directory_index import DirectoryIndex, Key
from vandrel.jobs.common.number_allocator import NumberKey, number_keys, taken_number
from vandrel.objects.context import Context
from vandrel.text.string_prep import prepare, prepare_all

#: Fields in which hardly two people have the same.
_TELLING = ("given", "surname", "phone", "name")
#: Fields whose numbers may begin with zeros, which a spreadsheet strips.
_WITH_ZEROS = ("number", "badge", "postcode")
#: Fields besides the key from which on it is worth a word that two rows have the same in all of them.
_FEW = 4


def lost_zeros(items: Sequence[Item]) -> None:
    """Find fault with numbers that have lost their leading zeros: others of the column have them, and are longer."""
    for field in sorted(named_in(items).intersection(_WITH_ZEROS)):
        values = firsts_of(items, field)
        distinct = set(values)
        if len(set(map(len, distinct))) == 1:
            continue
        padded = {len(value) for value in distinct if value[:1] == "0" and value.isdecimal()}
        if len(padded) != 1:
            continue
        width = padded.pop()
        if min(map(len, distinct)) >= width:
            continue
        for item, value in zip(items, values, strict=True):
            if len(value) < width and value.isdecimal():
                what = f"{len(value)} digits where others have {width}: leading zeros are lost"
                item.fault(field, value, Code.ZEROS_LOST, what, f"write {value.zfill(width)}; or pad: {width}")


def keys(context: Context, described: Description, items: Sequence[Item]) -> list[Key]:
    """The key of each row; empty, with a fault found, for a row without one and for one that stands there again.

    A row that cannot be read has its key all the same, for what is wrong may be what the object has already.
    """
    fields = described.key
    if not fields:
        return [()] * len(items)
    columns = {field: firsts_of(items, field) for field in fields}
    if described.object_type == GROUP and "name" in columns:
        columns["name"] = _as_kept(context, described, items, columns["name"])
    all_keys = list(zip(*map(prepare_all, columns.values()), strict=True))
    telling = _telling(items)
    if not telling and len(set(all_keys)) == len(items) and ("",) * len(fields) not in all_keys:
        return all_keys
    first: dict[Key, int] = {}
    first_of: dict[tuple[Cell, ...], Item] = {}
    contents: dict[frozenset[tuple[str, Values]], int] = {}
    keys_of: list[Key] = [()] * len(items)
    for number, (item, key) in enumerate(zip(items, all_keys, strict=True)):
        if item.findings and item.stops:
            keys_of[number] = key if any(key) else ()
        elif not any(key):
            what = f"{fields[0]} is empty, by which a row is recognized when the file is read again"
            item.fault(fields[0], "", Code.REQUIRED, what, "give it")
        elif (row := first.setdefault(key, item.row)) != item.row:
            what = f"the same {' and '.join(fields)} stands in row {row}"
            item.fault(fields[0], " ".join(map(item.one, fields)), Code.TWICE, what, "take one of the two rows out")
        else:
            keys_of[number] = key
            other = first_of.setdefault(telling[number], item) if telling else item
            if other is not item:
                _look_alike(item, other, fields, contents)
    return keys_of


def numbers(context: Context, described: Description, items: Sequence[Item], index: DirectoryIndex) -> None:
    """Find fault with new accounts whose employee number somebody else has, or another row."""
    if "number" not in named_in(items):
        return
    values, kinds = firsts_of(items, "number"), [kind or described.kind for kind in firsts_of(items, "kind")]
    all_keys = number_keys(context, kinds, values)
    distinct = set(all_keys)
    if len(distinct) == len(items) and index.numbers.keys().isdisjoint(distinct):
        return
    rows: dict[NumberKey, int] = {}
    for item, number, key in zip(items, values, all_keys, strict=True):
        if key is None:
            continue
        holder = index.numbers.get(key)
        row = rows.setdefault(key, item.row)
        if holder is not None:
            fault = taken_number(context, number, f"{holder.name} in {context.place(holder.parent)}")
            item.fault("number", number, fault.code, fault.what, fault.remedy)
        elif row != item.row:
            item.fault("number", number, Code.TWICE, f"the same number stands in row {row}", "give one of them another")


def _telling(items: Sequence[Item]) -> list[tuple[Cell, ...]]:
    """What tells people apart, for each row; nothing where no two rows can be of one person."""
    columns = cells_of(items, sorted(named_in(items).intersection(_TELLING)))
    if any(len(set(column)) == len(items) for column in columns):
        return []
    return list(zip(*columns, strict=True)) if columns else [()] * len(items)


def _look_alike(
    item: Item, first: Item, key: Sequence[str], first_of: dict[frozenset[tuple[str, Values]], int]
) -> None:
    """Whether all but the key stands in another row as well.

    `first` is the first row that is like this one in what tells people apart; `first_of` has the contents of all that
    were looked at, with the number of the row.
    """
    first_of.setdefault(_content(first, key), first.row)
    own = _content(item, key)
    row = first_of.setdefault(own, item.row)
    if row != item.row and len(own) >= _FEW:
        what = f"all but the {' and '.join(key)} is as in row {row}: the same person twice?"
        value = " ".join(map(item.one, key))
        item.fault(key[0], value, Code.TWICE, what, "take one out, if they are one", severity=NOTE)


def _content(item: Item, key: Sequence[str]) -> frozenset[tuple[str, Values]]:
    return frozenset((name, values) for name, values in item.fields.items() if name not in key)


def _as_kept(context: Context, described: Description, items: Sequence[Item], names: Sequence[str]) -> list[str]:
    """The names of groups as the directory has them: those that are there as they are, others made from the words."""
    usual = next(iter(context.charter.document.groups), "")
    groups = context.directory.search(context.charter.base, where=context.dialect.filter_for(GROUP), only=["cn"])
    there = {prepare(group.dn.name) for group in groups}
    stored = []
    for item, name in zip(items, names, strict=True):
        if prepare(name) in there:
            stored.append(name)
            continue
        try:
            kind = item.one("kind") or described.kind or usual
            stored.append(create_object.first_name(context, kind, name) if name else "")
        except VandrelError:
            stored.append(name)  # the draft says what is wrong
    return stored
