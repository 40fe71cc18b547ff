"""What waits in a temporary file is what it would be in memory, wherever the file begins."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.spilled import Spill
from vandrel.errors import Code, DirectoryError

from .test_lists import BOUNDS

NUMBERS = st.integers(-(2**31), 2**31)
KEYS = st.text(st.characters(exclude_categories=["Cs"]), max_size=3)
COMMANDS = st.lists(st.tuples(st.sampled_from(["put", "drop", "clear"]), KEYS, NUMBERS), max_size=30)
#: After how many things a file begins: at once, in the middle of what is done, or not at all.
FEW = st.sampled_from([0, 3, 100])


@given(COMMANDS, FEW)
def test_a_map_and_a_set_are_as_those_in_memory(commands, few):
    spill, plain, keys = Spill(few), dict[str, int](), set[str]()
    held, held_keys = spill.map(int), spill.set()
    for what, key, value in commands:
        if what == "put":
            plain[key] = held[key] = value
            keys.add(key)
            held_keys.add(key)
        elif what == "drop":
            assert held.pop(key, None) == plain.pop(key, None)
            keys.discard(key)
            held_keys.discard(key)
        elif value % 5 == 0:
            plain.clear()
            held.clear()
        assert (key in held, held.get(key), key in held_keys) == (key in plain, plain.get(key), key in keys)
    assert list(held.items()) == list(plain.items()) and len(held) == len(plain)
    assert sorted(held_keys) == sorted(keys) and len(held_keys) == len(keys) and held_keys == keys


@given(st.lists(NUMBERS, max_size=120), BOUNDS, BOUNDS, st.sampled_from((None, 1, 2, -1, -3)), FEW)
def test_a_list_is_as_one_in_memory(values, start, stop, step, few):
    held = Spill(few).list(int, values)
    assert list(held) == values and len(held) == len(values)
    assert held[start:stop:step] == values[start:stop:step]
    assert [held[place] for place in range(-len(values), len(values))] == [*values, *values]
    with pytest.raises(IndexError):
        held[len(values)]


@pytest.mark.parametrize("few", [0, 100])
def test_a_map_may_be_changed_by_whoever_goes_through_it_and_a_look_makes_a_value_anew(few):
    held = Spill(few).map(list[str])
    held.update((str(number), ["x"]) for number in range(1100))
    for number, key in enumerate(held):
        held[key].append("y")
        if number % 2:
            del held[key]
    assert len(held) == 550 and set(map(tuple, held.values())) == {("x",)}


@pytest.mark.parametrize("few", [0, 100])
def test_entries_and_names_come_back_with_text_and_octets(few):
    entry = Entry(names.parse("cn=Lund\\, Anna,dc=example"), {"cn": ["Lund, Anna"], "photo": [b"\xff\x00", "\xff"]})
    spill = Spill(few)
    entries, dns = spill.map(Entry), spill.map(DN)
    entries["a"], dns["a"], dns["root"] = entry, entry.dn, names.ROOT
    assert (
        entries["a"] == entry and dns["a"] == entry.dn and dns["a"].name == "Lund, Anna" and dns["root"] == names.ROOT
    )


def test_a_full_disk_is_told_with_the_folder(monkeypatch, tmp_path):
    monkeypatch.setenv("SQLITE_TMPDIR", str(tmp_path))
    spill = Spill()
    spill.run("PRAGMA max_page_count = 40")
    with pytest.raises(DirectoryError) as caught:
        spill.list(str, ("x" * 1000 for _ in range(2000)))
    [finding] = caught.value.findings
    assert (finding.code, finding.where.file) == (Code.DISK_FULL, str(tmp_path / "temporary file"))
    assert list(tmp_path.iterdir()) == []  # nobody else sees it
