"""The quick ways for thousands of rows beside the full ones for each: they must come to the same."""

from __future__ import annotations

import random
from datetime import date, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.charter.load import from_text
from vandrel.demo.world import charter_text
from vandrel.dialects.active import ActiveDialect
from vandrel.dialects.standard import StandardDialect
from vandrel.intake.convert import Converter
from vandrel.intake.description import Column, Description
from vandrel.intake.invent import people
from vandrel.intake.item import Item
from vandrel.intake.table import Row
from vandrel.jobs.bulk import roster
from vandrel.jobs.bulk import row_grouper as alikes
from vandrel.jobs.bulk.planner import Planner
from vandrel.jobs.common.draft import BatchDraft
from vandrel.objects.context import Context
from vandrel.text.string_prep import prepare, prepare_all

# --- cells

HEADER = ["number", "given", "surname", "site", "starts", "phone", "mail", "notes", "word"]
COLUMNS = {name: Column(field=name) for name in HEADER[:-1]} | {
    "starts": Column(field="starts", dates=["DD.MM.YYYY"]), "phone": Column(field="phone", split=";"),
    "number": Column(field="number", pad=5), "word": Column(word="crew"),
}  # fmt: skip
ODD = ["", " ", "Anna", "Ødegård", "Ã…s", "1001.0", "1E5", "1e+5", "007", "=A1", "'=A1", "'+47 1", "+47 1", "#N/A", "n/a", "NULL", "--", '"x',
       'O"H', "a\u00a0b", "L\ufffd", "a\nb", "a\tb", "a\r", " x ", "total", "Northquay", "northquay", "Sandhaven", "31.12.2026", "2026-12-31",
       "46000", "a@b.example", "1;2", ";", "number", "2001", "²", "½"]  # fmt: skip
LIKELY = [["2001", "07"], ["Anna", "Łucja"], ["Lund", "van 't Hof"], ["Northquay", "Sandhaven"], ["", "31.12.2026"], ["+47 5555", "1; 2"],
          ["a@b.example", ""], ["", "fine"], ["A", ""]]  # fmt: skip


def odd_row(chance: random.Random, number: int) -> Row:
    """A row of which more or fewer cells are out of the ordinary, or that has too many or too few of them."""
    oddness = chance.randrange(10)
    cells: list[Any] = [chance.choice(ODD if chance.randrange(20) < oddness - 6 else likely) for likely in LIKELY]
    if oddness == 9 and chance.randrange(3) == 0:
        cells = [*cells, chance.choice(ODD)] if chance.randrange(2) else cells[:-3]
    if oddness == 8:
        cells[chance.randrange(len(cells))] = chance.choice(
            [1001.0, 7, 1.5, True, date(2026, 12, 31), 0, datetime(2026, 12, 31), datetime(2026, 12, 31, 7)]
        )
    return Row(number, cells)


def test_rows_are_read_by_column_as_they_are_cell_by_cell():
    chance, quick = random.Random(7), 0
    described = Description(columns=COLUMNS, constants={"company": "Marrowick Ferries"})
    for _ in range(1500):
        rows = [odd_row(chance, number) for number in range(2, 10)]
        converter = Converter(described, HEADER, {"site": ["Northquay", "Sandhaven"]})
        together = list(converter.items(rows))
        quick += sum(item.own is None for item in together)
        for one, row in zip(together, rows, strict=True):
            other = converter.item(row)
            assert [one.values(name) for name in HEADER] == [other.values(name) for name in HEADER]
            assert (one.row, one.fields, one.words) == (other.row, other.fields, other.words)
            assert (one.columns, one.findings, one.secret) == (other.columns, other.findings, other.secret)
    assert 0.6 < quick / (1500 * 8) < 0.95  # both ways were gone


def test_rows_of_which_no_column_is_read(tmp_path):
    described = Description(columns={"b": "given"}, key=["number"])
    converter = Converter(described, ["a", "b", "c", "d"], {})
    assert [item.fields for item in converter.items([Row(2, ["x", "", "y", "z"])])] == [{}]


@given(
    st.lists(
        st.text(alphabet="aB ß\t\u00a0\u200bİ.-´ΣẞÅ\u0301\u0345\u030a\ufe00\u1100\u1161ﬁ\n", max_size=6), max_size=5
    )
)
def test_values_are_prepared_together_as_by_themselves(texts):
    assert prepare_all(texts) == list(map(prepare, texts))


# --- whole rows

NAMES = [("Anna", "Lund"), ("Åse", "Ødegård"), ("Jean-Luc", "van der Meer"), ("Anna Maria", "O'Brien"), ("Łucja", "Żółkiewska-Nowak"), ("X", "1"),
         ("Wolfeschlegelsteinhausen", "Bergerdorffwelchevoralternwaren"), ("Admin", ""), ("Ad", "Min"), ("山田", "太郎"), ("Anna", "Lund, Jr")]  # fmt: skip


def items(count: int, seed: int) -> list[Item]:
    """Rows as they come: some names shared by many, some odd, some fields missing, a manager of the same file."""
    chance, invented = random.Random(seed), list(people(60, seed))
    found = []
    for row in range(2, count + 2):
        given, surname = chance.choice(NAMES) if chance.random() < 0.15 else chance.choice(invented)[1:]
        fields = {
            "number": f"{row + 4000}", "given": given, "surname": surname, "site": chance.choice(["Northquay", "Kelness"]),
            "department": chance.choice(["Deck", "Engine"]), "category": chance.choice(["Officers", "Hands"]),
        }  # fmt: skip
        for name, some in (("phone", "+47 5555 0100"), ("title", "Mate" * 70), ("title", "Mate"), ("language", "de"),
                           ("room", "\u200b7"), ("manager", "4002"), ("login", f"typed{row}"), ("site", "Nowhere"), ("starts", "2026-13-01")):  # fmt: skip
            if chance.random() < (0.04 if len(some) != 13 else 0.5):
                fields[name] = some
        found.append(Item(row, {name: (value,) for name, value in fields.items() if value}))
    return found


TYPED = {
    "login": ["u{}", "U{}", "x.{}", "alund", " u{}", "u {}", "a,{}", "an-unusually-long-logon-name{}", "root"],
    "principal": ["u{}@marrowick.example", "u{}@guests.marrowick.example", "u{}@elsewhere.example", "u{}", "anna.lund@marrowick.example"],
    "mail": ["u{}@marrowick.example", "u{}@elsewhere.example", "anna.lund@marrowick.example", "ü{}@marrowick.example", "u..{}@marrowick.example"],
    "name": ["No {}", "Lund, {}", "Anna Lund", "Åse {} ", "x" * 65], "full": ["No {}", "", "x" * 65], "display": ["{}", "No\u200b {}"],
}  # fmt: skip


def with_names(found: list[Item], names: list[str]) -> list[Item]:
    """The same rows with names that somebody typed: most are fine, some are odd, taken or no names at all."""
    chance = random.Random(1)
    for item in found:
        for name in names:
            made = TYPED[name][0] if chance.random() < 0.7 else chance.choice(TYPED[name])
            item.fields.update({name: (made.format(item.row),)} if made else {})
    return found


def read_together(found: list[Item]) -> list[Item]:
    """The same rows as they come out of a file."""
    names = sorted({name for item in found for name in item.fields})
    converter = Converter(Description(columns={name: Column(field=name) for name in names}), names, {})
    return list(converter.items([Row(item.row, [item.one(name) for name in names]) for item in found]))


#: Ladders that soon come to their end, names that hang on others, separators of one's own, and what a place is built from.
OTHER = [
    (" middle 1}{surname bare}", " middle 1}{surname bare}"),
    ('ladder:                            # from the first choice to the last\n      - "{given 1}{surname bare}"\n', 'ladder:\n      - "{given first}.{surname bare}"\n'),
    ("longest: 20", "longest: 9"),
    ("style: ascii lower plain\n    longest", "style: ascii upper dots\n    forbid: \"-\"\n    longest"),
    ("sets: {company: Marrowick Ferries}", 'sets: {company: Marrowick Ferries, office: "{surname upper}"}'),
    ('display: ["{surname}, {given}", "{surname}"]', 'display: ["{surname upper}, {given initials} ({site})", "{surname}"]'),
]  # fmt: skip


@pytest.mark.parametrize(("number", "typed"), [
    *((number, "") for number in range(len(OTHER))), (0, "login"), (1, "mail principal"), (2, "name full"), (4, "login mail"), (5, "display login"),
])  # fmt: skip
@pytest.mark.parametrize("source", [list, read_together])
def test_accounts_worked_out_together_are_those_worked_out_alone(bench, monkeypatch, number, typed, source):
    said = charter_text()
    assert OTHER[number][0] in said or number == 0
    charter = from_text(said.replace(*OTHER[number]), Path("charter.yaml"))
    context = Context(charter, bench.context.directory, StandardDialect(bench.context.directory, charter))
    described = Description(kind="crew", key=["number"])

    def worked_out() -> roster.Roster:
        return Planner(context, described, date(2026, 11, 23)).plan(
            source(with_names(items(300, number), typed.split()))
        )

    monkeypatch.setattr(alikes, "_MOST", 25 if number % 2 else 50_000)
    quick = worked_out()
    monkeypatch.setattr(alikes.RowGrouper, "draft", lambda self, number: None)
    full = worked_out()
    alike = sum(isinstance(line.draft, BatchDraft) for line in quick.lines)
    assert alike > (90 if typed else 120) or "office" in OTHER[number][1]
    for one, other in zip(quick.lines, full.lines, strict=True):
        assert (one.state, one.dn, one.item.findings) == (other.state, other.dn, other.item.findings)
        if one.draft is not None and other.draft is not None:
            assert one.draft.values() == other.draft.values()
            assert [group.dn for group in one.draft.groups] == [group.dn for group in other.draft.groups]


def test_what_must_be_unique_is_so_together_as_by_itself(bench):
    charter, directory = bench.context.charter, bench.context.directory
    for dialect in (StandardDialect(directory, charter), ActiveDialect(directory, charter)):
        for target in ("login", "principal", "mail", "full"):
            values = ["a@x.example", "b@x.example"]
            forms = [dialect.unique_forms(target, value) for value in values]
            columns = dialect.unique_columns(target, values)
            assert [list(row) for row in zip(*forms, strict=True)] == [
                [(attribute, stored) for stored in column] for attribute, column in columns
            ]
