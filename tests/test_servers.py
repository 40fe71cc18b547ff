"""Servers that fail: killed and started again, answers lost, hosts that are down."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from typing import TYPE_CHECKING

import pytest
from msgspec import structs

from vandrel.directory.operations import Change, DeleteEntry, ModifyEntry, RenameEntry, SetPassword
from vandrel.errors import DirectoryError
from vandrel.secret import Secret

from . import servers
from .servers import SUFFIX, Forgetful, Slapd, free_port, open_directory, settings
from .test_directory_contract import ANNA, BASE, BRIDGE, DECK, found, make, person, unit

if TYPE_CHECKING:
    from vandrel.directory.ldap.connection import Settings


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
    people = [person(DECK.child("cn", f"Hand {number}"), f"h{number}") for number in range(1500)]

    def power_cut() -> None:
        time.sleep(0.1)
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
    assert len(found(directory, "(uid=*)")) == 1500
    directory.close()


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


def test_a_wrong_identity_is_told(slapd):
    with pytest.raises(DirectoryError) as caught:
        open_directory(structs.replace(root(slapd.port), secret=Secret("wrong")))
    assert caught.value.code == "not-permitted"
    assert "wrong" not in str(caught.value.findings[0].where)
    nobody = open_directory(settings((f"ldap://127.0.0.1:{slapd.port}",)))
    (outcome,) = make(nobody, unit(BASE))
    assert outcome.code == "not-permitted"
