"""The Active Directory schema: its formats against the documents that define them, its dialect on a real domain."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from uuid import UUID

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec import structs

from vandrel.charter.document import Passwords
from vandrel.charter.load import from_text
from vandrel.demo.world import charter_text
from vandrel.dialects.active import ActiveDialect
from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory.active import account_control, descriptor, filetime, hours, sid
from vandrel.directory.entry import Entry
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry, RenameEntry, SetPassword
from vandrel.errors import DirectoryError, Refused, VandrelError
from vandrel.fields import ACCOUNT, COMPUTER, FIELDS, GROUP, UNIT, Shape
from vandrel.jobs.accounts.create import Creator
from vandrel.jobs.accounts.logon import logon_state
from vandrel.jobs.common import create_object
from vandrel.jobs.common.account_steps import account_steps
from vandrel.jobs.common.assignments import parse as assignment
from vandrel.jobs.common.edit import Editor
from vandrel.jobs.common.new_object import new_object_steps
from vandrel.jobs.history.undo import UndoRequest, undo_job
from vandrel.jobs.inspect.probe import rights
from vandrel.objects.context import Context
from vandrel.record.journal import Journal
from vandrel.secret import Secret
from vandrel.steps.plan import Plan
from vandrel.steps.references import pointing_at
from vandrel.steps.runner import Runner
from vandrel.text import octets as base64
from vandrel.text import week

from . import servers
from .conftest import Folder, not_installed
from .servers import Domain
from .test_dialect import hold_together, sharing

# --- formats


@pytest.mark.parametrize(
    ("text", "octets"),
    [  # [MS-DTYP] 2.4.2.4: Everyone, Self, Authenticated Users, BUILTIN\Administrators
        ("S-1-1-0", "010100000000000100000000"),
        ("S-1-5-10", "01010000000000050a000000"),
        ("S-1-5-11", "01010000000000050b000000"),
        ("S-1-5-32-544", "01020000000000052000000020020000"),
        ("S-1-0x123456789ABC-7", "0101123456789abc07000000"),
    ],
)
def test_security_identifiers(text, octets):
    assert sid.from_text(text).hex() == octets
    assert sid.to_text(bytes.fromhex(octets)) == text


def test_relative_identifiers():
    assert sid.relative("S-1-5-21-1-2-3-1104") == 1104
    assert sid.sibling("S-1-5-21-1-2-3-1104", 513) == "S-1-5-21-1-2-3-513"


@pytest.mark.parametrize("octets", [b"", b"\x01", bytes.fromhex("0201000000000001000000"), b"\x01\x02" + bytes(6)])
def test_what_is_no_identifier_is_refused(octets):
    with pytest.raises(ValueError, match="not a security identifier"):
        sid.to_text(octets)
    for text in ("", "S-1", "S-2-5-11", "S-1-5-99999999999"):
        with pytest.raises(ValueError, match=r"not a security identifier|invalid literal"):
            sid.from_text(text)


def test_times():
    # [MS-DTYP] 2.3.3; the beginning of 1970 is 134774 days after that of 1601.
    assert filetime.to_text(datetime(1970, 1, 1, tzinfo=UTC)) == str(134774 * 86400 * 10**7)
    assert filetime.parse("116444736000000000") == datetime(1970, 1, 1, tzinfo=UTC)
    assert filetime.parse("0") is filetime.parse("9223372036854775807") is filetime.parse("-1") is None


def test_the_hours_of_a_week():
    # Monday to Friday 06-18 in a zone one hour ahead of UTC: 05-17 UTC, that is bits 5 to 7 of the first octet of the
    # day, all of the second, bit 0 of the third; Sunday's three octets come first.
    local = week.parse("Mon-Fri 06-18")
    assert hours.encode(hours.shifted(local, -1)).hex() == "000000" + "e0ff01" * 5 + "000000"
    # Sunday 00-02 two hours ahead: Saturday 22-24 UTC, the last two bits of the week.
    assert hours.encode(hours.shifted(week.parse("Sun 00-02"), -2)).hex() == "00" * 20 + "c0"
    assert hours.decode(b"") == [True] * 168
    with pytest.raises(ValueError, match="21 octets"):
        hours.decode(bytes(20))


@given(st.lists(st.booleans(), min_size=168, max_size=168), st.integers(-14, 14))
def test_hours_and_weeks_come_back(allowed, ahead):
    assert hours.decode(hours.encode(allowed)) == allowed
    assert hours.shifted(hours.shifted(allowed, ahead), -ahead) == allowed
    assert week.parse(week.to_text(allowed)) == allowed


@pytest.mark.parametrize(
    ("typed", "text"),
    [
        ("mon-fri 6-18, Sat 08-12", "Mon-Fri 06-18, Sat 08-12"), ("all", "all"), ("none", "none"),
        ("Fri 22-06", "Fri 22-24, Sat 00-06"), ("Sat-Mon", "Mon, Sat-Sun"), ("Mon+Wed 8-9", "Mon 08-09, Wed 08-09"),
    ],
)  # fmt: skip
def test_weeks_as_people_write_them(typed, text):
    assert week.to_text(week.parse(typed)) == text


@pytest.mark.parametrize(
    "text", ["", "Mon 8", "Mon 8-25", "Mon 8-8", "Mo 8-9", "Mon-Fri-Sun 8-9", "Mon 24-3", "Mon 8-9;"]
)
def test_what_is_no_week_is_refused(text):
    with pytest.raises(VandrelError) as caught:
        week.parse(text)
    assert caught.value.code == "bad-value"


def test_kinds_of_group():
    # [MS-ADTS] 2.2.12: a security group has the highest of 32 bits set, so the number is negative.
    assert account_control.group_type("security", "global") == "-2147483646"
    assert account_control.group_type("security", "domain-local") == "-2147483644"
    assert account_control.group_type("distribution", "universal") == "8"
    for purpose in ("security", "distribution"):
        for scope in ("global", "domain-local", "universal"):
            number = account_control.group_type(purpose, scope)
            assert (account_control.purpose_of(number), account_control.scope_of(number)) == (purpose, scope)


ALLOW_ALL = "000014 00ff010f00 01010000000000050b000000".replace(" ", "")
SHIELD = "010014 0040000100 010100000000000100000000".replace(" ", "")
HEAD = "01000480" + "00000000" * 3 + "14000000"


def octets(*entries: str) -> bytes:
    body = "".join(entries)
    size = (8 + len(body) // 2).to_bytes(2, "little").hex()
    return bytes.fromhex(f"{HEAD}0200{size}{len(entries):02x}000000{body}")


def test_protection_is_one_denial_more_and_nothing_else():
    """[MS-DTYP] 2.4.4 to 2.4.6, written out by hand: type, flags, size, mask, trustee."""
    before = octets(ALLOW_ALL)
    free = descriptor.decode(before)
    assert not descriptor.is_protected(free)
    shielded = descriptor.protect(free, True)
    assert descriptor.encode(shielded) == octets(SHIELD, ALLOW_ALL)
    assert descriptor.is_protected(shielded)
    assert descriptor.protect(shielded, True) == shielded
    assert descriptor.encode(descriptor.protect(shielded, False)) == before
    for flags in ("10", "08", "0a"):  # handed down, or for what is below alone: not the object's own
        other = octets(SHIELD.replace("010014", f"01{flags}14"), ALLOW_ALL)
        assert not descriptor.is_protected(descriptor.decode(other))
        assert descriptor.encode(descriptor.protect(descriptor.decode(other), False)) == other


def test_what_holds_below_alone_does_not_fix_a_password_nor_guard_children():
    free = descriptor.decode(octets(ALLOW_ALL))
    for change, says in (
        (descriptor.fix_password, descriptor.is_password_fixed), (descriptor.guard_children, descriptor.is_guarding),
    ):  # fmt: skip
        done = change(free, True)
        below = [structs.replace(e, flags=0x0A) if e not in free.dacl.entries else e for e in done.dacl.entries]
        handed = descriptor.with_entries(done, below)
        assert says(done)
        assert not says(handed)
        assert change(handed, False) == handed
        assert len(change(handed, True).dacl.entries) > len(handed.dacl.entries)


def test_a_fixed_password_is_two_denials_of_one_right():
    before = descriptor.decode(octets(ALLOW_ALL))
    fixed = descriptor.fix_password(before, True)
    assert [(e.type, e.mask, e.trustee) for e in fixed.dacl.entries[:2]] == [
        (6, 0x100, "S-1-5-10"),
        (6, 0x100, "S-1-1-0"),
    ]
    assert {e.object for e in fixed.dacl.entries[:2]} == {UUID("ab721a53-1e2f-11d0-9819-00aa0040529b").bytes_le}
    assert descriptor.decode(descriptor.encode(fixed)) == fixed
    assert descriptor.is_password_fixed(fixed)
    assert descriptor.fix_password(fixed, False).dacl.entries == before.dacl.entries


@given(st.binary(max_size=200))
def test_any_octets_are_read_or_refused(found):
    for read in (descriptor.decode, sid.to_text):
        try:
            read(found)
        except ValueError:
            continue


# --- a real domain


@pytest.fixture(scope="module")
def domain() -> Iterator[Domain]:
    with servers.domain() as server:
        yield server


CHARTER = from_text(charter_text(), Path("charter.yaml"))


@pytest.fixture(scope="module")
def context(domain) -> Iterator[Context]:
    """The whole hierarchy of the demo on a domain."""
    directory = servers.open_directory(domain.settings())
    assert directory.capabilities.schema == "ad"
    found = Context(CHARTER, directory, ActiveDialect(directory, CHARTER))
    unit = CHARTER.base.child("ou", "Trial")
    assert not any(directory.execute([s.operation() for s in new_object_steps(found, UNIT, unit, {})], atomic=True))
    yield found
    directory.close()


UNDER = CHARTER.base.child("ou", "Trial")


def created(context, object_type, dn, **fields):
    wanted = {name.replace("_", "-"): value for name, value in fields.items()}
    outcomes = context.directory.execute(
        [step.operation() for step in new_object_steps(context, object_type, dn, wanted)], atomic=True
    )
    assert not any(outcomes), outcomes
    return context.directory.get(dn)


def test_every_descriptor_of_the_server_comes_back_octet_by_octet(domain):
    import ldap
    from ldap.controls import RequestControl

    from vandrel.directory.ldap.connection import connect

    connection, _ = connect(domain.settings())
    seen = 0
    for base in ("dc=marrowick,dc=example", "cn=Configuration,dc=marrowick,dc=example"):
        for parts in (4, 7, 15):  # the list alone; with owner and group; with the audit list too
            flags = RequestControl("1.2.840.113556.1.4.801", True, bytes((0x30, 3, 2, 1, parts)))
            request = connection.search_ext(
                base, ldap.SCOPE_SUBTREE, "(objectClass=*)", ["nTSecurityDescriptor"], serverctrls=[flags]
            )
            for dn, attributes in connection.result3(request)[1]:
                for value in attributes.get("nTSecurityDescriptor", []) if dn else ():
                    assert descriptor.encode(descriptor.decode(value)) == value, dn
                    seen += 1
    assert seen > 3000
    connection.unbind_s()


def test_lengths_come_from_the_live_schema(context):
    limits = {
        name: context.directory.schema.attribute(name).limit for name in ("employeeID", "title", "initials", "cn")
    }
    assert limits == {"employeeID": 16, "title": 128, "initials": 6, "cn": 64}
    assert context.directory.schema.attribute("memberOf").read_only


SPECIAL = {
    "country": ["NO"], "enabled": ["no"], "mail": ["a@x.example"],
    "purpose": ["distribution"], "scope": ["universal"], "hours": ["Mon-Fri 06-18"], "initials": ["AL"],
    "machines": ["pc-1", "pc-2"], "phone": ["1", "2", "3"], "web": ["https://a.example", "https://b.example"],
    "notes": ["first", "second", "third"], "password-fixed": ["yes"], "password-never-expires": ["yes"], "ends": ["2026-12-31"],
    "login": ["trial"], "principal": ["trial@marrowick.example"], "back": ["2027-01-07"], "drive": ["H:"],
    "alias": ["b@x.example", "SIP:c@x.example", "sip:d@x.example"], "recovery-mail": ["a@home.example"],
    "dial-in-address": ["192.0.2.200"], "remote-drive": ["K:"], "remote-logon": ["no"], "remote-home": ["\\\\høy\\x"],
    "delegation": ["Enterprise Admins: reset-passwords", "Enterprise Admins: create-accounts"], "ip-phone": ["1", "2"],
}  # fmt: skip


@pytest.mark.parametrize("object_type", [ACCOUNT, GROUP, UNIT, COMPUTER])
def test_every_field_is_kept_read_and_cleared_on_the_server(context, object_type):
    other = created(context, ACCOUNT, UNDER.child("cn", f"Other {object_type}"), login=[f"o{object_type}"])
    values = {Shape.TEXT: ["x"], Shape.DATE: ["2026-10-25"], Shape.FLAG: ["yes"], Shape.REFERENCE: [str(other.dn)],
              Shape.NUMBER: ["30"], Shape.OCTETS: [base64.to_text(b"\xff\xd8\xff\xe0 a photograph \xff\xd9")]}  # fmt: skip
    fields = {
        name: SPECIAL.get(name, values[field.shape])
        for name, field in FIELDS.items()
        if object_type in field.on
        and field.shape in values
        and name not in ("name", "full", "change", "primary", "locked")
        and not context.dialect.why_not_kept(name, object_type)
    }
    if object_type == UNIT:
        fields["notes"] = ["first"]
    dn = UNDER.child("ou" if object_type == UNIT else "cn", f"All of a {object_type}")
    try:
        made = created(context, object_type, dn, **{name.replace("-", "_"): value for name, value in fields.items()})
        assert context.dialect.object_type_of(made) == object_type
        assert {name: context.dialect.read(made, name) for name in fields} == fields
        if object_type == ACCOUNT:
            # Works through the last day in Oslo, which is over at 23:00 UTC.
            assert filetime.parse(made.text("accountExpires")) == datetime(2026, 12, 31, 23, tzinfo=UTC)
            assert made.texts("proxyAddresses").count("SMTP:a@x.example") == 1
        if object_type == GROUP:
            assert made.text("groupType") == "8"
        kept = ("login", "purpose", "scope", "enabled", "surname")
        for name in fields:
            if name not in kept:
                changes = context.dialect.changes(context.directory.get(dn), name, [])
                outcome = (
                    context.directory.execute([ModifyEntry(dn, tuple(changes))], atomic=True) if changes else [None]
                )
                assert outcome == [None], (name, outcome)
        empty = context.directory.get(dn)
        left = {name: context.dialect.read(empty, name) for name in fields if name not in kept}
        assert {name: value for name, value in left.items() if value not in ([], ["no"])} == {}
    finally:
        context.directory.execute([DeleteEntry(dn), DeleteEntry(other.dn)], atomic=False)


def test_days_follow_the_zone_of_the_organization(context):
    made = created(context, ACCOUNT, UNDER.child("cn", "Summer"), login=["summer"], ends=["2026-06-30"])
    assert filetime.parse(made.text("accountExpires")) == datetime(2026, 6, 30, 22, tzinfo=UTC)
    context.directory.execute([DeleteEntry(made.dn)], atomic=True)


def test_the_servers_password_rules_are_those_of_its_domain(context):
    """History 24, longest age 42 days, shortest 1 day, length 7, three of four classes."""
    ((source, found),) = context.dialect.password_layers(None)
    assert source == "domain marrowick"
    assert found == Passwords(length=7, classes=3, history=24, maximum_age=42, minimum_age=1, own_names="refuse")
    rules = {rule.name: (rule.value, rule.source) for rule in context.password_rules("crew").shown()}
    assert rules["length"] == (12, "charter")
    assert rules["maximum-age"] == (42, "domain marrowick")


def test_a_finer_policy_goes_before_the_domains_rules(context):
    entry = created(context, ACCOUNT, UNDER.child("cn", "Strict"), login=["strict"])
    holder = CHARTER.base.child("cn", "System").child("cn", "Password Settings Container").child("cn", "Masters")
    day = 864_000_000_000
    finer = AddEntry(holder, {
        "objectClass": ["msDS-PasswordSettings"], "msDS-PasswordSettingsPrecedence": ["1"],
        "msDS-MinimumPasswordLength": ["20"], "msDS-PasswordHistoryLength": ["5"],
        "msDS-MaximumPasswordAge": [str(-90 * day)], "msDS-MinimumPasswordAge": ["0"],
        "msDS-PasswordComplexityEnabled": ["FALSE"], "msDS-PasswordReversibleEncryptionEnabled": ["FALSE"],
        "msDS-LockoutThreshold": ["0"], "msDS-LockoutDuration": ["-18000000000"],
        "msDS-LockoutObservationWindow": ["-18000000000"], "msDS-PSOAppliesTo": [str(entry.dn)],
    })  # fmt: skip
    assert context.directory.execute([finer], atomic=True) == [None]
    layers = dict(context.dialect.password_layers(context.directory.get(entry.dn)))
    assert list(layers) == ["domain marrowick", "policy Masters"]
    assert (
        layers["policy Masters"].length,
        layers["policy Masters"].maximum_age,
        layers["policy Masters"].classes,
    ) == (20, 90, 0)
    rules = {rule.name: (rule.value, rule.source) for rule in context.password_rules("crew", entry).shown()}
    assert rules["length"] == (20, "policy Masters")
    assert rules["maximum-age"] == (90, "policy Masters")  # the narrowest replaces the domain's 42 days
    assert rules["history"] == (24, "charter")
    context.directory.execute([DeleteEntry(holder), DeleteEntry(entry.dn)], atomic=False)


def runner_of(context, tmp_path) -> Runner:
    return Runner(context.directory, context.dialect, lambda: Journal(tmp_path / "journal.db", create=True))


def hired(context, tmp_path, given, surname, login):
    draft = Creator(context, CHARTER.today()).draft(
        "guest", {"given": [given], "surname": [surname], "sponsor": ["Administrator"], "place": ["/Trial"], "login": [login]}
    )  # fmt: skip
    assert not [f for f in draft.findings if f.is_fatal], draft.findings
    report = runner_of(context, tmp_path).run(
        Plan("hire", account_steps(context, [(draft, Secret("Kv9-fjord-lamp"))]), draft.findings), "t"
    )
    assert not report.is_in_part, report.refused
    return context.directory.get(draft.dn)


def test_an_account_is_enabled_once_it_has_its_password_and_logs_on(context, tmp_path):
    entry = hired(context, tmp_path, "Anna", "Lund", "annal")
    state = logon_state(context, entry, CHARTER.today())
    assert state.able
    assert "must be changed at the next logon" in state.sentence
    assert context.directory.verify_password(entry.dn, Secret("Kv9-fjord-lamp"))
    off = Editor(context).edit(entry, [assignment("enabled=no")])
    assert not runner_of(context, tmp_path).run(Plan("off", off.steps), "t").is_in_part
    assert not context.directory.verify_password(entry.dn, Secret("Kv9-fjord-lamp"))
    assert "the account is disabled" in logon_state(context, context.directory.get(entry.dn), CHARTER.today()).sentence
    context.directory.execute([DeleteEntry(entry.dn)], atomic=True)


def test_a_password_that_the_server_refuses_leaves_no_account_behind(context, tmp_path):
    draft = Creator(context, CHARTER.today()).draft(
        "guest", {"surname": ["Hemlig"], "sponsor": ["Administrator"], "place": ["/Trial"]}
    )
    plan = Plan("hire", account_steps(context, [(draft, Secret("abc"))]), draft.findings)
    report = runner_of(context, tmp_path).run(plan, "t")
    codes = dict(report.refused)
    assert codes[str(draft.dn)].code in ("password", "done-in-part")
    assert any(error.code == "password" and "too short" in str(error) for _, error in report.refused)
    assert report.made == 0
    assert context.directory.get(draft.dn) is None


def test_the_primary_group_is_a_membership_too(context, tmp_path):
    entry = created(context, ACCOUNT, UNDER.child("cn", "Member"), login=["memb"])
    team = created(context, GROUP, UNDER.child("cn", "team"), purpose=["security"], scope=["global"])
    names = [g.dn.name for g in context.directory.search(CHARTER.base, where=context.dialect.groups_filter(entry))]
    assert names == ["Domain Users"]
    assert [dn.partition(",")[0] for dn in context.dialect.read(entry, "primary")] == ["CN=Domain Users"]
    leave = Editor(context).edit(entry, [assignment("groups=team")])
    assert [f.what for f in leave.findings] == ["Domain Users is the primary group of Member, and cannot be left"]
    runner = runner_of(context, tmp_path)
    runner.run(Plan("join", Editor(context).edit(entry, [assignment("groups+=team")]).steps), "t")
    entry = context.directory.get(entry.dn)
    runner.run(Plan("primary", Editor(context).edit(entry, [assignment("primary=team")]).steps), "t")
    entry = context.directory.get(entry.dn)
    names = [g.dn.name for g in context.directory.search(CHARTER.base, where=context.dialect.groups_filter(entry))]
    assert sorted(names) == ["Domain Users", "team"]  # the old one became an ordinary membership
    found = context.directory.search(
        CHARTER.base, where=context.dialect.primary_members(context.directory.get(team.dn))
    )
    assert [e.dn.name for e in found] == ["Member"]
    assert "Member" not in " ".join(context.dialect.members(context.directory.get(team.dn)))
    context.directory.execute([DeleteEntry(entry.dn), DeleteEntry(team.dn)], atomic=False)


def test_nobody_can_pass_for_the_servers_own(context):
    """What hides an object from most views is anybody's to write; what makes it the server's, nobody's."""
    directory, is_own = context.directory, context.dialect.is_servers_own
    entry = created(context, ACCOUNT, UNDER.child("cn", "Hidden"), login=["hidden"])
    asked = [
        ModifyEntry(entry.dn, (Change(name, added=("TRUE",)),))
        for name in ("showInAdvancedViewOnly", "isCriticalSystemObject")
    ]
    outcomes = [directory.execute([each], atomic=False)[0] for each in asked]
    assert [outcome is None for outcome in outcomes] == [True, False]
    assert not is_own(directory.get(entry.dn))
    system = CHARTER.base.child("cn", "System")
    assert is_own(directory.get(system)) and is_own(
        directory.get(CHARTER.base.child("cn", "Users").child("cn", "krbtgt"))
    )
    directory.execute([DeleteEntry(entry.dn)], atomic=False)


def test_the_program_shows_primary_members_too(domain, tmp_path):
    folder = Folder(tmp_path, {"VANDREL_DIRECTORY": "harbour"})
    (tmp_path / "charter.yaml").write_text(charter_text())
    (tmp_path / "pw").write_text(Domain.PASSWORD)
    (tmp_path / "pw").chmod(0o600)
    (tmp_path / "connections.yaml").write_text(
        f"connections:\n  harbour:\n    hosts: ['{domain.url}']\n    ca-file: {domain.ca_file}\n"
        "    identities: {i: {bind: Administrator@marrowick.example, password-file: pw}}\n"
    )
    shown = folder.run("show", "Domain Users").out
    line = next(line for line in shown.splitlines() if "as primary" in line)
    assert "Administrator" in line
    assert "krbtgt" in line
    listed = folder.run("find", "groups=Domain Users", "--columns", "login", "--as", "csv").out.split()
    assert {"Administrator", "krbtgt"} <= set(listed)
    counted = folder.run("find", "--type", "groups", "--json").json["rows"]
    members = {row["name"]: int(row["members"]) for row in counted}
    assert members["Domain Users"] == len(listed) - 1 > 1  # they stand in no list of members; the first is the header
    assert [row["name"] for row in counted if row["place"] == "/Users"] == sorted(
        (row["name"] for row in counted if row["place"] == "/Users"), key=str.casefold
    )


def test_the_server_itself_protects_what_is_protected(context, tmp_path):
    entry = created(context, ACCOUNT, UNDER.child("cn", "Safe"), login=["safe"])
    sibling = created(context, ACCOUNT, UNDER.child("cn", "Other"), login=["othr"])
    runner = runner_of(context, tmp_path)
    protecting = runner.run(Plan("protect", Editor(context).edit(entry, [assignment("protected=yes")]).steps), "t")
    steps = [item.record for item in runner.journal.steps(protecting.job)]
    assert [(names.parse(step["dn"]), step["changes"][0][0]) for step in steps] == [
        (UNDER, "vandrelGuarding"), (entry.dn, "vandrelProtected"),
    ]  # fmt: skip
    elsewhere = RenameEntry(entry.dn, CHARTER.base.child("cn", "Safe"))
    outcomes = context.directory.execute([DeleteEntry(entry.dn), elsewhere, DeleteEntry(sibling.dn)], atomic=False)
    assert [o.code if o else "" for o in outcomes] == ["protected", "protected", ""]
    runner.run(Plan("undo", undo_job(context, runner, UndoRequest(protecting.job)).steps, undoes=protecting.job), "t")
    assert context.directory.get(UNDER).text("vandrelGuarding") == ""  # nothing is protected there any more
    assert context.directory.execute([DeleteEntry(entry.dn)], atomic=True) == [None]


def test_undoing_a_protection_leaves_other_protected_objects_safe(context, tmp_path):
    first, second = (created(context, ACCOUNT, UNDER.child("cn", name), login=[name]) for name in ("sef", "ses"))
    runner = runner_of(context, tmp_path)
    protecting, _ = (
        runner.run(Plan("protect", Editor(context).edit(entry, [assignment("protected=yes")]).steps), "t")
        for entry in (first, second)
    )
    back = undo_job(context, runner, UndoRequest(protecting.job)).steps
    assert [str(step.dn) for step in back] == [str(first.dn)]
    runner.run(Plan("undo", back, undoes=protecting.job), "t")
    outcomes = context.directory.execute([DeleteEntry(first.dn), DeleteEntry(second.dn)], atomic=False)
    assert [o.code if o else "" for o in outcomes] == ["", "protected"]
    release = ModifyEntry(second.dn, (Change("vandrelProtected", ("TRUE",)),))
    context.directory.execute([release, DeleteEntry(second.dn)], atomic=False)


def test_what_an_identity_may_do_is_known_before_it_is_tried(context, domain, tmp_path):
    entry = hired(context, tmp_path, "Petra", "Sund", "petra")
    # Her password is hers now, so that she can bind.
    assert context.directory.execute([SetPassword(entry.dn, Secret("Qx7-reef-anchor"), False)], atomic=True) == [None]
    hers = servers.settings(
        (domain.url,), bind_dn="petra@marrowick.example", secret=Secret("Qx7-reef-anchor"),
        ca_file=domain.ca_file, identity="everyday", others=("admin",),
    )  # fmt: skip
    directory = servers.open_directory(hers)
    mine = Context(CHARTER, directory, ActiveDialect(directory, CHARTER))
    own = rights(directory, mine.dialect, mine.fields, entry.dn, ACCOUNT)
    assert "phone" in own.fields
    assert {"title", "enabled", "protected"} <= set(own.not_fields)
    assert own.creates == ()
    assert rights(context.directory, context.dialect, context.fields, UNDER, UNIT).creates == (
        ACCOUNT,
        GROUP,
        UNIT,
        COMPUTER,
    )
    change = Plan("try", Editor(mine).edit(directory.get(entry.dn), [assignment("title=Captain")]).steps)
    with pytest.raises(Refused, match="may not change title") as caught:
        runner_of(mine, tmp_path).run(change, "t")
    assert caught.value.code == "not-permitted"
    draft = create_object.unit(mine, "/Trial/Hers", {})
    with pytest.raises(Refused, match="may not create such an object"):
        runner_of(mine, tmp_path).run(Plan("try", create_object.steps(mine, draft, UNIT)), "t")
    (outcome,) = directory.execute([change.steps[0].operation()], atomic=True)  # and if it is tried all the same
    assert outcome.code == "not-permitted"
    assert "petra@marrowick.example may not change title" in str(outcome)
    assert outcome.findings[0].remedy == "try another identity of this connection: --who admin"
    directory.close()
    context.directory.execute([DeleteEntry(entry.dn)], atomic=True)


def test_a_password_never_goes_to_the_server_unencrypted(domain):
    bare = servers.settings(
        (f"ldap://{domain.address}",), bind_dn="Administrator@marrowick.example", secret=Secret(Domain.PASSWORD)
    )
    with pytest.raises(DirectoryError, match="unencrypted"):
        servers.open_directory(bare)


def test_the_certificate_of_a_stranger_is_not_trusted(domain):
    from msgspec import structs

    with pytest.raises(DirectoryError) as caught:
        servers.open_directory(structs.replace(domain.settings(), ca_file=""))
    assert caught.value.code == "certificate"
    assert "issuer" in str(caught.value)  # signed by an authority that nobody here knows
    servers.open_directory(structs.replace(domain.settings(), ca_file="", unchecked=True)).close()


def test_names_must_be_free_in_their_own_scopes(context):
    entry = created(
        context, ACCOUNT, UNDER.child("cn", "First"), login=["first"], principal=["first@marrowick.example"],
        mail=["first@marrowick.example"], alias=["one@marrowick.example"],
    )  # fmt: skip
    taken = Creator(context, CHARTER.today()).draft(
        "guest", {"surname": ["Second"], "login": ["FIRST"], "principal": ["First@marrowick.example"],
                  "mail": ["one@marrowick.example"], "sponsor": ["Administrator"], "place": ["/Trial"]}
    )  # fmt: skip
    assert {f.where.field for f in taken.findings if f.code == "taken"} == {"login", "principal", "mail"}
    twin = AddEntry(
        UNDER.child("cn", "Twin"),
        {"objectClass": ["user"], "sAMAccountName": ["twin"], "userPrincipalName": ["first@marrowick.example"]},
    )
    (outcome,) = context.directory.execute([twin], atomic=True)
    assert outcome.code == "taken"
    context.directory.execute([DeleteEntry(entry.dn)], atomic=True)


def test_groups_and_computers_have_logon_names_of_their_own_that_follow(context, tmp_path):
    """[MS-SAMR] 3.1.1.6 forbids some characters in them."""
    place = context.charter.base.child("cn", "Users")
    for object_type, name, logon, renamed, follows in (
        ("group", "team-ropes=2", "team-ropes_2", "team-lines", "team-lines"), ("computer", "NQ-77", "NQ-77$", "nq-78", "NQ-78$"),
    ):  # fmt: skip
        dn = place.child("cn", name)
        add = AddEntry(dn, context.dialect.new_entry(object_type, dn, {}))
        assert context.directory.execute([add], atomic=True) == [None]
        entry = context.directory.get(dn)
        assert entry.texts("sAMAccountName") == [logon]
        edit = Editor(context).edit(entry, [assignment(f"name={renamed}")])
        assert not runner_of(context, tmp_path).run(Plan("rename", edit.steps, edit.findings), "t").is_in_part
        assert context.directory.get(place.child("cn", renamed)).texts("sAMAccountName") == [follows]
        assert context.directory.execute([DeleteEntry(place.child("cn", renamed))], atomic=True) == [None]


def test_references_of_very_many_are_found_in_filters_that_the_server_takes(context):
    users = context.charter.base.child("cn", "Users")
    dns = [users.child("cn", f"Nobody {number}") for number in range(150)]
    admins = next(context.directory.search(users, where=filters.parse("(sAMAccountName=Domain Admins)")))
    someone = names.parse(admins.texts("member")[0])
    found = list(pointing_at(context.directory, [*dns, someone]))
    assert admins.dn in [entry.dn for entry in found]


def test_what_was_deleted_can_still_be_seen(context):
    made = created(context, ACCOUNT, UNDER.child("cn", "Gone, Soon"), login=["gone"])
    assert context.directory.execute([DeleteEntry(made.dn)], atomic=True) == [None]
    (found,) = [e for e in context.directory.deleted() if context.dialect.before_deletion(e)[0] == "Gone, Soon"]
    assert context.dialect.before_deletion(found)[1].lower() == str(UNDER).lower()
    assert (context.one(found, "login"), context.dialect.object_type_of(found)) == ("gone", ACCOUNT)
    assert found.text("objectGUID") == made.text("objectGUID")


def test_who_comes_back_without_a_tombstone_has_the_entries_of_before(context):
    """A team may do all below a unit that takes nothing from above; both come back as new objects, with that."""
    team = created(context, GROUP, UNDER.child("cn", "Yard"))
    unit = created(context, UNIT, UNDER.child("ou", "Dry Dock"), delegation=["Yard: reset-passwords"])
    account = created(context, ACCOUNT, unit.dn.child("cn", "Owned"), login=["owned"], protected=["yes"])
    own = descriptor.Entry(descriptor.ALLOW, 0, 0xF01FF, trustee=team.text("objectSid"))
    for entry in (account, unit):
        now = descriptor.decode(entry.values_of("nTSecurityDescriptor")[0])
        wanted = descriptor.with_entries(now, [*now.dacl.entries, own])
        wanted = structs.replace(wanted, control=wanted.control | (0x1000 if entry is unit else 0))
        change = Change("nTSecurityDescriptor", added=(descriptor.encode(wanted),))
        assert context.directory.execute([ModifyEntry(entry.dn, (change,))], atomic=True) == [None]
    before = [context.directory.get(entry.dn) for entry in (unit, account)]
    release = ModifyEntry(account.dn, (Change("vandrelProtected", ("TRUE",)),))
    gone = context.directory.execute([release, DeleteEntry(account.dn), DeleteEntry(unit.dn)], atomic=True)
    assert not any(gone), gone
    nobody = str(UUID(int=1))  # of which the server has no tombstone
    again = [AddEntry(entry.dn, context.dialect.addable(entry)[0], nobody, as_held=True) for entry in before]
    assert not any(outcomes := context.directory.execute(again, atomic=True)), outcomes
    for entry in before:
        now = context.directory.get(entry.dn)
        assert now.text("objectSid") != entry.text("objectSid") or entry.dn == unit.dn
        was, found = (descriptor.decode(e.values_of("nTSecurityDescriptor")[0]) for e in (entry, now))
        own_before, own_now = ([e for e in d.dacl.entries if not e.inherited] for d in (was, found))
        assert own in own_now
        assert sorted(map(repr, own_now)) == sorted(map(repr, own_before))
        assert (found.control & 0x1000, len(found.dacl.entries)) == (was.control & 0x1000, len(was.dacl.entries))
        for name in ("vandrelProtected", "vandrelDelegation"):
            assert now.texts(name) == entry.texts(name)
    context.directory.execute([release, *(DeleteEntry(e.dn) for e in (account, unit, team))], atomic=True)


def test_a_ticket_proves_who_one_is(domain, tmp_path, context):
    """GSSAPI (RFC 4752) with a ticket from the domain's own server."""
    if not shutil.which("kinit") or not list(Path("/usr/lib").glob("*/sasl2/libgssapiv2.so")):
        not_installed("krb5-user and libsasl2-modules-gssapi-mit, for the test of GSSAPI")
    # The server is called by its address here, and tickets are for names that it is known to have.
    machine = next(context.directory.search(CHARTER.base, where=context.dialect.filter_for(COMPUTER)))
    name = Change("servicePrincipalName", added=(f"ldap/{domain.address}",))
    assert context.directory.execute([ModifyEntry(machine.dn, (name,))], atomic=True) == [None]
    (tmp_path / "krb5.conf").write_text(
        f"[libdefaults]\ndefault_realm = MARROWICK.EXAMPLE\nrdns = false\ndns_lookup_kdc = false\n"
        f"dns_canonicalize_hostname = false\n[realms]\nMARROWICK.EXAMPLE = {{\n kdc = {domain.address}\n}}\n"
        f"[domain_realm]\n{domain.address} = MARROWICK.EXAMPLE\n"
    )
    env = {"KRB5_CONFIG": str(tmp_path / "krb5.conf"), "KRB5CCNAME": str(tmp_path / "tickets")}
    folder = Folder(tmp_path, env)
    (tmp_path / "charter.yaml").write_text(charter_text())
    target = ("--directory", f"ldap://{domain.address}", "--who", "gssapi")
    refused = folder.run("probe", *target)
    assert (refused.code, "klist" in refused.err) == (41, True)
    done = subprocess.run(
        ["kinit", "Administrator@MARROWICK.EXAMPLE"], input=Domain.PASSWORD, text=True, env=os.environ | env,
        capture_output=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    probed = folder.run("probe", *target)
    assert probed.code == 0, probed.err
    assert "CN=Administrator,CN=Users,DC=marrowick,DC=example" in probed.out
    assert "Domain Admins" in probed.out


def test_fields_that_share_an_attribute_are_written_together(context, tmp_path):
    person = hired(context, tmp_path, "Petra", "Sund", "petra")
    team = created(context, GROUP, UNDER.child("cn", "team-shared"))
    shared = {("enabled", "password-never-expires"), ("purpose", "scope")}
    for made, object_type in ((person, ACCOUNT), (team, GROUP)):
        for one, two in (pairs := sharing(context.dialect, made, object_type)):
            hold_together(context.dialect, made, one, two)
        shared -= {*pairs, *(pair[::-1] for pair in pairs)}
    assert not shared
    for known in ([], ["SMTP:old@x.example"], ["SMTP:old@x.example", "smtp:b@x.example"]):
        mailed = Entry(person.dn, person.attributes | {"mail": ["old@x.example"], "proxyAddresses": known})
        for pair in (("mail", "alias"), ("alias", "mail")):
            after = hold_together(context.dialect, mailed, *pair)
            assert after.texts("mail") == ["a@x.example"]
            assert set(after.texts("proxyAddresses")) == {"SMTP:a@x.example", "smtp:b@x.example"}, (known, pair)


def test_runs_take_turns_by_one_entry_that_stays(context):
    """Each deletion would leave a tombstone behind."""
    directory = context.directory
    before = len(list(directory.deleted()))
    for _ in range(3):
        turn = directory.naming_turn()
        assert turn.is_held
        assert turn.give_back() is True
        assert turn.give_back() is False
    last = directory.naming_turn()
    assert last.is_held
    entry = directory.get(context.charter.base.child("cn", "vandrel is giving names"))
    assert len(entry.texts("description")) == 1
    assert last.give_back() is True
    assert len(list(directory.deleted())) == before
