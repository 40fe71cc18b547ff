"""Servers that fail: killed and started again, answers lost, hosts that are down."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from msgspec import structs

from vandrel.directory.operations import Change, DeleteEntry, ModifyEntry, RenameEntry, SetPassword
from vandrel.errors import DirectoryError
from vandrel.secret import Secret

from .conftest import not_installed
from .test_directory_contract import ANNA, BASE, BRIDGE, DECK, found, person, unit

try:
    from vandrel.directory.ldap.connection import Settings
    from vandrel.directory.ldap.store import LdapDirectory

    from .servers import SLAPD, SUFFIX, Forgetful, Slapd, free_port, running
except ImportError:
    SLAPD = ""


@pytest.fixture
def slapd() -> Iterator[Slapd]:
    if not SLAPD or not Path(SLAPD).exists():
        not_installed("python-ldap and slapd, for the tests on a standard LDAP server")
    with running() as server:
        yield server


def root(port: int, **more) -> Settings:
    """The root identity over the loopback, unencrypted in so many words."""
    secret = Secret("the-tests-alone")
    return Settings((f"ldap://127.0.0.1:{port}",), bind_dn=f"cn=root,{SUFFIX}", secret=secret, plain=True, **more)


def test_a_server_that_is_killed_and_comes_back_loses_nothing(slapd):
    directory = LdapDirectory(slapd.settings())
    assert directory.execute([unit(DECK)], atomic=True) == [None]
    people = [person(DECK.child("cn", f"Hand {number}"), f"h{number}") for number in range(1500)]

    def power_cut() -> None:
        time.sleep(0.1)
        slapd.kill()
        time.sleep(0.4)
        slapd.start()

    cut = threading.Thread(target=power_cut)
    cut.start()
    begun = time.monotonic()
    outcomes = directory.execute(people, atomic=False)
    assert time.monotonic() - begun > 0.4  # it was cut off in the middle, and waited
    cut.join()
    assert not any(outcomes), [o.findings for o in outcomes if o][:3]
    assert len(found(directory, "(uid=*)")) == 1500
    directory.close()


@pytest.mark.parametrize("lost", [1, 2])
def test_a_lost_answer_is_looked_up_before_anything_is_sent_again(slapd, lost):
    relay = Forgetful(slapd.port)
    directory = LdapDirectory(root(relay.port))
    secret = Secret("Kv9-fjord-lamp", generated=True)
    moved = BRIDGE.child("cn", "Anna Lund")
    for operation in [
        unit(DECK), unit(BRIDGE), person(ANNA, "alund"), ModifyEntry(ANNA, (Change("title", (), ("Mate",)),)),
        ModifyEntry(ANNA, (Change("title", ("Mate",), ("Captain",)),)), SetPassword(ANNA, secret, False),
        RenameEntry(ANNA, moved), DeleteEntry(DECK),
    ]:  # fmt: skip
        relay.lose = lost
        assert directory.execute([operation], atomic=False) == [None]
        assert relay.lose == 0 or relay.lose < lost
    relay.lose = 0
    assert directory.get(moved).texts("title") == ["Captain"]
    assert found(directory, "(objectClass=*)") == ["marrowick", "Bridge", "Anna Lund"]
    relay.close()


def test_an_object_of_somebody_else_is_not_taken_for_ours(slapd):
    relay = Forgetful(slapd.port)
    directory, other = LdapDirectory(root(relay.port)), LdapDirectory(slapd.settings())
    other.execute([unit(DECK), person(ANNA, "somebody")], atomic=True)
    relay.lose = 1
    (outcome,) = directory.execute([person(ANNA, "alund")], atomic=False)
    assert outcome.code == "taken"
    relay.close()


def test_a_host_that_is_down_is_passed_over(slapd):
    settings = structs.replace(
        root(slapd.port), urls=(f"ldap://127.0.0.1:{free_port()}", f"ldap://127.0.0.1:{slapd.port}")
    )
    directory = LdapDirectory(settings)
    assert directory.location == f"ldap://127.0.0.1:{slapd.port}"
    assert directory.contexts == (BASE,)


def test_no_server_at_all(slapd):
    with pytest.raises(DirectoryError) as caught:
        LdapDirectory(root(free_port()))
    assert caught.value.exit_code == 40
    directory = LdapDirectory(root(slapd.port, patience=0.3))
    slapd.kill()
    with pytest.raises(DirectoryError) as caught:
        directory.execute([unit(DECK)], atomic=True)
    assert caught.value.code == "out-of-reach"


def test_a_password_never_goes_over_the_network_unencrypted_unasked(slapd):
    with pytest.raises(DirectoryError, match="unencrypted") as caught:
        LdapDirectory(structs.replace(root(slapd.port), plain=False))
    assert caught.value.code == "not-permitted"


def test_a_wrong_identity_is_told(slapd):
    with pytest.raises(DirectoryError) as caught:
        LdapDirectory(structs.replace(root(slapd.port), secret=Secret("wrong")))
    assert caught.value.code == "not-permitted"
    assert "wrong" not in str(caught.value.findings[0].where)
    nobody = LdapDirectory(Settings((f"ldap://127.0.0.1:{slapd.port}",)))
    (outcome,) = nobody.execute([unit(DECK)], atomic=True)
    assert outcome.code == "not-permitted"
