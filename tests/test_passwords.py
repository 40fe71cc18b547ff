"""Password rules, checking, generating, and how the embedded directory keeps passwords."""

from __future__ import annotations

import pickle
import re
import subprocess
import sys
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.charter.document import Passwords
from vandrel.charter.passwords import check, classes_of, generate, in_force
from vandrel.directory.embedded import hashing
from vandrel.secret import Secret

# The test set of the trade: history 24, longest age 42 days, shortest 1 day, length 7, three of four classes.
SET = Passwords(length=7, classes=3, history=24, maximum_age=42, minimum_age=1, own_names="refuse", common="warn")
RULES = in_force([("domain", SET)])
PERSON = {"login": "jmueller", "full": "Jörg Müller-Lüdenscheidt"}
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


def broken(text: str, rules=RULES, **more) -> list[str]:
    return [finding.what for finding in check(Secret(text), rules, **{**PERSON, **more})]


@pytest.mark.parametrize(
    ("password", "words"),
    [
        ("Ab3!xy", ["6 characters, and 7"]),
        ("abcdxyz", ["1 of the four classes", ]),
        ("abcd3xyz", ["2 of the four classes"]),
        ("Kv9-fjord-lamp", []),
        ("Xy-MÜLLER-77q", ["own names: Müller"]),
        ("7q-JMueller-Xy", ["own names: jmueller"]),
        ("Xy-Lüdenscheidt7", ["own names: Lüdenscheidt"]),
        ("aB3", ["3 characters, and 7"]),
    ],
)  # fmt: skip
def test_each_rule_that_is_broken_is_named_with_its_figure(password, words):
    found = [what for what in broken(password) if "common word" not in what]
    assert len(found) == len(words)
    for what, word in zip(found, words, strict=True):
        assert word in what
        assert what.endswith("(domain)")


def test_several_rules_at_once():
    assert len(broken("müller")) == 3  # short, one class, own name


def test_parts_of_two_letters_do_not_count():
    assert not broken("Bo-9-fjord-lamp", full="Bo Ek", login="be")


def test_history_and_shortest_age():
    assert "last 24" in broken("Kv9-fjord-lamp", used=lambda last: last == 24)[0]
    fresh = broken("Kv9-fjord-lamp", changed=NOW - timedelta(hours=23), now=NOW)
    assert "before 2026-11-23 13:00" in fresh[0]
    assert not broken("Kv9-fjord-lamp", changed=NOW - timedelta(hours=24), now=NOW)


@pytest.mark.parametrize("password", ["P@ssw0rd2026", "Marr0wick!23"])
def test_a_common_word_varied_is_flagged(password):
    findings = check(Secret(password), RULES, words=["Marrowick", "Ferries"])
    assert [(f.is_fatal, "common word" in f.what) for f in findings] == [(False, True)]
    refusing = in_force([("domain", SET), ("kind administrator", Passwords(common="refuse"))])
    assert check(Secret(password), refusing, words=["Marrowick"])[0].is_fatal


def test_the_password_itself_is_in_no_finding():
    for finding in check(Secret("Jörg-hemmelig"), RULES, **PERSON, used=lambda last: True):
        assert "hemmelig" not in finding.what + finding.remedy + str(finding.where)


@given(st.integers(8, 40), st.integers(0, 64))
def test_a_generated_password_keeps_every_rule(generated, length):
    rules = in_force([("x", Passwords(length=length, generated=generated, classes=4))])
    secret = generate(rules, avoid=["Anna", "Lund"])
    assert not check(secret, rules, login="alund", full="Anna Lund")
    assert len(secret.reveal()) == max(generated, length)
    assert not set(secret.reveal()) & set("0O1lI|\"'`\\ ")
    assert len(classes_of(secret.reveal())) == 4


def test_generated_passwords_differ():
    assert len({generate(RULES).reveal() for _ in range(200)}) == 200


@pytest.mark.parametrize("generated", [True, False])
def test_kept_hashed_salted_and_recognized(generated):
    secret = Secret("Kv9-fjørd-lamp", generated=generated)
    one, other = hashing.protect(secret), hashing.protect(secret)
    assert one != other
    assert b"9-fj" not in one
    assert one.startswith(b"{SSHA512}" if generated else b"{SCRYPT}")
    assert hashing.fits(Secret("Kv9-fjørd-lamp"), one)
    assert not hashing.fits(Secret("Kv9-fjørd-lamq"), one)
    assert len(one) <= 256
    assert not hashing.fits(secret, b"{UNKNOWN}abc")


def test_a_secret_does_not_show_itself():
    secret = Secret("hemmelig")
    assert "hemmelig" not in f"{secret} {secret!r} {[secret]}"
    with pytest.raises(TypeError):
        pickle.dumps(secret)


def test_a_password_to_be_read_aloud_has_syllables_and_no_look_alikes():

    rules = in_force([("x", Passwords(aloud=True, generated=40))])
    for _ in range(50):
        text = generate(rules, ["Bakir"]).reveal()
        *words, number = text.split("-")
        assert re.fullmatch("[2-9]{2}", number)
        assert all(re.fullmatch("[BDFGKMNPRSTVZ][aeiou][bdfgkmnprstvz][aeiou][bdfgkmnprstvz]", word) for word in words)
        assert len(words) >= 5
        assert len(text) >= 40
        assert not check(Secret(text, generated=True), rules, login="x", full="y")


def test_no_core_is_written_while_a_password_is_held():
    """getrlimit(2) for RLIMIT_CORE; prctl(2) for PR_GET_DUMPABLE, which is 3."""
    lines = [
        "import ctypes, resource",
        "dumpable = lambda: ctypes.CDLL(None).prctl(3, 0, 0, 0, 0)",
        "before = dumpable()",
        "from vandrel.secret import Secret",
        "Secret('Kv9-fjord-lamp')",
        "print(before, dumpable(), resource.getrlimit(resource.RLIMIT_CORE)[0])",
    ]
    told = subprocess.run([sys.executable, "-c", "\n".join(lines)], capture_output=True, text=True, check=True).stdout
    assert told.split() == ["1", "0", "0"]
