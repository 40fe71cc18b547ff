"""Servers that fail: killed and started again, answers lost, hosts that are down."""

from __future__ import annotations

import contextlib
import json
import os
import re
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import pytest
from msgspec import structs

from vandrel.charter.load import from_text
from vandrel.charter.passwords import generate
from vandrel.demo.world import charter_text
from vandrel.dialects.standard import StandardDialect
from vandrel.directory import dn as names
from vandrel.directory import filter as filters
from vandrel.directory.ldap import naming_turn, opening, schema_cache
from vandrel.directory.ldap.open_changes import OpenChanges
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry, RenameEntry, SetPassword
from vandrel.errors import NOTE, STOP, Code, DirectoryError
from vandrel.jobs.accounts.create import Creator
from vandrel.jobs.accounts.logon import logon_state
from vandrel.jobs.common import create_object
from vandrel.jobs.common.account_steps import account_steps
from vandrel.jobs.common.assignments import parse as assignment
from vandrel.jobs.common.edit import Editor
from vandrel.jobs.common.edit_order import in_order
from vandrel.jobs.inspect.probe import not_kept
from vandrel.objects.context import Context
from vandrel.record.journal import Journal
from vandrel.secret import Secret
from vandrel.steps.plan import Plan, RunResult
from vandrel.steps.references import own_references, with_references
from vandrel.steps.runner import Runner
from vandrel.steps.step import Add, Remove, Rename

from . import servers, test_reconcile
from .conftest import Folder
from .servers import SUFFIX, Forgetful, Slapd, free_port, open_directory, settings
from .test_directory_contract import ANNA, BASE, BRIDGE, DECK, eventually, found, group, make, of, person, unit

if TYPE_CHECKING:
    from vandrel.directory.ldap.connection import Settings
    from vandrel.directory.ldap.reconnect import Link


@pytest.fixture
def slapd() -> Iterator[Slapd]:
    with servers.running() as server:
        yield server


def root(port: int, **more) -> Settings:
    """The root identity over the loopback, unencrypted in so many words."""
    secret = Secret("the-tests-alone")
    return settings((f"ldap://127.0.0.1:{port}",), bind_dn=f"cn=root,{SUFFIX}", secret=secret, plain=True, **more)


def test_a_server_that_is_killed_and_comes_back_loses_nothing(slapd):
    directory = open_directory(slapd.settings())
    assert make(directory, unit(BASE), unit(DECK)) == [None, None]
    people = [person(DECK.child("cn", f"Hand {number}"), f"h{number}") for number in range(6000)]

    def power_cut() -> None:
        time.sleep(0.05)
        slapd.kill()
        time.sleep(0.4)
        slapd.start()

    cut = threading.Thread(target=power_cut)
    cut.start()
    begun = time.monotonic()
    outcomes = make(directory, *people, atomic=False)
    assert time.monotonic() - begun > 0.4  # it was cut off in the middle, and waited
    cut.join()
    assert not any(outcomes), [o.findings for o in outcomes if o][:3]
    assert len(found(directory, "(uid=*)")) == 6000
    directory.close()


@pytest.mark.parametrize("lost", [1, 2, 3])
def test_a_connection_that_is_lost_while_what_is_left_is_looked_for_changes_nothing(slapd, monkeypatch, lost):
    """Of modifications that are so in part, each is asked for; then the connection goes with one of these answers."""
    watch = DECK.child("cn", "watch")
    mine = open_directory(slapd.settings())
    make(mine, unit(BASE), unit(DECK), person(ANNA, "alund"), *(
        person(DECK.child("cn", f"Hand {n}"), f"hand{n}", title=["Mate"]) for n in range(3)
    ), group(watch, ANNA))  # fmt: skip
    relay = Forgetful(slapd.port)
    far = open_directory(root(relay.port))
    asked, ask = [], OpenChanges.ask

    def asking(self, dn, changes):
        asked.append(dn)
        if len(asked) == lost:
            relay.lose = 1
        return ask(self, dn, changes)

    monkeypatch.setattr(OpenChanges, "ask", asking)
    both = (Change("title", added=("Mate",)), Change("description", added=("new",)))
    changes = [ModifyEntry(DECK.child("cn", f"Hand {n}"), both) for n in range(3)]
    assert far.execute(changes, atomic=False) == [None] * 3
    assert len(asked) >= 3 and not relay.lose
    hands = [mine.get(DECK.child("cn", f"Hand {n}")) for n in range(3)]
    assert [(hand.texts("title"), hand.texts("description")) for hand in hands] == [(["Mate"], ["new"])] * 3
    far.close()
    mine.close()
    relay.close()


@pytest.mark.parametrize("lost", [1, 2])
def test_a_lost_answer_is_looked_up_before_anything_is_sent_again(slapd, lost):
    relay = Forgetful(slapd.port)
    directory = open_directory(root(relay.port))
    secret = Secret("Kv9-fjord-lamp", generated=True)
    moved = BRIDGE.child("cn", "Anna Lund")
    for operation in [
        unit(BASE), unit(DECK), unit(BRIDGE), person(ANNA, "alund"), ModifyEntry(ANNA, (Change("title", (), ("Mate",)),)),
        ModifyEntry(ANNA, (Change("title", ("Mate",), ("Captain",)),)), SetPassword(ANNA, secret, False),
        RenameEntry(ANNA, moved), DeleteEntry(DECK),
    ]:  # fmt: skip
        relay.lose = lost
        assert make(directory, operation, atomic=False) == [None]
        assert relay.lose == 0 or relay.lose < lost
    relay.lose = 0
    assert directory.get(moved).texts("title") == ["Captain"]
    assert found(directory, "(objectClass=*)") == ["Harbour", "Bridge", "Anna Lund"]
    relay.close()


@pytest.mark.parametrize("lost", [1, 2, 3])
def test_a_new_password_never_enables_whoever_is_disabled_not_even_when_answers_are_lost(lost):
    """A server takes the mark for a lock and lifts it with a new password: it is put back, whatever happens between."""
    with servers.running(servers.Setup(modules=("ppolicy",), overlays=POLICY)) as server:
        relay = Forgetful(server.port)
        setup = open_directory(server.settings())
        off = {"pwdAccountLockedTime": ["000001010000Z"]}
        rules = policy(pwdLockout=["TRUE"])
        assert not any(make(setup, rules, unit(BASE), unit(DECK), person(ANNA, "alund", **off)))
        directory = open_directory(root(relay.port))
        relay.lose = lost
        assert make(directory, SetPassword(ANNA, Secret("Kv9-fjord-lamp"), True)) == [None]
        relay.lose = 0
        assert setup.get(ANNA).texts("pwdAccountLockedTime") == ["000001010000Z"]
        assert setup.get(ANNA).text("pwdReset") == "TRUE"
        assert not bound(server, ANNA, "Kv9-fjord-lamp")
        relay.close()


def test_an_object_of_somebody_else_is_not_taken_for_ours(slapd):
    relay = Forgetful(slapd.port)
    directory, other = open_directory(root(relay.port)), open_directory(slapd.settings())
    make(other, unit(BASE), unit(DECK), person(ANNA, "somebody"))
    relay.lose = 1
    (outcome,) = make(directory, person(ANNA, "alund"))
    assert outcome.code == "taken"
    relay.close()


def test_a_host_that_is_down_is_passed_over(slapd):
    settings = structs.replace(
        root(slapd.port), urls=(f"ldap://127.0.0.1:{free_port()}", f"ldap://127.0.0.1:{slapd.port}")
    )
    directory = open_directory(settings)
    assert directory.url == f"ldap://127.0.0.1:{slapd.port}"
    assert directory.contexts == (BASE.parent,)


def test_no_server_at_all(slapd):
    with pytest.raises(DirectoryError) as caught:
        open_directory(root(free_port()))
    assert caught.value.exit_code == 40
    directory = open_directory(root(slapd.port, patience=0.3))
    slapd.kill()
    with pytest.raises(DirectoryError) as caught:
        make(directory, unit(BASE))
    assert caught.value.code == "out-of-reach"


def test_a_password_never_goes_over_the_network_unencrypted_unasked(slapd):
    with pytest.raises(DirectoryError, match="unencrypted") as caught:
        open_directory(structs.replace(root(slapd.port), plain=False))
    assert caught.value.code == "not-permitted"


def test_nor_does_one_that_is_to_be_set(slapd):
    everybody = servers.Setup(access="access to * by * write\n", general="allow update_anon")
    with servers.running(everybody) as server:
        address = (f"ldap://127.0.0.1:{server.port}",)
        directory = open_directory(settings(address))
        assert not any(make(directory, unit(BASE), unit(DECK), person(ANNA, "alund")))
        (outcome,) = make(directory, SetPassword(ANNA, Secret("Kv9-fjord-lamp"), False))
        assert (outcome.code, "unencrypted" in str(outcome)) == ("not-permitted", True)
        directory.close()


def test_a_wrong_identity_is_told(slapd):
    with pytest.raises(DirectoryError) as caught:
        open_directory(structs.replace(root(slapd.port), secret=Secret("wrong")))
    assert caught.value.code == "not-permitted"
    assert "wrong" not in str(caught.value.findings[0].where)
    nobody = open_directory(settings((f"ldap://127.0.0.1:{slapd.port}",)))
    (outcome,) = make(nobody, unit(BASE))
    assert outcome.code == "not-permitted"


# --- certificates


def test_certificates_are_checked_and_the_trouble_is_told(tmp_path):
    setup, authority = servers.with_certificate(tmp_path)
    secret = Secret("the-tests-alone")

    def opened(server, scheme, host="127.0.0.1", **more):
        how = settings((f"{scheme}://{host}:{server.port}",), bind_dn=f"cn=root,{SUFFIX}", secret=secret, **more)
        directory = open_directory(how)
        directory.close()
        return directory

    with servers.running(setup._replace(scheme="ldaps")) as server:
        assert opened(server, "ldaps", ca_file=str(authority)).contexts == (BASE.parent,)
        with pytest.raises(DirectoryError, match=r"not trusted: .*issuer") as caught:
            opened(server, "ldaps")
        assert caught.value.exit_code == 46
        assert "ca-file" in caught.value.findings[0].remedy
        with pytest.raises(DirectoryError, match=r"not trusted: .*localhost"):  # another name than in the certificate
            opened(server, "ldaps", "localhost", ca_file=str(authority))
        with pytest.raises(DirectoryError, match=r"not trusted: .*cannot be read"):
            opened(server, "ldaps", ca_file=str(tmp_path / "none.pem"))
        opened(server, "ldaps", "localhost", unchecked=True)
    with servers.running(setup) as server:
        opened(server, "ldap", ca_file=str(authority), start_tls=True)
        with pytest.raises(DirectoryError) as caught:
            opened(server, "ldap", start_tls=True)
        assert caught.value.code == "certificate"


# --- what a server leaves to its clients


@pytest.fixture
def context(tmp_path):
    """House rules over a server that was opened; closed in the end."""
    opened = []

    def over(directory):
        charter = from_text(charter_text(), tmp_path / "charter.yaml")
        opened.append(directory)
        return Context(charter, directory, StandardDialect(directory, charter))

    yield over
    for directory in opened:
        directory.close()


def runner_of(context, tmp_path) -> Runner:
    return Runner(context.directory, context.dialect, lambda: Journal(tmp_path / "journal.db", create=True))


def test_names_that_point_at_an_object_follow_it_where_the_server_does_not_see_to_it(context, tmp_path):
    with servers.running(servers.PLAIN) as server:
        mine = context(open_directory(server.settings()))
        boss, team = DECK.child("cn", "Boss"), BASE.child("cn", "Team")
        directory = mine.directory
        assert not any(make(
            directory, unit(BASE), unit(DECK), unit(BRIDGE), person(boss, "boss"),
            person(ANNA, "alund", manager=[str(boss)], secretary=[str(boss)]), group(team, boss, ANNA),
        ))  # fmt: skip
        rename = Editor(mine).edit(directory.get(boss), [assignment("name=Chief")])
        runner = runner_of(mine, tmp_path)
        ordered = in_order(mine, [rename])
        assert [type(step).__name__ for step in ordered] == ["Rename", "Set", "Set"]
        assert not runner.run(Plan("rename", ordered), "t").is_in_part
        chief = DECK.child("cn", "Chief")
        assert directory.get(ANNA).texts("manager") == directory.get(ANNA).texts("secretary") == [str(chief)]
        assert {names.parse(m) for m in directory.get(team).texts("member")} == {chief, ANNA}
        # Joined and renamed in one go: the new membership follows too.
        both = Editor(mine).edit(directory.get(ANNA), [assignment("name=Anna Vik"), assignment("groups=")])
        assert not runner.run(Plan("leave", in_order(mine, [both])), "t").is_in_part
        anna = DECK.child("cn", "Anna Vik")
        both = Editor(mine).edit(directory.get(anna), [assignment("name=Anna Lund"), assignment("groups+=Team")])
        assert not runner.run(Plan("join", in_order(mine, [both])), "t").is_in_part
        assert {names.parse(m) for m in directory.get(team).texts("member")} == {chief, ANNA}
        # A whole unit moves: names inside of it and outside point at each other.
        moved = BRIDGE.child("ou", "Deck")
        steps = with_references(directory, mine.dialect, [Rename(DECK, moved)])
        assert not runner.run(Plan("move", steps), "t").is_in_part
        anna = moved.child("cn", "Anna Lund")
        assert directory.get(anna).texts("manager") == [str(moved.child("cn", "Chief"))]
        assert {names.parse(m).parent for m in directory.get(team).texts("member")} == {moved}
        # And what is removed is pointed at no longer; the group of nobody is still a group.
        gone = [Remove(anna, directory.get(anna).attributes)]
        gone.append(Remove(moved.child("cn", "Chief"), {}))
        assert not runner.run(Plan("go", with_references(directory, mine.dialect, gone)), "t").is_in_part
        assert directory.get(team).texts("member") == [""]


def test_a_server_that_sees_to_it_as_well_does_no_harm(context, tmp_path):
    with servers.running() as server:
        mine = context(open_directory(server.settings()))
        boss = DECK.child("cn", "Boss")
        make(mine.directory, unit(BASE), unit(DECK), person(boss, "boss"), group(BASE.child("cn", "Team"), boss))
        for name in ("Chief", "Head", "Lead", "Boss"):
            entry = mine.directory.search(BASE, where=filters.parse("(uid=boss)"))
            rename = Editor(mine).edit(next(iter(entry)), [assignment(f"name={name}")])
            assert not runner_of(mine, tmp_path).run(Plan("rename", in_order(mine, [rename])), "t").is_in_part
            wanted = [str(DECK.child("cn", name))]
            eventually(lambda wanted=wanted: mine.directory.get(BASE.child("cn", "Team")).texts("member") == wanted)


def test_without_our_schema_what_cannot_be_kept_is_told(context, tmp_path):
    with servers.running(servers.BARE) as server:
        mine = context(open_directory(server.settings()))
        missing = set(not_kept(mine.dialect, mine.fields, "account"))
        assert {"principal", "starts", "ends", "sponsor", "protected", "alias", "enabled"} <= missing
        assert not {"login", "full", "mail", "title", "manager", "notes"} & missing
        fields = {
            "surname": ["Lund"],
            "site": ["Northquay"],
            "sponsor": ["x"],
            "ends": ["2027-01-01"],
            "place": ["/Harbour"],
        }
        make(mine.directory, AddEntry(BASE, {"objectClass": ["organizationalUnit"]}))
        draft = Creator(mine, mine.charter.today()).draft("seasonal", fields)
        told = {f.where.field: f.is_fatal for f in draft.findings if f.code == "not-kept"}
        # One was typed, the others come from the charter.
        assert told == {"ends": True, "principal": False, "change": False}
        bridge = create_object.unit(mine, "/Harbour/Bridge", {})
        assert {f.where.field: f.is_fatal for f in bridge.findings if f.code == "not-kept"} == {"protected": False}
        made = runner_of(mine, tmp_path).run(
            Plan("unit", create_object.steps(mine, bridge, "unit"), bridge.findings), "t"
        )
        assert not made.is_in_part
        assert mine.directory.get(BASE.child("ou", "Bridge")).texts("objectClass") == ["top", "organizationalUnit"]


def test_passwords_are_set_where_there_are_no_policies(context, tmp_path):
    with servers.running(servers.PLAIN) as server:
        mine = context(open_directory(server.settings()))
        make(mine.directory, unit(BASE), unit(DECK), person(ANNA, "alund"))
        assert make(mine.directory, SetPassword(ANNA, Secret("Kv9-fjord-lamp"), True)) == [None]
        assert bound(server, ANNA, "Kv9-fjord-lamp")
        draft = Creator(mine, mine.charter.today()).draft("seasonal", {"surname": ["Ek"], "site": ["Kelness"]})
        assert [f.is_fatal for f in draft.findings if f.where.field == "change"] == [
            False
        ]  # told: nobody will demand a change
        assert make(mine.directory, SetPassword(ANNA, None, False)) == [None]
        assert not bound(server, ANNA, "Kv9-fjord-lamp")


def test_our_schema_and_access_rule_can_be_loaded_into_a_running_server(tmp_path):
    """As shipped: records for the configuration that a server keeps of itself."""
    from vandrel.directory import ldif
    from vandrel.directory.schema.shipped import configuration

    general = f'database config\naccess to * by dn.exact="cn=administrator,{SUFFIX}" manage\n'
    with servers.running(servers.BARE._replace(config=general)) as server:
        import ldap

        connection = ldap.initialize(server.url)
        connection.sasl_interactive_bind_s("", ldap.sasl.external())
        schema, rule = ldif.read(configuration().splitlines(keepends=True), lambda name: False)
        connection.add_s(
            str(schema.dn), [(n, [str(v).encode() for v in values]) for n, values in schema.attributes.items()]
        )
        (part,) = rule.modifications
        connection.modify_s(str(rule.dn), [(ldap.MOD_ADD, part.attribute, [str(v).encode() for v in part.values])])
        connection.unbind_s()
        directory = open_directory(server.settings())
        assert directory.schema.object_class("vandrelAccount") is not None
        assert not any(make(directory, unit(BASE), unit(DECK, vandrelProtected=["TRUE"])))
        (outcome,) = make(directory, DeleteEntry(DECK))
        assert outcome.code == "protected"
        directory.close()


# --- policies


POLICY = 'overlay ppolicy\nppolicy_default "cn=rules,dc=marrowick,dc=example"\n'


def policy(**more) -> AddEntry:
    attributes = {"objectClass": ["device", "pwdPolicy"], "pwdAttribute": ["userPassword"], **more}
    return AddEntry(BASE.parent.child("cn", "rules"), attributes)


def bound(server, dn, password) -> bool:
    try:
        open_directory(settings((server.url,), bind_dn=str(dn), secret=Secret(password))).close()
    except DirectoryError:
        return False
    return True


@pytest.mark.parametrize("locks", ["TRUE", "FALSE", None])
def test_disabled_is_said_to_be_disabled_only_where_the_server_heeds_it(context, locks):
    with servers.running(servers.Setup(modules=("ppolicy",), overlays=POLICY)) as server:
        mine = context(open_directory(server.settings()))
        rules = [policy(pwdLockout=[locks], pwdMinLength=["9"], pwdMaxAge=["3628800"])] if locks else []
        off = {"pwdAccountLockedTime": ["000001010000Z"]}
        assert not any(make(mine.directory, *rules, unit(BASE), unit(DECK), person(ANNA, "alund", **off)))
        assert make(mine.directory, SetPassword(ANNA, Secret("Kv9-fjord-lamp"), False)) == [None]
        state = logon_state(mine, mine.directory.get(ANNA), mine.charter.today())
        assert state.able == bound(server, ANNA, "Kv9-fjord-lamp") == (locks != "TRUE"), state.sentence
        assert ("though it is marked as disabled" in state.sentence) == (locks != "TRUE")
        found = {rule.name: (rule.value, rule.source) for rule in mine.password_rules("crew").shown()}
        assert found["maximum-age"] == ((42, "server: rules") if locks else (0, "charter"))


def test_bad_attempts_lock_and_unlocking_lets_in_again(context):
    with servers.running(servers.Setup(modules=("ppolicy",), overlays=POLICY)) as server:
        mine = context(open_directory(server.settings()))
        rules = policy(pwdLockout=["TRUE"], pwdMaxFailure=["3"])
        assert not any(make(mine.directory, rules, unit(BASE), unit(DECK), person(ANNA, "alund")))
        assert make(mine.directory, SetPassword(ANNA, Secret("Kv9-fjord-lamp"), False)) == [None]
        assert not any(bound(server, ANNA, f"wrong-{number}") for number in range(3))
        entry = mine.directory.get(ANNA)
        assert (mine.dialect.read(entry, "locked"), bound(server, ANNA, "Kv9-fjord-lamp")) == (["yes"], False)
        assert "bad attempts have locked it" in logon_state(mine, entry, mine.charter.today()).sentence
        changes = mine.dialect.changes(entry, "locked", ["no"])
        assert make(mine.directory, ModifyEntry(ANNA, tuple(changes))) == [None]
        assert bound(server, ANNA, "Kv9-fjord-lamp")


def test_what_describes_a_server_itself_is_looked_for_in_no_other_tree():
    with servers.running(servers.PLAIN) as server:
        mine = open_directory(server.settings())
        own = {*own_references(mine)}
        assert {"member", "manager", "seeAlso"} <= own
        assert not [name for name in own if name.startswith("olc") or name == "distinguishedName"]
        mine.close()


def test_a_name_that_no_filter_may_compare_is_not_taken_for_absent():
    hidden = "access to attrs=entryDN by * none\n"
    with servers.running(servers.Setup(access=hidden)) as server:
        root, mine = open_directory(server.as_root()), open_directory(server.settings())
        assert not any(make(root, unit(BASE), unit(DECK), person(ANNA, "alund")))
        strangers = [holder.child("cn", f"x {number}") for number in range(15) for holder in (BASE, DECK)]
        assert not list(mine.search(BASE, where=filters.Compare("entryDN", "=", str(ANNA)), only=["cn"]))
        assert mine.existing([*strangers, ANNA, DECK]) == {ANNA, DECK}
        root.close()
        mine.close()


def test_a_password_that_a_rule_refuses_which_nobody_could_see(context, tmp_path):
    hidden = f'access to dn.exact="cn=rules,{SUFFIX}" by * none\n'
    with servers.running(servers.Setup(modules=("ppolicy",), overlays=POLICY, access=hidden, right="write")) as server:
        mine = context(open_directory(server.settings()))
        root = open_directory(server.as_root())
        assert make(root, policy(pwdMinLength=["30"], pwdCheckQuality=["2"])) == [None]
        root.close()
        make(mine.directory, unit(BASE))
        assert mine.dialect.password_layers(None) == []
        draft = Creator(mine, mine.charter.today()).draft(
            "staff", {"surname": ["Lund"], "number": ["1"], "department": ["IT"], "place": ["/Harbour"], "groups": []}
        )
        secret = generate(draft.rules)
        plan = Plan("hire", account_steps(mine, [(draft, secret)]))
        report = runner_of(mine, tmp_path).run(plan, "t")
        assert [(error.code, secret.reveal() in str(error)) for _, error in report.refused] == [
            ("done-in-part", False), ("password", False),
        ]  # fmt: skip
        assert (report.made, mine.directory.get(draft.dn)) == (0, None)


# --- faults


def test_a_server_that_is_busy_is_waited_for(tmp_path):
    setup = servers.Setup(
        modules=("retcode",),
        overlays="overlay retcode\nretcode-parent ou=codes,dc=marrowick,dc=example\nretcode-indir\n",
    )
    with servers.running(setup) as server:
        directory = open_directory(server.settings())
        busy = DECK.child("cn", "busy")
        trouble = {"objectClass": ["errObject"], "errCode": ["51"], "errText": ["no time"], "errOp": ["delete"]}
        assert not any(make(directory, unit(BASE), unit(DECK), AddEntry(busy, trouble)))
        hasty = open_directory(structs.replace(server.settings(), patience=0.3))
        with pytest.raises(DirectoryError) as caught:
            make(hasty, DeleteEntry(busy))
        assert caught.value.code == "busy"

        def free() -> None:
            time.sleep(0.4)
            other = open_directory(server.settings())
            other.execute([ModifyEntry(busy, (Change("errOp", ("delete",), ("compare",)),))], atomic=True)
            other.close()

        freeing = threading.Thread(target=free)
        freeing.start()
        assert make(directory, DeleteEntry(busy)) == [None]
        freeing.join()
        assert directory.get(busy) is None
        directory.close()


def test_the_first_two_requests_have_patience_too(slapd, monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))  # so that the schema is asked for
    real, root, failed = opening.read, opening._answers, []

    def fail_once(what: str) -> None:
        if what not in failed:
            failed.append(what)
            raise DirectoryError(Code.BUSY, "the server is busy")

    def read(link: Link, dn: str, attributes: list[str]) -> object:
        fail_once(dn)
        return real(link, dn, attributes)

    def read_root(*arguments: object) -> object:
        fail_once("")
        return root(*arguments)

    monkeypatch.setattr(opening, "read", read)
    monkeypatch.setattr(opening, "_answers", read_root)
    directory = open_directory(slapd.settings())
    assert failed == ["", "cn=Subschema"]
    assert directory.schema.object_class("inetOrgPerson") is not None
    directory.close()
    failed.clear()
    with pytest.raises(DirectoryError, match="busy"):
        open_directory(structs.replace(slapd.settings(), patience=0))


def test_a_server_whose_disk_is_full(tmp_path):
    with servers.running(servers.PLAIN._replace(size=1 << 19)) as server:
        directory = open_directory(server.settings())
        assert not any(make(directory, unit(BASE), unit(DECK)))
        many = [person(DECK.child("cn", f"P {n}"), f"p{n}", description=["x" * 900]) for n in range(400)]
        outcomes = make(directory, *many, atomic=False)
        refused = [outcome for outcome in outcomes if outcome]
        assert refused
        assert {outcome.code for outcome in refused} == {"disk-full"}
        kept = len(found(directory, "(uid=p*)"))
        assert kept == 400 - len(refused)  # the report says exactly which were made
        directory.close()


def test_what_somebody_else_changed_after_the_preview_is_not_overwritten(slapd, context, tmp_path):
    mine, other = context(open_directory(slapd.settings())), open_directory(slapd.settings())
    make(other, unit(BASE), unit(DECK), person(ANNA, "alund", title=["Mate"], facsimileTelephoneNumber=["1"]))
    edit = Editor(mine).edit(mine.directory.get(ANNA), [assignment("title=Captain")])
    fax = Editor(mine).edit(mine.directory.get(ANNA), [assignment("fax=2")])
    assert make(other, ModifyEntry(ANNA, (Change("title", ("Mate",), ("Cook",)),))) == [None]
    runner = runner_of(mine, tmp_path)
    report = runner.run(Plan("edit", edit.steps), "t", checked=True)
    assert [(dn, error.code) for dn, error in report.refused] == [(str(ANNA), "changed")]
    assert mine.directory.get(ANNA).texts("title") == ["Cook"]
    # Values that no rule compares are replaced as a whole, and only as they were seen.
    assert not runner.run(Plan("fax", fax.steps), "t", checked=True).is_in_part
    assert mine.directory.get(ANNA).texts("facsimileTelephoneNumber") == ["2"]
    report = runner.run(Plan("fax", fax.steps), "t", checked=True)  # the 1 that was to go is long gone: nothing to do
    assert mine.directory.get(ANNA).texts("facsimileTelephoneNumber") == ["2"]
    third = Editor(mine).edit(mine.directory.get(ANNA), [assignment("fax=3")])
    make(other, ModifyEntry(ANNA, (Change("facsimileTelephoneNumber", added=("9",)),)))
    make(other, ModifyEntry(ANNA, (Change("facsimileTelephoneNumber", ("2",)),)))
    assert [error.code for _, error in runner.run(Plan("fax", third.steps), "t", checked=True).refused] == ["changed"]
    assert mine.directory.get(ANNA).texts("facsimileTelephoneNumber") == ["9"]
    other.close()


def test_taking_back_a_sequence_leaves_what_somebody_else_had_done(slapd):
    mine, other = open_directory(slapd.settings()), open_directory(slapd.settings())
    watch = DECK.child("cn", "watch")
    make(other, unit(BASE), unit(DECK), unit(BRIDGE), person(ANNA, "alund"), group(watch, BRIDGE))
    joining = ModifyEntry(watch, (Change("member", added=(str(ANNA),)),))
    titled = ModifyEntry(ANNA, (Change("title", added=("Mate",)), Change("description", added=("new",))))
    assert make(other, joining, ModifyEntry(ANNA, (Change("title", added=("Mate",)),))) == [None, None]
    refused = make(mine, joining, titled, DeleteEntry(BASE))  # what stands below it is in the way
    assert all(refused)
    assert str(ANNA) in mine.get(watch).texts("member")
    assert (mine.get(ANNA).texts("title"), mine.get(ANNA).texts("description")) == (["Mate"], [])
    other.close()


@pytest.mark.parametrize(
    "limits", ["size=5", "size=5 size.prtotal=disabled", "size.hard=5 size.pr=2", "size=5 size.prtotal=1200"]
)
def test_everything_is_found_whatever_limits_an_identity_has(limits):
    """RFC 4511, 4.1.9: the size limit; RFC 2696: pages, which a server need not give."""
    with servers.running(servers.PLAIN._replace(database=f"limits * {limits}")) as server:
        directory = open_directory(server.settings())
        many = [BASE.child("ou", f"U{n}, harbour") for n in range(1500 if "1200" in limits else 40)]
        make(directory, unit(BASE), *map(unit, many), atomic=False)
        found = [entry.dn for entry in directory.search(BASE, only=["ou"])]
        assert len(found) == len(many) + 1 and set(found) == {BASE, *many}
        (one,) = directory.search(BASE, where=filters.parse("(ou=U7, harbour)"))
        assert one.dn == many[7]
        directory.close()


def test_a_limit_that_nothing_can_be_done_about_is_told():
    with servers.running(servers.PLAIN._replace(database="limits * size=1")) as server:
        directory = open_directory(server.settings())
        make(directory, unit(BASE), *(unit(BASE.child("ou", f"U{n}")) for n in range(3)), atomic=False)
        with pytest.raises(DirectoryError) as caught:
            list(directory.search(BASE))
        (finding,) = caught.value.findings
        assert caught.value.code == "limit" and "this identity" in finding.what and "higher limit" in finding.remedy
        directory.close()


# --- two servers that replicate to each other


def test_writes_go_on_when_one_of_two_providers_is_killed(tmp_path):
    with servers.two_providers() as (first, second):
        both = settings((first.url, second.url), sasl="external", name="both")
        directory = open_directory(both)
        assert directory.url == first.url
        assert not any(make(directory, unit(BASE), unit(DECK)))
        eventually(lambda: holds(second, DECK))
        people = [person(DECK.child("cn", f"P {n}"), f"p{n}") for n in range(1500)]
        cut = threading.Timer(0.05, first.kill)
        cut.start()
        outcomes = make(directory, *people, atomic=False)
        cut.join()
        assert not any(outcomes), [o.findings for o in outcomes if o][:3]
        assert (directory.url, directory.reconnected) == (second.url, 1)
        # What the first took and could not pass on any more comes back with it: nothing is lost, nothing is there twice.
        first.start()
        eventually(lambda: count(first) == count(second) == 1500, seconds=30)
        directory.close()


def test_what_replication_resolved_against_us_is_found(context, tmp_path):
    with servers.two_providers() as (first, second):
        mine, other = context(open_directory(first.settings())), open_directory(second.settings())
        make(mine.directory, unit(BASE), unit(DECK), person(ANNA, "alund", title=["Mate"]))
        eventually(lambda: holds(second, ANNA))
        second.kill()  # the two cannot see each other now
        runner = runner_of(mine, tmp_path)
        edit = Editor(mine).edit(mine.directory.get(ANNA), [assignment("title=Captain")])
        report = runner.run(Plan("promote", edit.steps), "t")
        assert [stands for _, stands in runner.standing(report.job)] == [True]
        first.kill()
        second.start()
        make(other, ModifyEntry(ANNA, (Change("title", ("Mate",), ("Cook",)),)))  # later, and so it wins
        first.start()
        eventually(lambda: title(first) == title(second) == "Cook", seconds=30)
        assert [stands for _, stands in runner.standing(report.job)] == [False]
        other.close()


def opened(server):
    return contextlib.closing(open_directory(server.settings()))


def holds(server, dn) -> bool:
    with opened(server) as directory:
        return directory.get(dn) is not None


def count(server) -> int:
    with opened(server) as directory:
        return len(found(directory, "(uid=p*)"))


def title(server) -> str:
    with opened(server) as directory:
        return directory.get(ANNA).text("title")


@pytest.mark.parametrize(
    ("rules", "severity"),
    [(policy(pwdLockout=["FALSE"]), STOP), (None, NOTE), (policy(pwdLockout=["TRUE"]), None)],
    ids=["a policy without it", "no policy to be seen", "a policy with it"],
)
def test_disabling_is_refused_where_it_would_keep_nobody_out(context, tmp_path, rules, severity):
    with servers.running(
        servers.Setup(modules=("ppolicy",), overlays=POLICY if rules else "overlay ppolicy\n")
    ) as server:
        setup = open_directory(server.settings())
        assert not any(make(setup, *([rules] if rules else []), unit(BASE), unit(DECK), person(ANNA, "alund")))
        mine = context(open_directory(server.settings()))
        edit = Editor(mine).edit(mine.directory.get(ANNA), [assignment("enabled=no")])
        told = [finding.severity for finding in edit.findings if finding.code is Code.NOT_KEPT]
        assert told == ([severity] if severity else []), edit.findings
        assert bool(edit.steps)


def test_disabling_is_refused_where_the_schema_knows_no_lock(context):
    with servers.running(servers.PLAIN) as server:
        mine = context(open_directory(server.settings()))
        assert not any(make(mine.directory, unit(BASE), unit(DECK), person(ANNA, "alund")))
        edit = Editor(mine).edit(mine.directory.get(ANNA), [assignment("enabled=no")])
        assert [(finding.code, finding.severity) for finding in edit.findings] == [(Code.NOT_KEPT, STOP)]


def test_a_right_password_is_not_called_wrong_where_the_server_did_not_look_at_it():
    with servers.running(servers.Setup(general="security simple_bind=64")) as server:
        setup = open_directory(server.settings())
        assert not any(make(setup, unit(BASE), unit(DECK), person(ANNA, "alund")))
        assert make(setup, SetPassword(ANNA, Secret("Kv9-fjord-lamp"), False)) == [None]
        assert setup.try_logon(ANNA, Secret("Kv9-fjord-lamp")) == ""  # over the socket
        directory = open_directory(settings((f"ldap://127.0.0.1:{server.port}",), plain=True))
        with pytest.raises(DirectoryError, match="wants an encrypted connection"):
            directory.try_logon(ANNA, Secret("Kv9-fjord-lamp"))


# --- names that must be unique, on a server that does not see to it


@pytest.fixture
def plain() -> Iterator[Slapd]:
    with servers.running(servers.PLAIN) as server:
        yield server


def _hire(context, folder, place, numbers) -> RunResult:
    """Make people whose logon names were free when somebody looked."""
    steps = []
    for number in numbers:
        entry = person(place.child("cn", f"Hand {number}"), f"h{number}")(of(context.directory))
        steps.append(Add(entry.dn, entry.attributes))
    folder.mkdir()
    return runner_of(context, folder).run(Plan("hire", steps, is_atomic=False), "t", checked=True)


def test_two_runs_at_once_give_no_name_twice(plain, context, tmp_path):
    directory = open_directory(plain.settings())
    make(directory, unit(BASE), unit(DECK), unit(BRIDGE))
    with ThreadPoolExecutor() as pool:
        runs = [
            pool.submit(_hire, context(open_directory(plain.settings())), tmp_path / place.rdn_text, place, range(300))
            for place in (DECK, BRIDGE)
        ]
        results = [run.result() for run in runs]
    names_given = Counter(entry.text("uid") for entry in directory.search(BASE, where=filters.parse("(uid=h*)")))
    assert names_given == Counter(f"h{number}" for number in range(300))
    assert sum(result.made for result in results) == 300
    assert {error.code for result in results for _, error in result.refused} == {Code.TAKEN}
    assert not any(result.twice for result in results)
    assert not found(directory, f"(cn={naming_turn.NAME})")
    directory.close()


@pytest.mark.parametrize("is_of_here", [True, False])
def test_a_turn_that_a_killed_run_left_behind_is_taken_over(plain, context, tmp_path, monkeypatch, is_of_here):
    directory = open_directory(plain.settings())
    make(directory, unit(BASE), unit(DECK))
    left_behind = directory.naming_turn()
    if is_of_here:  # the run was one of this machine, and its process is gone
        gone = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"], capture_output=True, check=True)
        mark = left_behind._mark.decode().split()
        there = ModifyEntry(
            names.parse(left_behind._dn),
            (Change("description", (left_behind._mark.decode(),), (f"{mark[0]} {int(gone.stdout)} {mark[2]}",)),),
        )
        assert make(directory, there) == [None]
    else:
        monkeypatch.setattr(naming_turn, "_LEFT_BEHIND", 0.3)
    begun = time.monotonic()
    result = _hire(context(open_directory(plain.settings())), tmp_path / "j", DECK, range(3))
    assert (result.made, result.twice, time.monotonic() - begun < 10) == (3, [], True)
    assert left_behind.give_back() is False  # it learns that others were let in meanwhile
    directory.close()


def test_where_no_turns_can_be_taken_a_name_given_twice_is_told(context, tmp_path):
    """Whoever may not make the entry looks after each batch instead."""
    rights = f'''access to dn.base="cn={naming_turn.NAME},{SUFFIX}" by * none
access to dn.base="{SUFFIX}" attrs=children by dn.exact="{DECK}" write by * read
access to dn.subtree="{DECK}" by dn.exact="{ANNA}" write by * read
access to * by * read'''
    with servers.running(servers.PLAIN._replace(database=rights)) as server:
        directory = open_directory(server.as_root())
        twin = BRIDGE.child("cn", "Hand 1")
        make(directory, unit(BASE), unit(DECK), unit(BRIDGE), person(ANNA, "alund"))
        assert make(directory, SetPassword(ANNA, Secret("Kv9-fjord-lamp"), False)) == [None]
        limited = settings(server.settings().urls, bind_dn=str(ANNA), secret=Secret("Kv9-fjord-lamp"), plain=True)
        mine = context(open_directory(limited))
        looked = mine.directory.find_owners

        def just_before(forms):
            owners = looked(forms)
            if directory.get(twin) is None:  # somebody else is quicker, right after the last look
                assert make(directory, person(twin, "h1")) == [None]
            return owners

        mine.directory.find_owners = just_before
        result = _hire(mine, tmp_path / "j", DECK, [1, 2])
        assert (result.made, [note.where.dn for note in result.twice]) == (2, [str(DECK.child("cn", "Hand 1"))])
        assert f"h1 was given to {twin} at the same moment" in result.twice[0].what
        assert result.is_in_part
        directory.close()


def test_the_schema_is_asked_for_again_only_when_it_has_changed(monkeypatch, tmp_path):
    """Half a megabyte a command, over any line, otherwise."""
    asked: list[list[str]] = []
    read = opening.read

    def counting(link: Link, dn: str, attributes: list[str]) -> object:
        asked.append(attributes)
        return read(link, dn, attributes)

    monkeypatch.setattr(opening, "read", counting)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    with servers.running(servers.PLAIN) as server:
        first = open_directory(server.settings())
        assert "attributeTypes" in str(asked) and first.schema.attribute("uid") is not None
        asked.clear()
        second = open_directory(server.settings())
        assert asked == []  # but for the root, and one time stamp with it
        assert second.schema.definitions == first.schema.definitions
        kept = schema_cache._file(server.settings())
        assert kept.stat().st_mode & 0o077 == 0
        for spoil in (lambda: kept.write_bytes(kept.read_bytes()[:-9]), lambda: os.utime(kept, (0, 0))):
            spoil()  # cut short, or too old: read anew
            asked.clear()
            assert open_directory(server.settings()).schema.definitions == first.schema.definitions
            assert "attributeTypes" in str(asked)
    kept.unlink()
    with servers.running(servers.BARE) as server:  # without our schema, it may be loaded at any time
        assert open_directory(server.settings()).schema.attribute("vandrelBack") is None
        assert not kept.exists()


def test_what_a_server_says_of_itself_is_taken_for_true_until_its_first_answer(tmp_path):
    with _demo_far_away(tmp_path) as (_, relay, demo):
        assert demo.run("show", "alund").code == 0
        (file,) = (tmp_path / "cache" / "vandrel").glob("schema-*")
        true = msgspec.msgpack.decode(file.read_bytes(), type=schema_cache.KeptSchema)
        others = {
            name: true.told | {name: ["o=elsewhere"]}
            for name in ("namingContexts", "vendorVersion", "supportedControl")
        }
        spoiled = {
            **{name: structs.replace(true, told=told) for name, told in others.items()},
            "the stamp": structs.replace(true, stamp="20010101000000Z"),
            "the schema": structs.replace(true, stamp="20010101000000Z", definitions={name: [] for name in true.definitions}),
        }  # fmt: skip
        for number, (what, kept) in enumerate(spoiled.items()):
            for words in (["show", "alund"], ["edit", "alund", f"title=Cook {number}", "-y"]):
                file.write_bytes(msgspec.msgpack.encode(kept))
                relay.trips = 0
                done = demo.run(*words)
                assert done.code == 0 and "Anna Lund" in done.out, (what, done.err)
                assert msgspec.msgpack.decode(file.read_bytes(), type=schema_cache.KeptSchema) == true, what
            assert json.loads(demo.run("show", "alund", "--json").out)["objects"][0]["fields"]["title"] == [
                f"Cook {number}"
            ]
        # Standard input is read once, so nothing is taken for true then.
        test_reconcile.write(demo, test_reconcile.everybody(demo))
        assert demo.run("import", "roster.csv", "--propose", "-q").code == 0
        file.write_bytes(msgspec.msgpack.encode(spoiled["the stamp"]))
        roster = (demo.path / "roster.csv").read_text()
        done = demo.run("reconcile", "-", "--intake", "roster.intake.yaml", "-n", stdin=roster)
        assert done.code == 0 and "as the roster says" in done.out, done.out + done.err


def test_that_nobody_checks_a_certificate_is_said_once(tmp_path):
    setup, _ = servers.with_certificate(tmp_path)
    with servers.running(setup._replace(scheme="ldaps")) as server:
        url = f"ldaps://127.0.0.1:{server.port}"
        demo = _demo_on(tmp_path, f'hosts: ["{url}"], unchecked: true')
        assert demo.run("show", "alund").code == 0
        (file,) = (tmp_path / "cache" / "vandrel").glob("schema-*")
        kept = msgspec.msgpack.decode(file.read_bytes(), type=schema_cache.KeptSchema)
        file.write_bytes(msgspec.msgpack.encode(structs.replace(kept, stamp="20010101000000Z")))
        done = demo.run("show", "alund")  # it begins anew
        assert done.code == 0 and done.err.count("the certificate of the server is not checked") == 1, done.err


def _most_answers() -> dict[str, int]:
    """How often each command may wait for an answer on a standard server, as docs/scale.md says."""
    page = (Path(__file__).parent.parent / "docs" / "scale.md").read_text()
    return {line: int(most) for line, most in re.findall(r"^\| `([^`]+)` \| (\d+) \|", page, re.MULTILINE)}


@contextlib.contextmanager
def _demo_far_away(folder: Path) -> Iterator[tuple[Slapd, servers.FarAway, Folder]]:
    """The demo on a server, and a relay through which its folder reaches it."""
    with servers.running() as server:
        relay = servers.FarAway(server.port, 0.0)
        yield server, relay, _demo_on(folder, f'hosts: ["ldap://127.0.0.1:{relay.port}"], unencrypted: true')
        relay.close()


def _demo_on(folder: Path, how: str) -> Folder:
    """The demo on a server that is reached so."""
    (folder / "secret").write_text("the-tests-alone")
    identity = f'identities: {{admin: {{bind: "cn=root,{SUFFIX}", password-file: "{folder}/secret"}}}}'
    (folder / "connections.yaml").write_text(f"connections: {{harbour: {{{how}, {identity}}}}}\n")
    for file in folder.iterdir():
        file.chmod(0o600)
    env = {"XDG_CACHE_HOME": str(folder / "cache"), "VANDREL_CONNECTIONS": str(folder / "connections.yaml")}
    made = Folder(folder, env).run("demo", "demo", "--no-tour", "--directory", "harbour")
    assert made.code == 0, made.err
    return Folder(folder / "demo", env | {"VANDREL_DIRECTORY": "harbour"})


def test_a_long_list_does_not_come_for_who_joins_or_leaves_it(tmp_path):
    everybody = names.parse(f"cn=team-everybody,ou=Teams,ou=Groups,{SUFFIX}")
    with _demo_far_away(tmp_path) as (server, relay, demo):
        directory = open_directory(server.settings())
        deck = names.parse(f"ou=Officers,ou=Deck,ou=Northquay,ou=Ferries,{SUFFIX}")
        crew = [deck.child("cn", f"Somebody With A Long Name {number}") for number in range(3000)]  # 300 KB
        process = {"objectClass": ["applicationProcess"]}
        made = [AddEntry(dn, process | {"cn": [dn.name]}) for dn in crew[:100]]
        assert not any(directory.execute(made, atomic=False))
        others = tuple(map(str, crew))
        assert not any(directory.execute([ModifyEntry(everybody, (Change("member", added=others),))], atomic=False))
        before = Counter(map(str.lower, directory.get(everybody).texts("member")))
        job = ""
        for line in (
            "edit alund groups-=team-everybody -y", "edit alund groups+=team-everybody -y",
            "edit team-everybody members-=hbrekke -y", "edit team-everybody members+=hbrekke -y",
            "rename annlund surname=Berg -y", "undo {} -y", "delete tsahin -y", "undo {} -y", "leave jmeer -y", "undo {} -y",
        ):  # fmt: skip
            relay.octets = 0
            done = demo.run(*line.format(job).split())
            assert done.code == 0, line + done.err
            assert relay.octets < 100_000, (line, relay.octets)
            job = re.search(r"job (\d+) in the journal", done.out)[1]
        assert Counter(map(str.lower, directory.get(everybody).texts("member"))) == before
        # Where nobody else stands in a list, whoever leaves it leaves the place to nobody.
        assert demo.run("create", "group", "Loft", "kind=team", "members=alund", "-y").code == 0
        lonely = names.parse(f"cn=team-loft,ou=Teams,ou=Groups,{SUFFIX}")
        assert demo.run("edit", "alund", f"groups-={lonely.name}", "-y").code == 0
        assert directory.get(lonely).texts("member") == [""]


def test_each_command_waits_for_so_many_answers_and_no_more(tmp_path):
    with _demo_far_away(tmp_path) as (_, relay, demo):
        counted, most = {}, _most_answers()
        assert len(most) == 10
        relay.late = 0.3  # longer than the program takes between two questions that go together
        for line in most:
            relay.trips = 0
            done = demo.run(*line.split())
            assert done.code == 0, line + done.err
            counted[line] = relay.trips
    # Where the machine is busy, two questions that go together may be counted as two.
    assert not {line: (trips, most[line]) for line, trips in counted.items() if trips > most[line] + 1}
    assert sum(counted.values()) <= sum(most.values()) + 2


def test_deletions_and_returns_wait_for_few_answers(tmp_path):
    people = [DECK.child("cn", f"Hand {number}") for number in range(64)]
    adds = [person(dn, f"hand{number}") for number, dn in enumerate(people)]
    with servers.running(servers.PLAIN) as server:
        near = open_directory(server.settings())
        assert not any(make(near, unit(BASE), unit(DECK), *adds, atomic=False))
        identifiers = [near.get(dn).identifier for dn in people]
        relay = servers.FarAway(server.port)
        far = open_directory(root(relay.port))
        relay.trips = 0
        assert not any(far.execute(list(map(DeleteEntry, people)), atomic=False))
        back = [structs.replace(add(of(far)), was=was) for add, was in zip(adds, identifiers, strict=True)]
        assert not any(far.execute(back, atomic=False))
        assert relay.trips <= len(people) // 2
        relay.close()
