"""Flipped bits and emptied pages in our files: told with the place, the rest read on, and brought back."""

from __future__ import annotations

import random
import sqlite3
from contextlib import closing

import pytest

from vandrel.errors import Code

from .conftest import EXAMPLES, Folder
from .test_attic import done

WHO = "cn=Halvard Brekke,ou=Officers,ou=Deck,ou=Northquay,ou=Ferries,dc=marrowick,dc=example"


def spoil(folder: Folder, column: str = "data") -> None:
    """Another content in the row of one person, as a disk might put there."""
    with closing(sqlite3.connect(folder.path / "directory.db")) as db:
        (blob,) = db.execute("SELECT data FROM entry WHERE dn = ?", (WHO,)).fetchone()
        spoilt = bytearray(blob)
        spoilt[len(blob) // 2] ^= 0x20
        new = {"data": bytes(spoilt), "dn": WHO.replace("Halvard", "Hblvard")}[column]
        db.execute(f"UPDATE entry SET {column} = ? WHERE dn = ?", (new, WHO))
        db.commit()


def people(folder: Folder) -> tuple[int, set[str], str]:
    found = folder.run("find", "kind=crew", "--columns", "login", "--as", "csv")
    return found.code, set(found.out.split()[1:]), found.err


@pytest.mark.parametrize("column", ["data", "dn"])
def test_a_damaged_entry_is_named_the_rest_is_read_and_it_comes_back(demo, column):
    done(demo, "snapshot", "take")
    before = demo.run("show", "hbrekke", "--json").json["objects"][0]
    whole = demo.run("verify")
    assert (whole.code, whole.out.count("whole"), "damaged" in whole.out) == (0, 3, False)
    _, everybody, _ = people(demo)
    spoil(demo, column)
    code, others, told = people(demo)
    assert (code, everybody - others) == (Code.DAMAGED.exit_code, {"hbrekke"})
    assert "the entry is damaged, and left out" in told and "Brekke,ou=Officers" in told
    shown = demo.run("show", WHO)
    assert (shown.code, "the entry is damaged" in shown.err) == (Code.DAMAGED.exit_code, True)
    assert demo.run("edit", WHO, "title=X", "-y").code == Code.DAMAGED.exit_code
    named = demo.run("verify")
    assert named.code == Code.DAMAGED.exit_code
    if column == "dn":  # the name that is left is another, which no snapshot has
        assert "Hblvard" in named.err
        return
    assert f'vandrel restore "{WHO}" --from-snapshot 1' in named.err
    done_again = demo.run("restore", WHO, "--from-snapshot", "1", "-y")
    assert (done_again.code, "Done" in done_again.out) == (0, True), done_again.out + done_again.err
    assert demo.run("verify").code == 0
    after = demo.run("show", "hbrekke", "--json").json["objects"][0]
    kept = set(before["fields"]) - {"changed", "created"}
    assert {name: after["fields"].get(name) for name in kept} == {name: before["fields"][name] for name in kept}


def test_any_flipped_bit_and_any_emptied_page_ends_in_the_truth_or_in_words(demo, tmp_path):
    """Never a fault of the program, and never other data without a word. The seed is printed where one fails."""
    reference = demo.run("find", "--type", "all", "--columns", "name,login,title,phone,dn", "--as", "csv").out
    with closing(sqlite3.connect(demo.path / "directory.db")) as db:
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        size = db.execute("PRAGMA page_size").fetchone()[0]
    original = (demo.path / "directory.db").read_bytes()
    chance, wrong, ended = random.Random(20_261_129), [], set()
    for number in range(24 * EXAMPLES):
        octets = bytearray(original)
        if number % 4:
            at = chance.randrange(100, len(octets))
            octets[at] ^= 1 << chance.randrange(8)
        else:
            at = chance.randrange(1, len(octets) // size)
            octets[at * size : (at + 1) * size] = bytes(size)
        (demo.path / "directory.db").write_bytes(octets)
        for name in ("directory.db-wal", "directory.db-shm"):
            (demo.path / name).unlink(missing_ok=True)
        found = demo.run("find", "--type", "all", "--columns", "name,login,title,phone,dn", "--as", "csv")
        ended.add(found.code)
        known = set(reference.splitlines())
        strange = [line for line in found.out.splitlines() if line not in known]
        if found.code not in (0, Code.DAMAGED.exit_code, Code.FOREIGN.exit_code) or strange:
            wrong.append((number, at, found.code, strange[:1], found.err[-300:]))
        elif found.code == 0 and found.out != reference:  # less than there was, and no word of it
            missing = known - set(found.out.splitlines())
            checked = demo.run("verify")
            if checked.code == 0:
                wrong.append((number, at, "unsaid", sorted(missing)[:2]))
    assert not wrong, wrong
    assert {0, Code.DAMAGED.exit_code} <= ended
