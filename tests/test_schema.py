"""The schema: the notation of RFC 4512, syntaxes, matching, and what an entry must be."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.directory import gentime
from vandrel.directory.operations import AddEntry, Change, ModifyEntry
from vandrel.directory.schema import Schema, shipped_definitions
from vandrel.directory.schema.definitions import attribute_type, fields_of, object_class
from vandrel.directory.schema.matching import normalizer

SCHEMA = Schema(shipped_definitions())
PERSON = {"objectClass": ["top", "person", "organizationalPerson", "inetOrgPerson"], "cn": ["A"], "sn": ["B"]}


def test_an_attribute_type_of_the_standard():
    # RFC 4512, section 4.1.2, with what RFC 4519 says of name.
    name = attribute_type(
        "( 2.5.4.41 NAME 'name' EQUALITY caseIgnoreMatch SUBSTR caseIgnoreSubstringsMatch "
        "SYNTAX 1.3.6.1.4.1.1466.115.121.1.15{32768} )",
        {},
    )
    cn = attribute_type("( 2.5.4.3 NAME ( 'cn' 'commonName' ) DESC 'it\\27s a name' SUP name )", {"name": name})
    assert (cn.names, cn.equality, cn.syntax, cn.limit) == (("cn", "commonName"), "caseIgnoreMatch", name.syntax, 32768)
    assert cn.description == "it's a name"
    assert not cn.single


def test_an_object_class_of_the_standard():
    person = object_class(
        "( 2.5.6.6 NAME 'person' SUP top STRUCTURAL MUST ( sn $ cn ) MAY ( userPassword $ telephoneNumber $ seeAlso $ description ) )"
    )
    assert (person.kind, person.must, person.sup) == ("STRUCTURAL", ("sn", "cn"), ("top",))
    assert len(person.may) == 4


def test_an_entry_is_judged_by_its_own_values_whatever_others_of_its_shape_had():
    schema = Schema(shipped_definitions())
    good = {
        **PERSON,
        "mail": ["a@b.example"],
        "title": ["Mate"],
        "preferredLanguage": ["nb"],
        "jpegPhoto": [b"\xff\xd8"],
    }
    bad = [
        ({"mail": ["å@b.example"]}, "mail"), ({"preferredLanguage": ["nb", "en"]}, "preferredLanguage"), ({"title": [""]}, "title"),
        ({"title": [b"Mate"]}, "title"), ({"jpegPhoto": ["text"]}, "jpegPhoto"), ({"cn": ["x" * 40_000]}, "cn"),
    ]  # fmt: skip
    alone = [[f.what for f in Schema(shipped_definitions()).check_entry({**good, **more})] for more, _ in bad]
    for _ in range(3):
        for number in range(300):  # more values than are kept
            assert schema.check_entry({**good, "cn": [f"A{number}"], "title": ["Mate"]}) == []
        for (more, name), expected in zip(bad, alone, strict=True):
            found = [f.what for f in schema.check_entry({**good, **more})]
            assert found == expected and len(found) == 1 and name in found[0], (more, found)
    assert [f.what for f in schema.check_entry({**good, "ou": ["x"], "nonesuch": ["y"]})] == [
        "the schema has no attribute 'nonesuch'"
    ]
    assert "required" in schema.check_entry({name: values for name, values in good.items() if name != "sn"})[0].what


@pytest.mark.parametrize("text", ["", "( )", "( 1.2.3 NAME )", "1.2.3 NAME 'x'"])
def test_what_is_no_definition_is_refused(text):
    with pytest.raises(ValueError, match=r"definition|value"):
        fields_of(text)


def test_a_superior_must_be_defined_before():
    with pytest.raises(ValueError, match="nosuch"):
        attribute_type("( 1.2.3 NAME 'x' SUP nosuch )", {})


def test_every_shipped_class_uses_attributes_that_are_defined():
    for kind, text in shipped_definitions():
        if kind == "objectclass":
            cls = object_class(text)
            assert all(SCHEMA.attribute(name) for name in (*cls.must, *cls.may)), cls.name
            assert all(SCHEMA.object_class(name) for name in cls.sup)
        else:
            attribute = SCHEMA.attribute(fields_of(text)[0])
            assert attribute is not None
            assert attribute.syntax
            assert not attribute.equality or normalizer(attribute.equality) or attribute.equality in (
                "octetStringMatch", "bitStringMatch"
            )  # fmt: skip


def what(attributes: dict, **more) -> list[str]:
    return [finding.what for finding in SCHEMA.check_entry({**attributes, **more})]


@pytest.mark.parametrize(
    ("more", "word"),
    [
        ({}, ""),
        ({"sn": ["x" * 65]}, "64 characters at most, and this value has 65"),
        ({"mail": ["å@x.example"]}, "ASCII"),
        ({"displayName": ["a", "b"]}, "one value, and 2"),
        ({"uid": [""]}, "must not be empty"),
        ({"manager": ["nobody"]}, "not a distinguished name"),
        ({"telephoneNumber": ["+47 55;55"]}, "digits, letters"),
        ({"jpegPhoto": ["text"]}, "octets"),
        ({"userPassword": [b"x" * 257]}, "256 octets at most"),
        ({"member": ["cn=x"]}, "not allowed"),
        ({"titel": ["x"]}, "no attribute 'titel'"),
        ({"objectClass": ["top"]}, "no structural"),
        ({"objectClass": ["top", "preson"]}, "no object class 'preson'"),
        ({"objectClass": ["top", "organizationalUnit"]}, "ou is required"),
        ({"pwdReset": ["maybe"]}, "TRUE or FALSE"),
        ({"pwdAccountLockedTime": ["yesterday"]}, "Generalized Time"),
        ({"employeeNumber": ["0042"]}, ""),
    ],
)
def test_what_an_entry_must_be(more, word):
    found = what(PERSON, **more)
    assert any(word in item for item in found) if word else not found


def test_must_lists_what_is_missing():
    assert what({"objectClass": PERSON["objectClass"]}) == [
        f"{name} is required by the object classes top, person, organizationalPerson, inetOrgPerson"
        for name in ("cn", "sn")
    ]


@pytest.mark.parametrize(
    ("rule", "one", "other"),
    [
        ("caseIgnoreMatch", " Anna  LUND", "anna lund"),
        ("telephoneNumberMatch", "+47 55-55", "+475555"),
        ("distinguishedNameMatch", "CN=A, dc=B", "cn=a,dc=b"),
        ("generalizedTimeMatch", "20261123130000+0100", "20261123120000Z"),
        ("generalizedTimeMatch", "2026112312Z", "20261123120000.0Z"),
        ("booleanMatch", "true", "TRUE"),
        ("numericStringMatch", "12 34", "1234"),
    ],
)
def test_equal_values(rule, one, other):
    key = normalizer(rule)
    assert key(one) == key(other)


@given(st.integers(), st.integers())
def test_the_order_of_integers_is_the_order_of_their_keys(one, other):
    key = normalizer("integerMatch")
    if abs(one) < 10**38 and abs(other) < 10**38:
        assert (key(str(one)) < key(str(other))) == (one < other)


@given(st.datetimes(timezones=st.just(gentime.parse("19700101000000Z").tzinfo)))
def test_generalized_time_survives_text_and_back(instant):
    text = gentime.to_text(instant)
    if instant.year >= 1000:
        assert gentime.parse(text) == instant.replace(microsecond=0)


@given(st.text(max_size=16))
def test_what_is_no_generalized_time_is_none(text):
    assert gentime.parse(text) is None or len(text) == 15


STRANGE = [
    ("attributetype", "( 1.2.3.4 name 'lower' equality caseIgnoreMatch syntax 1.3.6.1.4.1.1466.115.121.1.15 )"),
    ("attributetype", "( 1.2.3.5 NAME 'orphan' SUP nowhere )"),
    ("objectclass", "no definition"),
    ("objectclass", "( 1.2.3.6 NAME 'bare' STRUCTURAL MUST cn MAY lower )"),
    ("ditcontentrule", "( 2.5.6.6 NAME 'people' MUST lower NOT telephoneNumber )"),
]


def test_what_cannot_be_read_is_passed_over_and_the_rest_counts():
    """Keywords of either case, classes without a superior, one superior that is not defined, content rules."""
    schema = Schema([*shipped_definitions(), *STRANGE])
    assert len(schema.passed_over) == 2 and "nowhere" in schema.passed_over[0]
    assert schema.attribute("lower").equality == "caseIgnoreMatch"
    assert schema.attribute("orphan") is None
    assert schema.check_entry({"objectClass": ["bare"], "cn": ["x"], "lower": ["y"]}) == []
    person = {"objectClass": ["person"], "cn": ["x"], "sn": ["y"]}
    assert [f.what for f in schema.check_entry(person)] == ["lower is required by the object classes person"]
    told = schema.check_entry({**person, "lower": ["z"], "telephoneNumber": ["1"]})
    assert [f.what for f in told] == ["telephoneNumber is not allowed on an entry of the classes person"]
    # The rule is that of entries whose own class it is, and not of subclasses (RFC 4512, section 4.1.6).
    assert schema.check_entry({**person, "objectClass": ["person", "inetOrgPerson"], "telephoneNumber": ["1"]}) == []


@pytest.mark.parametrize(
    ("attributes", "what"),
    [
        ({"objectClass": ["person", "organizationalUnit"], "ou": ["a"]}, "two structural object classes"),
        ({"objectClass": ["person", "Person"]}, "objectClass has the same value twice"),
        ({"objectClass": ["person"], "description": ["Mate", "MATE"]}, "description has the same value twice"),
    ],
)
def test_an_entry_has_one_structural_class_and_each_value_once(attributes, what):
    schema = Schema(shipped_definitions())
    person = {"cn": ["x"], "sn": ["y"]}
    assert schema.check_entry({"objectClass": ["person"], **person, "description": ["Mate", "Cook"]}) == []
    assert [f.what for f in schema.check_entry({**person, **attributes}) if what in f.what]


def test_the_structural_class_of_an_entry_stays(bench):
    dn = bench.context.charter.base.child("cn", "x")
    add = AddEntry(dn, {"objectClass": ["person"], "sn": ["y"]})
    derived = ModifyEntry(dn, (Change("objectClass", (), ("inetOrgPerson",)),))
    auxiliary = ModifyEntry(dn, (Change("objectClass", (), ("extensibleObject",)),))
    outcomes = bench.context.directory.execute([add, derived, auxiliary], atomic=False)
    assert outcomes[0] is None and outcomes[2] is None
    assert "person cannot become inetOrgPerson" in str(outcomes[1])


def test_options_make_an_attribute_apart_that_a_filter_without_them_finds():
    """RFC 4512, section 2.5, and RFC 4511, section 4.5.1: whole descriptions are compared by subtypes."""
    schema = Schema(shipped_definitions())
    assert schema.attribute_name("CN;Lang-JA;x-a") == "cn;lang-ja;x-a" == schema.attribute_name("cn;x-a;lang-ja")
    present = ("cn", "cn;lang-ja", "sn;lang-ja", "title")
    assert schema.descriptions("cn", present) == ["cn", "cn;lang-ja"]
    assert schema.descriptions("cn;lang-ja", present) == ["cn;lang-ja"]
    assert schema.descriptions("name", present) == ["cn", "cn;lang-ja", "sn;lang-ja", "title"]  # all are names
    assert schema.is_binary("cn;binary") and not schema.is_binary("cn;lang-ja")
