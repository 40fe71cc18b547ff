"""What every directory must do behind the port. Each directory kind adds itself to the fixture `directory`."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry, RenameEntry, SetPassword
from vandrel.directory.port import Directory, Scope
from vandrel.secret import Secret

from .conftest import not_installed

try:
    from vandrel.directory.ldap.store import LdapDirectory

    from .servers import SLAPD, Slapd, running
except ImportError:
    SLAPD = ""

BASE = names.parse("dc=marrowick,dc=example")
PERSON = ["top", "person", "organizationalPerson", "inetOrgPerson", "vandrelAccount"]
DECK, BRIDGE = BASE.child("ou", "Deck"), BASE.child("ou", "Bridge")
ANNA, ARNE = DECK.child("cn", "Anna Lund"), DECK.child("cn", "Arne, Lund #2")
TEAM = BASE.child("cn", "Team")


def unit(dn: names.DN, **more: list) -> AddEntry:
    return AddEntry(dn, {"objectClass": ["top", "organizationalUnit", "vandrelUnit"], **more})


def person(dn: names.DN, login: str, **more: list) -> AddEntry:
    return AddEntry(dn, {"objectClass": list(PERSON), "sn": ["Lund"], "uid": [login], **more})


def group(dn: names.DN, *members: names.DN) -> AddEntry:
    return AddEntry(
        dn, {"objectClass": ["top", "groupOfNames", "vandrelGroup"], "member": [str(m) for m in members] or [""]}
    )


@pytest.fixture(scope="module")
def slapd() -> Iterator[Slapd]:
    if not SLAPD or not Path(SLAPD).exists():
        not_installed("python-ldap and slapd, for the tests on a standard LDAP server")
    with running() as server:
        yield server


@pytest.fixture(params=["embedded", "slapd"])
def directory(request: pytest.FixtureRequest, tmp_path) -> Iterator[Directory]:
    """A directory with a base, two units, two people and a group."""
    found: Directory
    if request.param == "embedded":
        found = EmbeddedDirectory.create(tmp_path / "directory.db", [BASE])
        top = AddEntry(BASE, {"objectClass": ["top", "organization", "dcObject"], "o": ["M"], "dc": ["marrowick"]})
        assert found.execute([top], atomic=True) == [None]
    else:
        found = LdapDirectory(request.getfixturevalue("slapd").settings())
    outcomes = found.execute(
        [unit(DECK), unit(BRIDGE), person(ANNA, "alund", mail=["anna@marrowick.example"]),
         person(ARNE, "arlund", manager=[str(ANNA)]), group(TEAM, ANNA, ARNE)],
        atomic=True,
    )  # fmt: skip
    assert not any(outcomes), outcomes
    yield found
    left = sorted((entry.dn for entry in found.search(BASE) if entry.dn != BASE), key=len, reverse=True)
    for dn in left:
        found.execute(
            [ModifyEntry(dn, (Change("vandrelProtected", removed=("TRUE",)),)), DeleteEntry(dn)], atomic=False
        )
    found.close()


def one(directory: Directory, operation) -> str:
    """The code of the refusal of one operation, or an empty string."""
    outcome = directory.execute([operation], atomic=True)[0]
    return outcome.code if outcome else ""


def found(directory: Directory, text: str, base: names.DN = BASE, scope: Scope = Scope.SUBTREE) -> list[str]:
    entries = directory.search(base, scope, filters.parse(text))
    return [dn.name for dn in sorted((entry.dn for entry in entries), key=lambda dn: dn.key)]


def eventually(look) -> None:
    """Some servers mend references a moment later, in the background."""
    deadline = time.monotonic() + 5
    while not look() and time.monotonic() < deadline:
        time.sleep(0.02)
    assert look()


def test_an_entry_comes_back_as_it_was_given(directory):
    entry = directory.get(names.parse("CN=anna  LUND,ou=deck,dc=Marrowick,dc=example"))
    assert str(entry.dn) == str(ANNA)
    assert entry.text("cn") == "Anna Lund"  # the naming value is an attribute of the entry
    assert len(entry.text("entryUUID")) == 36
    assert entry.text("createTimestamp").endswith("Z")
    assert directory.get(DECK.child("cn", "nobody")) is None
    assert directory.get(ARNE).texts("manager") == [str(ANNA)]


def test_scopes_and_order(directory):
    assert found(directory, "(objectClass=*)", DECK, Scope.BASE) == ["Deck"]
    assert found(directory, "(objectClass=*)", DECK, Scope.ONE) == ["Anna Lund", "Arne, Lund #2"]
    assert found(directory, "(objectClass=*)", DECK) == ["Deck", "Anna Lund", "Arne, Lund #2"]
    assert found(directory, "(objectClass=*)")[0] == "marrowick"
    assert found(directory, "(uid=*)", BRIDGE) == []
    assert found(directory, "(objectClass=*)", BASE.child("ou", "nowhere")) == []


def test_search_by_value_reference_and_absence(directory):
    assert found(directory, "(mail=ANNA@marrowick.example)") == ["Anna Lund"]
    assert found(directory, f"(member={filters.escape(str(ARNE))})") == ["Team"]
    assert found(directory, "(&(objectClass=person)(!(manager=*)))") == ["Anna Lund"]
    assert found(directory, "(cn=*lund*)") == ["Anna Lund", "Arne, Lund #2"]


def test_holders_and_existing(directory):
    assert directory.holders("uid", ["ALUND", "nobody"]) == {"ALUND": ANNA}
    assert directory.existing([ANNA, DECK.child("cn", "x")]) == {ANNA}


@pytest.mark.parametrize(
    ("operation", "code"),
    [
        (person(ANNA, "other"), "taken"),
        (person(DECK.child("cn", "anna LUND"), "other"), "taken"),
        (person(DECK.child("cn", "Other"), "ALUND"), "taken"),
        (person(BASE.child("ou", "Engine").child("cn", "X"), "x"), "no-parent"),
        (person(names.parse("cn=X,dc=elsewhere"), "x"), "no-parent"),
        (person(DECK.child("cn", "X"), "x", titel=["y"]), "unknown-field"),
        (person(DECK.child("cn", "X"), "x", entryUUID=["00000000-0000-0000-0000-000000000000"]), "schema"),
        (ModifyEntry(DECK.child("cn", "X"), ()), "not-found"),
        (ModifyEntry(ANNA, (Change("sn", removed=("Lund",)),)), "schema"),
        (ModifyEntry(ANNA, (Change("cn", removed=("Anna Lund",), added=("Anna Lunde",)),)), "schema"),
        (ModifyEntry(ANNA, (Change("title", removed=("Mate",), added=("Captain",)),)), "changed"),
        (ModifyEntry(ARNE, (Change("manager", removed=("cn=x,dc=y",), added=(str(TEAM),)),)), "changed"),
        (ModifyEntry(ARNE, (Change("uid", removed=("arlund",), added=("alund",)),)), "taken"),
        (ModifyEntry(ANNA, (Change("createTimestamp", added=("20260101000000Z",)),)), "schema"),
        (ModifyEntry(ANNA, (Change("displayName", added=("a", "b")),)), "schema"),
        (RenameEntry(ANNA, ARNE), "taken"),
        (RenameEntry(DECK, DECK.child("ou", "Deck")), "refused"),
        (RenameEntry(ANNA, BASE.child("ou", "Engine").child("cn", "Anna")), "no-parent"),
        (DeleteEntry(DECK), "refused"),
        (DeleteEntry(DECK.child("cn", "X")), "not-found"),
    ],
)
def test_refusals_change_nothing(directory, operation, code):
    before = [(e.dn, e.attributes) for e in directory.search(BASE)]
    assert one(directory, operation) == code
    assert [(e.dn, e.attributes) for e in directory.search(BASE)] == before


def test_values_come_and_go(directory):
    assert not one(
        directory, ModifyEntry(ANNA, (Change("telephoneNumber", added=("1", "2")), Change("title", added=("Mate",))))
    )
    assert not one(
        directory, ModifyEntry(ANNA, (Change("telephoneNumber", ("1",), ("3",)), Change("title", ("Mate",))))
    )
    entry = directory.get(ANNA)
    assert entry.texts("telephoneNumber") == ["2", "3"]
    assert "title" not in entry.attributes
    assert found(directory, "(telephoneNumber=3)") == ["Anna Lund"]
    assert found(directory, "(|(telephoneNumber=1)(title=*))") == []


def test_what_is_present_or_absent_already_is_no_error(directory):
    assert not one(directory, ModifyEntry(TEAM, (Change("member", added=(str(ANNA),)),)))
    assert not one(directory, ModifyEntry(TEAM, (Change("member", removed=("cn=stranger,dc=example",)),)))
    assert len(directory.get(TEAM).texts("member")) == 2


def test_a_subtree_moves_and_what_points_at_it_still_does(directory):
    new = BRIDGE.child("ou", "Aft Deck")
    assert not one(directory, RenameEntry(DECK, new))
    assert found(directory, "(objectClass=*)", BRIDGE) == ["Bridge", "Aft Deck", "Anna Lund", "Arne, Lund #2"]
    anna = directory.get(new.child("cn", "Anna Lund"))
    assert str(anna.dn) == "cn=Anna Lund,ou=Aft Deck,ou=Bridge,dc=marrowick,dc=example"
    arne = new.child("cn", "Arne, Lund #2")
    eventually(lambda: {names.parse(m) for m in directory.get(TEAM).texts("member")} == {anna.dn, arne})
    eventually(lambda: [names.parse(m) for m in directory.get(arne).texts("manager")] == [anna.dn])
    assert directory.get(DECK) is None
    assert found(directory, "(ou=Aft Deck)") == ["Aft Deck"]
    assert found(directory, "(ou=Deck)") == []


def test_a_new_name_keeps_the_identity(directory):
    before = directory.get(ANNA).text("entryUUID")
    assert not one(directory, RenameEntry(ANNA, DECK.child("cn", "ANNA lund")))
    assert not one(directory, RenameEntry(ANNA, DECK.child("cn", "Anna Brekke")))
    entry = directory.get(DECK.child("cn", "Anna Brekke"))
    assert entry.texts("cn") == ["Anna Brekke"]
    assert entry.text("entryUUID") == before


def test_deletion_leaves_nothing_dangling(directory):
    assert not any(directory.execute([DeleteEntry(ANNA), DeleteEntry(ARNE)], atomic=True))
    eventually(lambda: not {ANNA, ARNE} & {names.parse(m) for m in directory.get(TEAM).texts("member")})
    assert found(directory, "(uid=alund)") == []
    assert not one(directory, person(ANNA, "alund"))  # the name is free again


def test_a_protected_object_stays_where_it_is(directory):
    assert not one(directory, ModifyEntry(ANNA, (Change("vandrelProtected", added=("TRUE",)),)))
    assert one(directory, DeleteEntry(ANNA)) == "protected"
    assert one(directory, RenameEntry(ANNA, BRIDGE.child("cn", "Anna Lund"))) == "protected"
    assert not one(directory, ModifyEntry(ANNA, (Change("vandrelProtected", removed=("TRUE",)),)))
    assert not one(directory, DeleteEntry(ANNA))


def test_a_whole_change_is_made_whole_or_not_at_all(directory):
    good, bad = person(DECK.child("cn", "New"), "new"), person(DECK.child("cn", "Bad"), "alund")
    outcomes = directory.execute([good, bad], atomic=True)
    assert [o.code for o in outcomes] == ["done-in-part", "taken"]
    assert directory.get(good.dn) is None
    outcomes = directory.execute([good, bad, SetPassword(good.dn, None, False)], atomic=False)
    assert [o.code if o else "" for o in outcomes] == ["", "taken", ""]
    assert directory.get(good.dn) is not None


def test_two_new_entries_of_one_sequence_cannot_share_a_name(directory):
    twin = DECK.child("cn", "Twin")
    outcomes = directory.execute(
        [person(twin, "t1"), person(twin, "t2"), person(DECK.child("cn", "Twin 2"), "T1")], atomic=False
    )
    assert [o.code if o else "" for o in outcomes] == ["", "taken", "taken"]


def test_passwords(directory):
    first, second = Secret("Kv9-fjord-lamp", generated=True), Secret("Qx7-reef-anchor", generated=True)
    assert not directory.verify_password(ANNA, first)
    assert not one(directory, SetPassword(ANNA, first, must_change=True))
    assert directory.verify_password(ANNA, first)
    assert directory.get(ANNA).text("pwdReset") == "TRUE"
    assert not one(directory, SetPassword(ANNA, second, must_change=False))
    assert directory.get(ANNA).text("pwdReset") == ""
    assert not directory.verify_password(ANNA, first)
    assert directory.password_used(ANNA, second, 1)
    assert not directory.password_used(ANNA, first, 1)
    assert not one(directory, SetPassword(ANNA, None, must_change=True))
    assert not directory.verify_password(ANNA, second)
    assert "pwdReset" not in directory.get(ANNA).attributes


HOSTILE = [
    "*)(uid=*",
    "a\x00b",
    "\\",
    "' OR 1=1 --",
    "\r\ninjected: yes",
    "#04024869",
    " ",
    "\u202eevil",
    "🚢" * 20,
    "%s{0}",
    "a" * 64,
]


@pytest.mark.parametrize("value", HOSTILE)
def test_a_hostile_value_is_only_ever_a_value(directory, value):
    dn = DECK.child("cn", value)
    assert not one(directory, person(dn, "hostile", title=["x" + value[:60]]))
    entry = directory.get(names.parse(str(dn)))
    assert entry.dn.name == value
    assert found(directory, f"(title={filters.escape('x' + value[:60])})") == [value]
    assert len(found(directory, "(uid=*)")) == 3
    assert not one(directory, DeleteEntry(dn))


def test_a_group_of_thousands(directory):
    members = [DECK.child("cn", f"Hand {number}") for number in range(3000)]
    outcomes = directory.execute([person(dn, f"h{number}") for number, dn in enumerate(members)], atomic=True)
    assert not any(outcomes)
    assert not one(directory, ModifyEntry(TEAM, (Change("member", added=tuple(map(str, members))),)))
    assert len(directory.get(TEAM).texts("member")) == 3002
    assert found(directory, f"(member={members[2999]})") == ["Team"]
