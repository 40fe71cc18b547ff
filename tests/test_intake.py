"""Tabular files: reading, what happens to values on their way, the check of a whole file, making and resuming."""

from __future__ import annotations

import csv
import io
import os
import random
import signal
import subprocess
import tempfile
import time
import zipfile
from collections import Counter
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vandrel.charter.load import from_text
from vandrel.demo import summer
from vandrel.demo.world import charter_text
from vandrel.errors import VandrelError
from vandrel.fields import BUILT_IN
from vandrel.intake import hand_out, layout
from vandrel.intake.convert import Converter
from vandrel.intake.description import Column, Description, date_format, load
from vandrel.intake.layout import Layout, encoding_of, recognize
from vandrel.intake.propose import propose
from vandrel.intake.table import Row, Table, open_table, text
from vandrel.secret import Secret

from . import servers
from .conftest import EXAMPLES, Folder
from .test_three import SLAPD, TOVE, place

__all__ = ["place"]  # the fixture

LISTS = {"site": ["Northquay", "Sandhaven"], "department": ["Deck", "Engine"]}


# --- reading


@pytest.mark.parametrize(
    ("encoding", "written", "found"),
    [
        ("utf-8", "Ødegård;Łoś", "utf-8"), ("utf-8-sig", "Ødegård;Łoś", "utf-8-sig"), ("utf-16", "Ødegård;Łoś", "utf-16"),
        ("utf-16-le", "name;Lund;Anna;Northquay", "utf-16-le"), ("cp1252", "Ødegård;€uro", "windows-1252"),
        ("latin-1", "\x81degård;x", "latin-1"), ("ascii", "Lund;Anna", "utf-8"),
    ],
)  # fmt: skip
def test_encodings_are_recognized_and_can_be_overridden(tmp_path, encoding, written, found):
    path = tmp_path / "f.csv"
    path.write_bytes(f"a;b\n{written}\n".encode(encoding))
    assert encoding_of(path) == found
    if encoding != "ascii":
        rows = list(open_table(path, encoding=encoding).rows())
        assert ";".join(map(str, rows[0].cells)) == written


@pytest.mark.parametrize("separator", [",", ";", "\t", "|"])
def test_separators_are_recognized_with_quotes_around_them(tmp_path, separator):
    path = tmp_path / "f.csv"
    with path.open("w", newline="") as file:
        writer = csv.writer(file, delimiter=separator)
        writer.writerows(
            [["no", "name", "street"], ["1", f"Lund{separator} Anna", "Quay, 7; back"], ["2", 'the "mate"', "a\nb"]]
        )
    table = open_table(path)
    assert table.layout.separator == separator
    assert [row.cells for row in table.rows()] == [
        ["1", f"Lund{separator} Anna", "Quay, 7; back"], ["2", 'the "mate"', "a\nb"],
    ]  # fmt: skip
    assert [row.number for row in table.rows()] == [2, 3]  # the second one begins in line 3
    assert open_table(path, separator="#", quote="").layout == Layout("text", "utf-8", "#", "")


def test_what_is_no_table_is_refused_in_words(tmp_path):
    for name, content, why in (
        ("long.csv", "a" * 2_000_000, "characters"), ("no.xlsx", "PK nothing", "no spreadsheet"), ("no.ods", "", "no spreadsheet"),
    ):  # fmt: skip
        (tmp_path / name).write_text(content)
        with pytest.raises(VandrelError, match=why):
            list(open_table(tmp_path / name).rows())
    with pytest.raises(VandrelError, match="no encoding"):
        recognize(tmp_path / "long.csv", encoding="klingon")
    with pytest.raises(VandrelError) as caught:
        open_table(tmp_path / "nowhere.csv")
    assert caught.value.code == "not-found"


@pytest.mark.parametrize(
    ("text", "open_lines"),
    [
        ('a,b\n1,"x\n' + "2,y\n" * 100, {2}), ('a,b\n1,x\n2,"y\n', {3}), ('a,b,c\n1,"x,z\n2,y,z\n3,y,"z\n4,y,z\n', {2, 4}),
        ('a,b\n1,"x\ny"\n2,O"Hara\n', set()), ('a,b\n1,"x""y"\n2,"', {3}),
    ],
)  # fmt: skip
def test_a_quote_that_is_not_closed_hides_no_other_row(tmp_path, text, open_lines):
    (tmp_path / "open.csv").write_text(text)
    rows = list(Table(tmp_path / "open.csv", Layout("text", "utf-8", ",", '"')).rows())
    assert {row.number for row in rows if row.is_unclosed} == open_lines
    assert [row.number for row in rows] == [n for n, line in enumerate(text.splitlines(), 1) if line[0].isdecimal()]
    items = Converter(Description(columns={"a": "number", "b": "title"}), ["a", "b"], {}).items(rows)
    told = {item.row for item in items for finding in item.findings if "not closed" in finding.what}
    assert told == open_lines


def test_a_spreadsheet_that_swells_is_not_read(tmp_path):
    path = tmp_path / "bomb.xlsx"
    with (
        zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive,
        archive.open("xl/worksheets/sheet1.xml", "w") as member,
    ):
        for _ in range(1100):
            member.write(b"0" * 1_000_000)
    with pytest.raises(VandrelError, match="would need more than"):
        open_table(path)
    # The same with a lie about its size.
    octets = bytearray(path.read_bytes())
    with zipfile.ZipFile(path) as archive:
        real = archive.infolist()[0].file_size.to_bytes(4, "little")
    at = octets.rfind(real)
    assert at > 0
    octets[at : at + 4] = (1000).to_bytes(4, "little")
    path.write_bytes(octets)
    with pytest.raises(VandrelError, match="would need more than"):
        open_table(path)


@settings(max_examples=300)
@given(st.binary(max_size=400), st.sampled_from([".csv", ".xlsx", ".ods"]))
def test_random_octets_end_in_rows_or_in_words(tmp_path_factory, octets, suffix):
    path = tmp_path_factory.mktemp("fuzz") / f"f{suffix}"
    path.write_bytes(octets)
    _reads_or_refuses(path)


CHARTER = from_text(charter_text(), Path("charter.yaml"))


def _reads_or_refuses(path: Path) -> None:
    try:
        table = open_table(path)
        described, table, _ = propose(table, CHARTER)
        converter = Converter(described, table.header(), LISTS)
        for number, row in enumerate(table.rows()):
            converter.item(row)
            if number > 1000:
                break
    except VandrelError as error:
        assert error.findings[0].what


def test_mutated_files_end_in_rows_or_in_words(tmp_path):
    """Octets of real files, changed, cut out and doubled, by chance."""
    summer.write(tmp_path)
    sources = [(tmp_path / "summer.xlsx").read_bytes()]
    text_ = io.StringIO()
    csv.writer(text_).writerows([summer.HEADER, *summer.rows()[:8]])
    sources += [text_.getvalue().encode(), text_.getvalue().encode("utf-16")]
    chance = random.Random(3)
    for number in range(500 * EXAMPLES):
        which = 0 if number % 50 == 0 else 1 + number % 2  # spreadsheets take longer
        octets = bytearray(sources[which])
        for _ in range(chance.randint(1, 6)):
            at = chance.randrange(len(octets))
            match chance.randrange(3):
                case 0:
                    octets[at] = chance.randrange(256)
                case 1:
                    del octets[at : at + chance.randint(1, 400)]
                case 2:
                    octets[at:at] = octets[at : at + chance.randint(1, 200)]
            if not octets:
                break
        path = tmp_path / ("m.xlsx" if which == 0 else "m.csv")
        path.write_bytes(octets)
        _reads_or_refuses(path)


# --- cells


def item(header, cells, **columns):
    described = Description(columns={name: columns.get(name, name) for name in header})
    return Converter(described, header, LISTS).item(Row(2, cells))


@pytest.mark.parametrize(
    ("column", "cell", "trap"),
    [
        ("surname", '"Lund', "quotes"), ("surname", 'O"Hara', "quotes"), ("surname", "LÃ¸ken", "encoding"), ("surname", "Ã…s", "encoding"),
        ("surname", "L\ufffdken", "encoding"), ("number", "1001.0", "number-made"), ("phone", "4.7E+10", "number-made"),
        ("surname", "#N/A", "formula"), ("surname", "=A1", "formula"), ("surname", "a\nb", "line-break"), ("surname", "a\u00a0b", "invisible"),
        ("surname", "n/a", "placeholder"), ("starts", "soon", "date"), ("starts", "46000", "date-serial"), ("enabled", "perhaps", "word"),
        ("password", "", "password-missing"),
    ],
)  # fmt: skip
def test_what_happens_to_values_on_their_way_is_named(column, cell, trap):
    found = item([column, "given"], [cell, "Anna"])
    assert [finding.code for finding in found.findings] == [trap]
    assert found.findings[0].where.row == 2
    assert column in (found.findings[0].where.header, "password")


@pytest.mark.parametrize("name", ["Ødegård", "Løken", "Þórðarson", "Đặng", "L'Écuyer", "Ní Riain", "Żółkiewska-Nowak", "Παπαδάκης", "Çiğdem",
                                  "Ångström", "Згурський", "van 't Hof", "d'Aubigné", "Nan", "True"])  # fmt: skip
def test_real_names_are_none_of_those(name):
    assert not item(["surname", "given"], [name, "Anna"]).findings


def test_a_word_that_stands_for_nothing_may_be_a_name_or_a_country():
    header, row = ["surname", "given", "country", "office"], ["Null", "Na", "NA", "null"]
    found = item(header, row)
    assert found.fields == {"surname": ("Null",), "given": ("Na",), "country": ("NA",)}
    assert [(f.where.header, f.code, f.is_fatal) for f in found.findings] == [
        ("surname", "placeholder", False), ("given", "placeholder", False), ("office", "placeholder", False),
    ]  # fmt: skip
    allowed = {name: Column(field=name, allow=["null", "Na"]) for name in header}
    found = item(header, row, **allowed)
    assert found.fields["office"] == ("null",) and not found.findings


def test_days_words_lists_and_numbers_are_read_as_described():
    columns = {
        "s": Column(field="starts", dates=["DD.MM.YYYY", "MM/DD/YY"]), "e": Column(field="enabled", yes=["ja"], no=["nei"]),
        "g": Column(field="groups", split=","), "n": Column(field="number", pad=4),
    }  # fmt: skip
    found = item(["s", "e", "g", "n"], ["05.06.2090", "JA", "team-it, team-office,", 71.0], **columns)
    assert found.fields == {
        "starts": ("2090-06-05",), "enabled": ("yes",), "groups": ("team-it", "team-office"), "number": ("0071",),
    }  # fmt: skip
    assert item(["s"], ["06/05/90"], s=columns["s"]).fields["starts"] == ("1990-06-05",)
    assert date_format("DD.MM.YYYY") == "%d.%m.%Y"
    assert date_format("tomorrow") == ""
    assert text(1001.0) == "1001"


@pytest.mark.parametrize(
    ("cells", "trap"),
    [
        (["1", "Lund", "Quay 7", "Northquay", "Deck", "a@b.example"], None),
        (["1", "Lund", "Quay", "7", "Northquay", "Deck", "a@b.example"], "shifted"),
        (["1", "Lund", "Quay", "7", "Northquay", "Deck"], "shifted"), (["1", "Quay 7", "Northquay", "Deck", "a@b.example", ""], "shifted"),
        (["1", "Lund", "Quay 7", "Northquay"], "short"), (["Total", "400", "", "", "", ""], "totals"),
        (["number", "surname", "street", "site", "department", "mail"], "header"), (["1", "Lund", "", "", "", ""], None),
    ],
)  # fmt: skip
def test_rows_that_went_astray_are_recognized_as_such(cells, trap):
    found = item(["number", "surname", "street", "site", "department", "mail"], cells)
    assert [finding.code for finding in found.findings] == ([trap] if trap else [])


@given(st.text(alphabet="ab,\r\n", max_size=24), st.integers(1, 5))
def test_lines_are_the_same_wherever_the_reading_pauses(text, block):
    with tempfile.TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        path = Path(folder) / "lines.csv"
        path.write_bytes(text.encode())
        patch.setattr(layout, "_BLOCK", block)
        assert list(layout.lines(path, "utf-8")) == list(io.StringIO(text, newline=""))


# --- descriptions


def test_faults_of_a_description_are_told_with_their_place(tmp_path):
    path = tmp_path / "f.intake.yaml"
    path.write_text(
        "vandrel-intake: 1\ncolumns:\n  A: surnam\n  B: {field: starts, dates: [tomorrow]}\n  C: login\n  D: login\nkey: [mail]\nkind2: x\n"
    )
    with pytest.raises(VandrelError) as caught:
        load(path, BUILT_IN)
    told = {(str(f.where).rpartition("f.intake.yaml")[2], f.remedy.partition("?")[0]) for f in caught.value.findings}
    assert told >= {(":3:6", "did you mean surname"), (":8:1", "did you mean kind")}
    assert len(caught.value.findings) == 5
    assert caught.value.exit_code == 18


def test_a_description_is_proposed_from_header_and_rows_and_read_again(demo):
    rows = [["Pers.-Nr.", "Vorname", "Nachname", "Standort", "Eintritt", "Tlf", "Kommentar?"],
            ["0071", "Jörg", "Müller", "Northquay", "01.06.2027", "+47 5555", "x"]]  # fmt: skip
    with (demo.path / "a.csv").open("w", encoding="cp1252", newline="") as file:
        csv.writer(file, delimiter=";").writerows(rows)
    assert demo.run("import", "a.csv", "-n").code == 30  # no description yet, and it says how to get one
    proposed = demo.run("import", "a.csv", "--propose", "--kind", "seasonal")
    assert proposed.code == 0, proposed.err
    described = load(demo.path / "a.intake.yaml", BUILT_IN)
    assert (described.file.encoding, described.file.separator, described.kind) == ("windows-1252", ";", "seasonal")
    fields = {name: described.column(name).field for name in described.columns}
    assert fields == {"Pers.-Nr.": "", "Vorname": "given", "Nachname": "surname", "Standort": "site", "Eintritt": "starts",
                      "Tlf": "phone", "Kommentar?": ""}  # fmt: skip
    assert described.column("Eintritt").dates == ["DD.MM.YYYY"]
    assert demo.run("import", "a.csv", "--propose").code == 23
    assert "s26mueller" in demo.run("import", "a.csv", "-n").out


def test_the_sheet_with_people_is_taken_and_the_description_of_another_file_is_told(demo):
    from openpyxl import Workbook

    book = Workbook()
    book.active.append(["Printed on Friday"])
    sheet = book.create_sheet("Crew")
    for row in (
        ["Staff no", "Name", "Port", "Department", "Class"],
        ["0071", "Anna Vik", "Northquay", "Deck", "Hands"],
        ["0072", "", "", "Deck", "Hands"],
    ):
        sheet.append(row)
    book.save(demo.path / "s.xlsx")
    proposed = demo.run("import", "s.xlsx", "--propose", "--kind", "crew")
    assert (proposed.code, "It has the sheets Sheet, Crew; this is for Crew." in proposed.out) == (0, True), (
        proposed.err
    )
    found = demo.run("import", "s.xlsx", "-n", "--json").findings
    assert [(f["row"], f["column"], f["code"]) for f in found] == [(3, "Name", "required"), (3, "Port", "required")]
    described = (demo.path / "s.intake.yaml").read_text()
    (demo.path / "s.intake.yaml").write_text(described.replace("Staff no", "Badge no"))
    other = demo.run("import", "s.xlsx", "-n")
    assert (other.code, "1 column of the description is not in the file" in other.err) == (18, True), other.err


def test_one_password_for_all_is_checked_first_told_and_in_no_record(place):
    _, folder = place
    table(folder, "p", ("number", "given", "surname", "site"), ("6701", "Ada", "Rye", "Kelness"), ("6702", "Bo", "Rye", "Kelness"),
          ("6703", "Cy", "Anchor", "Kelness"), kind="seasonal", key="[number]")  # fmt: skip
    short = folder.run("import", "p.csv", "--password", "-", "-y", stdin="short\n")
    assert (short.code, "12 is the least" in short.err) == (25, True), short.err
    own = folder.run("import", "p.csv", "--password", "-", "-y", stdin="Qx7-reef-cyanchor\n")
    assert (own.code, own.out.count("password")) == (18, 1) and "4    password" in own.out, own.out + own.err
    done = folder.run("import", "p.csv", "--password", "-", "-y", stdin="Qx7-reef-anker\n")
    assert (done.code, "3 people get the same password" in done.err) == (0, True), done.out + done.err
    for number in ("6701", "6703"):
        proved = folder.run("logon", number, "--password", "-", stdin="Qx7-reef-anker\n")
        assert "wrong" not in proved.out + proved.err, proved.out + proved.err
    assert "Qx7-reef" not in done.out + done.err + folder.run("journal", "--json", "--last", "1").out
    one = folder.run(
        "series",
        "seasonal",
        "reed",
        "site=Kelness",
        "surname=Reed #",
        "--count",
        "2",
        "--password",
        "-",
        "-y",
        stdin="Qx7-reef-anker\n",
    )
    assert one.code == 0, one.out + one.err
    assert folder.run("delete", "6701", "6702", "6703", "reed1", "reed2", "-y").code == 0


def test_whom_rows_mean_who_come_later_or_are_refused_is_told(place):
    """A trial whose boss stands further down; a boss whose row is refused; groups in groups of the same file."""
    _, folder = place
    row = ("Northquay", "Deck", "Hands")
    table(folder, "m", ("number", "given", "surname", "site", "department", "category", "manager"),
          ("6801", "Ada", "Oak", *row, "6803"), ("6802", "Bo", "Oak", *row, "6804"), ("6803", "Cy", "Oak", *row, ""), ("6804", "Di", "Oak", "Atlantis", *row[1:], ""),
          kind="crew", key="[number]")  # fmt: skip
    told = folder.run("import", "m.csv", "-n", "--json").findings
    assert [(f["row"], f["column"], f["severity"] == "stop") for f in told] == [
        (3, "manager", False),
        (5, "site", True),
    ]
    first = folder.run("import", "m.csv", "--sound-only", "--first", "1", "--no-passwords", "-y")
    assert (first.code, "1 manager or the like left out" in first.err) == (0, True), first.out + first.err
    rest = folder.run("import", "m.csv", "--sound-only", "--mode", "both", "--no-passwords", "-y")
    assert (rest.code, "2 created, 1 changed" in rest.out) == (0, True), rest.out + rest.err
    bosses = [
        folder.run("show", number, "--json").json["objects"][0]["fields"].get("manager", [])
        for number in ("6801", "6802")
    ]
    assert bosses == [["Cy Oak"], []]
    table(
        folder,
        "nested",
        ("name", "members"),
        ("Oak inner", "6801"),
        ("Oak outer", "team-oak-inner"),
        type="group",
        key="[name]",
    )
    assert folder.run("import", "nested.csv", "-y").code == 0
    assert "team-oak-inner" in folder.run("show", "team-oak-outer").out
    assert folder.run("delete", "6801", "6802", "6803", "team-oak-inner", "team-oak-outer", "-y").code == 0


def test_a_manager_whose_row_is_refused_leaves_the_one_who_is_there(demo):
    table(demo, "k", ("number", "given", "surname", "site", "department", "category", "manager"),
          ("2003", "Anna", "Lund", "Northquay", "Deck", "Officers", "6804"), ("6804", "Di", "Oak", "Atlantis", "Deck", "Hands", ""),
          kind="crew", key="[number]", mode="both")  # fmt: skip
    done = demo.run("import", "k.csv", "--sound-only", "-y")
    assert (done.code, "row 3, which is meant, is refused itself: left out here" in " ".join(done.out.split())) == (
        0,
        True,
    ), done.out
    assert demo.run("show", "2003", "--json").json["objects"][0]["fields"]["manager"] == ["Halvard Brekke"]


def test_whole_names_are_taken_apart_and_compared_with_those_of_who_exists(demo):
    rows = [("Name", "Staff no", "Port", "Dept", "Category"), ("van der Berg, Jan Piet", "9102", "Northquay", "Deck", "Hands"),
            ("Halvard Brekke", "2001", "Northquay", "Deck", "Officers")]  # fmt: skip
    with (demo.path / "w.csv").open("w", newline="") as file:
        csv.writer(file, delimiter=";").writerows(rows)
    assert demo.run("import", "w.csv", "--propose").code == 0
    assert demo.run("import", "w.csv", "-n").code == 11  # of which kind, nobody has said
    assert demo.run("import", "w.csv", "--kind", "pirate", "-n").code == 11
    done = demo.run("import", "w.csv", "--kind", "crew", "--mode", "both", "--no-passwords", "-y")
    assert "1 new, 1 as it is" in done.out, done.out + done.err
    fields = demo.run("show", "9102", "--json").json["objects"][0]["fields"]
    assert [fields[name] for name in ("given", "middle", "surname", "full")] == [
        ["Jan"],
        ["Piet"],
        ["van der Berg"],
        ["Jan Piet van der Berg"],
    ]
    again = demo.run("import", "w.csv", "--kind", "crew", "--mode", "both", "-n")
    assert "2 as it is" in again.out, again.out + again.err
    (demo.path / "w.csv").write_text((demo.path / "w.csv").read_text().replace("Halvard", "Harald"))
    assert (
        "Halvard Brekke  ->  Harald Brekke" in demo.run("import", "w.csv", "--kind", "crew", "--mode", "both", "-n").out
    )
    assert demo.run("import", ".", "-n").code == demo.run("import", ".", "--propose").code == 16


# --- the summer crew


def test_the_check_names_all_thirty_faults_and_nothing_else(demo):
    assert len(summer.FAULTS) == 30
    checked = demo.run("import", "summer.xlsx", "-n", "--rows", "400", "--json")
    assert checked.code == 18
    found = sorted((f["row"], f["code"]) for f in checked.findings)
    assert found == sorted((number + 1, trap) for number, _, trap in summer.FAULTS)
    assert all(f["what"] and f["column"] for f in checked.findings)
    annotated = demo.run("import", "summer.xlsx", "-n", "--findings", "back.xlsx")
    assert annotated.code == 18
    rows = list(open_table(demo.path / "back.xlsx").rows())
    assert len(rows) == 400
    assert sum(bool(row.cells[len(summer.HEADER)]) for row in rows) == 30
    short = demo.run("import", "summer-mended.xlsx", "-n", "--rows", "401")
    assert (short.code, "400 rows were read, and 401 are expected" in short.out) == (18, True)


def test_the_mended_file_goes_in_slips_are_printed_and_again_changes_nothing(place):
    _, folder = place
    trial = folder.run("import", "summer-mended.xlsx", "--first", "2", "--hand-out", "two.csv", "-y", timeout=300)
    assert trial.code == 0, trial.err
    assert (folder.path / "two.csv").read_text().count("\n") == 3
    made = folder.run(
        "import", "summer-mended.xlsx", "--hand-out", "slips.pdf", "--results", "made.csv", "-y", timeout=600
    )
    assert made.code == 0, made.err
    assert "398 created" in made.out
    assert (folder.path / "slips.pdf").read_bytes()[:5] == b"%PDF-"
    assert oct((folder.path / "slips.pdf").stat().st_mode)[-3:] == "600"
    results = list(csv.DictReader((folder.path / "made.csv").open()))
    assert [sum(row["result"] == word for row in results) for word in ("created", "unchanged", "refused")] == [
        398,
        2,
        0,
    ]
    again = folder.run("import", "summer-mended.xlsx", "-y", timeout=300)
    assert (again.code, "400 there already" in again.out, "Nothing to change." in again.out) == (0, True, True)
    members = folder.run("show", "team-season", "--bare", "members").out
    assert members.count("\n") == 403  # three have been there before
    person = next(row for row in results if row["result"] == "created")
    fields = folder.run("show", person["name"], "--json").json["objects"][0]["fields"]
    assert fields["company"] == ["Marrowick Ferries"]
    assert fields["office"][0].startswith("Pier ")
    assert fields["enabled"] == ["no"]  # the first day lies ahead
    assert fields["manager"][0]


def test_two_rows_of_one_name_are_no_manager_and_rows_that_repeat_are_named(demo):
    row = ("Northquay", "Deck", "Hands")
    table(demo, "m", ("number", "given", "surname", "site", "department", "category", "manager"),
          ("7001", "Ada", "Twin", *row, ""), ("7002", "Ada", "Twin", "Kelness", *row[1:], ""), ("7003", "Bo", "Under", *row, "Ada Twin"),
          ("7004", "Cy", "Under", *row, "7002"), ("7005", "Cy", "Under", *row, "7002"), kind="crew", key="[number]")  # fmt: skip
    checked = demo.run("import", "m.csv", "-n", "--json")
    assert [(f["row"], f["column"], f["code"], f["severity"] == "stop") for f in checked.findings] == [
        (4, "manager", "ambiguous", True), (6, "number", "twice", False),
    ]  # fmt: skip
    assert "rows are called so: 2 and 3" in checked.findings[0]["what"]


# --- updates, and other sorts


def table(folder: Folder, name: str, *rows: tuple[str, ...], **described: str) -> None:
    with (folder.path / f"{name}.csv").open("w", newline="") as file:
        csv.writer(file).writerows(rows)
    columns = "".join(f"  {column}: {column}\n" for column in rows[0])
    more = "".join(f"{key}: {value}\n" for key, value in described.items())
    (folder.path / f"{name}.intake.yaml").write_text(f"vandrel-intake: 1\ncolumns:\n{columns}{more}")


def test_updates_are_matched_by_key_shown_and_the_missing_are_left_alone(demo):
    table(demo, "u", ("number", "title", "groups"), ("2001", "Commodore", "team-it"), ("2003", "Second mate", ""), ("9999", "Cook", ""),
          mode="update", key="[number]", kind="crew")  # fmt: skip
    before = demo.state()
    refused = demo.run("import", "u.csv", "-y")
    assert (refused.code, "nobody is found by it" in refused.out, demo.state() == before) == (18, True, True)
    done = demo.run("import", "u.csv", "-y", "--sound-only")
    assert done.code == 0, done.err
    assert "Captain" in done.out
    assert "1 changes, 1 as it is, 1 refused" in done.out
    brekke = demo.run("show", "hbrekke", "--json").json["objects"][0]["fields"]
    assert (brekke["title"], "team-it" in brekke["groups"], "team-everybody" in brekke["groups"]) == (
        ["Commodore"],
        True,
        True,
    )
    missing = demo.run("import", "u.csv", "--missing", "--json").json["rows"]
    numbers = {row["key"] for row in missing}
    assert "2002" in numbers
    assert not {"2001", "2003", "1001"} & numbers  # those in the file, and who is of another kind
    assert {row["since"] for row in missing} == {str(datetime.now(ZoneInfo("Europe/Oslo")).date())}
    both = demo.run("import", "u.csv", "--mode", "both", "--sound-only", "-n")
    assert (both.code, "2 as it is, 1 refused" in both.out) == (0, True), both.out + both.err


def test_two_new_people_of_one_name_get_the_same_names_however_the_file_is_sorted(demo):
    people = [("3001", "Ada", "Vik"), ("3002", "Ada", "Vik"), ("3003", "Ada", "Viken")]
    more = ("Northquay", "Deck", "Hands")
    found = []
    for order in (people, people[::-1], [people[1], people[2], people[0]]):
        name = f"t{len(found)}"
        table(demo, name, ("number", "given", "surname", "site", "department", "category"), *((*p, *more) for p in order),
              kind="crew", key="[number]")  # fmt: skip
        rows = demo.run("import", f"{name}.csv", "-n", "--json").json["rows"]
        found.append(sorted((order[row["row"] - 2][0], row["dn"]) for row in rows))
    assert found[0] == found[1] == found[2]
    assert len({dn for _, dn in found[0]}) == 3


def test_groups_units_and_computers_by_the_same_mechanism(place):
    _, folder = place
    table(
        folder,
        "g",
        ("name", "kind", "notes"),
        ("Lamp watch", "team", "Lamps"),
        ("Bell watch", "team", ""),
        type="group",
        key="[name]",
    )
    table(
        folder,
        "c",
        ("name", "groups", "notes"),
        ("NQ-LAMP-01", "team-desks", "x"),
        ("NQ-LAMP-02", "", "y"),
        type="computer",
        key="[name]",
    )
    table(folder, "n", ("place", "notes"), ("/Shore/Lamps", "a"), ("/Shore/Lamps/Oil", "b"), type="unit", key="[place]")
    for name in ("g", "c", "n"):
        done = folder.run("import", f"{name}.csv", "-y")
        assert (done.code, "2 created" in done.out) == (0, True), done.out + done.err
    assert "Lamps" in folder.run("show", "team-lamp-watch").out
    assert folder.run("show", "nq-lamp-01", "--json").json["objects"][0]["fields"]["groups"].count("team-desks") == 1
    assert folder.run("show", "/Shore/Lamps/Oil").code == 0
    for name in ("g", "c"):
        again = folder.run("import", f"{name}.csv", "-y")
        assert "2 there already" in again.out, again.out + again.err


def test_a_series_skips_what_is_taken_and_shows_the_first_and_the_last(place):
    _, folder = place
    words = ("series", "seasonal", "kiosk", "site=Kelness", "surname=Kiosk #", "--digits", "2", "-y")
    assert folder.run(*words, "--count", "3", "--hand-out", "k1.csv").code == 0
    more = folder.run(*words, "--count", "4", "--first-number", "2", "--hand-out", "k2.csv")
    assert more.code == 0, more.err
    assert "Numbers 02, 03 are in use already." in more.out
    again = folder.run(*words, "--count", "4", "--first-number", "2")
    assert (again.code, "Numbers 02, 03, 04, 05 are in use already." in again.out) == (0, True), again.out
    assert [line.split(",")[1] for line in (folder.path / "k2.csv").read_text().splitlines()[1:]] == [
        "kiosk04",
        "kiosk05",
    ]
    capitals = [word.upper() if word == "kiosk" else word for word in words]  # the same name, spelled otherwise
    assert "KIOSK06" in folder.run(*capitals, "--count", "1", "-n").out
    assert folder.run(*words, "--count", "2", "--taken", "refuse", "--hand-out", "k3.csv").code == 23
    trial = folder.run(*words, "--count", "3", "--first", "1", "--no-passwords")
    assert "The rest of them: --first-number 6 in place of --first 1." in trial.out, trial.out
    rest = folder.run(*words, "--count", "3", "--first-number", "6", "--no-passwords").out
    assert "2 created" in rest and "kiosk09" not in rest
    assert folder.run("series", "computer", "SH-DESK-", "--count", "2", "--digits", "3", "-y").code == 0
    assert folder.run("show", "sh-desk-002").code == 0


@pytest.mark.parametrize(("of", "words", "columns"), [
    ("account", ["kind=crew"], "number,given,middle,surname,site,department,category,title,phone,mail,groups"),
    ("account", ["kind=crew"], "number,full,notes,manager,enabled,ends"), ("group", ["--type", "groups", "team-"], "name,notes,members,scope"),
    ("unit", ["--type", "units"], "place,notes,protected"), ("unit", ["--type", "units"], "name,place,notes"),
    ("computer", ["--type", "computers"], "name,place,groups,notes"),
])  # fmt: skip
def test_a_selection_is_exported_and_read_back_without_change(place, of, words, columns):
    """Several numbers and notes in one cell, managers who share a name with others, lists of members, marks in names."""
    _, folder = place
    for name in ("Ship", "Shore", "Ship | Shore"):  # the first two are no names of hers; a domain forbids the last one
        folder.run("create", "group", "kind=team", f"name={name}", "members=alund", "-y")
    folder.run("edit", "alund", "groups-=Ship,Shore", "-y")
    assert folder.run("edit", "alund", "phone+=+47 5555 0909", "notes+=Swims; dives", "notes+=Sings", "-y").code == 0
    folder.run("series", "computer", "ROUND-", "groups=team-desks", "--count", "2", "-y")
    for suffix in ("csv", "xlsx", "ods"):
        for name in ("trip.csv", "trip.xlsx", "trip.ods", "trip.intake.yaml"):
            (folder.path / name).unlink(missing_ok=True)
        written = folder.run("find", *words, "--columns", columns, "--to", f"trip.{suffix}")
        assert written.code == 0, written.err
        rows = int(written.out.split()[0])
        kind = ["--kind", "crew"] if of == "account" else []
        assert rows > 1 and folder.run("import", f"trip.{suffix}", "--propose", "--type", of, *kind).code == 0
        back = folder.run("import", f"trip.{suffix}", "--mode", "both", "-n")
        assert (back.code, f"{rows} rows read: {rows} as it is." in back.out) == (0, True), back.out + back.err


def test_what_was_deleted_is_made_again_from_an_export(place):
    _, folder = place
    (folder.path / "trip.intake.yaml").unlink(missing_ok=True)
    columns = "name,notes,members"
    listed = ("find", "--type", "groups", "team-northquay", "--columns", columns, "--by", "name", "--json")
    before = folder.run(*listed).json["rows"]
    assert folder.run("find", "--type", "groups", "team-northquay", "--columns", columns, "--to", "again.csv").code == 0
    assert folder.run("import", "again.csv", "--propose", "--type", "group").code == 0
    assert folder.run("delete", *(row["name"] for row in before), "-y").code == 0
    made = folder.run("import", "again.csv", "-y")
    assert (made.code, f"{len(before)} created" in made.out) == (0, True), made.out + made.err
    assert folder.run(*listed).json["rows"] == before


def test_a_row_of_somebody_who_exists_may_name_somebody_who_is_new(place):
    _, folder = place
    table(folder, "boss", ("number", "given", "surname", "site", "department", "category", "manager"),
          ("2001", "Halvard", "Brekke", "Northquay", "Deck", "Officers", "6543"), ("6543", "Ada", "Vik", "Northquay", "Deck", "Officers", "2001"),
          kind="crew", key="[number]", mode="both")  # fmt: skip
    done = folder.run("import", "boss.csv", "--no-passwords", "-y")
    assert (done.code, "1 created, 1 changed" in done.out) == (0, True), done.out + done.err
    for number, boss in (("2001", "Ada Vik"), ("6543", "Halvard Brekke")):
        assert folder.run("show", number, "--json").json["objects"][0]["fields"]["manager"] == [boss]
    assert "2 as it is" in folder.run("import", "boss.csv", "-n").out


# --- hand-outs


def test_a_hand_out_is_encrypted_to_a_public_key_and_its_cells_are_harmless(demo):
    import pyrage

    key = pyrage.x25519.Identity.generate()
    table(demo, "s", ("surname", "given", "site"), ("Vik", "Ada", "Kelness"), kind="seasonal", key="[surname]")
    done = demo.run("import", "s.csv", "-y", "--hand-out", "s.csv.age", "--recipient", str(key.to_public()))
    assert done.code == 0, done.err
    opened = pyrage.decrypt((demo.path / "s.csv.age").read_bytes(), [key]).decode()
    assert opened.splitlines()[1].startswith("Ada Vik,")
    hand_out.write(demo.path / "h.csv", [hand_out.Slip("=Ada", "-ada", "@x", "", Secret("-Kv9"))], "Marrowick")
    assert (demo.path / "h.csv").read_text().splitlines()[1] == "'=Ada,'-ada,'@x,,-Kv9"
    assert {slip.login: slip.secret.reveal() for slip in hand_out.read(demo.path / "h.csv")} == {"-ada": "-Kv9"}
    hand_out.write(demo.path / "h.xlsx", [hand_out.Slip("=Ada", "ada", "@x", "", Secret("=Kv9"))], "Marrowick")
    assert {slip.login: slip.secret.reveal() for slip in hand_out.read(demo.path / "h.xlsx")} == {"ada": "=Kv9"}
    hand_out.write(
        demo.path / "two.csv", [hand_out.Slip(n, n, n, n, Secret(f"Kv9-{n}")) for n in ("ada", "bo")], "Marrowick"
    )
    hand_out.leave_out(demo.path / "two.csv", {"ada"}, "Marrowick")
    assert [slip.login for slip in hand_out.read(demo.path / "two.csv")] == ["bo"]
    hand_out.leave_out(demo.path / "two.csv", {"bo"}, "Marrowick")
    assert not (demo.path / "two.csv").exists()
    secret = opened.splitlines()[1].rpartition(",")[2]
    assert len(secret) >= 12
    assert not set(secret) & set("0O1lI|")
    assert secret not in done.out + done.err + demo.run("journal", "1", "--json").out
    for words in (
        ("--hand-out", "x.csv", "--recipient", "age1nothing"),
        ("--hand-out", "x.age"),
        ("--hand-out", "x.doc"),
    ):
        table(demo, "o", ("surname", "site"), ("Vok", "Kelness"), kind="seasonal", key="[surname]")
        assert demo.run("import", "o.csv", "-y", *words).code == 2


def test_slips_are_ten_to_a_page_and_nothing_of_them_is_cut_off(tmp_path):
    import pypdfium2

    slips = [
        hand_out.Slip(f"Ødegård {n}", f"login{n}", f"login{n}@marrowick.example", "", Secret(f"Kv{n}-fjord"))
        for n in range(11)
    ]
    slips.append(hand_out.Slip("Θεόδωρος " * 9, "x", "y", "z", Secret("W" * 60)))
    hand_out.write(tmp_path / "s.pdf", slips, "Marrowick")
    document = pypdfium2.PdfDocument(str(tmp_path / "s.pdf"))
    texts = [page.get_textpage().get_text_bounded() for page in document]
    assert [text.count("log on as") for text in texts] == [10, 2]
    assert all(
        word in texts[0 if n < 10 else 1] for n in range(11) for word in (f"Ødegård {n}", f"login{n}@", f"Kv{n}-fjord")
    )
    picture = document[1].render(scale=2).to_pil().convert("L")
    width, height = picture.width // 2, picture.height // 5
    for across in (
        0,
        1,
    ):  # two slips stand on the second page, each with ink from its first line to its last, and margins
        rows = [
            y
            for y in range(height - 4)
            if min(picture.crop((across * width + 4, y, (across + 1) * width - 4, y + 1)).tobytes()) < 200
        ]
        assert 20 < rows[0] < 75 and 235 < rows[-1] - rows[0] < 265
        inside = picture.crop((across * width + 4, 4, (across + 1) * width - 4, height - 4))
        left, _, right, _ = inside.point(lambda grey: 255 * (grey < 200)).getbbox()
        assert left > 40 and right < width - 40
    assert min(picture.crop((4, height + 4, width - 4, 2 * height - 4)).tobytes()) == 255


# --- going on after a kill


def crew(folder: Folder, count: int) -> None:
    assert folder.run("invent", "crew", str(count), "--to", "many.csv", "--number", "50001").code == 0


def whole(folder: Folder, count: int, file: str) -> None:
    """Every row is there once, with its groups and its line."""
    found = folder.run("find", "kind=crew", "--columns", "number,login,dn", "--json", timeout=300).json["rows"]
    mine = [row for row in found if row["number"] >= "50001"]
    assert len(mine) == count == len({row["number"] for row in mine}), folder.run("journal", "--last", "3").out
    members = folder.run("show", "team-everybody", "--bare", "members", timeout=300).out.splitlines()
    assert {row["dn"] for row in mine} <= set(members)
    assert len(members) == len(set(members))
    lines = list(csv.DictReader((folder.path / file).open()))
    assert sorted(line["login"] for line in lines) == sorted(row["login"] for row in mine)
    for line in lines[:: max(1, count // 3)]:
        proved = folder.run("logon", line["login"], "--password", "-", stdin=line["password"] + "\n")
        assert "wrong" not in proved.out + proved.err, proved.out + proved.err


def killed_and_resumed(folder: Folder, count: int, kills: int, seed: int, spread: float) -> None:
    """Start an import, kill it at a random moment, resume it, kill that, and so on; then let it end."""
    chance = random.Random(seed)
    words = ("import", "many.csv", "--hand-out", "many-out.csv", "--results", "many-made.csv", "-y")
    running = folder.start(*words)
    deadline = time.monotonic() + 120
    while not (folder.path / "many-out.csv").exists() and running.poll() is None and time.monotonic() < deadline:
        time.sleep(0.01)
    for _ in range(kills):
        time.sleep(chance.random() * spread)
        if running.poll() is None:
            os.kill(running.pid, signal.SIGKILL)
        running.communicate()
        running = folder.start("resume", "-y")
    _, told = running.communicate(timeout=400)
    assert running.returncode == 0 or "no job was broken off" in told or "before its first step" in told, told
    begun = folder.run("find", "number=50001", "--as", "csv", "--columns", "login").out.count("\n") > 1
    if not begun:  # killed before the first step, which resume has said
        for name in ("many-out.csv", "many-made.csv"):
            (folder.path / name).unlink(missing_ok=True)
        assert folder.run(*words, timeout=300).code == 0
    whole(folder, count, "many-out.csv")
    results = Counter(row["result"] for row in csv.DictReader((folder.path / "many-made.csv").open()))
    assert results == {"created": count}


def test_an_import_that_is_killed_at_twenty_moments_is_whole_in_the_end(demo):
    crew(demo, 5000)
    killed_and_resumed(demo, 5000, 20, 1, 0.8)


def test_where_a_hand_out_cannot_be_read_again_new_passwords_are_made(demo):
    import pyrage

    crew(demo, 5000)
    key = pyrage.x25519.Identity.generate()
    first = ("--hand-out", "many.csv.age", "--recipient", str(key.to_public()))
    running = demo.start("import", "many.csv", *first, "-y")
    while demo.run("find", "number=51001", "--as", "csv").out.count("\n") < 2:  # the second thousand
        assert running.poll() is None
    os.kill(running.pid, signal.SIGKILL)
    running.communicate()
    asked = demo.run("resume", "-y")
    assert (asked.code, "cannot be read from many.csv.age" in asked.err) == (2, True), asked.err
    done = demo.run("resume", "--hand-out", "more.csv", "-y", timeout=300)
    assert done.code == 0, done.out + done.err
    assert "what many.csv.age has for them is void" in done.out
    old, new = (
        {row["login"]: row["password"] for row in csv.DictReader(io.StringIO(text))}
        for text in (
            pyrage.decrypt((demo.path / "many.csv.age").read_bytes(), [key]).decode(),
            (demo.path / "more.csv").read_text(),
        )
    )
    assert len(old) == 5000 and 0 < len(new) < 5000 and new.keys() < old.keys()
    kept = [login for login in old if login not in new]
    for login in (kept[0], kept[-1], *list(new)[:: len(new) // 3]):
        proved = demo.run("logon", login, "--password", "-", stdin=(old | new)[login] + "\n")
        assert "wrong" not in proved.out + proved.err, proved.out + proved.err


@pytest.fixture
def harbour(tmp_path):
    """A standard server with the demo on it, and the folder to work from."""
    with servers.running(servers.PLAIN) as server:
        (tmp_path / "connections.yaml").write_text(SLAPD.format(url=server.url, dn=TOVE))
        assert Folder(tmp_path, {}).run("demo", "demo", "--no-tour", "--directory", "harbour").code == 0
        yield server, Folder(tmp_path / "demo", {"VANDREL_DIRECTORY": "harbour"})


def test_the_same_on_a_server(harbour):
    _, folder = harbour
    crew(folder, 5000)
    killed_and_resumed(folder, 5000, 20, 9, 1.5)


def test_the_server_is_killed_and_comes_back_in_mid_run(harbour):
    server, folder = harbour
    crew(folder, 1500)
    running = folder.start("import", "many.csv", "--hand-out", "many-out.csv", "-y")
    while not (folder.path / "many-out.csv").exists() and running.poll() is None:
        time.sleep(0.01)
    time.sleep(0.4)
    assert running.poll() is None
    server.kill()
    time.sleep(0.5)
    server.start()
    out, told = running.communicate(timeout=200)
    assert running.returncode == 0, out + told
    whole(folder, 1500, "many-out.csv")


def test_refusals_do_not_stop_the_others_until_there_are_too_many(harbour):
    """Who may write everywhere but below /Ferries/Sandhaven is refused there, row by row."""
    server, folder = harbour
    rows = [
        (str(60000 + n), "Ada", f"Vik{chr(97 + n)}", "Sandhaven" if n % 3 == 0 else "Northquay", "Deck", "Hands")
        for n in range(12)
    ]
    header = ("number", "given", "surname", "site", "department", "category")
    table(folder, "r", header, *rows, kind="crew", key="[number]")
    rule = 'access to dn.subtree="ou=Sandhaven,ou=Ferries,dc=marrowick,dc=example" by * read\n'
    server.stop()
    server.setup = server.setup._replace(access=rule)
    server.configure()
    server.start()
    part = folder.run("import", "r.csv", "--hand-out", "r-out.csv", "--results", "r-made.csv", "-y")
    assert part.code == 1, part.out + part.err
    assert "8 created, 0 changed, 4 refused" in part.out
    assert (folder.path / "r-out.csv").read_text().count("\n") == 9
    results = [row["result"] for row in csv.DictReader((folder.path / "r-made.csv").open())]
    assert results == ["refused", "created", "created"] * 4
    assert folder.run("show", "team-everybody", "--bare", "members").out.count("Vik") == 8
    rows = [
        (str(60100 + n), "Bo", f"Viken{chr(97 + n // 26)}{chr(97 + n % 26)}", "Sandhaven", *rows[0][4:])
        for n in range(80)
    ]
    table(folder, "s", header, *rows, kind="crew", key="[number]")
    more = ("--hand-out", "s-out.csv", "--most-refused", "2")
    stopped = folder.run("import", "s.csv", *more, "--results", "s-made.csv", "-y")
    assert "0 created, 0 changed, " in stopped.out and "Stopped after" in stopped.out
    results = [row["result"] for row in csv.DictReader((folder.path / "s-made.csv").open())]
    refused = results.count("refused")  # some are on their way when the third is refused
    assert 3 <= refused <= 20 and results == ["refused"] * refused + ["left for later"] * (80 - refused)
    assert (folder.path / "s-out.csv").read_text().count("\n") == 81 - refused  # those can be made yet
    server.stop()
    server.setup = server.setup._replace(access="")
    server.configure()
    server.start()
    resumed = folder.run("resume", "-y")
    assert resumed.code == 1, resumed.out + resumed.err  # in part, for those that were refused stay so
    assert folder.run("find", "number=601*", "--as", "csv").out.count("\n") == 81 - refused


def test_of_many_that_are_deleted_who_must_stay_keeps_their_groups(harbour):
    server, folder = harbour
    rule = 'access to dn.subtree="ou=Sandhaven,ou=Ferries,dc=marrowick,dc=example" attrs=entry by * read\n'
    server.stop()
    server.setup = server.setup._replace(access=rule)
    server.configure()
    server.start()
    groups = {
        row["login"]: row["groups"] for row in folder.run("find", "--columns", "login,groups", "--json").json["rows"]
    }
    done = folder.run("delete", "--where", "(employeeType=crew)", "-y")
    assert done.code == 1, done.out + done.err
    left = {
        row["login"]: row["groups"]
        for row in folder.run("find", "kind=crew", "--columns", "login,groups", "--json").json["rows"]
    }
    assert 5 < len(left) < 20 and left == {login: groups[login] for login in left}


def test_who_was_made_and_not_taken_into_a_group_is_told_so_in_their_row(harbour):
    server, folder = harbour
    rows = [
        (str(61000 + n), "Ada", f"Lie{chr(97 + n)}", "Northquay", ("Deck", "Engine")[n % 2], "Hands") for n in range(4)
    ]
    table(
        folder,
        "g",
        ("number", "given", "surname", "site", "department", "category"),
        *rows,
        kind="crew",
        key="[number]",
    )
    server.stop()
    server.setup = server.setup._replace(
        access='access to dn.base="cn=team-northquay-deck,ou=Teams,ou=Groups,dc=marrowick,dc=example" by * read\n'
    )
    server.configure()
    server.start()
    made = folder.run("import", "g.csv", "--no-passwords", "--results", "g-made.csv", "-y")
    assert made.code == 1, made.out + made.err
    assert "2 created, 0 changed, 2 in part" in made.out
    results = [(row["result"], row["why"]) for row in csv.DictReader((folder.path / "g-made.csv").open())]
    assert [result for result, _ in results] == ["in part", "created"] * 2
    assert results[0][1].startswith("not in team-northquay-deck: ") and results[1][1] == ""


def test_a_name_that_is_none_is_told_once_and_nothing_is_built_from_it(demo):
    rows = [("63001", "Ada", "Moe", "a moe"), ("63002", "Bo", "Moe", "amoe"), ("63003", "Cy", "Moe", "amoe")]
    table(demo, "n", ("number", "given", "surname", "login", "site", "department", "category"),
          *((*row, "Northquay", "Deck", "Hands") for row in rows), kind="crew", key="[number]")  # fmt: skip
    told = demo.run("import", "n.csv", "-n", "--json").findings
    assert [(finding["row"], finding["column"], finding["code"]) for finding in told if finding["severity"] == "stop"] == [
        (2, "login", "bad-value"), (4, "login", "taken"),
    ]  # fmt: skip
    assert "taken by Bo Moe in /Ferries/Northquay/Deck/Hands" in told[1]["what"]


def test_what_is_to_be_written_beside_is_looked_at_before_anything_is_made(demo):
    table(demo, "w", ("number", "given", "surname", "site", "department", "category"), ("62001", "Ada", "Moe", "Northquay", "Deck", "Hands"),
          kind="crew", key="[number]")  # fmt: skip
    (demo.path / "w-made.csv").write_text("mine")
    for more, why in (
        (["--results", "w-made.csv"], "exists and is not overwritten: nothing was made"),
        (["--results", "nowhere/w.csv"], "cannot be written: No such file or directory: nothing was made"),
        (["--hand-out", "w.doc"], "a hand-out cannot be a file .doc"),
        (["--hand-out", "w.csv.age", "--recipient", "age1x"], "no public key of the age format"),
        (["--findings", "w-made.csv"], "exists and is not overwritten"),
    ):
        told = demo.run("import", "w.csv", "--no-passwords", *more, "-y")
        assert told.code not in (0, 1) and why in told.err, (more, told.err)
    assert demo.run("show", "62001").code == 30
    assert (demo.path / "w-made.csv").read_text() == "mine"
    assert demo.run("import", "w.csv", "--no-passwords", "--results", "again.csv", "-n").code == 0
    assert not (demo.path / "again.csv").exists()
    assert demo.run("import", "w.csv", "--no-passwords", "--results", "again.csv", "-y").code == 0
    assert (demo.path / "again.csv").read_text().count("created") == 1


def test_a_full_disk_stops_an_import_and_it_is_resumed(demo, tmp_path):
    crew(demo, 300)
    done = subprocess.run(
        ["sh", "-c", 'ulimit -f 900; exec "$@"', "sh", str(Path(os.sys.executable).with_name("vandrel")), "import", "many.csv",
         "--hand-out", "many-out.csv", "-y"],
        cwd=demo.path, env=demo.environment(), capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode in (40, 42), (done.returncode, done.stdout, done.stderr)
    assert "Traceback" not in done.stderr
    resumed = demo.run("resume", "-y", timeout=120)
    if "before its first step" in resumed.err or "no job was broken off" in resumed.err:
        (demo.path / "many-out.csv").unlink(missing_ok=True)
        assert demo.run("import", "many.csv", "--hand-out", "many-out.csv", "-y").code == 0
    whole(demo, 300, "many-out.csv")


def test_a_number_is_that_of_one_account_of_its_kind_unless_the_charter_lets_it_repeat(demo):
    table(
        demo, "n", ("number", "given", "surname"), ("2001", "Al", "Bo"), ("9001", "Bo", "Bu"), ("9001", "Cy", "Ba"),
        kind="yard", mode="create", key="[surname]",
    )  # fmt: skip
    twice = demo.run("import", "n.csv", "-n")
    assert "the same number stands in row 3" in twice.err + twice.out
    assert "2001" not in twice.err  # of another kind
    taken = demo.run("edit", "tsahin", "number=2202", "-n")
    assert taken.code == 23
    assert "2202 is taken by Anja Lindqvist" in taken.err
    same = demo.run("edit", "tsahin", "sgudmundsdottir", "number=7777", "-n")
    assert "7777 is taken by" in same.err and "who gets it in the same request" in same.err
    charter = demo.path / "charter.yaml"
    charter.write_text(charter.read_text() + "\nnumber-unique: everywhere\n")
    assert "2001 is taken by Halvard Brekke" in demo.run("import", "n.csv", "-n").out
    charter.write_text(charter.read_text().replace("everywhere", '"no"'))
    assert demo.run("edit", "tsahin", "number=2202", "-y").code == 0
