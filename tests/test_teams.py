"""Fields of the working environment, dates and hours, roles, conversions of groups, and tasks delegated to teams."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from vandrel.charter.load import from_text
from vandrel.demo.world import charter_text
from vandrel.dialects.active import ActiveDialect
from vandrel.directory import dn as names
from vandrel.directory.active import delegation, remote_sessions
from vandrel.directory.active.descriptor import Acl, Descriptor, Entry, decode, encode, is_protected
from vandrel.directory.operations import AddEntry, Change, ModifyEntry
from vandrel.errors import VandrelError
from vandrel.jobs.accounts.roles import holders_of
from vandrel.jobs.common.edit import Editor
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.lifecycle.due import intentions
from vandrel.objects.view import roles_held
from vandrel.text import addresses, week

from . import servers
from .conftest import Folder
from .test_three import SLAPD, TOVE, place
from .test_upkeep import assignment, get, hire, run

__all__ = ["place"]  # the fixture

JPEG = b"\xff\xd8\xff\xe0 a face \xff\xd9"


# --- hours


@pytest.mark.parametrize(
    ("typed", "said"),
    [
        ("Mon-Fri 06-10 14-18", "Mon-Fri 06-10 14-18"), ("Mon-Fri 06-18, not Wed 12-14", "Mon-Tue 06-18, Wed 06-12 14-18, Thu-Fri 06-18"),
        ("all, not Sun", None), ("Fri 22-06", "Fri 22-24, Sat 00-06"), ("Mon+Wed 8-9", "Mon 08-09, Wed 08-09"),
        ("Mon-Sun, not Sat-Sun 00-06", "Mon-Fri, Sat-Sun 06-24"), ("NOT mon", "Tue-Sun"), ("not Sat-Sun, not Mon 00-06", "Mon 06-24, Tue-Fri"), ("Mon, not Mon", None),
    ],
)  # fmt: skip
def test_hours_by_day_range_block_and_exception(typed, said):
    if said is None:
        with pytest.raises(VandrelError):
            week.parse(typed)
    else:
        assert week.to_text(week.parse(typed)) == said
        assert week.parse(said) == week.parse(typed)


def test_summer_time_moves_hours_that_a_server_keeps_in_utc(bench, monkeypatch):
    """Oslo: UTC+1, and UTC+2 from the last Sunday of March (2026-03-29) to the last of October (2026-10-25)."""
    dialect = ActiveDialect(bench.context.directory, bench.context.charter)
    for today, moved, day in (
        (date(2026, 1, 15), "Mon-Fri 07-19", "2026-03-29"), (date(2026, 7, 1), "Mon-Fri 05-17", "2026-10-25"),
        (date(2026, 10, 24), "Mon-Fri 05-17", "2026-10-25"),
    ):  # fmt: skip
        monkeypatch.setattr(type(bench.context.charter), "today", lambda self, today=today: today)
        assert dialect.means_later("hours", "Mon-Fri 06-18") == (moved, day)
    assert dialect.means_later("hours", "all") == ("", "")
    assert bench.context.dialect.means_later("hours", "Mon-Fri 06-18") == ("", "")  # here they are kept as written


def test_in_a_zone_of_half_hours_no_hour_begins_too_early(bench, monkeypatch):
    """Kolkata is 5:30 ahead of UTC, Marquesas 9:30 behind, Kathmandu 5:45 ahead: rounded down, never to even."""
    for zone, ahead, late in (
        ("Asia/Kolkata", 5, 30), ("Pacific/Marquesas", -10, 30), ("Asia/Kathmandu", 5, 45), ("Europe/Oslo", 1, 0),
    ):  # fmt: skip
        monkeypatch.setattr(type(bench.context.charter), "today", lambda self: date(2026, 1, 15))
        dialect = ActiveDialect(
            bench.context.directory, from_text(charter_text().replace("Europe/Oslo", zone), Path("c"))
        )
        assert (dialect.hours_ahead, dialect.hours_late) == (ahead, late)
    monkeypatch.setattr(type(bench.context.dialect), "hours_late", 30)
    told = (
        Editor(bench.context)
        .edit(get(bench, hire(bench, "Anna", "Lund", "1")), [assignment("hours=Mon-Fri 06-18")])
        .findings
    )
    assert "each of these begins and ends 30 minutes later" in " ".join(finding.what for finding in told)


# --- the working environment


def test_settings_of_remote_sessions_are_decoded():
    """The beginning of the string is the one that [MS-TSTS] 2.3.1 describes: CtxCfgPresent is 0xB00B1E55."""

    def item(name: str, digits: str) -> str:
        packed = bytes(digits, "ascii").decode("utf-16-le")
        return chr(len(name) * 2) + chr(len(digits)) + "\x01" + name + packed

    kept = " " * 48 + "P" + chr(4) + item("CtxCfgPresent", "551e0bb0") + item("CtxCfgFlags1", "00f02190")
    kept += item("CtxMaxIdleTime", "40771b00") + item("CtxWFHomeDirDrive", b"H:\0\0".hex())
    assert "CtxCfgPresent㔵攱戰ぢ" in kept
    assert {name: remote_sessions.read(kept, name) for name in remote_sessions.ATTRIBUTES if remote_sessions.read(kept, name)} == {
        "remote-logon": "no", "remote-idle-limit": "30", "remote-drive": "H:",
    }  # fmt: skip
    assert remote_sessions.read(kept[:-3], "remote-idle-limit") == remote_sessions.read("", "remote-idle-limit") == ""
    with pytest.raises(ValueError, match="cannot be read"):
        remote_sessions.decode(kept[:-3])


def test_addresses_have_one_primary_of_each_type():
    assert addresses.normal(["sip:a@x", "sip:b@x", "c@x", "SMTP2:d", "smtp:e@x"]) == [
        "SIP:a@x", "sip:b@x", "c@x", "SMTP2:d", "e@x",
    ]  # fmt: skip
    assert addresses.normal(["sip:a@x", "SIP:b@x"]) == ["sip:a@x", "SIP:b@x"]
    for wrong in (["SIP:a@x", "SIP:b@x"], ["SMTP:a@x"]):
        with pytest.raises(VandrelError):
            addresses.normal(wrong)


def test_everything_about_a_person_on_every_directory(place):
    kind, folder = place
    (folder.path / "face.jpg").write_bytes(JPEG)
    (folder.path / "large.jpg").write_bytes(JPEG[:4] + b"x" * 102_400 + JPEG[-2:])
    (folder.path / "face.txt").write_text("no picture")
    given = ["photo=face.jpg", r"home=\\fs1\homes\{login}", "drive=H:", "hours=Mon-Fri 06-10 14-18", "machines=NQ-1",
             "machines+=NQ-2", "home-address=Bergveien 1$5003 Bergen", "recovery-mail=tove@home.example",
             "alias+=sip:tove@marrowick.example", "badge=0071", "division=Shore", "post-box=12"]  # fmt: skip
    done = folder.run("edit", "toedegaard", *given, "-y")
    assert done.code == 0, done.err
    fields = folder.run("show", "toedegaard", "--json").json["objects"][0]["fields"]
    expected = {
        "photo": ["JPEG, 14 bytes"], "home": [r"\\fs1\homes\toedegaard"], "drive": ["H:"],
        "hours": ["Mon-Fri 06-10 14-18"], "home-address": ["Bergveien 1$5003 Bergen"], "badge": ["0071"],
        "recovery-mail": ["tove@home.example"], "alias": ["SIP:tove@marrowick.example"], "division": ["Shore"],
        "post-box": ["12"],
    }  # fmt: skip
    assert {name: fields[name] for name in expected} == expected
    assert sorted(fields["machines"]) == ["NQ-1", "NQ-2"]
    assert "(recovers a password: recovery-mail)" in folder.run("journal", "--last", "1").out
    moves = "by the clock, these will be" in done.err
    assert moves == (kind == "domain")  # it alone keeps hours in UTC
    idle = folder.run("edit", "toedegaard", "remote-idle-limit=30", "dial-in=no", "-y")
    assert idle.code == (0 if kind == "domain" else 19)
    if kind == "domain":
        assert "30 minutes" in folder.run("show", "toedegaard").out
    for wrong, code in (
        ("photo=face.txt", 16), ("photo=large.jpg", 16), ("photo=nowhere.jpg", 16), ("drive=Home", 16), ("hours=Mon 25-26", 16),
        ("alias+=SIP:other@marrowick.example", 16), ("alias+=hbrekke@marrowick.example", 0), ("alias+=halvard.brekke@marrowick.example", 23),
        ("recovery-mail=tove", 16), ("back=soon", 16), ("back=2020-01-01", 16), ("roles=captain", 30), ("starts=2026-02-30", 16),
    ):  # fmt: skip
        assert folder.run("edit", "toedegaard", wrong, "-n").code == code, wrong
    assert "102,406" in folder.run("edit", "toedegaard", "photo=large.jpg", "-n").err
    assert folder.run("edit", "toedegaard", "machines-=NQ-2", "photo=", "hours=", "alias=", "-y").code == 0
    fields = folder.run("show", "toedegaard", "--json").json["objects"][0]["fields"]
    assert (fields["machines"], {"photo", "hours", "alias"} & fields.keys()) == (["NQ-1"], set())


# --- dates


def test_who_comes_back_and_who_starts(bench):
    today = date(2026, 11, 23)
    anna, bo, cleo = (hire(bench, name, "Lund", str(n)) for n, name in enumerate(("Anna", "Bo", "Cleo")))
    for dn, given in ((anna, ["enabled=no", "back=2026-11-23"]), (bo, ["enabled=no", "starts=2026-12-01"]),
                      (cleo, ["back=2026-11-24", "ends=2026-11-30"])):  # fmt: skip
        run(bench, Editor(bench.context).edit(get(bench, dn), [assignment(word) for word in given]).steps)
    found = [(i.entry.dn.name, i.field, str(i.day), i.to_do) for i in intentions(bench.context, today, 30)]
    assert found == [
        ("Anna Lund", "back", "2026-11-23", True), ("Cleo Lund", "ends", "2026-11-30", False),
        ("Bo Lund", "starts", "2026-12-01", False),
    ]  # fmt: skip
    later = [(i.entry.dn.name, i.field, i.to_do) for i in intentions(bench.context, today + timedelta(8), 0)]
    assert later == [("Anna Lund", "back", True), ("Bo Lund", "starts", True), ("Cleo Lund", "leaves", True)]
    assert len(intentions(bench.context, today, 3)) == 1


def test_dated_disabling_on_every_directory(place):
    kind, folder = place
    today = datetime.now(ZoneInfo("Europe/Oslo")).date().isoformat()
    assert folder.run("disable", "jmueller", "--back", today, "-y").code == 0
    assert folder.run("disable", "tohara", "--back", "2090-01-07", "-y").code == 0
    word = "marked as disabled until 2090-01-07" if kind == "slapd" else "disabled until 2090-01-07"
    assert word in folder.run("show", "tohara").out
    assert "to be enabled" in folder.run("due").out
    enabled = folder.run("due", "--carry-out", "-y")
    assert enabled.code == 0, enabled.err
    assert folder.run("show", "jmueller", "--bare", "enabled").out == "yes\n"
    assert folder.run("show", "jmueller", "--bare", "back").out == ""
    assert folder.run("show", "tohara", "--bare", "enabled").out == "no\n"
    assert folder.run("enable", "tohara", "-y").code == 0
    early = folder.run("create", "staff", "Ida Vik", "number=4712", "department=IT", "starts=2090-01-01",
                       "--hand-out", "ida.csv", "-y")  # fmt: skip
    assert early.code == 0, early.err
    assert folder.run("show", "ivik", "--bare", "enabled").out == "no\n"
    assert "starts" in folder.run("due", "--within", "40000").out


# --- groups and roles


def test_what_a_group_may_become_hangs_on_what_it_is_in_and_holds(bench):
    """[MS-SAMR] 3.1.1.8.8: global and domain-local change into each other only by way of universal."""

    def change(name: str, word: str) -> list[str]:
        edit = Editor(bench.context).edit(resolve(bench.context, name), [assignment(word)])
        return [f.what for f in edit.findings if f.is_fatal]

    editor = Editor(bench.context)
    run(bench, editor.edit(resolve(bench.context, "team-it"), [assignment("members+=team-office")]).steps)
    assert change("team-office", "scope=universal") == ["it cannot become universal: it is in global team-it"]
    assert change("team-it", "scope=universal") == []
    assert change("team-it", "scope=domain-local") == ["a global group becomes domain-local only by way of universal"]
    run(bench, editor.edit(resolve(bench.context, "tidings"), [assignment("members+=team-season")]).steps)
    assert change("tidings", "scope=global") == []
    run(bench, editor.edit(resolve(bench.context, "may-fares"), [assignment("members+=may-sailing-plan")]).steps)
    assert change("may-fares", "scope=universal") == [
        "it cannot become universal: it holds domain-local may-sailing-plan"
    ]


def test_one_member_that_is_refused_does_not_stop_the_others(place):
    _, folder = place
    assert folder.run("create", "group", "Outer", "kind=team", "-y").code == 0
    assert folder.run("create", "group", "Inner", "kind=team", "-y").code == 0
    assert folder.run("edit", "team-outer", "members+=team-inner", "-y").code == 0
    part = folder.run("edit", "team-inner", "members+=hbrekke,team-outer,toedegaard,hbrekke", "-y")
    assert (part.code, "team-outer does not come into team-inner: this would make a circle" in part.err) == (1, True)
    assert folder.run("show", "team-inner", "--bare", "members").out.count("\n") == 2
    again = folder.run("edit", "team-inner", "members+=hbrekke", "-y")
    assert (again.code, "Nothing to change." in again.out) == (0, True)
    alone = folder.run("edit", "team-inner", "members+=team-outer", "-y")
    assert alone.code == 20
    shown = folder.run("show", "team-inner", "--effective").out
    assert "it is in global team-outer" in shown


def test_roles_are_given_and_taken_by_their_groups(bench):
    anna = hire(bench, "Anna", "Lund", "1")

    def roles(word: str) -> dict[str, tuple[str, ...]]:
        edit = Editor(bench.context).edit(get(bench, anna), [assignment(word)])
        run(bench, edit.steps)
        return {d.field: d.after for d in edit.differences}

    assert list(holders_of(bench.context, "helpdesk")) == []
    assert roles("roles+=helpdesk")["roles"] == ("helpdesk",)
    assert [(h.entry.dn, h.through) for h in holders_of(bench.context, "helpdesk")] == [(anna, ())]
    assert roles("roles=harbour-master")["roles"] == ("harbour-master",)
    assert roles("roles-=harbour-master")["roles"] == ()
    assert roles_held(bench.context.charter.document.roles, ["Team-Help-Desk", "team-it"]) == ["helpdesk"]
    # Power that comes through groups in the group is power.
    for group, member in (("team-help-desk", "team-it"), ("team-it", "team-office"), ("team-office", "team-it")):
        edit = Editor(bench.context).edit(resolve(bench.context, group), [assignment(f"members+={member}")])
        run(bench, edit.steps)
    assert roles("groups+=team-office")["groups"]
    assert [(h.entry.dn, h.through) for h in holders_of(bench.context, "helpdesk")] == [
        (anna, ("team-it", "team-office"))
    ]


# --- tasks delegated to teams


def test_a_task_is_entries_of_its_own_and_leaves_all_others_alone():
    team, other = "S-1-5-21-1-2-3-1105", "S-1-5-21-1-2-3-1106"
    handed_down = Entry(0, 0x10, 0xF01FF, trustee="S-1-5-18")
    before = Descriptor(0x8004, dacl=Acl(4, (Entry(1, 0, 0x10040, trustee="S-1-1-0"), handed_down)), order=("dacl",))
    both = delegation.changed(before, [f"{team} create-accounts", f"{team} reset-passwords", f"{other} unlock"], [])
    assert delegation.read(decode(encode(both))) == [
        f"{team} reset-passwords", f"{team} create-accounts", f"{other} unlock",
    ]  # fmt: skip
    assert both.dacl.entries[0] == before.dacl.entries[0]
    assert both.dacl.entries[-1] == handed_down
    less = delegation.changed(both, [], [f"{team} create-accounts"])
    assert delegation.read(less) == [f"{team} reset-passwords", f"{other} unlock"]  # what both need stays
    assert (
        delegation.changed(less, [], [f"{team} reset-passwords", f"{other} unlock"]).dacl.entries == before.dacl.entries
    )
    away = [f"{team} reset-passwords", f"{team} create-accounts"]
    kept = delegation.shield(before, away, [])
    assert delegation.shielded_from(decode(encode(kept))) == away and is_protected(kept)
    assert delegation.shielded_from(some := delegation.shield(kept, [], away[:1])) == away[1:]
    assert delegation.shield(some, [], away[1:]).dacl.entries == before.dacl.entries


def _delegate_may(folder: Folder, *, elsewhere: str) -> None:
    """As a member of the help desk: a password below /Ferries, a telephone number there; not elsewhere, nor a title."""
    as_her = ("--who", "everyday", "-y")
    reset = folder.run("reset", "hbrekke", "--hand-out", "hb.csv", *as_her)
    assert reset.code == 0, reset.err
    phone = folder.run("edit", "hbrekke", "phone=+47 5555 0199", *as_her)
    assert phone.code == 0, phone.err
    crew = ("site=Northquay", "department=Deck", "category=Hands")
    refusals = [("reset", elsewhere, "--hand-out", "no.csv"), ("edit", elsewhere, "phone=1"),
                ("edit", "hbrekke", "title=Admiral"), ("create", "group", "Tide watch", "kind=team"),
                ("create", "crew", "Per Moe", "number=77", *crew, "--hand-out", "p.csv")]  # fmt: skip
    for words in refusals:
        refused = folder.run(*words, *as_her)
        assert refused.code == 41, (words, refused.out, refused.err)


def _delegate_reaches_no_power(folder: Folder) -> None:
    """Somebody below /Ferries is given power, and then taken out of reach; a telephone number is none."""
    told = folder.run("edit", "alund", "groups+=team-harbour-masters", "-y")
    assert "gets it too: team-help-desk (reset-passwords in /Ferries)" in told.err
    assert "take the account out of their reach: vandrel hierarchy delegate" in told.err
    assert "power-within-reach" in folder.run("audit", "power-within-reach").out
    shielded = folder.run("hierarchy", "delegate", "-y")
    assert "out of reach of  (empty)  ->  team-help-desk: reset-passwords" in shielded.out, shielded.out
    assert folder.run("audit", "power-within-reach", "--json").json["rows"] == []
    hers = ("--who", "everyday", "-y")
    assert folder.run("reset", "alund", "--hand-out", "no.csv", *hers).code == 41
    assert folder.run("edit", "alund", "@pwdLastSet=-1", *hers).code == 41
    assert folder.run("edit", "alund", "phone=+47 5555 0177", *hers).code == 0
    assert "Everything that the charter delegates is in force." in folder.run("hierarchy", "delegate").out
    assert folder.run("edit", "alund", "groups-=team-harbour-masters", "-y").code == 0
    assert "team-help-desk: reset-passwords  ->  (empty)" in folder.run("hierarchy", "delegate", "-y").out
    assert folder.run("reset", "alund", "--hand-out", "again.csv", *hers).code == 0


def _delegate_unlocks(folder: Folder, *, elsewhere: str) -> None:
    """Two accounts are locked; the one below /Ferries she unlocks, the other she may not."""
    for who in ("hbrekke", elsewhere):
        if folder.run("show", who, "--bare", "locked").out == "no\n":
            assert folder.run("edit", who, "@pwdAccountLockedTime=20260101000000Z", "-y").code == 0
        assert folder.run("show", who, "--bare", "locked").out == "yes\n"
    done = folder.run("unlock", "hbrekke", "--who", "everyday", "-y")
    assert done.code == 0, done.err
    assert folder.run("show", "hbrekke", "--bare", "locked").out == "no\n"
    refused = folder.run("unlock", elsewhere, "--who", "everyday", "-y")
    assert refused.code == 41, refused.out + refused.err
    assert folder.run("show", elsewhere, "--bare", "locked").out == "yes\n"
    assert folder.run("unlock", elsewhere, "-y").code == 0


def _delegate_may_no_more(folder: Folder) -> None:
    """Neither hashes nor addresses, and nobody is enabled or disabled: not by a word, nor by a new password."""
    hers = ("--who", "everyday")
    assert folder.run("export", "--where", "(uid=hbrekke)", "--hashes", *hers).out.count("userPassword") == 0
    assert folder.run("export", "--where", "(uid=hbrekke)", "--hashes").out.count("userPassword") == 1
    for tried in (["edit", "hbrekke", "alias+=boss@marrowick.example"], ["disable", "hbrekke"]):
        done = folder.run(*tried, *hers, "-y")
        assert done.code == 41, done.out + done.err
    assert folder.run("disable", "hbrekke", "-y").code == 0
    for tried in (
        ["enable", "hbrekke"],
        ["reset", "hbrekke", "--hand-out", "no.csv"],
        ["edit", "hbrekke", "@pwdAccountLockedTime="],
    ):
        done = folder.run(*tried, *hers, "-y")
        assert done.code in (1, 41), done.out + done.err
        assert folder.run("show", "hbrekke", "--bare", "enabled").out == "no\n", tried
    assert folder.run("enable", "hbrekke", "-y").code == 0


MORE = ["--charter", "more.yaml"]


def more_tasks(folder: Folder) -> None:
    """The charter with all tasks given to the help desk: accounts below /Ferries, groups, computers."""
    text = charter_text().replace("unlock, edit-contacts]}", "unlock, edit-contacts, create-accounts]}")
    text = text.replace("  Groups:\n", "  Groups:\n    delegation: {team-help-desk: [fill-groups]}\n", 1)
    text = text.replace("{team-it: [join-computers]}", "{team-help-desk: [join-computers]}")
    assert text.count("team-help-desk: [") == 4
    (folder.path / "more.yaml").write_text(text)


def _delegate_makes(folder: Folder) -> None:
    """As a member of the help desk: a person below /Ferries, a group, a computer; nobody ashore."""
    as_her = ("--who", "everyday", "-y", *MORE)
    crew = ("site=Kelness", "department=Deck", "category=Hands", "--hand-out")
    for words in (
        ("create", "crew", "Per Moe", "number=77", *crew, "per.csv"), ("edit", "pmoe", "title=Deckhand"),
        ("create", "group", "Tide watch", "kind=team", "members=pmoe"), ("create", "computer", "KN-LAMP-1"),
        ("edit", "team-tide-watch", "members-=pmoe"),
    ):  # fmt: skip
        done = folder.run(*words, *as_her)
        assert done.code == 0, (words, done.out, done.err)
    assert "Per Moe can log on" in folder.run("show", "pmoe").out
    for words in (
        ("create", "staff", "Eva Moe", "number=78", "department=IT", "--hand-out", "eva.csv"),
        ("create", "group", "Shore watch", "kind=team", "place=/Shore/IT"), ("create", "computer", "IT-LAMP-1", "place=/Shore/IT"),
    ):  # fmt: skip
        refused = folder.run(*words, *as_her)
        assert refused.code == 41, (words, refused.out, refused.err)
    assert folder.run("show", "emoe").code == 30


def test_computers_by_the_same_verbs(place):
    _, folder = place
    for words in (
        ("create", "computer", "NQ-LOCKER-1", "groups=team-desks"), ("edit", "nq-locker-1", "notes=By the stairs"), ("disable", "nq-locker-1"),
        ("enable", "nq-locker-1"), ("protect", "nq-locker-1"), ("release", "nq-locker-1"), ("move", "nq-locker-1", "--to", "/Machines/Bridges"),
        ("edit", "nq-locker-1", "name=NQ-LOCKER-2"),
    ):  # fmt: skip
        done = folder.run(*words, "-y")
        assert done.code == 0, (words, done.err)
    one = folder.run("show", "/Machines/Bridges/NQ-LOCKER-2", "--json").json["objects"][0]
    assert (one["place"], "team-desks" in one["fields"]["groups"], one["state"]) == ("/Machines/Bridges", True, [])
    assert "NQ-LOCKER-2" in folder.run("find", "--type", "computers", "--columns", "name,groups").out


def test_the_help_desk_may_do_what_it_may_do_with(place):
    kind, folder = place
    tree = folder.run("tree", "--depth", "1").out
    state = " (not in force yet)" if kind == "domain" else " (by the charter)"
    assert f"Ferries  team-help-desk: reset-passwords, unlock, edit-contacts{state}" in tree
    delegate = folder.run("hierarchy", "delegate", "-y")
    assert delegate.code == 0, delegate.err
    if kind != "domain":
        assert "nothing enforces it" in delegate.out
        return
    assert "Everything that the charter delegates is in force." in folder.run("hierarchy", "delegate").out
    assert "reset-passwords, unlock, edit-contacts\n" in folder.run("tree", "--depth", "1").out
    assert folder.run("edit", "toedegaard", "roles+=helpdesk", "-y").code == 0
    assert (
        folder.run("edit", "toedegaard", "password=-", "change=no", "enabled=yes", "-y", stdin="Kv9-fjord-lamp\n").code
        == 0
    )
    assert folder.run("edit", "toedegaard", "machines=", "-y").code == 0
    _delegate_may(folder, elsewhere="x-mpires")
    _delegate_reaches_no_power(folder)
    assert folder.run("edit", "/", "@lockoutThreshold=3", "-y").code == 0
    for who in ("hbrekke", "x-mpires"):
        for _ in range(4):
            folder.run("logon", who, "--password", "-", stdin="wrong-wrong\n")
    _delegate_unlocks(folder, elsewhere="x-mpires")
    more_tasks(folder)
    assert folder.run("hierarchy", "delegate", "-y", *MORE).code == 0
    _delegate_makes(folder)
    jobs = [
        j["number"]
        for j in folder.run("journal", "--json", "--last", "0").json["rows"]
        if j["title"].startswith("delegate")
    ]
    for job in jobs:  # the latest first; those of the accounts that were out of reach as well
        undone = folder.run("undo", str(job), "-y")
        assert undone.code == 0, undone.err
    assert "(not in force yet)" in folder.run("tree", "--depth", "1").out
    assert folder.run("reset", "hbrekke", "--hand-out", "hb2.csv", "--who", "everyday", "-y").code == 41
    assert folder.run("edit", "/Ferries", "delegation+=team-help-desk:make-coffee", "-y").code == 16
    both = folder.run("edit", "/Groups", "delegation=team-help-desk: unlock, edit-contacts", "-n").out
    assert "team-help-desk: unlock" in both and "team-help-desk: edit-contacts" in both
    assert folder.run("edit", "toedegaard", "roles-=helpdesk", "-y").code == 0


def test_the_same_as_access_rules_of_slapd(tmp_path):
    """The rules that are printed, loaded into a server; then a member of the help desk binds."""
    with servers.running(servers.Setup()) as server:
        (tmp_path / "connections.yaml").write_text(SLAPD.format(url=server.url, dn=TOVE))
        (tmp_path / "hers").write_text("Kv9-fjord-lamp")
        (tmp_path / "hers").chmod(0o600)
        env = {"VANDREL_DIRECTORY": "harbour"}
        assert Folder(tmp_path, {}).run("demo", "demo", "--no-tour", "--directory", "harbour").code == 0
        folder = Folder(tmp_path / "demo", env)
        assert folder.run("edit", "toedegaard", "roles+=helpdesk", "-y").code == 0
        assert folder.run("edit", "toedegaard", "password=-", "change=no", "-y", stdin="Kv9-fjord-lamp\n").code == 0
        own = server.setup.access
        _load_rules(server, folder.run("hierarchy", "delegate", "--rules").out, own)
        _delegate_may(folder, elsewhere="x-mpires")
        _delegate_unlocks(folder, elsewhere="x-mpires")
        _delegate_may_no_more(folder)
        # Of several, what she may do is done, the other is told; the journal knows.
        part = folder.run("edit", "hbrekke", "x-mpires", "phone=+47 5555 0200", "--who", "everyday", "-y")
        assert (part.code, "1 of 2 steps made" in part.out, "Marta Pires" in part.err) == (1, True, True), part.err
        assert folder.run("show", "hbrekke", "--bare", "phone").out == "+47 5555 0200\n"
        assert "1 of 2" in folder.run("journal", "--last", "1").out
        more_tasks(folder)
        _load_rules(server, folder.run("hierarchy", "delegate", "--rules", *MORE).out, own)
        _delegate_makes(folder)


def _load_rules(server: servers.Slapd, printed: str, own: str) -> None:
    """Put printed rules before those that the server has, and start it anew."""
    found = [line.partition("}")[2] for line in printed.splitlines() if line.startswith("olcAccess: {")]
    assert len(found) >= sum(line.startswith("# /") for line in printed.splitlines()) > 0
    server.stop()
    server.setup = server.setup._replace(access="\n".join([*(f"access {rule}" for rule in found), own]))
    server.configure()
    server.start()


# --- really locked


def test_bad_attempts_lock_and_one_word_unlocks(place):
    kind, folder = place
    if kind != "domain":
        return  # a standard server needs a policy for it: below
    assert folder.run("edit", "/", "@lockoutThreshold=3", "-y").code == 0
    assert folder.run("edit", "hbrekke", "password=-", "change=no", "-y", stdin="Kv9-fjord-lamp\n").code == 0
    for _ in range(4):
        folder.run("logon", "hbrekke", "--password", "-", stdin="wrong-wrong\n")
    assert folder.run("show", "hbrekke", "--bare", "locked").out == "yes\n"
    refused = folder.run("logon", "hbrekke", "--password", "-", stdin="Kv9-fjord-lamp\n")
    assert (refused.code, "bad attempts have locked it" in refused.out + refused.err) == (41, True)
    assert folder.run("unlock", "hbrekke", "-y").code == 0
    proved = folder.run("logon", "hbrekke", "--password", "-", stdin="Kv9-fjord-lamp\n")
    assert proved.code == 0, proved.out + proved.err


# --- password rules: the test set

RULES = "passwords:\n  length: 7\n  classes: 3\n  history: 24\n  maximum-age: 42\n  minimum-age: 1\n  own-names: refuse\n  common: warn\n"


#: So loose that the domain's own rules, which are the test set, come to hold.
LOOSE = "passwords:\n  length: 1\n  classes: 0\n  history: 0\n  maximum-age: 0\n  minimum-age: 0\n  own-names: allow\n  common: warn\n"


def test_the_rules_in_force_are_told_with_their_source_and_each_is_named(place):
    """History 24, longest age 42 days, shortest 1 day, length 7, three of four classes."""
    kind, folder = place
    text = charter_text()
    begin, end = text.index("passwords:\n"), text.index("kinds:\n")
    (folder.path / "set.yaml").write_text(text[:begin] + (LOOSE if kind == "domain" else RULES) + text[end:])
    more = ("--charter", "set.yaml")
    shown = folder.run("show", "agross", "--password-rules", *more).out
    source = "domain marrowick" if kind == "domain" else "charter"
    for rule in ("7 characters or more", "3 of four classes", "none of the last 24", "42 days", "within 1 day"):
        (line,) = [line for line in shown.splitlines() if rule in line] or [shown]
        assert line.endswith(source), line

    def give(password: str):
        return folder.run("reset", "agross", "--password", "-", "--keep", "-y", *more, stdin=f"{password}\n")

    for password, why in (
        ("Kv9-xx", "7"), ("kvjordlampe", "classes"), ("Anneliese-77", "name"), ("xyGross.19", "name"),
    ):  # fmt: skip
        refused = give(password)
        assert (refused.code, why in refused.err) == (25, True), (password, refused.err)
        assert password not in refused.out + refused.err
    flagged = give("P@ssw0rd-1")
    assert "common" in flagged.err, flagged.err
    assert give("Kv9-fjord-lamp").code == 0
    assert "42 days" not in folder.run("show", "agross", *more).out
    assert give("Rx4-lamp-fjord").code == 0
    again = give("Kv9-fjord-lamp")
    # That standard server has no policy, and so keeps no old password; the domain takes the last one for another hour.
    assert again.code == (0 if kind == "slapd" else 25), again.err
    if kind == "domain":
        assert give("Mw7-fjord-jord").code == 0
    ages = folder.run("show", "agross", "--password-rules", *more).out
    assert "too old from" in ages
    assert "never" not in ages


def test_the_same_rules_kept_by_a_standard_server(tmp_path):
    """The test set as a password policy of slapd, for an identity that it does not let off."""
    setup = servers.Setup(
        modules=("ppolicy",), right="write",
        overlays=f'overlay ppolicy\nppolicy_default "cn=rules,{servers.SUFFIX}"\n',
    )  # fmt: skip
    with servers.running(setup) as server:
        (tmp_path / "connections.yaml").write_text(SLAPD.format(url=server.url, dn=TOVE))
        env = {"VANDREL_DIRECTORY": "harbour"}
        assert Folder(tmp_path, {}).run("demo", "demo", "--no-tour", "--directory", "harbour").code == 0
        folder, root = Folder(tmp_path / "demo", env), servers.open_directory(server.as_root())
        rules = names.parse(f"cn=rules,{servers.SUFFIX}")
        policy = {
            "objectClass": ["device", "pwdPolicy"], "pwdAttribute": ["userPassword"], "pwdInHistory": ["24"],
            "pwdMaxAge": [str(42 * 86400)], "pwdMinAge": ["86400"], "pwdMinLength": ["7"], "pwdCheckQuality": ["2"],
        }  # fmt: skip
        assert root.execute([AddEntry(rules, policy)], atomic=True) == [None]
        begin, end = charter_text().index("passwords:\n"), charter_text().index("kinds:\n")
        (folder.path / "set.yaml").write_text(charter_text()[:begin] + LOOSE + charter_text()[end:])
        shown = folder.run("show", "agross", "--password-rules", "--charter", "set.yaml").out
        for rule in ("7 characters or more", "none of the last 24", "42 days", "within 1 day"):
            (line,) = [line for line in shown.splitlines() if rule in line] or [shown]
            assert line.endswith("server: rules"), line

        def give(password: str) -> tuple[int, str]:
            done = folder.run(
                "reset", "agross", "--password", "-", "--keep", "-y", "--charter", "set.yaml", stdin=f"{password}\n"
            )
            assert password not in done.out + done.err
            return done.code, done.err

        assert give("Kv9-xx")[0] == 25
        young, told = give("Kv9-fjord-lamp")  # the demo has given one today
        assert (young, "young" in told) == (25, True), told
        older = ModifyEntry(rules, (Change("pwdMinAge", ("86400",), ("0",)),))
        assert root.execute([older], atomic=True) == [None]
        assert give("Kv9-fjord-lamp")[0] == give("Rx4-lamp-fjord")[0] == 0
        used, told = give("Kv9-fjord-lamp")
        assert (used, "history" in told) == (25, True), told
        root.close()


# --- bad input, command by command

BAD = [
    ("reset nobody-x --hand-out h.csv -y", 30), ("reset lund --hand-out h.csv -y", 31), ("reset alund -y", 2),
    ("reset team-it --hand-out h.csv -y", 30), ("reset alund --hand-out charter.yaml -y", 2), ("reset alund --hand-out summer.xlsx -y", 23),
    ("delete nobody-x -y", 30), ("delete lund -y", 31), ("delete -y", 2), ("delete --where (&( -y", 13), ("delete /Shore -y", 27),
    ("delete /Shore --contents -y", 27), ("delete alund", 2), ("delete --where (title=nobody) -y", 30),
    ("unlock nobody-x -y", 30), ("unlock /Shore -y", 30), ("disable lund -y", 31), ("disable alund --back yesterday -y", 16),
    ("enable nobody-x -y", 30), ("due --within soon", 2), ("roles captain", 30), ("edit alund roles+=captain -y", 30),
    ("edit alund nothing=1 -y", 10), ("edit alund @nothing=1 -y", 10), ("edit alund country=Norway -y", 22),
    ("edit alund enabled=maybe -y", 16), ("edit alund manager=nobody-x -y", 30), ("edit alund manager=lund -y", 31),
    ("edit alund login=hbrekke -y", 23), ("edit alund surname= -y", 26), ("edit alund kind=pirate -y", 11),
    ("edit alund password=secret -y", 2), ("edit alund password-fixed=yes -y", 19), ("edit alund principal=alund@elsewhere.example -y", 16),
    ("edit team-it members+=nobody-x -y", 30), ("edit team-it scope=domain-local -y", 20), ("edit team-it purpose=fun -y", 16),
    ("edit alund phone-=1 -y", 30), ("edit --where (&( office=1 -y", 13), ("edit - office=1 -y", 2), ("edit alund -y", 2),
    ("rename nobody-x surname=A -y", 30), ("rename alund -y", 2), ("rename alund surname= -y", 21), ("rename team-it surname=A -y", 30),
    ("rename alund name=Halvard\\ Brekke -y", 23), ("handover nobody-x A -y", 30), ("handover alund -y", 2),
    ("move nobody-x --to /Shore -y", 30), ("move alund --to /Nowhere -y", 30), ("move alund --to Shore -y", 12),
    ("move /Ferries --to /Ferries/Northquay -y", 20), ("move /Shore/IT --to /Ferries -y", 27), ("move alund -y", 2),
    ("copy nobody-x A -y", 30), ("copy alund A number=1 nothing=2 -y", 10), ("copy lund A number=1 -y", 31), ("compare alund nobody-x", 30),
    ("compare alund lund", 31), ("protect nobody-x -y", 30), ("release lund -y", 31), ("undo 4711 -y", 30), ("undo -y", 2), ("logon nobody-x --password -", 30),
    ("show alund --bare nothing", 10), ("show alund --hours-picture w.png", 30), ("hierarchy delegate now", 2),
    ("edit /Shore delegation+=team-it:unlock -y", 19), ("edit /Shore name=Coast -y", 27), ("edit alund starts=2026-13-01 -y", 16),
]  # fmt: skip


@pytest.mark.parametrize(("words", "code"), BAD)
def test_bad_input_has_its_own_exit_code_and_writes_nothing(demo, words, code):
    import shlex

    before = demo.state()
    done = demo.run(*shlex.split(words))
    assert done.code == code, done.out + done.err
    assert done.err.strip()
    assert demo.state() == before


def test_the_suffix_of_many_is_changed_and_only_to_a_registered_one(place):
    kind, folder = place
    yard = folder.run("find", "kind=yard", "--columns", "login", "--as", "csv").out.split()[1:]
    assert len(yard) > 2
    words = ("edit", "-", "principal={login}@guests.marrowick.example", "-y")
    if kind == "domain":
        refused = folder.run(*words, stdin="\n".join(yard))
        assert (refused.code, "not registered on the server" in refused.err) == (20, True)
        registered = "CN=Partitions,CN=Configuration,dc=marrowick,dc=example"
        assert folder.run("edit", registered, "@uPNSuffixes+=guests.marrowick.example", "-y").code == 0
    changed = folder.run(*words, stdin="\n".join(yard))
    assert changed.code == 0, changed.err
    names = folder.run("find", "kind=yard", "--columns", "principal", "--as", "csv").out.split()[1:]
    assert names == [f"{login}@guests.marrowick.example" for login in yard]
    assert folder.run("edit", "-", "principal={login}@elsewhere.example", "-y", stdin="\n".join(yard)).code == 16
