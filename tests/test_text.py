"""Transliteration, names of people, preparation of strings."""

from __future__ import annotations

import re
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.errors import Code
from vandrel.text import yaml_source
from vandrel.text.nearest import did_you_mean, nearest
from vandrel.text.people import PersonName, initials, split_full_name, without_particles
from vandrel.text.string_prep import prepare
from vandrel.text.transliterate import to_ascii

# The expected spellings are those of the sources named in the module: DIN 5007-2, ICAO Doc 9303, ELOT 743 and the
# national acts; or, for Turkish, Polish and Vietnamese, the letters without their marks.
SPELLINGS = [
    ("Jörg Müller-Lüdenscheidt", "de", "Joerg Mueller-Luedenscheidt"),
    ("Weiß", "de", "Weiss"),
    ("Åse Bjørnstad Ærø", "nb", "Aase Bjoernstad Aeroe"),
    ("Björn Åkesson", "sv", "Bjorn Akesson"),
    ("Hämäläinen", "fi", "Hamalainen"),
    ("Þórður Guðmundsson", "is", "Thordur Gudmundsson"),
    ("Łukasz Żółć Świątek", "pl", "Lukasz Zolc Swiatek"),
    ("Çağrı Işık", "tr", "Cagri Isik"),
    ("İNCE Iğdır", "tr", "INCE Igdir"),
    ("Özgür", "tr", "Ozgur"),
    ("Özgür", "de", "Oezguer"),
    ("Ευάγγελος Παπαδόπουλος", "el", "Evangelos Papadopoulos"),
    ("Μπουζάκης", "el", "Bouzakis"),
    ("Ταΰγετος", "el", "Taygetos"),
    ("Αυγή", "el", "Avgi"),
    ("Ευτυχία", "el", "Eftychia"),
    ("Михаил Щербаков", "ru", "Mikhail Shcherbakov"),
    ("Згурський Юрій Їжак", "uk", "Zghurskyi Yurii Yizhak"),
    ("Мария Щърбанова", "bg", "Maria Shtarbanova"),
    ("Nguyễn Thị Ánh Đào", "vi", "Nguyen Thi Anh Dao"),
    ("Đặng Văn Hương", "vi", "Dang Van Huong"),
    ("Ångström", "", "Aangstroem"),
    ("Müller", "de-CH", "Mueller"),
    ("Œuvrard", "fr", "Oeuvrard"),
    ("わたなべ", "ja", "watanabe"),
    ("أحمد", "ar", "ahmd"),
    ("إبراهيم", "ar", "ibrhym"),
    ("علي سعيد", "ar", "aly syd"),
    ("ישראל", "he", "ysrl"),
    ("O\u2019Brien", "en", "O'Brien"),
]


@pytest.mark.parametrize(("name", "language", "expected"), SPELLINGS)
def test_names_are_written_in_ascii_by_their_language(name, language, expected):
    assert to_ascii(name, language) == expected


@given(st.text(), st.sampled_from(["", "de", "tr", "el", "uk", "bg", "xx"]))
def test_the_result_is_printable_ascii_and_stable(text, language):
    written = to_ascii(text, language)
    assert written.isascii()
    assert to_ascii(written, language) == written


@given(st.text(st.characters(categories=["L"], exclude_characters="\u02bc")))
def test_letters_leave_no_quotation_marks(text):
    assert not set(to_ascii(text)) & set("`'")


def test_a_symbol_leaves_nothing():
    assert to_ascii("😀™") == ""


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("Anna Maria van der Meer Jr", PersonName("Anna", "Maria", "van der Meer", "Jr")),
        ("van der Meer, Anna Maria", PersonName("Anna", "Maria", "van der Meer")),
        ("Cher", PersonName("", "", "Cher")),
        ("Leonardo da Vinci", PersonName("Leonardo", "", "da Vinci")),
        ("John Smith, Jr", PersonName("John", "", "Smith", "Jr")),
        ("Mary-Jane Ashworth", PersonName("Mary-Jane", "", "Ashworth")),
        ("Van Morrison", PersonName("Van", "", "Morrison")),
    ],
)
def test_a_full_name_is_taken_apart(text, expected):
    assert split_full_name(text) == expected


def test_particles_and_initials():
    assert without_particles("van der Meer") == "Meer"
    assert without_particles("d'Aubigny") == "Aubigny"
    assert without_particles("Van Der") == "Der"
    assert initials("Anna-Maria", "", "Öst") == "AMÖ"


@given(st.text())
def test_preparation_is_idempotent(text):
    assert prepare(prepare(text)) == prepare(text)


def test_preparation_ignores_case_width_and_spaces():
    assert prepare("  Anna   MÜLLER\u00a0") == prepare("anna mu\u0308ller") == "anna müller"
    assert prepare("Straße") == "strasse"


def test_near_spellings():
    assert nearest("titel", ["title", "office", "login"]) == ["title"]
    assert did_you_mean("xyzzy", ["title", "office"]) == ""


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("".join(f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9) if n else 'x'}]\n" for n in range(9)), "alias"),
        ("a: &a {b: *a}", "alias"),
        ("base: &b {x: y}\nmore: {<<: *b}", "alias"),
        ("[" * 50_000, "not YAML|nested too deeply"),
        ("a: " + "x" * 4_000_000, "4,000,000 are the most"),
    ],
)
def test_yaml_that_would_take_the_machine_is_a_fault(text, what):
    started = time.perf_counter()
    source = yaml_source.read("charter.yaml", text, Code.CHARTER)
    assert any(re.search(what, fault.what) for fault in source.faults), source.faults[:3]
    assert time.perf_counter() - started < 5
