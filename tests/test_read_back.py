"""A list that is written to a file and read back changes nothing, whatever stands in it; new values are looked at."""

from __future__ import annotations

import csv
import itertools

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from vandrel.directory.operations import AddEntry
from vandrel.errors import Code
from vandrel.fields import ACCOUNT
from vandrel.intake.annotate import write_rows
from vandrel.intake.propose import propose
from vandrel.intake.table import open_table
from vandrel.intake.traps import harmless, unquoted
from vandrel.jobs.bulk.import_file import ImportRequest, work_out
from vandrel.jobs.bulk.roster import State
from vandrel.jobs.inspect.find import FindRequest, find, portable_rows
from vandrel.text.string_prep import prepare

from .conftest import EXAMPLES

#: Values that spreadsheets and their senders are known to spoil, or that look as if they had.
HOSTILE = (
    "a | b", "|", 'say "x"', '"', "=1+2", "'=1+2", "''=1", "-5", "'-5", "+47 1", "@x", "#REF!", "-", "n/a", "NULL",
    "\u00a0a ", " a", "a\tb", "a\nb", "a\r\nb", "\x1b[31m", "12.0", "1e5", "\u200b", "Ã¶", "total", "yes", "12345",
)  # fmt: skip
COLUMNS = ("login", "surname", "title", "notes", "office", "room", "number", "street")
counter = itertools.count()
texts = st.one_of(st.sampled_from(HOSTILE), st.text(st.characters(exclude_categories=("Cs",)), min_size=1, max_size=12))


def put_in(bench, login: str, values: dict[str, list[str]]) -> None:
    """An account that somebody else made: nothing was checked but what the schema demands."""
    dn = bench.context.charter.base.child("cn", login)
    fields = {"login": [login], "kind": ["staff"], "surname": ["Berg"], **values}
    attributes = bench.context.dialect.new_entry(ACCOUNT, dn, fields)
    (outcome,) = bench.context.directory.execute([AddEntry(dn, attributes)], atomic=True)
    assert outcome is None


def read_back(bench, path):
    request = FindRequest(columns=COLUMNS, is_portable=True)
    report = find(bench.context, request)
    write_rows(path, report.columns, portable_rows(bench.context, report))
    description, table, _ = propose(open_table(path), bench.context.charter, "account", "", "update")
    roster, findings = work_out(bench.context, ImportRequest(table, description))
    return roster, findings


@pytest.mark.parametrize("form", ["csv", "tsv", "xlsx", "ods"])
@settings(max_examples=8 * EXAMPLES, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.dictionaries(st.sampled_from(["title", "office", "room", "street"]), texts), st.lists(texts, max_size=3))
@example({}, ["note | one", "=1+1"])
@example({}, ["a | b", "|"])
@example({}, ["0\x85", "a | b"])
@example({"title": "\u00a0a ", "office": "#REF!", "room": "'=1", "street": "A\t\nB"}, ["|", "'-"])
def test_what_an_account_has_is_no_trap(bench, tmp_path_factory, form, single, notes):
    fields = {name: [value] for name, value in single.items()} | {
        "notes": list({prepare(n): n for n in notes}.values())
    }
    login = f"who{next(counter)}"
    put_in(bench, login, fields)
    roster, findings = read_back(bench, tmp_path_factory.mktemp("list") / f"list.{form}")
    line = next(line for line in roster.lines if line.item.one("login") == login)
    assert (line.state, [str(f.where) + f.what for f in line.item.findings], findings) == (State.SAME, [], [])


def test_the_same_values_are_traps_where_they_are_new(bench, tmp_path):
    put_in(bench, "ada", {"title": ["#REF!"], "office": ["n/a"]})
    put_in(bench, "bea", {"title": ["Mate"], "office": ["Quay"]})
    path = tmp_path / "list.csv"
    read_back(bench, path)
    rows = list(csv.reader(path.read_text("utf-8-sig").splitlines()))
    spoilt = [[*row[:2], "#REF!", row[3], "n/a", *row[5:]] if row[0] == "bea" else row for row in rows]
    write_rows(tmp_path / "spoilt.csv", spoilt[0], spoilt[1:])
    table = open_table(tmp_path / "spoilt.csv")
    description, table, _ = propose(table, bench.context.charter, "account", "", "update")
    roster, _ = work_out(bench.context, ImportRequest(table, description))
    told = {line.item.one("login"): (line.state, [f.code for f in line.item.findings]) for line in roster.lines}
    assert told == {"ada": (State.SAME, []), "bea": (State.REFUSED, [Code.FORMULA, Code.PLACEHOLDER])}


@given(st.text(st.sampled_from("'=+-@a\t"), max_size=6))
def test_a_cell_is_made_harmless_and_comes_back_as_it_was(value):
    assert harmless(value)[:1] not in tuple("=+-@")
    if value.strip("'")[:1] != "\t":  # the reader strips those
        assert unquoted(harmless(value)) == value
