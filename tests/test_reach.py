"""Who could come by power, what looks like something else, and what is not shown: said before, and said truly."""

from __future__ import annotations

import pytest
from msgspec import structs

from vandrel.dialects.standard import StandardDialect
from vandrel.directory.entry import Entry
from vandrel.errors import Code
from vandrel.jobs.accounts.logon import logon_state

from . import servers
from .conftest import Folder
from .test_attic import done
from .test_three import place
from .test_upkeep import get, hire

__all__ = ["place"]  # the fixture


def test_a_name_that_looks_like_another_is_refused_and_odd_ones_are_told(demo):
    crew = ("create", "yard", "Zed Quill", "number=777")
    alike = demo.run(*crew, "login=hbr\u0435kke", "-n")  # the fifth letter is Cyrillic
    assert (alike.code, "easily taken for hbrekke" in alike.err) == (Code.TAKEN.exit_code, True), alike.err
    odd = demo.run(*crew, "login=z\u0435d", "-n")
    assert (odd.code, "letters of several scripts in one word: CYRILLIC, LATIN" in odd.err) == (0, True), odd.err
    whole = demo.run(*crew, "login=\u0437\u0435\u0434", "-n")  # a word of one script
    assert (whole.code, "scripts" in whole.err) == (0, False)


def test_whoever_may_reset_the_password_of_power_is_named_and_kept_out_of_reach(place):
    kind, folder = place
    told = folder.run("edit", "hbrekke", "groups+=team-harbour-masters", "-n").err
    assert "team-harbour-masters carries power" in told
    is_reached = kind != "domain" or "reset-passwords" in folder.run("show", "/Ferries").out
    assert (
        "who can log on as hbrekke (Halvard Brekke) gets it too: team-help-desk (reset-passwords in /Ferries)" in told
    ) == is_reached
    done(folder, "edit", "hbrekke", "groups+=team-harbour-masters")
    if kind == "domain":
        new = folder.run("edit", "/Ferries", "delegation+=team-it: reset-passwords", "-n")
        assert "with reset-passwords, team-it can log on as hbrekke (Halvard Brekke) (team-harbour-masters)" in new.err
        assert "team-it" not in folder.run("edit", "/Guests", "delegation+=team-it: reset-passwords", "-n").err
        return
    rules = folder.run("hierarchy", "delegate", "--rules").out.splitlines()
    about = rules.index(
        "# /Ferries: team-help-desk may not reset-passwords of hbrekke (Halvard Brekke), in team-harbour-masters"
    )
    general = next(n for n, line in enumerate(rules) if line == "# /Ferries: team-help-desk may reset-passwords")
    assert about < general  # the first rule that fits counts
    assert "attrs=userPassword,pwdReset,pwdAccountLockedTime" in rules[about + 1]
    assert rules[about + 1].endswith(" none by * break")


def test_what_the_charter_calls_secret_is_in_no_view_record_or_export(demo):
    charter = demo.path / "charter.yaml"
    charter.write_text(charter.read_text() + "\nsecret-attributes: [carLicense]\n")
    typed = demo.run("edit", "alund", "@carLicense=Kelp-77", "-y")
    assert (typed.code, "is never given on the command line" in typed.err) == (Code.USAGE.exit_code, True), typed.err
    dn = demo.run("show", "alund", "--bare", "dn").out.strip()
    (demo.path / "s.ldif").write_text(f"dn: {dn}\nchangetype: modify\nreplace: carLicense\ncarLicense: Kelp-77\n-\n")
    done(demo, "load", "s.ldif")
    for words in (
        ("show", "alund", "--raw"),
        ("export", "/Ferries"),
        ("journal", "--about", "alund"),
        ("find", "alund", "--columns", "@carLicense"),
    ):
        shown = demo.run(*words)
        assert shown.code == 0
        assert "Kelp-77" not in shown.out + shown.err, words
    for file in demo.path.glob("journal.db*"):
        assert b"Kelp-77" not in file.read_bytes()


def test_whether_there_is_a_password_is_said_only_where_it_is_shown(place):
    kind, folder = place
    if kind == "embedded":
        assert "it has no password" in folder.run("show", "g-thorne").out
        return
    seen = folder.run("show", "g-thorne").out
    if kind == "domain":  # a time of 0 is that of one who never had a password, and of one who must change it
        assert "Whether the account has a password is not shown to this identity." in seen
    else:
        assert "it has no password" in seen  # the administrator sees hashes of others, and so would see this one


def test_an_identity_that_sees_no_hash_but_its_own_cannot_tell(bench, monkeypatch):
    anna = hire(bench, "Anna", "Lund", "1")
    hidden = StandardDialect(bench.context.directory, bench.context.charter)
    monkeypatch.setattr(StandardDialect, "_shows_hashes", False)
    context = structs.replace(bench.context, dialect=hidden)
    entry = get(bench, anna)
    bare = Entry(entry.dn, {n: v for n, v in entry.attributes.items() if n not in ("userPassword", "pwdChangedTime")})
    assert (hidden.has_password(bare), hidden.has_password(entry)) == (
        None,
        bool(entry.values_of("userPassword")) or None,
    )
    state = logon_state(context, bare, context.charter.today())
    assert "not shown to this identity" in state.sentence and "no password" not in state.sentence


def test_a_handover_clears_what_is_the_predecessors_own(demo):
    done(demo, "edit", "alund", "mobile=+4755550111", "recovery-mail=a@b.example", "badge=77", "car=NQ 1")
    done(demo, "handover", "alund", "Tuva Solberg", "number=2994", "car=NQ 2", "--hand-out", "t.csv")
    fields = demo.run("show", "tsolberg", "--json").json["objects"][0]["fields"]
    assert {"mobile", "recovery-mail", "badge"} & fields.keys() == set()
    assert fields["car"] == ["NQ 2"]


def test_an_assignment_where_a_name_belongs_is_known_as_one(demo):
    told = demo.run("reset", "alund", "change=no", "-n")
    assert (told.code, "change is a field: vandrel edit NAME change=no" in told.err) == (Code.NOT_FOUND.exit_code, True)


def test_states_are_shown_and_asked_for(demo):
    done(demo, "disable", "alund")
    done(demo, "edit", "hbrekke", "@vandrelEnd=20260101000000Z")
    done(demo, "edit", "jmeer", "starts=2090-01-05")
    for state, login in (
        ("disabled", "alund"),
        ("ended", "hbrekke"),
        ("not started", "jmeer"),
        ("without password", "g-thorne"),
    ):
        found = demo.run("find", f"state={state}", "--columns", "login,state", "--as", "csv").out.splitlines()[1:]
        assert login in {line.split(",")[0] for line in found}, state
        assert all(state in line for line in found)
    assert demo.run("find", "state=gone").code == Code.BAD_VALUE.exit_code


@pytest.mark.parametrize("words", [("hierarchy",), ("hierarchy", "build", "-n")])
def test_the_charter_is_drawn_before_there_is_a_directory(demo, tmp_path, words):
    folder = tmp_path / "empty"
    folder.mkdir()
    (folder / "charter.yaml").write_text((demo.path / "charter.yaml").read_text())
    empty = Folder(folder, {})
    drawn = empty.run(*words)
    assert drawn.code in (0, 1) and "Northquay" in drawn.out, drawn.out + drawn.err
    assert sorted(path.name for path in folder.iterdir() if not path.name.startswith(".")) == ["charter.yaml"]


def test_the_demo_makes_nothing_on_a_server_without_our_schema(tmp_path):
    with servers.running(servers.BARE) as server:
        (tmp_path / "connections.yaml").write_text(
            f"connections:\n  bare:\n    hosts: ['{server.url}']\n    identities: {{admin: {{sasl: external}}}}\n"
        )
        made = Folder(tmp_path, {}).run("demo", "demo", "--directory", "bare")
        assert (made.code, "vandrel probe --schema" in made.err) == (Code.SCHEMA.exit_code, True), made.err
        root = servers.open_directory(server.settings())
        assert len(list(root.search(root.contexts[0]))) == 1
        root.close()
