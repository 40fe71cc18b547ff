"""Every reader on mutated input, for a time: what it cannot read it says in words, and never falls over.

``make fuzz`` takes an hour over all of them, ``make test`` a moment over each. What fails prints the seed and the input.
"""

from __future__ import annotations

import os
import random
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from vandrel.charter import pattern
from vandrel.charter.load import from_text
from vandrel.connections import config
from vandrel.demo.world import charter_text
from vandrel.directory import dn, ldif, place
from vandrel.directory import filter as filters
from vandrel.directory.active import delegation, descriptor, hours, policy_links, remote_sessions, sid
from vandrel.directory.schema import Schema, shipped_definitions
from vandrel.errors import VandrelError
from vandrel.fields import BUILT_IN
from vandrel.intake.description import load as load_description
from vandrel.jobs.common import assignments
from vandrel.jobs.inspect import comparisons
from vandrel.text import week

from .conftest import Folder
from .test_active import ALLOW_ALL, SHIELD
from .test_active import octets as descriptor_of

#: Seconds for each reader.
SECONDS = float(os.environ.get("VANDREL_FUZZ_SECONDS", "1"))
#: The same in every `make test`; another one each time where there is time for it.
FIRST = random.SystemRandom().randrange(1, 10**9) if "VANDREL_FUZZ_SECONDS" in os.environ else 20_261_129
SEED = int(os.environ.get("VANDREL_FUZZ_SEED", "0")) or FIRST
#: What grammars take for something.
TOKENS = [
    b"\x00", b"\n", b"\r\n", b"\t", b"\xff", b"\xe2\x80\xae", b"\x1b[31m", b"{", b"}", b"[", b"]", b"(", b")", b"*", b"&a", b"*a",
    b"\\", b"\\2c", b"=", b"==", b":", b"::", b":<", b"-", b"#", b"'", b'"', b"!", b"?", b"|", b"%", b"0", b"-1", b"9" * 30, b"1e9",
    b"null", b"~", b"true", b"!!python/object:x", b"<<: ", b"- ", b"dn: ", b"changetype: modify\n", b"\xc2\xa0", "é".encode(),
]  # fmt: skip
CHARTER = from_text(charter_text(), Path("charter.yaml"))
SCHEMA = Schema(shipped_definitions())


def mutated(chance: random.Random, seeds: list[bytes]) -> bytes:
    """One of the seeds with a few changes."""
    octets = bytearray(chance.choice(seeds))
    for _ in range(chance.randint(1, 6)):
        at = chance.randrange(len(octets) + 1)
        match chance.randrange(6):
            case 0 if octets:
                octets[min(at, len(octets) - 1)] ^= 1 << chance.randrange(8)
            case 1:
                del octets[at : at + chance.randint(1, 40)]
            case 2:
                octets[at:at] = octets[at : at + chance.randint(1, 40)] * chance.choice((1, 1, 2, 40))
            case 3:
                other = chance.choice(seeds)
                start = chance.randrange(len(other) + 1)
                octets[at:at] = other[start : start + chance.randint(1, 60)]
            case _:
                octets[at:at] = chance.choice(TOKENS)
    return bytes(octets)


def inputs(seeds: list[bytes]) -> Iterator[tuple[int, bytes]]:
    """Mutated input with the seed that gives it, until the time is over."""
    until = time.monotonic() + SECONDS
    seed = SEED
    while time.monotonic() < until:
        seed += 1
        yield seed, mutated(random.Random(seed), seeds)


def in_file(read: Callable[[Path], object], name: str) -> Callable[[bytes, Path], object]:
    def reader(octets: bytes, folder: Path) -> object:
        (folder / name).write_bytes(octets)
        return read(folder / name)

    return reader


def of_text(read: Callable[[str], object]) -> Callable[[bytes, Path], object]:
    return lambda octets, folder: read(octets.decode("utf-8", "replace"))


def all_of(descriptor_octets: bytes) -> None:
    """Whatever is asked of a security descriptor; what is read is written again."""
    read = descriptor.decode(descriptor_octets)
    delegation.read(read)
    for says in (descriptor.is_protected, descriptor.is_guarding, descriptor.is_password_fixed):
        says(read)
    descriptor.decode(descriptor.encode(descriptor.protect(read, True)))


def records(octets: bytes) -> None:
    for record in ldif.read(iter(octets.decode("utf-8", "replace").splitlines(keepends=True)), SCHEMA.is_binary):
        str(record.dn)


def filtered(text: str) -> None:
    item = filters.parse(text)
    filters.parse(filters.to_text(item))
    filters.attributes_of(item)


def defined(text: str) -> None:
    """A schema with one strange definition: what cannot be read is passed over, and the rest counts."""
    schema = Schema(
        [*shipped_definitions()[:60], ("attributetype", text), ("objectclass", text), ("ditcontentrule", text)]
    )
    assert schema.attribute("cn") is not None


DESCRIPTION = b"""vandrel-intake: 1
type: account
kind: crew
file: {encoding: utf-8, separator: ",", header: 1}
columns:
  No: number
  Born: {field: starts, dates: [DD.MM.YYYY]}
  Groups: {field: groups, split: ";"}
constants: {site: Northquay}
built: {web: "https://x.example/{login}"}
key: [number]
mode: both
"""
CONNECTIONS = b"""connections:
  harbour:
    hosts: ["ldaps://a.example:636", "ldap://127.0.0.1"]
    ca-file: ca.pem
    patience: 3
    identities:
      admin: {bind: "cn=a,dc=x", password-file: pw}
      everyday: {sasl: external}
"""
LDIF = b"""version: 1

dn: cn=Anna Lund,ou=Deck,dc=marrowick,dc=example
objectClass: inetOrgPerson
cn;lang-nb: Anna
sn:: THVuZA==
description: a long line that is
 folded

dn: cn=Anna Lund,ou=Deck,dc=marrowick,dc=example
changetype: modify
replace: title
title: Mate
-
increment: gidNumber
gidNumber: 1
-

dn: cn=A,dc=x
changetype: modrdn
newrdn: cn=B+sn=C
deleteoldrdn: 0
newsuperior: dc=y
"""
READERS: dict[str, tuple[Callable[[bytes, Path], object], list[bytes]]] = {
    "charter": (of_text(lambda text: from_text(text, Path("charter.yaml"))), [charter_text().encode()]),
    "description": (in_file(lambda path: load_description(path, BUILT_IN), "d.intake.yaml"), [DESCRIPTION]),
    "connections": (in_file(lambda path: config.load([path]), "connections.yaml"), [CONNECTIONS]),
    "ldif": (lambda octets, folder: records(octets), [LDIF]),
    "filter": (of_text(filtered), [b"(&(objectClass=person)(|(sn=L*nd*)(!(cn;lang-nb>=a)))(ou:dn:2.5.13.5:=x))", b"(a=\\2a)"]),
    "name": (of_text(dn.parse), [b"cn=Lund\\, Anna+sn=L\\20,ou=#04024869,dc=x", b'CN = "A", 2.5.4.10=x', b"uid=a"]),
    "place": (of_text(place.parse), [b"/Ferries/North\\/quay/Deck"]),
    "schema": (of_text(defined), [text.encode() for _, text in (*shipped_definitions()[3:9], *shipped_definitions()[80:84])]),
    "pattern": (of_text(pattern.parse), [b"{given 1}[{middle} ]{surname bare ascii lower 2..4}{count from 2 pad 3}", b"{{x}}[[y]]"]),
    "week": (of_text(week.parse), [b"Mon-Fri 06-18, Sat 08-12", b"not Sun", b"all"]),
    "assignment": (of_text(lambda t: assignments.parse(t, BUILT_IN)), [b"phone+=+47 5555", b"@cn;lang-nb-=a; b", b"groups=a,b"]),
    "comparison": (of_text(lambda t: comparisons.parse(t, BUILT_IN)), [b"ends<2026-12-31", b"last-logon<-90d", b"number>=3"]),
    "descriptor": (lambda octets, folder: all_of(octets), [descriptor_of(SHIELD, ALLOW_ALL), descriptor_of(ALLOW_ALL)]),
    "logon hours": (lambda octets, folder: hours.decode(octets), [bytes(21), b"\xff" * 21]),
    "policy links": (of_text(policy_links.parse), [b"[LDAP://cn={31B2F340},cn=policies,dc=x;0][LDAP://cn={A},dc=x;2]"]),
    "sessions": (of_text(remote_sessions.decode), [b"CtxCfgPresent", b"20202020202020"]),
    "identifier": (of_text(sid.from_text), [b"S-1-5-21-1-2-3-500", b"S-1-0x12AB-7"]),
}  # fmt: skip


@pytest.mark.parametrize("reader", READERS)
def test_a_reader_refuses_in_words(reader, tmp_path):
    read, seeds = READERS[reader]
    tried = 0
    for seed, octets in inputs(seeds):
        tried += 1
        try:
            read(octets, tmp_path)
        except VandrelError as error:
            assert error.findings[0].what, (seed, octets)
        except ValueError:  # what the formats of a server promise to raise
            assert reader in ("descriptor", "logon hours", "sessions", "identifier", "policy links"), (seed, octets)
        except Exception as error:
            pytest.fail(f"{type(error).__name__}: {error}; seed {seed}, input {octets!r}")
    assert tried > 5


#: Commands that read, in which every word may be spoilt.
LINES = [
    "show alund --raw", "find --type groups team- --where (cn=*) --columns name,@cn --by name", "compare alund hbrekke",
    "tree /Ferries --depth 2", "journal --about alund --since 2026-01-01 --field title", "audit unused --under /Shore",
    "charter names crew Anna|Lund language=nb", "export /Shore --only cn,sn", "edit alund title=x phone+=+47 -n",
    "create crew Tor|Vik number=2999 site=Kelness department=Deck category=Hands -n", "move alund --to /Guests -n",
    "series computer D- --count 3 --digits 2 -n", "leave alund --on 2026-12-31 -n", "find --list teams",
]  # fmt: skip


def test_the_command_line_takes_any_words(demo):
    """An exit code of ours, words, and nothing that a terminal would obey."""
    (demo.path / "lists.yaml").write_text("teams: {type: groups, words: [team-]}\n")
    until, seed = time.monotonic() + 4 * SECONDS, SEED
    while time.monotonic() < until:
        seed += 1
        chance = random.Random(seed)
        words = [word.replace("|", " ") for word in chance.choice(LINES).split()]
        at = chance.randrange(1, len(words))
        words[at] = mutated(chance, [word.encode() for word in words]).decode("utf-8", "replace").replace("\0", "")
        _run(demo, seed, *words)


def test_kept_lists_are_read_or_refused(demo):
    until, seed = time.monotonic() + 2 * SECONDS, SEED
    while time.monotonic() < until:
        seed += 1
        text = b"teams: {type: groups, words: [team-], columns: name}\nall:\n  words: []\n  reverse: true\n"
        (demo.path / "lists.yaml").write_bytes(mutated(random.Random(seed), [text]))
        _run(demo, seed, "find", "--list", "teams")


def _run(demo: Folder, seed: int, *words: str) -> None:
    done = demo.run(*words)  # which fails by itself where a fault of the program is told
    assert "\x1b" not in done.out + done.err, (seed, words)
    assert done.code >= 0, (seed, words, done.err)
