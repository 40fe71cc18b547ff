"""The embedded directory beside slapd: the same entries, filters and modifications; and copies of odd directories."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.ldap.store import LdapDirectory
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry
from vandrel.directory.port import Directory
from vandrel.directory.schema import Schema, shipped_definitions

from . import servers
from .conftest import EXAMPLES, Folder
from .servers import SUFFIX, open_directory

BASE = names.parse(SUFFIX)
PEOPLE = BASE.child("ou", "People")
CLASSES = ["person", "organizationalPerson", "inetOrgPerson"]
#: Values of which some are equal by their rules, and some only look so. (Sharp s is ss by RFC 4518, 2.2, and not there.)
TEXTS = ("Lund", "LUND", " lund", "lu nd", "lu  nd", "Ｌund", "Müller", "MÜLLER", "MU\u0308LLER", "a*b", "é", "st")
VALUES: dict[str, tuple[str, ...]] = {
    "sn": TEXTS, "title": TEXTS, "description": TEXTS, "displayName;lang-ja": TEXTS, "displayName": TEXTS,
    "telephoneNumber": ("+47 5555 01", "+475555-01", "+47 5555 02"),
    "labeledURI": ("http://a.example/B", "http://a.example/b", "http://a.example/Ｂ"),
    "homePostalAddress": ("Quay 1$Kelness", "quay 1$KELNESS", "Quay 1 $ Kelness", "Quay 1Kelness"),
    "manager": (f"cn=x,{SUFFIX}", f"CN=X, {SUFFIX.upper()}", "cn=y"),
    "employeeNumber": ("7", "07", "10"),
}  # fmt: skip
ASSERTED = {
    **VALUES, "name": TEXTS, "displayName": TEXTS, "cn": ("p0", "P1", "p*"), "nosuch": ("x",), "jpegPhoto": ("x",),
    "objectClass": ("person", "PERSON", "inetOrgPerson", "2.5.6.6", "nosuch"), "manager": (*VALUES["manager"], "no name"),
    "entryDN": (f"cn=p0,ou=People,{SUFFIX}", f"CN=P1, OU=people,{SUFFIX.upper()}", f"ou=People,{SUFFIX}", "no name"),
    "hasSubordinates": ("TRUE", "FALSE", "true", "maybe"),
    "createTimestamp": ("20000101000000Z", "20000101000000.5Z", "2000010100Z", "20000230000000Z", "soon", "20990101000000+0100"),
}  # fmt: skip


def leaf(attribute: str) -> st.SearchStrategy[filters.Filter]:
    values = st.sampled_from(ASSERTED[attribute])
    pieces = values.map(lambda value: value[:2])
    compare = st.builds(filters.Compare, st.just(attribute), st.sampled_from(("=", "=", ">=", "<=")), values)
    # What slapd makes of substrings of names and times, and of approximate matches, is its own.
    substring = st.builds(
        filters.Substring, st.just(attribute), pieces, st.lists(pieces, max_size=1).map(tuple), st.one_of(st.just(""), pieces),
    )  # fmt: skip
    rule = st.sampled_from(("", "caseIgnoreMatch", "caseExactMatch", "2.5.13.5"))
    extensible = st.builds(filters.Extensible, st.just(attribute), rule, st.just(False), values)
    present = st.just(filters.Present(attribute))
    simple = (compare, present)
    if attribute in (
        "manager",
        "entryDN",
        "hasSubordinates",
        "createTimestamp",
        "objectClass",
        "jpegPhoto",
        "homePostalAddress",
    ):
        return st.one_of(*simple)
    return st.one_of(*simple, substring, extensible)


leaves = st.sampled_from(sorted(ASSERTED)).flatmap(leaf)
asked = st.recursive(
    leaves,
    lambda parts: st.one_of(
        st.builds(filters.Not, parts), st.lists(parts, min_size=1, max_size=3).map(lambda p: filters.And(tuple(p))),
        st.lists(parts, min_size=1, max_size=3).map(lambda p: filters.Or(tuple(p))),
    ),
    max_leaves=4,
)  # fmt: skip
people = st.lists(
    st.dictionaries(st.sampled_from(sorted(VALUES)), st.integers(0, 12), max_size=5), min_size=1, max_size=6
)


@pytest.fixture(scope="module")
def both(tmp_path_factory) -> Iterator[tuple[LdapDirectory, Directory]]:
    """A slapd and a file, each with an empty unit for people."""
    with servers.running(servers.PLAIN) as server:
        here = EmbeddedDirectory.create(tmp_path_factory.mktemp("beside") / "directory.db", [BASE])
        there = open_directory(server.settings())
        unit = AddEntry(PEOPLE, {"objectClass": ["organizationalUnit"]})
        top = AddEntry(BASE, {"objectClass": ["organization", "dcObject"], "o": ["Marrowick"], "dc": ["marrowick"]})
        assert here.execute([top, unit], atomic=True) == [None, None]
        assert there.execute([unit], atomic=True) == [None]
        yield there, here
        there.close()
        here.close()


def put_in(directory: Directory, drawn: list[dict[str, int]]) -> None:
    old = [entry.dn for entry in directory.search(PEOPLE) if entry.dn != PEOPLE]
    operations: list[AddEntry | DeleteEntry] = list(map(DeleteEntry, old))
    for number, chosen in enumerate(drawn):
        attributes = {name: [VALUES[name][index % len(VALUES[name])]] for name, index in chosen.items()}
        attributes = {"objectClass": list(CLASSES), "sn": ["Sund"], **attributes}
        operations.append(AddEntry(PEOPLE.child("cn", f"p{number}"), attributes))
    outcomes = directory.execute(operations, atomic=False)
    assert [str(outcome) for outcome in outcomes if outcome is not None] == []


def filled(both: tuple[LdapDirectory, Directory], drawn: list[dict[str, int]]) -> tuple[LdapDirectory, Directory]:
    for each in both:
        put_in(each, drawn)
    return both


often = settings(max_examples=15 * EXAMPLES, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])


@often
@given(drawn=people, questions=st.lists(asked, min_size=1, max_size=12))
def test_a_filter_finds_the_same(both, drawn, questions):
    there, here = filled(both, drawn)
    for question in questions:
        found = [sorted(e.dn.key for e in each.search(PEOPLE, where=question)) for each in (there, here)]
        assert found[0] == found[1], str(question)


SCHEMA = Schema(shipped_definitions())


def some_of(name: str) -> st.SearchStrategy[list[str]]:
    """Values no two of which are equal."""
    return st.lists(st.sampled_from(VALUES[name]), max_size=2, unique_by=lambda value: SCHEMA.value_key(name, value))


changes = st.lists(
    st.sampled_from(sorted(VALUES)).flatmap(lambda name: st.tuples(st.just(name), some_of(name), some_of(name))),
    min_size=1, max_size=3, unique_by=lambda change: change[0],
)  # fmt: skip


def held(directory: Directory, dn: names.DN) -> dict[str, set[object]]:
    entry, schema = directory.get(dn), directory.schema
    assert entry is not None
    return {name: {schema.value_key(name, value) for value in entry.values_of(name)} for name in VALUES}


@often
@given(drawn=people, wanted=st.lists(changes, min_size=1, max_size=5))
def test_a_modification_ends_the_same(both, drawn, wanted):
    there, here = filled(both, drawn)
    dn = PEOPLE.child("cn", "p0")
    for parts in wanted:
        operation = ModifyEntry(dn, tuple(Change(name, tuple(gone), tuple(come)) for name, gone, come in parts))
        outcomes = [each.execute([operation], atomic=True)[0] for each in both]
        assert (outcomes[0] is None) == (outcomes[1] is None), [str(operation), *map(str, outcomes)]
        one, other = held(there, dn), held(here, dn)
        assert {n: (one[n], other[n]) for n in VALUES if one[n] != other[n]} == {}, [
            str(operation),
            *map(str, outcomes),
        ]


#: What a directory sets itself, or implies.
STAMPS = {
    "createTimestamp", "modifyTimestamp", "creatorsName", "modifiersName", "entryCSN", "entryUUID", "entryDN",
    "structuralObjectClass", "hasSubordinates", "subschemaSubentry", "objectClass",
}  # fmt: skip
ODD = """\
dn: cn=Odd One,ou=People,dc=marrowick,dc=example
objectClass: inetOrgPerson
cn: Odd One
cn;lang-ja: \u7dba
sn: One
sn;lang-de: Eins
title: %s
manager: cn=Nobody At All,dc=marrowick,dc=example

""" % ("long " * 60)


def test_a_copy_of_an_odd_directory_has_all_of_it_and_can_be_edited(tmp_path):
    with servers.running(servers.PLAIN) as server:
        (tmp_path / "connections.yaml").write_text(
            f"connections:\n  odd:\n    hosts: ['{server.url}']\n    identities: {{admin: {{sasl: external}}}}\n"
        )
        there = Folder(tmp_path, {"VANDREL_DIRECTORY": "odd"})
        made = Folder(tmp_path, {}).run(
            "charter", "new", "--domain", "marrowick.example", "--organization", "Marrowick Ferries"
        )  # fmt: skip
        assert made.code == 0, made.err
        (tmp_path / "odd.ldif").write_text(
            "dn: ou=People,dc=marrowick,dc=example\nobjectClass: organizationalUnit\n\n" + ODD
        )
        direct = open_directory(server.settings())
        from vandrel.directory import ldif

        for record in ldif.read(iter((tmp_path / "odd.ldif").read_text().splitlines(True)), direct.schema.is_binary):
            attributes = {direct.schema.attribute_name(n): list(v) for n, v in record.attributes.items()}
            assert direct.execute([AddEntry(record.dn, attributes)], atomic=True) == [None]
        direct.close()
        assert there.run("export", "--schema", "--to", "copy.ldif").code == 0
        here = Folder(tmp_path, {})
        loaded = here.run("load", "copy.ldif", "--directory", "copy.db", "-y")
        assert loaded.code == 0, loaded.out + loaded.err
        assert "cn=Nobody At All" in loaded.err  # odd, and told
        raw = ("show", "cn=Odd One,ou=People,dc=marrowick,dc=example", "--raw", "--json")
        before = there.run(*raw).json["objects"][0]["attributes"]
        assert before["cn;lang-ja"] == ["綺"] and before["sn;lang-de"] == ["Eins"]
        for folder, more in ((there, ()), (here, ("--directory", "copy.db"))):
            edited = folder.run("edit", raw[1], "@roomNumber=4", "@cn;lang-ja=彩", "-y", *more)
            assert edited.code == 0, edited.out + edited.err
            after = folder.run(*raw, *more).json["objects"][0]["attributes"]
            wanted = before | {"roomNumber": ["4"], "cn;lang-ja": ["彩"]}
            assert {n: v for n, v in after.items() if n not in STAMPS} == {
                n: v for n, v in wanted.items() if n not in STAMPS
            }
            gone = folder.run("delete", raw[1], "-y", *more)
            assert gone.code == 0, gone.out + gone.err
            job = re.search(r"vandrel undo (\d+)", gone.out + gone.err)
            assert job is not None, gone.out + gone.err
            back = folder.run("undo", job.group(1), "-y", *more)
            assert back.code == 0, back.out + back.err
            again = folder.run(*raw, *more).json["objects"][0]["attributes"]
            assert {n: v for n, v in again.items() if n not in STAMPS} == {
                n: v for n, v in wanted.items() if n not in STAMPS
            }
