"""Distinguished names: the examples of RFC 4514, and what must hold for all."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.errors import VandrelError

# RFC 4514, section 4.
EXAMPLES = [
    ("UID=jsmith,DC=example,DC=net", (("UID", "jsmith"),)),
    ("OU=Sales+CN=J.  Smith,DC=example,DC=net", (("OU", "Sales"), ("CN", "J.  Smith"))),
    (r"CN=James \"Jim\" Smith\, III,DC=example,DC=net", (("CN", 'James "Jim" Smith, III'),)),
    (r"CN=Before\0dAfter,DC=example,DC=net", (("CN", "Before\rAfter"),)),
    ("1.3.6.1.4.1.1466.0=#04024869", (("1.3.6.1.4.1.1466.0", b"\x04\x02Hi"),)),
    (r"CN=Lu\C4\8Di\C4\87", (("CN", "Lučić"),)),
]


@pytest.mark.parametrize(("text", "first"), EXAMPLES)
def test_examples_of_the_standard(text, first):
    dn = names.parse(text)
    assert dn.rdns[0] == first
    assert names.parse(str(dn)) == dn
    assert names.parse(str(dn)).rdns == dn.rdns


@pytest.mark.parametrize(
    ("value", "escaped"),
    [
        (" lead", r"\ lead"), ("trail ", "trail\\ "), ("#hash", r"\#hash"), ("a,b", r"a\,b"), ("a+b", r"a\+b"),
        ('"q"', r"\"q\""), ("back\\slash", "back\\\\slash"), ("<a>", r"\<a\>"), ("a;b", r"a\;b"), ("nul\x00", r"nul\00"),
        ("a=b", r"a\=b"), (" ", r"\ "), ("Åse", "Åse"), ("in # side", "in # side"),
    ],
)  # fmt: skip
def test_escaping(value, escaped):
    dn = names.ROOT.child("cn", value)
    assert str(dn) == f"cn={escaped}"
    assert names.parse(str(dn)).rdns == dn.rdns


@given(st.lists(st.text(min_size=1), min_size=1, max_size=5))
def test_every_value_survives_text_and_back(values):
    dn = names.ROOT
    for value in values:
        dn = dn.child("ou", value)
    again = names.parse(str(dn))
    assert again.rdns == dn.rdns
    assert again.key == dn.key
    assert again.parent == dn.parent
    assert str(dn).isprintable() or not "".join(values).isprintable()


@given(st.text())
def test_reading_never_fails_but_with_its_own_error(text):
    try:
        dn = names.parse(text)
    except VandrelError as error:
        assert error.code == "bad-name"
    else:
        assert names.parse(str(dn)).rdns == dn.rdns


def test_spelling_does_not_matter():
    one = names.parse("CN=Anna  Lund, OU=Deck ,dc=Example")
    other = names.parse("2.5.4.3=anna lund,organizationalUnitName=DECK,DC=example")
    assert one == other
    assert hash(one) == hash(other)
    assert names.parse("cn=a+ou=b") == names.parse("ou=B+cn=A")
    assert names.parse("cn=a") != names.parse("cn=b")


def test_below_and_moved():
    deck = names.parse("ou=Deck,dc=example")
    anna = deck.child("cn", "Anna")
    assert anna.is_below(deck)
    assert not deck.is_below(deck)
    assert deck.is_within(deck)
    assert not names.parse("cn=x,ou=Deck2,dc=example").is_below(deck)
    assert str(anna.moved(deck, names.parse("ou=Bridge,o=other"))) == "cn=Anna,ou=Bridge,o=other"
    assert [str(dn) for dn in anna.ancestors()] == ["ou=Deck,dc=example", "dc=example"]


@pytest.mark.parametrize(
    "text", ["cn", "cn=a,", "=a", "cn=a\\", 'cn="a"', "cn=#0", "cn=a\\zz", "c n=a", "cn=\\ff", "cn=a,,dc=b"]
)
def test_malformed_names_say_where(text):
    with pytest.raises(VandrelError) as caught:
        names.parse(text)
    assert caught.value.code == "bad-name"
    assert caught.value.findings[0].where.column


def test_places():
    base = names.parse("dc=example")
    place = places.parse("/Ferries/R\\/D/Deck")
    assert place == ("Ferries", "R/D", "Deck")
    assert places.to_text(place) == "/Ferries/R\\/D/Deck"
    assert str(places.to_dn(place, base)) == "ou=Deck,ou=R/D,ou=Ferries,dc=example"
    assert places.of(places.to_dn(place, base), base) == "/Ferries/R\\/D/Deck"
    assert places.parse("/") == ()
    for bad in ("Ferries", "//", "/a//b", ""):
        with pytest.raises(VandrelError):
            places.parse(bad)


@given(
    st.lists(st.text(alphabet=st.characters(exclude_categories=["Cs", "Cc"]), min_size=1).map(str.strip).filter(bool))
)
def test_places_survive_text_and_back(steps):
    if not any(step.endswith("\\") for step in steps):
        assert places.parse(places.to_text(tuple(steps))) == tuple(steps)


def test_the_own_part_of_a_name():
    dn = names.parse("cn=Anna+uid=alund,ou=Deck,dc=example")
    assert (dn.naming_attribute, dn.name) == ("cn", "Anna")
    assert names.parse("ou=Deck,dc=example").naming_attribute == "ou"
    assert DN(()).name == ""
    assert names.parse("cn=#04024869,dc=example").name == "#04024869"


@pytest.mark.parametrize("text", ["cn=Anna Lund,ou=Deck,dc=example", "UID=ALund,ou=Deck,dc=example", "cn=a,dc=b"])
def test_a_name_that_is_read_has_the_key_of_one_that_is_parsed(text):
    assert DN.read(text).key == names.parse(text).key


@pytest.mark.parametrize(
    ("text", "expected"),
    [("cn=#0402ab  ,dc=b", "cn=#0402ab,dc=b"), ("cn=a  ,dc=b", "cn=a,dc=b"), ("cn=a\\ ,dc=b", "cn=a\\ ,dc=b")],
)
def test_spaces_behind_a_value_are_none_of_it(text, expected):
    """RFC 4514, section 3 has none; RFC 2253, section 4 lets them be read; an escaped one belongs to the value."""
    assert str(names.parse(text)) == str(names.parse(expected))
    assert names.parse(text).key == names.parse(expected).key


def test_a_fault_is_told_with_the_column_that_people_count():
    with pytest.raises(VandrelError) as error:
        names.parse('cn=a"b,dc=x')
    assert error.value.findings[0].where.column == 5
