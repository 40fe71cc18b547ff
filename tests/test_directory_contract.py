"""What every directory must do behind the port. Each directory kind adds itself to the fixture `directory`."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import ClassVar

import pytest
from msgspec import structs

from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry, RenameEntry, SetPassword
from vandrel.directory.port import Changes, Directory, Scope
from vandrel.errors import DirectoryError
from vandrel.secret import Secret

from . import servers
from .servers import Domain, Slapd

BASE = names.parse("ou=Harbour,dc=marrowick,dc=example")
DECK, BRIDGE = BASE.child("ou", "Deck"), BASE.child("ou", "Bridge")
ANNA, ARNE = DECK.child("cn", "Anna Lund"), DECK.child("cn", "Arne, Lund #2")
TEAM = BASE.child("cn", "Team")


class Standard:
    """How the objects of these tests are kept by the standards' schema, and where its servers answer differently."""

    person = ("top", "person", "organizationalPerson", "inetOrgPerson", "vandrelAccount")
    group = ("top", "groupOfNames", "vandrelGroup")
    unit = ("top", "organizationalUnit", "vandrelUnit")
    login, identity, created, nobody = "uid", "entryUUID", "createTimestamp", [""]
    phones, many = "telephoneNumber", 3000
    answers: ClassVar[dict[str, str]] = {}


class Active(Standard):
    """The same for the Active Directory schema."""

    person, group, unit = ("user",), ("group",), ("organizationalUnit",)
    login, identity, created, nobody = "sAMAccountName", "objectGUID", "whenCreated", []
    #: More than come in one piece; a hundred take two seconds.
    phones, many = "otherTelephone", 1510
    #: A person needs no more than a login; what is there already counts as changed by somebody.
    answers: ClassVar[dict[str, str]] = {"required": "", "two values": "changed"}


FLAVOURS = {"standard": Standard, "ad": Active}


def of(directory: Directory) -> type[Standard]:
    return FLAVOURS[directory.capabilities.schema]


def unit(dn: names.DN, **more: list):
    return lambda kind: AddEntry(dn, {"objectClass": list(kind.unit), **more})


def person(dn: names.DN, login: str, **more: list):
    return lambda kind: AddEntry(dn, {"objectClass": list(kind.person), "sn": ["Lund"], kind.login: [login], **more})


def group(dn: names.DN, *members: names.DN):
    def make(kind):
        found = [str(member) for member in members] or kind.nobody
        return AddEntry(dn, {"objectClass": list(kind.group), **({"member": found} if found else {})})

    return make


@pytest.fixture(scope="module")
def slapd() -> Iterator[Slapd]:
    with servers.running() as server:
        yield server


@pytest.fixture(scope="module")
def domain() -> Iterator[Domain]:
    with servers.domain() as server:
        yield server


@pytest.fixture(params=["embedded", "slapd", "domain"])
def directory(request: pytest.FixtureRequest, tmp_path) -> Iterator[Directory]:
    """A directory with two units, two people and a group below a unit of their own."""
    found: Directory
    if request.param == "embedded":
        found = EmbeddedDirectory.create(tmp_path / "directory.db", [BASE.parent])
        top = {"objectClass": ["top", "organization", "dcObject"], "o": ["M"], "dc": ["marrowick"]}
        assert found.execute([AddEntry(BASE.parent, top)], atomic=True) == [None]
    else:
        found = servers.open_directory(request.getfixturevalue(request.param).settings())
    outcomes = make(
        found, unit(BASE), unit(DECK), unit(BRIDGE), person(ANNA, "alund", mail=["anna@marrowick.example"]),
        person(ARNE, "arlund", manager=[str(ANNA)]), group(TEAM, ANNA, ARNE),
    )  # fmt: skip
    assert not any(outcomes), outcomes
    yield found
    # The group first: a server mends it with each of its members that goes.
    left = sorted((entry.dn for entry in found.search(BASE)), key=lambda dn: (dn != TEAM, -len(dn)))
    release = [ModifyEntry(dn, (Change("vandrelProtected", removed=("TRUE",)),)) for dn in left]
    found.execute([step for pair in zip(release, map(DeleteEntry, left), strict=True) for step in pair], atomic=False)
    assert not list(found.search(BASE))
    found.close()


def make(directory: Directory, *wanted, atomic: bool = True) -> list:
    operations = [item(of(directory)) if callable(item) else item for item in wanted]
    return directory.execute(operations, atomic=atomic)


def one(directory: Directory, operation) -> str:
    """The code of the refusal of one operation, or an empty string."""
    outcome = make(directory, operation)[0]
    return outcome.code if outcome else ""


def found(directory: Directory, text: str, base: names.DN = BASE, scope: Scope = Scope.SUBTREE) -> list[str]:
    entries = directory.search(base, scope, filters.parse(text))
    return [dn.name for dn in sorted((entry.dn for entry in entries), key=lambda dn: dn.key)]


def eventually(look, seconds: float = 5) -> None:
    """Some servers mend references, or pass changes on, a moment later, in the background."""
    deadline = time.monotonic() + seconds
    while not look() and time.monotonic() < deadline:
        time.sleep(0.02)
    assert look()


def test_an_entry_comes_back_as_it_was_given(directory):
    entry = directory.get(names.parse("CN=anna  LUND,ou=deck,ou=HARBOUR,dc=Marrowick,dc=example"))
    assert str(entry.dn).lower() == str(ANNA).lower()
    assert entry.text("cn") == "Anna Lund"  # the naming value is an attribute of the entry
    assert len(entry.text(of(directory).identity)) == 36
    assert entry.text(of(directory).created).endswith("Z")
    assert directory.get(DECK.child("cn", "nobody")) is None
    assert [names.parse(text) for text in directory.get(ARNE).texts("manager")] == [ANNA]


def test_scopes_and_order(directory):
    assert found(directory, "(objectClass=*)", DECK, Scope.BASE) == ["Deck"]
    assert found(directory, "(objectClass=*)", DECK, Scope.ONE) == ["Anna Lund", "Arne, Lund #2"]
    assert found(directory, "(objectClass=*)", DECK) == ["Deck", "Anna Lund", "Arne, Lund #2"]
    assert found(directory, "(objectClass=*)")[0] == "Harbour"
    assert found(directory, f"({of(directory).login}=*)", BRIDGE) == []
    assert found(directory, "(objectClass=*)", BASE.child("ou", "nowhere")) == []


def test_search_by_value_reference_and_absence(directory):
    assert found(directory, "(mail=ANNA@marrowick.example)") == ["Anna Lund"]
    assert found(directory, f"(member={filters.escape(str(ARNE))})") == ["Team"]
    assert found(directory, "(&(objectClass=person)(!(manager=*)))") == ["Anna Lund"]
    assert found(directory, "(cn=*lund*)") == ["Anna Lund", "Arne, Lund #2"]


def test_searches_within_a_search_cut_nothing_off(directory, monkeypatch):
    """RFC 2696: some servers keep one cookie to a connection, and another search takes it away without a word."""
    if not isinstance(directory, EmbeddedDirectory):
        from vandrel.directory.ldap import searches

        monkeypatch.setattr(searches, "_PAGE", 5)
    made = [unit(DECK.child("ou", f"Cabin {number:02d}")) for number in range(28)]
    assert not any(make(directory, *made))
    seen = []
    for entry in directory.search(DECK):
        inner = [found.dn for found in directory.search(BASE, where=filters.Compare("ou", "=", entry.dn.name))]
        seen += [dn for dn in inner if dn == entry.dn]
        next(iter(directory.search(BASE)))  # one that nobody reads to its end
        for other in directory.search(BRIDGE):
            assert other.dn == BRIDGE
    wanted = [DECK, *(DECK.child("ou", f"Cabin {number:02d}") for number in range(28))]
    assert sorted(dn.key for dn in seen) == sorted(dn.key for dn in wanted)


def test_holders_and_existing(directory):
    login = of(directory).login
    assert directory.find_owners({login: ["ALUND", "nobody"]}) == {(login, "ALUND"): ANNA}
    assert set(directory.find_owners({login: ["alund"], "cn": [ARNE.name, "x"]}).values()) == {ANNA, ARNE}
    strangers = [DECK.child("cn", f"x, {number}") for number in range(60)]
    assert directory.existing([ANNA, *strangers[:1]]) == {ANNA}
    assert directory.existing([*strangers, ANNA, ARNE, DECK, BRIDGE.child("cn", "y")]) == {ANNA, ARNE, DECK}
    # Many names, and few of them beside each other.
    scattered = [*strangers[:9], *(holder.child("cn", f"y {number}") for number in range(7)
                                   for holder in (BASE, BRIDGE, BASE.child("ou", f"None, {number}")))]  # fmt: skip
    assert directory.existing([*scattered, ANNA, ARNE, BRIDGE]) == {ANNA, ARNE, BRIDGE}
    assert directory.identifiers([*scattered, ARNE]) == {ARNE.key: directory.get(ARNE).identifier}


def modify(dn, *changes):
    return lambda kind: ModifyEntry(
        dn, tuple(Change(getattr(kind, c[0][1:]) if c[0][0] == "." else c[0], *c[1:]) for c in changes)
    )


@pytest.mark.parametrize(
    ("operation", "code"),
    [
        (person(ANNA, "other"), "taken"),
        (person(DECK.child("cn", "anna LUND"), "other"), "taken"),
        (person(DECK.child("cn", "Other"), "ALUND"), "taken"),
        (person(BASE.child("ou", "Engine").child("cn", "X"), "x"), "no-parent"),
        (person(names.parse("cn=X,dc=elsewhere"), "x"), "no-parent"),
        (person(DECK.child("cn", "X"), "x", titel=["y"]), "unknown-field"),
        (
            lambda kind: person(
                DECK.child("cn", "X"), "x", **{kind.identity: ["00000000-0000-0000-0000-000000000000"]}
            )(kind),
            "schema/identity",
        ),
        (ModifyEntry(DECK.child("cn", "X"), ()), "not-found"),
        (ModifyEntry(ANNA, (Change("sn", removed=("Lund",)),)), "schema/required"),
        (ModifyEntry(ANNA, (Change("cn", removed=("Anna Lund",), added=("Anna Lunde",)),)), "schema/own name"),
        (ModifyEntry(ANNA, (Change("title", removed=("Mate",), added=("Captain",)),)), "changed"),
        (ModifyEntry(ARNE, (Change("manager", removed=("cn=x,dc=y",), added=(str(TEAM),)),)), "changed"),
        (modify(ARNE, (".login", ("arlund",), ("alund",))), "taken"),
        (modify(ANNA, (".created", (), ("20260101000000Z",))), "schema/created"),
        (ModifyEntry(ANNA, (Change("displayName", added=("a", "b")),)), "schema/two values"),
        (RenameEntry(ANNA, ARNE), "taken"),
        (RenameEntry(DECK, DECK.child("ou", "Deck")), "refused"),
        (RenameEntry(ANNA, BASE.child("ou", "Engine").child("cn", "Anna")), "no-parent"),
        (DeleteEntry(DECK), "refused"),
        (DeleteEntry(DECK.child("cn", "X")), "not-found"),
    ],
)
def test_refusals_change_nothing(directory, operation, code):
    before = [(e.dn, e.attributes) for e in directory.search(BASE)]
    code, _, told = code.partition("/")
    assert one(directory, operation) == of(directory).answers.get(told, code)
    if not of(directory).answers.get(told, code):
        return
    assert [(e.dn, e.attributes) for e in directory.search(BASE)] == before


def test_values_come_and_go(directory):
    phones = of(directory).phones
    assert not one(directory, modify(ANNA, (phones, (), ("1", "2")), ("title", (), ("Mate",))))
    assert not one(directory, modify(ANNA, (phones, ("1",), ("3",)), ("title", ("Mate",))))
    entry = directory.get(ANNA)
    assert sorted(entry.texts(phones)) == ["2", "3"]
    assert "title" not in entry.attributes
    assert found(directory, f"({phones}=3)") == ["Anna Lund"]
    assert found(directory, f"(|({phones}=1)(title=*))") == []


def test_what_is_present_or_absent_already_is_no_error(directory):
    assert not one(directory, ModifyEntry(TEAM, (Change("member", added=(str(ANNA),)),)))
    assert not one(directory, ModifyEntry(TEAM, (Change("member", removed=("cn=stranger,dc=example",)),)))
    assert len(directory.get(TEAM).texts("member")) == 2


@pytest.mark.parametrize("base", [BASE, DECK, BASE.parent], ids=["unit", "below", "all"])
def test_what_has_changed_since_is_told(directory, base):
    """A file's goes over what points at a renamed object as well; of a server, that cannot be counted on."""
    there = {entry.identifier: entry.dn.name for entry in directory.search(base)}
    stamp = directory.changes(base, "", there).stamp
    has_references = directory.capabilities.embedded

    def told(*operations) -> tuple[set[str], set[str]]:
        nonlocal stamp
        assert make(directory, *operations) == [None] * len(operations)
        changes = directory.changes(base, stamp, there)
        assert changes.has_references == has_references
        gone = {there.pop(identifier) for identifier in changes.deleted}
        changed = [directory.get(dn) for dn in changes.names]
        there.update((entry.identifier, entry.dn.name) for entry in changed)
        assert there == {entry.identifier: entry.dn.name for entry in directory.search(base)}
        stamp = changes.stamp
        return {entry.dn.name for entry in changed}, gone

    team = {TEAM.name} & set(there.values())
    assert told() == (set(), set())
    assert told(modify(ANNA, ("title", (), ("Mate",)))) == ({ANNA.name}, set())
    assert told(modify(ANNA, ("title", ("Mate",), ("Cook",)))) == ({ANNA.name}, set())  # in the same second
    assert told(ModifyEntry(TEAM, (Change("member", removed=(str(ANNA),)),))) == (team, set())
    assert told(ModifyEntry(TEAM, (Change("member", added=(str(ANNA),)),))) == (team, set())
    follows = team if has_references else set()
    asta = ANNA.parent.child("cn", "Asta Lund")
    changed, gone = told(RenameEntry(ANNA, asta))
    assert {"Asta Lund"} | follows <= changed
    assert gone == set()
    assert told(RenameEntry(asta, BASE.child("cn", "Asta Lund")))[1] == ({"Asta Lund"} if base == DECK else set())
    assert told(RenameEntry(BASE.child("cn", "Asta Lund"), asta))[0] >= {"Asta Lund"}
    changed, gone = told(DeleteEntry(asta))
    assert follows <= changed
    assert gone == {"Asta Lund"}


def test_a_stamp_that_nobody_knows_is_none(directory):
    """Such as that of a copy of the file, or of a server before it was taken back to a copy."""
    there = {entry.identifier for entry in directory.search(BASE)}
    stamp = directory.changes(BASE, "", there).stamp
    assert stamp
    later = str(int(stamp) - 1) if stamp.isdecimal() else "rid=000,csn=20991231000000.000000Z#000000#000#000000"
    assert directory.changes(BASE, stamp, there) == Changes(
        stamp, [], frozenset(), has_references=directory.capabilities.embedded
    )
    for other in (later, "nonsense"):
        changes = directory.changes(BASE, other, there)
        assert changes.names is None or set(changes.names) == {entry.dn for entry in directory.search(BASE)}
        assert changes.stamp in (stamp, "")


@pytest.mark.parametrize("attribute", ["title", "departmentNumber", "manager"])
def test_an_exclusive_change_finds_no_other_value(directory, attribute):
    first, second = (str(ARNE), str(TEAM)) if attribute == "manager" else ("1", "2")

    def change(removed: tuple[str, ...], added: tuple[str, ...]) -> ModifyEntry:
        return ModifyEntry(ANNA, (Change(attribute, removed, added, is_exclusive=True),))

    assert directory.execute([change((), (first,))], atomic=True) == [None]
    overtaken = [change((), (second,)), change((second,), ()), change((second,), (str(BASE),))]
    assert [outcome.code for outcome in directory.execute(overtaken, atomic=False)] == ["changed"] * 3
    key = directory.schema.value_key
    assert [key(attribute, value) for value in directory.get(ANNA).values_of(attribute)] == [key(attribute, first)]
    assert (
        directory.execute([change((), (first,)), change((first,), ()), change((first,), ())], atomic=True) == [None] * 3
    )
    assert directory.get(ANNA).texts(attribute) == []


def test_a_subtree_moves_and_what_points_at_it_still_does(directory):
    new = BRIDGE.child("ou", "Aft Deck")
    assert not one(directory, RenameEntry(DECK, new))
    assert found(directory, "(objectClass=*)", BRIDGE) == ["Bridge", "Aft Deck", "Anna Lund", "Arne, Lund #2"]
    anna = directory.get(new.child("cn", "Anna Lund"))
    assert str(anna.dn).lower() == "cn=anna lund,ou=aft deck,ou=bridge,ou=harbour,dc=marrowick,dc=example"
    arne = new.child("cn", "Arne, Lund #2")
    eventually(lambda: {names.parse(m) for m in directory.get(TEAM).texts("member")} == {anna.dn, arne})
    eventually(lambda: [names.parse(m) for m in directory.get(arne).texts("manager")] == [anna.dn])
    assert directory.get(DECK) is None
    assert found(directory, "(ou=Aft Deck)") == ["Aft Deck"]
    assert found(directory, "(ou=Deck)") == []


def test_a_new_name_keeps_the_identity(directory):
    before = directory.get(ANNA).text(of(directory).identity)
    assert not one(directory, RenameEntry(ANNA, DECK.child("cn", "ANNA lund")))
    assert not one(directory, RenameEntry(ANNA, DECK.child("cn", "Anna Brekke")))
    entry = directory.get(DECK.child("cn", "Anna Brekke"))
    assert entry.texts("cn") == ["Anna Brekke"]
    assert entry.text(of(directory).identity) == before


def test_deletion_leaves_nothing_dangling(directory):
    assert not any(directory.execute([DeleteEntry(ANNA), DeleteEntry(ARNE)], atomic=True))
    eventually(lambda: not {ANNA, ARNE} & {names.parse(m) for m in directory.get(TEAM).texts("member")})
    assert found(directory, f"({of(directory).login}=alund)") == []
    assert not one(directory, person(ANNA, "alund"))  # the name is free again


def test_a_protected_object_stays_where_it_is(directory):
    if directory.schema.attribute("vandrelGuarding") is not None:  # there the superior has a say in it
        assert not one(directory, ModifyEntry(ANNA.parent, (Change("vandrelGuarding", added=("TRUE",)),)))
    assert not one(directory, ModifyEntry(ANNA, (Change("vandrelProtected", added=("TRUE",)),)))
    assert one(directory, DeleteEntry(ANNA)) == "protected"
    assert one(directory, RenameEntry(ANNA, BRIDGE.child("cn", "Anna Lund"))) == "protected"
    assert found(directory, "(vandrelProtected=TRUE)") == ["Anna Lund"]
    assert not one(directory, ModifyEntry(ANNA, (Change("vandrelProtected", removed=("TRUE",)),)))
    assert not one(directory, DeleteEntry(ANNA))


def test_a_whole_change_is_made_whole_or_not_at_all(directory):
    good, bad = person(DECK.child("cn", "New"), "new"), person(DECK.child("cn", "Bad"), "alund")
    outcomes = make(directory, good, bad)
    assert [o.code for o in outcomes] == ["done-in-part", "taken"]
    assert directory.get(DECK.child("cn", "New")) is None
    again = ModifyEntry(DECK.child("cn", "New"), (Change("title", added=("Mate",)),))
    outcomes = make(directory, good, bad, again, atomic=False)
    assert [o.code if o else "" for o in outcomes] == ["", "taken", ""]
    assert directory.get(DECK.child("cn", "New")).text("title") == "Mate"


def test_what_cannot_be_taken_back_is_told(directory):
    sequence = [DeleteEntry(TEAM), ModifyEntry(DECK.child("cn", "Nobody"), (Change("title", added=("Mate",)),))]
    try:
        outcomes = directory.execute(sequence, atomic=True)
    except DirectoryError as error:
        assert "cannot be taken back" in error.findings[0].what
        assert directory.get(TEAM) is None
    else:
        assert [o.code for o in outcomes] == ["done-in-part", "not-found"]
        assert directory.get(TEAM) is not None


def test_what_goes_and_comes_back_in_one_sequence_goes_bottom_up_and_comes_top_down(directory):
    hold = BASE.child("ou", "Hold")
    deep = hold.child("ou", "Deep")
    crew = [deep.child("cn", f"Hand {number}") for number in range(40)]
    fill = [unit(hold), unit(deep), *(person(dn, f"hand{n}") for n, dn in enumerate(crew))]
    assert make(directory, *fill, atomic=False) == [None] * 42
    before = {dn: directory.get(dn).identifier for dn in (hold, deep, *crew)}
    # In the way is one whose name comes after that of what holds it.
    sequence = [*map(DeleteEntry, crew[1:]), DeleteEntry(deep), DeleteEntry(crew[0]), DeleteEntry(deep),
                DeleteEntry(crew[0]), DeleteEntry(hold)]  # fmt: skip
    outcomes = directory.execute(sequence, atomic=False)
    assert [outcome.code for outcome in outcomes if outcome] == ["refused", "not-found"]
    assert [index for index, outcome in enumerate(outcomes) if outcome] == [39, 42]
    assert not directory.existing([hold, deep, *crew])
    back = [structs.replace(each(of(directory)), was=was) for each, was in zip(fill, before.values(), strict=True)]
    assert make(directory, *back, atomic=False) == [None] * 42
    assert {dn: directory.get(dn).identifier for dn in before} == before


def test_of_a_long_list_only_what_is_asked_for_needs_to_come(directory):
    crew = [DECK.child("cn", f"Hand {number}") for number in range(60)]
    make(directory, *(person(dn, f"hand{number}") for number, dn in enumerate(crew)))
    assert make(directory, ModifyEntry(TEAM, (Change("member", added=tuple(map(str, crew))),))) == [None]
    nobody = DECK.child("cn", "Nobody At All")

    def some(*wanted, others=0):
        values = directory.some_values(TEAM, "member", [*map(str, wanted), ""], others)
        return {names.parse(str(value)) for value in values}

    assert some(ANNA, nobody) == {ANNA}
    assert some(names.parse(str(crew[7]).upper())) == {crew[7]}
    assert some(nobody) == set()
    with_others = some(ANNA, crew[3], others=2)
    assert {ANNA, crew[3]} < with_others and len(with_others) == 4
    assert directory.some_values(nobody, "member", [str(ANNA)]) == []
    assert directory.some_values(BRIDGE, "member", [str(ANNA)], 5) == []

    for leaving in (False, True):
        found = directory.pointing([ANNA, crew[5]], ["member", "manager"], leaving=leaving)
        pointing = {entry.dn: entry for entry in found}
        assert pointing.keys() == {TEAM, ARNE}
        members = {names.parse(str(value)) for value in pointing[TEAM].values_of("member")}
        assert {ANNA, crew[5]} <= members and (len(members) > 2 or not leaving)
        assert [names.parse(str(value)) for value in pointing[ARNE].values_of("manager")] == [ANNA]
        assert pointing[TEAM].values_of("objectClass")
        assert not list(directory.pointing([nobody], ["member", "manager"], leaving=leaving))


def test_what_is_asked_ahead_is_answered_as_if_it_were_asked_then(directory):
    ahead = directory.ahead()
    if ahead is None:
        return  # a file answers at once
    assert ahead.get(ANNA) is None and not ahead.existing([ANNA]) and not list(ahead.search(DECK))
    assert not ahead.find_owners({of(directory).login: ["alund"]})
    assert directory.get(ANNA).dn == ANNA
    assert directory.existing([ANNA]) == {ANNA}
    assert {entry.dn for entry in directory.search(DECK)} == {DECK, ANNA, ARNE}
    assert len(directory.find_owners({of(directory).login: ["alund"]})) == 1
    # What is written in between makes the answers too old, and so does another beginning.
    ahead.get(ANNA)
    assert make(directory, ModifyEntry(ANNA, (Change("description", added=("x",)),))) == [None]
    assert directory.get(ANNA).texts("description") == ["x"]
    with pytest.raises(AssertionError, match="nothing is written ahead"):
        ahead.execute([DeleteEntry(ANNA)], atomic=False)


@pytest.mark.parametrize("kind", ["add", "modify"])
def test_after_too_many_refusals_nothing_more_is_begun(directory, kind):
    good, late = DECK.child("cn", "Good"), DECK.child("cn", "Late")
    nobody = [DECK.child("cn", f"Nobody {number}").child("cn", "Below") for number in range(40)]
    bad = [person(dn, f"n{n}")(of(directory)) if kind == "add" else ModifyEntry(dn, (Change("title", added=("Mate",)),))
           for n, dn in enumerate(nobody)]  # fmt: skip
    operations = [person(good, "good")(of(directory)), *bad, person(late, "late")(of(directory))]
    outcomes = directory.execute(operations, atomic=False, most_refused=2)
    assert 4 <= len(outcomes) <= 20  # some may be on their way when the third is refused
    assert outcomes[0] is None and all(outcomes[1:])
    assert directory.existing([good, late]) == {good}
    assert len(directory.execute(operations[1:], atomic=False, most_refused=40)) == 41


def test_two_new_entries_of_one_sequence_cannot_share_a_name(directory):
    twin = DECK.child("cn", "Twin")
    three = person(twin, "t1"), person(twin, "t2"), person(DECK.child("cn", "Twin 2"), "T1")
    outcomes = make(directory, *three, atomic=False)
    assert [o.code if o else "" for o in outcomes] == ["", "taken", "taken"]


def test_passwords(directory):
    first, second = Secret("Kv9-fjord-lamp", generated=True), Secret("Qx7-reef-anchor", generated=True)
    marks = {"standard": ("pwdReset", "TRUE", ""), "ad": ("pwdLastSet", "0", None)}
    mark, demanded, free = marks[directory.capabilities.schema]
    assert not directory.verify_password(ANNA, first)
    assert not one(directory, SetPassword(ANNA, first, must_change=True))
    if of(directory) is Active:  # no password is looked at while the account is disabled
        now = directory.get(ANNA).text("userAccountControl")
        assert not one(directory, ModifyEntry(ANNA, (Change("userAccountControl", (now,), ("512",)),)))
    assert directory.verify_password(ANNA, first)
    assert directory.get(ANNA).text(mark) == demanded
    assert not one(directory, SetPassword(ANNA, second, must_change=False))
    assert directory.get(ANNA).text(mark) == free or free is None
    assert directory.get(ANNA).text(mark) != demanded
    if of(directory) is Standard:  # the other server lets the last one in for another hour
        assert not directory.verify_password(ANNA, first)
        assert not directory.password_used(ANNA, first, 1)
    assert not directory.verify_password(ANNA, Secret("Another-1-harbour"))
    assert directory.password_used(ANNA, second, 1)
    assert one(directory, SetPassword(ANNA, None, must_change=True)) == ("" if of(directory) is Standard else "refused")
    assert directory.verify_password(ANNA, second) == (of(directory) is Active)


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
    assert len(found(directory, f"(&(objectClass={of(directory).person[-1]})({of(directory).login}=*))")) == 3
    assert not one(directory, DeleteEntry(dn))


def test_a_group_of_thousands(directory):
    members = [DECK.child("cn", f"Hand {number}") for number in range(of(directory).many)]
    outcomes = make(directory, *(person(dn, f"h{number}") for number, dn in enumerate(members)), atomic=False)
    assert not any(outcomes)
    assert not one(directory, ModifyEntry(TEAM, (Change("member", added=tuple(map(str, members))),)))
    assert {names.parse(text) for text in directory.get(TEAM).texts("member")} == {ANNA, ARNE, *members}
    assert found(directory, f"(member={members[-1]})") == ["Team"]
