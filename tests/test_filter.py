"""Filters: the examples of RFC 4515, meaning after RFC 4511, and the index against plain evaluation."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare, Extensible, Not, Or, Present, Substring
from vandrel.directory.operations import AddEntry
from vandrel.directory.schema import Schema, shipped_definitions
from vandrel.errors import VandrelError

# RFC 4515, section 4.
EXAMPLES = [
    ("(cn=Babs Jensen)", Compare("cn", "=", "Babs Jensen")),
    ("(!(cn=Tim Howes))", Not(Compare("cn", "=", "Tim Howes"))),
    (
        "(&(objectClass=Person)(|(sn=Jensen)(cn=Babs J*)))",
        And(
            (
                Compare("objectClass", "=", "Person"),
                Or((Compare("sn", "=", "Jensen"), Substring("cn", "Babs J", (), ""))),
            )
        ),
    ),
    ("(o=univ*of*mich*)", Substring("o", "univ", ("of", "mich"), "")),
    ("(seeAlso=)", Compare("seeAlso", "=", "")),
    ("(cn:caseExactMatch:=Fred Flintstone)", Extensible("cn", "caseExactMatch", False, "Fred Flintstone")),
    ("(cn:=Betty Rubble)", Extensible("cn", "", False, "Betty Rubble")),
    ("(sn:dn:2.4.6.8.10:=Barney Rubble)", Extensible("sn", "2.4.6.8.10", True, "Barney Rubble")),
    ("(o:dn:=Ace Industry)", Extensible("o", "", True, "Ace Industry")),
    ("(:1.2.3:=Wilma Flintstone)", Extensible("", "1.2.3", False, "Wilma Flintstone")),
    ("(:DN:2.4.6.8.10:=Dino)", Extensible("", "2.4.6.8.10", True, "Dino")),
    (
        r"(o=Parens R Us \28for all your parenthetical needs\29)",
        Compare("o", "=", "Parens R Us (for all your parenthetical needs)"),
    ),
    (r"(cn=*\2A*)", Substring("cn", "", ("*",), "")),
    (r"(filename=C:\5cMyFile)", Compare("filename", "=", "C:\\MyFile")),
    (r"(bin=\00\00\00\04)", Compare("bin", "=", "\0\0\0\x04")),
    (r"(sn=Lu\c4\8di\c4\87)", Compare("sn", "=", "Lučić")),
    (r"(1.3.6.1.4.1.1466.0=\04\02\48\69)", Compare("1.3.6.1.4.1.1466.0", "=", "\x04\x02Hi")),
    ("(cn=*)", Present("cn")),
    ("cn>=b", Compare("cn", ">=", "b")),
    ("(&)", And(())),
    ("(|)", Or(())),
]


@pytest.mark.parametrize(("text", "meaning"), EXAMPLES)
def test_examples_of_the_standard(text, meaning):
    assert filters.parse(text) == meaning
    assert filters.parse(filters.to_text(meaning)) == meaning


@pytest.mark.parametrize(
    "text",
    ["", "(", "(cn=a", "(cn)", "(cn=a)(sn=b)", "(!(cn=a)(sn=b))", "(cn=a(b)", r"(cn=\zz)", "(cn=a**b)", "(=a)", "(&(cn=a)x)",
     "(cn:=a*)", "(::=a)", r"(cn=\ff)", "(" * 200],
)  # fmt: skip
def test_malformed_filters_say_where(text):
    with pytest.raises(VandrelError) as caught:
        filters.parse(text)
    assert caught.value.code == "bad-filter"
    assert caught.value.findings[0].where.column


VALUES = st.text(alphabet="aAbBøß *?[]()\\-", max_size=5)
ATTRIBUTES = st.sampled_from(
    ["cn", "sn", "title", "telephoneNumber", "description", "member", "nosuch", "vandrelProtected"]
)


def leaves() -> st.SearchStrategy[filters.Filter]:
    # Two asterisks side by side cannot be written, so an inner part is never empty.
    inner = st.lists(VALUES.filter(bool), max_size=2).map(tuple)
    substring = st.builds(Substring, ATTRIBUTES, VALUES, inner, VALUES).filter(
        lambda s: bool(s.initial or s.middle or s.final)
    )
    return st.one_of(
        st.builds(Compare, ATTRIBUTES, st.sampled_from(["=", ">=", "<=", "~="]), VALUES),
        st.builds(Present, ATTRIBUTES),
        substring,
    )


FILTERS = st.recursive(
    leaves(),
    lambda inner: st.one_of(
        st.builds(Not, inner),
        st.lists(inner, max_size=3).map(lambda parts: And(tuple(parts))),
        st.lists(inner, max_size=3).map(lambda parts: Or(tuple(parts))),
    ),
    max_leaves=6,
)


@given(FILTERS)
def test_every_filter_survives_text_and_back(item):
    assert filters.parse(filters.to_text(item)) == item


@given(st.text(alphabet="(&|!)=*<>~:\\ac2 ", max_size=30))
def test_reading_never_fails_but_with_its_own_error(text):
    try:
        item = filters.parse(text)
    except VandrelError as error:
        assert error.code == "bad-filter"
    else:
        assert filters.parse(filters.to_text(item)) == item


@pytest.fixture(scope="module")
def people(tmp_path_factory: pytest.TempPathFactory) -> EmbeddedDirectory:
    """Entries whose values look much like the values of the filters above."""
    base = names.parse("dc=example")
    directory = EmbeddedDirectory.create(Path(tmp_path_factory.mktemp("filters")) / "d.db", [base])
    person = ["top", "person", "organizationalPerson", "inetOrgPerson", "vandrelAccount"]
    operations = [AddEntry(base, {"objectClass": ["top", "dcObject", "organization"], "o": ["x"], "dc": ["example"]})]
    words = ["a", "A b", "ab", "øß", "a*b", "b[a]", "(a)", "b\\a", "a-b", "aab", "baab ab"]
    for number, word in enumerate(words):
        more = {"title": [word], "description": [word * 2]} if number % 2 else {"telephoneNumber": ["a-b a"]}
        operations.append(
            AddEntry(
                base.child("cn", word),
                {"objectClass": person, "sn": [words[-number]], "vandrelProtected": ["TRUE"], **more},
            )
        )
    assert not any(directory.execute(operations, atomic=True))
    return directory


@settings(max_examples=400)
@given(item=FILTERS)
def test_the_index_finds_what_evaluation_finds(people, item):
    base = people.contexts[0]
    plain = {str(e.dn) for e in people.search(base) if filters.matches(item, e, people.schema)}
    assert {str(e.dn) for e in people.search(base, where=item)} == plain


SCHEMA = Schema(shipped_definitions())
ENTRY = Entry(
    names.parse("cn=Anna Lund,ou=Deck,dc=example"),
    {
        "objectClass": ["person"],
        "cn": ["Anna Lund"],
        "sn": ["Lund"],
        "telephoneNumber": ["+47 55-55 01"],
        "member": ["CN=x, dc=example"],
    },
)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("(cn=ANNA  lund)", True), ("(sn=Lun)", False), ("(cn=anna*d)", True), ("(cn=*a*a*)", True), ("(cn=a*a*a*)", False),
        ("(telephoneNumber=+475555 01)", True), ("(telephoneNumber=*5501)", True), ("(member=cn=X,dc=EXAMPLE)", True),
        ("(title=*)", False), ("(!(title=*))", True), ("(nosuch=*)", False), ("(!(nosuch=*))", False),
        ("(|(nosuch=x)(sn=lund))", True), ("(&(nosuch=x)(sn=lund))", False), ("(ou:dn:=deck)", True), ("(ou:=deck)", False),
        ("(sn>=lu)", False), ("(!(sn>=lu))", False), ("(sn<=lu)", False),  # no rule of order (RFC 4519, 2.32): Undefined
        ("(&)", True), ("(|)", False), ("(surname=lund)", True), ("(2.5.4.4=lund)", True),
    ],
)  # fmt: skip
def test_meaning(text, expected):
    assert filters.matches(filters.parse(text), ENTRY, SCHEMA) is expected


@given(st.text())
def test_an_escaped_value_is_only_ever_a_value(value):
    try:
        item = filters.parse(f"(cn={filters.escape(value)})")
    except VandrelError:
        assert any("\ud800" <= char <= "\udfff" for char in value)
    else:
        assert item == Compare("cn", "=", value)


def test_spaces_before_and_within_brackets_are_passed_over():
    assert filters.parse("   ( & (a=b)   (c=d)  )") == filters.parse("(&(a=b)(c=d))")


def test_the_beginning_of_a_long_filter_is_told_and_a_short_one_whole():
    for text, is_cut in (("(a=b", False), ("(a=" + "b" * 200, True)):
        with pytest.raises(VandrelError) as error:
            filters.parse(text)
        assert ("'... is not a filter" in str(error.value)) == is_cut, error.value


def test_as_many_parts_as_a_filter_may_have():
    def with_parts(number: int) -> str:
        return f"(|{'(a=b)' * (number - 1)})"

    assert len(filters.parse(with_parts(500)).parts) == 499
    with pytest.raises(VandrelError, match="more than 500 parts"):
        filters.parse(with_parts(501))
