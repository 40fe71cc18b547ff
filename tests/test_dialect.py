"""The standard dialect: every field there and back, days in every zone, members of a group that is never empty."""

from __future__ import annotations

import tempfile
from datetime import date
from itertools import permutations
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.charter.charter import Charter
from vandrel.charter.load import from_text
from vandrel.demo.world import charter_text
from vandrel.dialects.base import difference
from vandrel.dialects.codec import BooleanCodec, MarkCodec
from vandrel.dialects.standard import StandardDialect
from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory.applied import applied
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.entry import Entry
from vandrel.directory.schema import Schema, shipped_definitions
from vandrel.fields import ACCOUNT, FIELDS, GROUP, UNIT, Shape

SCHEMA = Schema(shipped_definitions())
CHARTER = from_text(charter_text(), Path("charter.yaml"))
FOLDER = tempfile.TemporaryDirectory()
DIRECTORY = EmbeddedDirectory.create(Path(FOLDER.name) / "directory.db", [CHARTER.base])
DIALECT = StandardDialect(DIRECTORY, CHARTER)
ANNA = names.parse("cn=Anna Lund,ou=Deck,dc=marrowick,dc=example")
OTHERS = [names.parse(f"cn=P{number},dc=marrowick,dc=example") for number in range(5)]

VALUES = {
    Shape.TEXT: "x", Shape.REFERENCE: str(OTHERS[0]), Shape.DATE: "2026-10-25", Shape.FLAG: "yes",
    Shape.NUMBER: "12345",
}  # fmt: skip
SPECIAL = {"country": "NO", "enabled": "no", "mail": "a@x.example", "alias": "b@x.example"}


def entry(object_type: str, dn=ANNA, **fields) -> Entry:
    made = DIALECT.new_entry(object_type, dn, {name.replace("_", "-"): value for name, value in fields.items()})
    return Entry(dn, made)


@pytest.mark.parametrize("object_type", [ACCOUNT, GROUP, UNIT])
def test_every_field_is_kept_read_changed_and_cleared(object_type):
    fields = {
        name: [SPECIAL.get(name, VALUES[field.shape])]
        for name, field in FIELDS.items()
        if object_type in field.on
        and field.shape in VALUES
        and name not in ("name", "full", "locked", "primary")
        and not DIALECT.why_not_kept(name, object_type)
    }
    dn = names.parse("ou=Deck,dc=marrowick,dc=example") if object_type == UNIT else ANNA
    made = Entry(
        dn, DIALECT.new_entry(object_type, dn, fields | ({"surname": ["Lund"]} if object_type == ACCOUNT else {}))
    )
    assert not SCHEMA.check_entry(made.attributes)
    assert DIALECT.object_type_of(made) == object_type
    for name, value in fields.items():
        if name not in ("surname",):
            assert DIALECT.read(made, name) == value, name
        assert not DIALECT.changes(made, name, DIALECT.read(made, name)), name
        changes = DIALECT.changes(made, name, ["yes"] if name == "enabled" else [])
        assert all(change.removed for change in changes), name
        # Unix systems look at a day of their own.
        assert len(changes) == 1 or (name, {c.attribute for c in changes}) == ("ends", {"vandrelEnd", "shadowExpire"})


@pytest.mark.parametrize(
    "zone", ["UTC", "Europe/Oslo", "America/New_York", "Pacific/Kiritimati", "Pacific/Pago_Pago", "Asia/Kolkata"]
)
@given(day=st.dates(date(1970, 1, 2), date(2199, 12, 30)))
def test_a_day_stays_the_same_day_in_every_zone(zone, day):
    charter = Charter(msgspec.structs.replace(CHARTER.document, time_zone=zone), CHARTER.source)
    dialect = StandardDialect(DIRECTORY, charter)
    for name in ("starts", "ends"):
        made = Entry(ANNA, dialect.new_entry(ACCOUNT, ANNA, {name: [day.isoformat()]}))
        assert dialect.read(made, name) == [day.isoformat()]


def test_the_night_in_which_the_clocks_go_back():
    # Oslo, 25 October 2026: the day has 25 hours and ends at 23:00 UTC; the day before ends at 22:00.
    assert entry(ACCOUNT, ends=["2026-10-25"]).text("vandrelEnd") == "20261025230000Z"
    assert entry(ACCOUNT, ends=["2026-10-24"]).text("vandrelEnd") == "20261024220000Z"
    assert entry(ACCOUNT, starts=["2026-10-25"]).text("vandrelStart") == "20261024220000Z"


def test_disabled_is_what_the_draft_calls_locked_for_good():
    disabled = entry(ACCOUNT, enabled=["no"])
    assert disabled.text("pwdAccountLockedTime") == "000001010000Z"  # draft-behera-ldap-password-policy-10, 5.3.3
    assert entry(ACCOUNT, enabled=["yes"]).text("pwdAccountLockedTime") == ""
    locked = Entry(ANNA, {**disabled.attributes, "pwdAccountLockedTime": ["20261123120000Z"]})
    assert DIALECT.read(locked, "enabled") == ["yes"]  # locked by bad attempts is another thing than disabled
    for wanted in (True, False):
        found = filters.matches(DIALECT.condition("enabled", "yes" if wanted else "no"), disabled, SCHEMA)
        assert found is not wanted


def test_the_full_name_stands_beside_the_entry_name():
    made = entry(ACCOUNT, full=["Anna Sofie Lund"], surname=["Lund"])
    assert made.texts("cn") == ["Anna Lund", "Anna Sofie Lund"]
    assert DIALECT.read(made, "full") == ["Anna Sofie Lund"]
    assert DIALECT.read(entry(ACCOUNT, full=["Anna Lund"]), "full") == ["Anna Lund"]
    (change,) = DIALECT.changes(made, "full", ["Anna Lund"])
    assert (change.removed, change.added) == (("Anna Sofie Lund",), ())


MEMBERS = st.sets(st.sampled_from(OTHERS))


@given(now=MEMBERS, add=MEMBERS, remove=MEMBERS)
def test_members_come_and_go_and_a_group_is_never_without_one(now, add, remove):
    group = entry(GROUP, members=[str(dn) for dn in now])
    left = set(group.texts("member"))
    for change in DIALECT.member_change(group, sorted(add, key=str), sorted(remove - add, key=str)):
        assert set(change.removed) <= left
        left = (left - set(change.removed)) | set(change.added)
    wanted = (now | add) - (remove - add)
    assert left == ({str(dn) for dn in wanted} or {""})  # RFC 4519, section 3.5, demands one: the empty name
    assert DIALECT.members(Entry(ANNA, {**group.attributes, "member": sorted(left)})) == sorted(
        str(dn) for dn in wanted
    )


#: A value for each field that takes no other; of fields that share an attribute, each has one of its own.
OWN_VALUES = SPECIAL | {
    "hours": "Mon 06-18", "dial-in-address": "10.0.0.7", "phone": "+47 5555 0101", "web": "https://x.example",
    "purpose": "distribution", "scope": "universal", "remote-session-limit": "30", "remote-idle-limit": "15",
    "remote-disconnect-limit": "5", "remote-logon": "no", "drive": "H:", "remote-drive": "R:", "language": "nb",
    "locked": "no",
}  # fmt: skip


def sharing(dialect, entry: Entry, object_type: str) -> list[tuple[str, str]]:
    """The pairs of fields that change the same attribute of an entry, in both orders."""
    touched = {}
    for name, field in FIELDS.items():
        if object_type not in field.on or name == "name" or not (name in OWN_VALUES or field.shape in VALUES):
            continue
        if dialect.why_not_kept(name, object_type) or dialect.codec(name) is None:
            continue
        changed = {change.attribute for change in dialect.changes(entry, name, [value_of(name)])}
        touched |= {name: changed} if changed else {}
    return [(one, two) for one, two in permutations(touched, 2) if touched[one] & touched[two]]


def value_of(name: str) -> str:
    return OWN_VALUES.get(name) or VALUES[FIELDS[name].shape]


def hold_together(dialect, entry: Entry, one: str, two: str) -> Entry:
    """Two fields that are written together are both there when the difference is made; the entry after it."""
    after = Entry(entry.dn, dict(entry.attributes))
    for name in (one, two):
        dialect.write(after, name, [value_of(name)])
    made = applied(entry, difference(entry, after))
    assert {name: dialect.read(made, name) for name in (one, two)} == {name: [value_of(name)] for name in (one, two)}
    return made


def test_fields_that_share_an_attribute_are_written_together():
    made = entry(ACCOUNT, surname=["Lund"], mail=["old@x.example"])
    made.attributes["pwdAccountLockedTime"] = ["20260101000000Z"]
    pairs = sharing(DIALECT, made, ACCOUNT)
    assert ("enabled", "locked") in pairs
    for one, two in pairs:
        hold_together(DIALECT, made, one, two)


@pytest.mark.parametrize(
    ("codec", "value", "found"),
    [
        (BooleanCodec("flag"), "yes", "(flag=TRUE)"), (BooleanCodec("flag"), "no", "(flag=FALSE)"),
        (MarkCodec("flag"), "yes", "(flag=TRUE)"), (MarkCodec("flag"), "no", "(!(flag=TRUE))"),
    ],
)  # fmt: skip
def test_a_flag_is_stored_found_and_read_as_what_it_is(codec, value, found):
    stored = {name: values for name, values in {"flag": codec.store(DIALECT, "flag", [value])}.items() if values}
    assert filters.to_text(codec.condition(DIALECT, "flag", value)) == found
    assert codec.read(DIALECT, Entry(ANNA, stored), "flag") == [value]
    # Nothing at all: a mark says no, unless it may say nothing; a truth value says nothing.
    nothing = codec.read(DIALECT, Entry(ANNA, {}), "flag")
    assert nothing == ([] if isinstance(codec, BooleanCodec) else ["no"])


def test_a_mark_that_may_say_nothing():
    sparse = MarkCodec("flag", is_sparse=True)
    assert sparse.read(DIALECT, Entry(ANNA, {}), "flag") == []
    assert sparse.read(DIALECT, Entry(ANNA, {"flag": ["TRUE"]}), "flag") == ["yes"]


def test_a_day_is_an_instant_where_the_attribute_keeps_instants_and_text_elsewhere():
    """The demo's zone is Europe/Oslo: a first day begins at midnight there, an hour before that of UTC."""
    codec = DIALECT.codec("starts")
    assert codec.store(DIALECT, "vandrelStart", ["2026-01-05"]) == ["20260104230000Z"]
    assert codec.store(DIALECT, "description", ["2026-01-05"]) == ["2026-01-05"]
