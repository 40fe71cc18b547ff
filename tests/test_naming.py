"""The pattern language, ladders, and running them backwards."""

from __future__ import annotations

from itertools import islice

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.charter.name_limits import NAME_LIMITS
from vandrel.charter.naming import NamingRule
from vandrel.charter.pattern import PatternError, parse
from vandrel.charter.text_building import EmptyField, PatternStyle, build, fit
from vandrel.charter.value_columns import Many
from vandrel.errors import VandrelError


def rule(target: str, *ladder: str, style: str = "", **more) -> NamingRule:
    return NamingRule(NAME_LIMITS[target], tuple(map(parse, ladder)), tuple(style.split()), **more)


def first(naming: NamingRule, count: int = 1, **values: str) -> list[str]:
    return [c.value for c in islice(naming.candidates(values), count)]


PERSON = {"given": "Anna Maria", "middle": "", "surname": "van der Meer-Østby", "number": "42"}


@pytest.mark.parametrize(
    ("pattern", "expected"),
    [
        ("{given} {surname}", "Anna Maria van der Meer-Østby"),
        ("{given first} {surname bare}", "Anna Meer-Østby"),
        ("{surname first}", "Meer"),
        ("{surname last}", "Østby"),
        ("{given initials}", "AM"),
        ("{given 1}{surname bare 1..3}", "AMee"),
        ("{surname bare 2..4}", "eer"),
        ("{surname bare 3..}", "erØstby"),
        ("{surname bare ..2}", "Me"),
        ("{surname -2}", "by"),
        ("{surname lower ascii plain}", "vandermeeroestby"),
        ("{surname ascii hyphens lower}", "van-der-meer-oestby"),
        ("{surname dots upper ascii}", "VAN.DER.MEER-OESTBY"),
        ("{surname underscores}", "van_der_Meer-Østby"),
        ("{given tight}", "AnnaMaria"),
        ("{number pad 5}", "00042"),
        ("x[-{middle}]y", "xy"),
        ("x[-{number}]y", "x-42y"),
        ("{{{number}}} [[{number}]]", "{42} [42]"),
    ],
)
def test_patterns(pattern, expected):
    assert "".join(map(str, build(parse(pattern), PERSON, PatternStyle()))) == expected


def test_an_empty_field_outside_of_a_section_is_named():
    with pytest.raises(EmptyField) as caught:
        build(parse("{given}{middle}"), PERSON, PatternStyle())
    assert caught.value.field == "middle"


@pytest.mark.parametrize(
    ("pattern", "position"),
    [("{given", 0), ("x{}", 1), ("{given 0}", 0), ("{given lowr}", 0), ("a]b", 1), ("[x]", 0), ("[{given}", 0), ("[a[{given}]]", 2),
     ("{given 4..2}", 0), ("{count from x}", 0), ("a}b", 1), ("{Given}", 0), ("{given 0..2}", 0)],
)  # fmt: skip
def test_malformed_patterns_say_where(pattern, position):
    with pytest.raises(PatternError) as caught:
        parse(pattern)
    assert caught.value.code == "bad-pattern"
    assert caught.value.position == position


@given(st.text(alphabet="{}[]givenN .1-23"))
def test_reading_never_fails_but_with_its_own_error(text):
    try:
        parse(text)
    except PatternError as error:
        assert 0 <= error.position <= len(text)


LOGIN = rule(
    "login", "{given 1}{surname bare}", "{given 1}{middle 1}{surname bare}", "{given 1}{surname bare}{count from 2}",
    "{surname}", "{surname}{count}", style="ascii lower plain",
)  # fmt: skip


def test_a_ladder_goes_from_the_first_choice_to_the_counter():
    assert first(LOGIN, 4, given="Anna", middle="Sofie", surname="de Vries") == [
        "avries",
        "asvries",
        "avries2",
        "avries3",
    ]
    assert first(LOGIN, 3, surname="Cher") == ["cher", "cher2", "cher3"]


def test_a_collision_names_the_rung_and_what_was_passed():
    taken = {"avries": "taken by somebody", "asvries": "taken by another"}
    choice = LOGIN.choose({"given": "Anna", "middle": "S", "surname": "de Vries"}, lambda name: taken.get(name, ""))
    assert (choice.chosen.value, choice.chosen.rung, choice.chosen.count) == ("avries2", 3, 2)
    assert [(p.candidate.value, p.why) for p in choice.passed] == list(taken.items())


def test_reserved_words_are_passed_over():
    naming = rule("login", "{surname}", "{surname}{count}", style="lower", reserved=frozenset({"root"}))
    choice = naming.choose({"surname": "Root"}, lambda name: "")
    assert choice.chosen.value == "root2"
    assert choice.passed[0].why == "a reserved word"


def test_nothing_left_after_transliteration():
    with pytest.raises(VandrelError) as caught:
        LOGIN.choose({"given": "😀", "surname": "★"}, lambda name: "")
    assert caught.value.code == "empty-name"
    assert "surname='★'" in str(caught.value)


def test_no_rung_left():
    with pytest.raises(VandrelError) as caught:
        rule("mail", "{surname}@x.example").choose({"surname": "Lund"}, lambda name: "taken by Anna")
    assert caught.value.code == "taken"
    assert "lund" in str(caught.value).lower()


@pytest.mark.parametrize(
    ("surname", "longest", "expected"),
    [
        ("Müller-Lüdenscheidt", 0, "mueller"),  # 21 letters and the target takes 20: the second half goes
        ("Müller-Lüdenschei", 0, "mueller-luedenschei"),
        ("Müller-Lüdenscheidt", 5, "muell"),
        ("Müller-Lüdenscheidt", 1, "m"),
    ],
)
def test_a_double_surname_loses_its_second_half_before_letters(surname, longest, expected):
    naming = rule("login", "{surname}", style="ascii lower", longest=longest)
    assert first(naming, surname=surname, language="de") == [expected]


def test_a_counter_is_never_cut():
    naming = rule("login", "{surname}{count}", style="lower", longest=6)
    assert first(naming, 9, surname="Langenfeld")[7:] == ["lange9", "lang10"]


def test_what_is_fixed_and_too_long_cannot_be_had():
    assert fit(build(parse("{number}{surname}"), {"number": "123456789", "surname": "X"}, PatternStyle()), 5) is None


def test_an_address_keeps_its_domain_whole_and_has_no_foreign_letters():
    naming = rule("mail", "{given}.{surname}@{domain}", style="lower hyphens", longest=19)
    assert first(naming, given="Søren", surname="O'Brien Ærø", domain="skelling.example") == [
        "soeren.o'brien@skelling.example"
    ]


NAMES = st.text(alphabet=st.characters(exclude_categories=["Cs"]), max_size=40) | st.sampled_from(
    [
        "Müller",
        "O'Brien",
        "de la Cruz",
        "Łoś",
        "Щукин",
        "Παπαδάκης",
        "Nguyễn",
        "İnce",
        "李",
        ".",
        "-x-",
        "a" * 70,
        "@",
        "Jr.",
    ]
)
RULES = st.sampled_from(
    [
        LOGIN,
        rule("principal", "{given 1}{surname}@{suffix}", "{surname}{count}@{suffix}", style="ascii lower plain"),
        rule("mail", "{given}.{surname}@{suffix}", "{given}.{surname}{count}@{suffix}", style="lower hyphens"),
        rule("full", "{given} [{middle} ]{surname}", "{surname}"),
        rule("name", "{given} {surname}", "{given} {surname} {count}", longest=12),
        rule("group", "team-{surname}", style="lower hyphens"),
        rule("unit", "{surname}", style="title"),
    ]
)


@given(RULES, NAMES, NAMES, NAMES, st.sampled_from(["", "de", "tr", "el"]))
def test_results_are_always_legal_unique_stable_and_explained(naming, given_name, middle, surname, language):
    values = {
        "given": given_name,
        "middle": middle,
        "surname": surname,
        "language": language,
        "suffix": "marrowick.example",
    }
    found = list(islice(naming.candidates(values), 8))
    assert len({c.value for c in found}) == len(found)
    assert found == list(islice(naming.candidates(dict(reversed(values.items()))), 8))
    for candidate in found:
        assert naming.target.fault(candidate.value) == ""
        assert len(candidate.value.rpartition("@")[0] or candidate.value) <= max(
            naming.limit, len("marrowick.example") + 65
        )
        explained = naming.explain(candidate.value, values)
        assert explained is not None
        assert explained.rung <= candidate.rung


ROWS = st.lists(st.tuples(NAMES, NAMES | st.just(""), NAMES), min_size=1, max_size=30)


@given(
    RULES,
    ROWS,
    st.integers(1, 5),
    st.sampled_from(["", "de", "tr"]),
    st.sampled_from(["surname", "given middle surname", "given surname"]),
)
def test_names_of_many_are_made_in_columns_as_they_are_one_by_one(naming, rows, times, language, own):
    people = [dict(zip(("given", "middle", "surname"), row, strict=True)) for row in rows * times]
    shared = {**people[0], "language": language, "suffix": "marrowick.example"}
    columns = {name: Many([person[name] for person in people]) for name in own.split()}
    made = naming.firsts(columns, shared, len(people)).values
    for name, person in zip(made, people, strict=True):
        if name:  # else it takes a closer look
            candidate = next(naming.candidates({**shared, **{field: person[field] for field in columns}}))
            assert (candidate.value, candidate.rung) == (name, 1)


@given(
    RULES, ROWS, st.sampled_from(["", "de", "tr"]), st.sampled_from(["surname", "given middle surname", "given"]),
    st.lists(st.tuples(st.integers(0, 5), st.sampled_from(["", "", "2", "12", "02", "\uff12", "\u0663", "x1y2", " "])),
             min_size=30, max_size=30),
)  # fmt: skip
def test_names_of_many_are_explained_in_columns_as_they_are_one_by_one(naming, rows, language, own, ends):
    people = [dict(zip(("given", "middle", "surname"), row, strict=True)) for row in (rows * 30)[:30]]
    shared = {"language": language, "suffix": "marrowick.example"}
    names = []
    for person, (rung, end) in zip(people, ends, strict=True):
        candidates = [str(each) for each in islice(naming.candidates({**person, **shared}), rung + 1)]
        names.append((candidates[-1] if candidates else person["given"] or "x") + end)
    columns = {name: [person[name] for person in people] for name in own.split()}
    left = naming.unexplained(names, columns, shared)
    assert left == [
        number for number, (name, person) in enumerate(zip(names, people, strict=True))
        if naming.explain(name, {**shared, **{field: person[field] for field in columns}}) is None
    ]  # fmt: skip


SAME = st.sampled_from(
    [("Ada", "Nowak-Zięba"), ("Ada", "Nowakzięba"), ("Arne", "Lund"), ("Åse", "Lund"), ("Ada", "Wolfeschlegelsteinha"),
     ("Ann", "Wolfeschlegelst einha"), ("A", "B"), ("Jo", "van der Meer")]
)  # fmt: skip


@given(
    st.lists(SAME, max_size=60),
    st.sampled_from([20, 9, 10]),
    st.sampled_from(["{count}", "{count from 8}", "{count pad 2 from 98}", "-{count}"]),
)
def test_counters_that_go_on_where_they_were_come_to_the_same_names(people, longest, counter):
    naming = rule(
        "login", "{given 1}{surname bare}", "{surname bare}" + counter, style="ascii lower plain", longest=longest
    )
    made: list[list[str]] = []
    for counted in (None, {}):
        taken: set[str] = set()
        for given_name, surname in people:
            values = {"given": given_name, "surname": surname}
            choice = naming.choose(values, lambda name: "taken" if name in taken else "", counted=counted)  # noqa: B023
            taken.add(choice.chosen.value)
            made.append([choice.chosen.value])
    assert made[: len(people)] == made[len(people) :]


@given(
    st.lists(
        st.tuples(st.sampled_from(["Anna", "Arne", "Åse"]), st.sampled_from(["Lund", "Lunde", "van Lund"])), max_size=12
    )
)
def test_many_people_of_like_names_all_get_a_name_of_their_own(people):
    taken: set[str] = set()
    for given_name, surname in people:
        choice = LOGIN.choose({"given": given_name, "surname": surname}, lambda name: "taken" if name in taken else "")
        assert choice.chosen.value not in taken
        taken.add(choice.chosen.value)


@pytest.mark.parametrize(
    ("name", "values", "rung"),
    [
        ("alund", {"given": "Anna", "middle": "", "surname": "Lund"}, 1),
        ("ALUND", {"given": "Anna", "middle": "", "surname": "Lund"}, 1),
        ("aslund", {"given": "Anna", "middle": "Sofie", "surname": "Lund"}, 2),
        ("aslund", {"given": "Anna", "surname": "Lund"}, 2),  # middle is not known: any letter will do
        ("alund7", {"given": "Anna", "middle": "", "surname": "Lund"}, 3),
        ("alund1", {"given": "Anna", "middle": "", "surname": "Lund"}, None),
        ("annal", {"given": "Anna", "middle": "", "surname": "Lund"}, None),
        ("xslund", {"given": "Anna", "surname": "Lund"}, None),
    ],
)
def test_backwards(name, values, rung):
    found = LOGIN.explain(name, values)
    assert (found.rung if found else None) == rung


def test_backwards_with_an_unknown_optional_part():
    naming = rule("full", "{given} [{middle} ]{surname}")
    assert naming.explain("Anna Sofie Lund", {"given": "Anna", "surname": "Lund"})
    assert naming.explain("Anna Lund", {"given": "Anna", "surname": "Lund"})
    assert not naming.explain("Anna Lunde", {"given": "Anna", "surname": "Lund"})


@pytest.mark.parametrize(
    ("target", "value", "fault"),
    [
        ("login", "a" * 21, "20 characters"), ("login", "anna.", "begin or end"), ("login", "an/na", "may not have"), ("login", "", "empty"),
        ("login", "a b", "a space"), ("login", "alund", ""), ("principal", "alund", "an @"), ("principal", "alund@marrowick.example", ""),
        ("principal", "alund@-x", "an @"), ("mail", "å@x.example", "may not have å"), ("mail", "a..b@x.example", "two dots"),
        ("mail", f"{'a' * 65}@x.example", "before the @"), ("mail", "o'brien@x.example", ""), ("name", "x" * 65, "64"), ("group", "a@b", "may not have"),
    ],
)  # fmt: skip
def test_what_a_name_may_be_whatever_a_charter_says(target, value, fault):
    found = NAME_LIMITS[target].fault(value)
    assert fault in found if fault else found == ""
