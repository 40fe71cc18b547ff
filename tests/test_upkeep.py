"""Renaming, moving, taking back, and the short commands: the jobs, and the program on each of the three directories."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime
from itertools import pairwise

import pytest

from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.active import policy_links
from vandrel.directory.active.policy_links import Link
from vandrel.errors import VandrelError
from vandrel.jobs.accounts.copy import Copier
from vandrel.jobs.accounts.create import Creator
from vandrel.jobs.accounts.logon import logon_state
from vandrel.jobs.accounts.rename import Renamer
from vandrel.jobs.common.account_steps import account_steps
from vandrel.jobs.common.assignments import parse as assignment
from vandrel.jobs.common.edit import Editor
from vandrel.jobs.common.edit_order import in_order
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.hierarchy.move import Mover
from vandrel.jobs.history.undo import undo
from vandrel.jobs.inspect.compare import compare_views
from vandrel.objects.membership import effective
from vandrel.objects.view import ObjectView
from vandrel.secret import Secret
from vandrel.steps.plan import Plan
from vandrel.text import week

from .test_three import place

__all__ = ["place"]  # the fixture


def hire(bench, given, surname, number, **more):
    fields = {"given": [given], "surname": [surname], "number": [number], "site": ["Northquay"], "department": ["Deck"],
              "category": ["Hands"], "language": ["nb"]} | more  # fmt: skip
    draft = Creator(bench.context, bench.context.charter.today()).draft("crew", fields)
    assert not any(f.is_fatal for f in draft.findings), draft.findings
    run(bench, account_steps(bench.context, [(draft, Secret("Kv9-fjord-lamp"))]))
    return draft.dn


def run(bench, wanted):
    report = bench.runner.run(Plan("t", list(wanted)), "t")
    assert not report.is_in_part, report.refused
    return report.job


def view(bench, dn):
    return ObjectView(bench.context, get(bench, dn))


def get(bench, dn):
    return bench.context.directory.get(dn)


def said(edit):
    return {d.field: (d.before[0] if d.before else "", d.after[0] if d.after else "") for d in edit.differences}


# --- renaming


def test_all_names_follow_and_the_old_address_stays(bench):
    anna = hire(bench, "Anna", "Lund", "1")
    edit = Renamer(bench.context).rename(get(bench, anna), {"surname": "Ødegård"})
    assert said(edit) == {
        "surname": ("Lund", "Ødegård"), "initials": ("AL", "AØ"), "login": ("alund", "aoedegaard"),
        "principal": ("alund@marrowick.example", "aoedegaard@marrowick.example"),
        "mail": ("anna.lund@marrowick.example", "anna.oedegaard@marrowick.example"),
        "full": ("Anna Lund", "Anna Ødegård"), "display": ("Lund, Anna", "Ødegård, Anna"),
        "name": ("Anna Lund", "Anna Ødegård"), "alias": ("", "anna.lund@marrowick.example"),
    }  # fmt: skip
    run(bench, in_order(bench.context, [edit]))
    assert get(bench, anna) is None
    assert resolve(bench.context, "anna.lund@marrowick.example").dn.name == "Anna Ødegård"  # still reached by it
    members = bench.context.dialect.members(resolve(bench.context, "team-everybody"))
    assert [names.parse(member).name for member in members] == ["Anna Ødegård"]


def test_a_new_name_that_is_taken_gets_the_next_rung_and_ones_own_is_not_taken(bench):
    hire(bench, "Arne", "Brekke", "1")
    anna = hire(bench, "Anna", "Lund", "2")
    edit = Renamer(bench.context).rename(get(bench, anna), {"surname": "Brekke"})
    assert said(edit)["login"] == ("alund", "annbrekke")  # the third rung: abrekke is Arne's
    middle = Renamer(bench.context).rename(get(bench, anna), {"middle": "Sofie"})
    assert said(middle) == {"middle": ("", "Sofie"), "initials": ("AL", "ASL"), "full": ("Anna Lund", "Anna Sofie Lund"),
                            "name": ("Anna Lund", "Anna Sofie Lund")}  # fmt: skip


def test_names_can_be_kept_and_typed(bench):
    anna = hire(bench, "Anna", "Lund", "1", notes=["sees to alund-backup"])
    renamer = Renamer(bench.context)
    edit = renamer.rename(
        get(bench, anna), {"surname": "Brekke", "mail": "ab@marrowick.example"}, ["login"], alias=False
    )
    assert {"login", "principal", "alias"}.isdisjoint(said(edit))
    assert said(edit)["mail"][1] == "ab@marrowick.example"
    edit = renamer.rename(get(bench, anna), {"surname": "Brekke"})
    assert [(f.where.field, f.is_fatal, f.remedy) for f in edit.findings] == [
        ("notes", False, "vandrel edit abrekke notes=...")
    ]


def test_who_is_of_no_kind_cannot_be_renamed_by_rule(bench):
    anna = hire(bench, "Anna", "Lund", "1")
    run(bench, Editor(bench.context).edit(get(bench, anna), [assignment("@employeeType=")]).steps)
    with pytest.raises(VandrelError) as caught:
        Renamer(bench.context).rename(get(bench, anna), {"surname": "Brekke"})
    assert caught.value.code == "unknown-kind"


# --- moving


def test_fields_and_groups_follow_the_place(bench):
    anna = hire(bench, "Anna", "Lund", "1")
    edit = Mover(bench.context, "/Ferries/Sandhaven/Engine/Officers").move(get(bench, anna))
    assert {d.field: (d.before, d.after) for d in edit.differences} == {
        "place": (("/Ferries/Northquay/Deck/Hands",), ("/Ferries/Sandhaven/Engine/Officers",)),
        "site": (("Northquay",), ("Sandhaven",)), "department": (("Deck",), ("Engine",)),
        "category": (("Hands",), ("Officers",)),
        "groups": (("team-everybody", "team-northquay-deck"), ("team-everybody", "team-sandhaven-engine")),
    }  # fmt: skip
    run(bench, in_order(bench.context, [edit]))
    moved = resolve(bench.context, "alund")
    assert bench.context.place(moved.dn.parent) == "/Ferries/Sandhaven/Engine/Officers"
    assert bench.context.one(moved, "site") == "Sandhaven"
    stays = Mover(bench.context, "/Leavers").move(moved)
    assert [d.field for d in stays.differences] == ["place", "delegation"]  # leavers have no department
    assert Mover(bench.context, "/Ferries/Kelness/Deck/Hands").move(moved, fields_follow=False).differences[1:] == []


@pytest.mark.parametrize(
    ("whom", "to", "code"),
    [
        ("/Ferries", "/Ferries/Northquay", "refused"), ("/Ferries/Northquay/Deck", "/Ferries/Sandhaven", "taken"),
        ("/Ferries/Northquay/Season", "/Shore", "protected"),
    ],
)  # fmt: skip
def test_moves_that_cannot_be(bench, whom, to, code):
    edit = Mover(bench.context, to).move(resolve(bench.context, whom))
    findings = [*edit.findings, *bench.runner.check(Plan("t", in_order(bench.context, [edit])))]
    assert code in [f.code for f in findings if f.is_fatal]


def test_a_destination_is_meant_exactly(bench):
    for typed, code in (("/Ferries/Northqay", "not-found"), ("Northquay", "bad-name")):
        with pytest.raises(VandrelError) as caught:
            Mover(bench.context, typed)
        assert caught.value.code == code


def test_a_whole_unit_moves_with_all_below_it(bench):
    hire(bench, "Anna", "Lund", "1")
    unit = resolve(bench.context, "/Ferries/Northquay/Deck")
    run(bench, Editor(bench.context).edit(unit, [assignment("protected=no")]).steps)
    edit = Mover(bench.context, "/Shore").move(resolve(bench.context, "/Ferries/Northquay/Deck"))
    assert [f.what for f in edit.findings] == [
        "everything below moves along: 1 account, 2 units", "/Shore/Deck is not in the charter's hierarchy",
    ]  # fmt: skip
    run(bench, in_order(bench.context, [edit]))
    assert bench.context.place(resolve(bench.context, "alund").dn.parent) == "/Shore/Deck/Hands"
    members = bench.context.dialect.members(resolve(bench.context, "team-northquay-deck"))
    assert "ou=Shore" in members[0]


# --- policies: [MS-GPOL] 2.2.2 and 3.2.5.1.5


def link(name: str, options: int = 0) -> str:
    return f"[LDAP://cn={name},dc=x;{options}]"


def test_links_come_to_hold_from_the_last_to_the_first_and_some_are_off():
    found = policy_links.parse(link("one") + link("two", 1) + link("three", 2))
    assert found == [Link("cn=three,dc=x", True), Link("cn=one,dc=x", False)]
    assert policy_links.parse("") == policy_links.parse(" ") == []


def test_a_unit_that_blocks_keeps_out_all_but_what_is_enforced():
    levels = [
        ("/", link("top") + link("must", 2), "0"),
        ("/A", link("a"), ""),
        ("/A/B", link("b") + link("b-must", 2), "1"),
    ]
    assert [(unit, found.policy.partition(",")[0][3:]) for unit, found in policy_links.in_force(levels)] == [
        ("/A/B", "b"), ("/A/B", "b-must"), ("/", "must"),
    ]  # fmt: skip
    levels[2] = ("/A/B", link("b"), "0")
    assert [unit for unit, _ in policy_links.in_force(levels)] == ["/", "/A", "/A/B", "/"]


# --- taking back


def back(bench, job, only=0, ended=None):
    return undo(bench.context, bench.runner.standing(job), ended or datetime.now(UTC), only)


def state(bench):
    skip = {"modifyTimestamp", "modifiersName", "entryUUID", "createTimestamp"}
    return sorted(
        (str(e.dn), sorted((n, sorted(map(str, v))) for n, v in e.attributes.items() if n not in skip))
        for e in bench.context.directory.search(bench.context.charter.base)
    )


def test_any_job_is_taken_back_to_what_was(bench):
    anna = hire(bench, "Anna", "Lund", "1")
    hire(bench, "Bo", "Ek", "2", manager=[str(anna)])
    for make in (
        lambda e: Renamer(bench.context).rename(e, {"surname": "Brekke"}),
        lambda e: Mover(bench.context, "/Ferries/Sandhaven/Deck/Hands").move(e),
        lambda e: Editor(bench.context).edit(
            e, [assignment("phone+=1"), assignment("name=A"), assignment("groups+=team-it")]
        ),
    ):
        before = state(bench)
        job = run(bench, in_order(bench.context, [make(resolve(bench.context, "alund"))]))
        assert state(bench) != before
        found = back(bench, job)
        assert not [f for f in found.findings if f.is_fatal], found.findings
        again = run(bench, found.steps)
        assert state(bench) == before
        assert [stands for _, stands in bench.runner.standing(job)].count(True) < len(list(bench.runner.standing(job)))
        after = run(bench, back(bench, again).steps)  # and the taking back can be taken back
        assert state(bench) != before
        run(bench, back(bench, after).steps)
        assert state(bench) == before


def test_what_was_created_goes_again_unless_it_has_changed(bench):
    before = state(bench)
    hire(bench, "Anna", "Lund", "1")
    job = next(bench.journal.jobs(1)).number
    found = back(bench, job)
    assert found.findings == []  # its password goes with it, and that need not be said
    late = back(bench, job, ended=datetime(2020, 1, 1, tzinfo=UTC))
    assert [f.code for f in late.findings if f.is_fatal] == ["changed"]
    assert "changed since it was made" in next(f.what for f in late.findings if f.is_fatal)
    run(bench, found.steps)
    assert state(bench) == before


def test_what_has_changed_since_is_told_and_one_step_can_go_alone(bench):
    anna = hire(bench, "Anna", "Lund", "1")
    edit = Editor(bench.context).edit(get(bench, anna), [assignment("title=Cook"), assignment("groups+=team-it")])
    job = run(bench, in_order(bench.context, [edit]))
    run(bench, Editor(bench.context).edit(get(bench, anna), [assignment("title=Mate")]).steps)
    found = back(bench, job)
    assert [(f.code, f.where.dn) for f in found.findings if f.is_fatal] == [("changed", str(anna))]
    alone = back(bench, job, only=2)
    assert not alone.findings
    run(bench, alone.steps)
    assert "team-it" not in str(bench.context.dialect.members(resolve(bench.context, "team-it")))
    assert bench.context.one(get(bench, anna), "title") == "Mate"
    with pytest.raises(VandrelError) as caught:
        back(bench, job, only=9)
    assert caught.value.code == "not-found"


# --- values of each account's own


def test_values_are_built_from_each_accounts_own_fields(bench):
    for number, name in enumerate(("Anna", "Bo")):
        dn = hire(bench, name, "Lund", str(number))
        run(bench, Editor(bench.context).edit(get(bench, dn), [assignment("web=https://x.example/{login}")]).steps)
        login = bench.context.one(get(bench, dn), "login")
        assert bench.context.dialect.read(get(bench, dn), "web") == [f"https://x.example/{login}"]
    with pytest.raises(VandrelError) as caught:
        Editor(bench.context).edit(get(bench, dn), [assignment("web=x{title}")])
    assert caught.value.code == "required"
    assert places.to_text(places.parse("/A/B")) == "/A/B"


# --- on the three directories


def test_upkeep_on_every_directory(place):
    _, folder = place
    hired = folder.run("create", "crew", "Siri Moe", "number=815", "site=Northquay", "department=Deck",
                       "category=Hands", "--hand-out", "siri.csv", "-y")  # fmt: skip
    assert hired.code == 0, hired.err
    renamed = folder.run("rename", "smoe", "surname=Aas", "-y")
    assert renamed.code == 0, renamed.err
    moved = folder.run("move", "saas", "--to", "/Ferries/Kelness/Deck/Officers", "-y")
    assert moved.code == 0, moved.err
    one = folder.run("show", "saas", "--json").json["objects"][0]
    assert one["place"] == "/Ferries/Kelness/Deck/Officers"
    assert set(one["fields"]["groups"]) - {"Domain Users"} == {"team-everybody", "team-kelness-deck"}
    assert one["fields"]["alias"] == ["siri.moe@marrowick.example"]
    assert one["fields"]["full"] == ["Siri Aas"]
    for command, field, value in (
        ("disable", "enabled", "no"), ("enable", "enabled", "yes"), ("protect", "protected", "yes"),
    ):  # fmt: skip
        done = folder.run(command, "saas", "-y")
        assert done.code == 0, done.err
        assert folder.run("show", "saas", "--bare", field).out.strip() == value
    refused = folder.run("move", "saas", "--to", "/Shore/IT", "-y")
    assert (refused.code, "vandrel release" in refused.err) == (27, True)
    assert folder.run("release", "saas", "-y").code == 0
    reset = folder.run("reset", "saas", "--hand-out", "new.csv", "-y")
    assert reset.code == 0, reset.err
    assert (folder.path / "new.csv").read_text().count("\n") == 2
    jobs = {job["title"]: job["number"] for job in folder.run("journal", "--json").json["rows"]}
    for title in ("move saas (Siri Aas)", "rename smoe (Siri Moe)"):
        back = folder.run("undo", str(jobs[title]), "-y")
        assert back.code == 0, (title, back.err)
    assert folder.run("undo", str(jobs["rename smoe (Siri Moe)"]), "-y").code == 20  # it was taken back already
    one = folder.run("show", "smoe", "--json").json["objects"][0]
    assert (one["place"], one["fields"]["full"]) == ("/Ferries/Northquay/Deck/Hands", ["Siri Moe"])
    assert set(one["fields"]["groups"]) - {"Domain Users"} == {"team-everybody", "team-northquay-deck"}
    assert one["fields"].get("alias", []) == []


def test_many_at_once(place):
    _, folder = place
    listed = folder.run("find", "site=Eastmole", "--columns", "login", "--as", "csv").out.split()[1:]
    assert len(listed) > 5
    done = folder.run("edit", "-", "office=Pier {site}", "-y", stdin="\n".join(listed) + "\n")
    assert done.code == 0, done.err
    assert folder.run("find", "office=Pier Eastmole", "--columns", "login", "--as", "csv").out.split()[1:] == listed
    title = folder.run("show", listed[0], "--bare", "title").out.strip()
    assert (
        folder.run("disable", "--where", f"(&(title={title})(physicalDeliveryOfficeName=Pier Eastmole))", "-y").code
        == 0
    )
    assert "disabled" in folder.run("show", listed[0], "--json").json["objects"][0]["state"]
    assert folder.run("disable", "--where", "(title=nobody at all)", "-y").code == 30
    assert folder.run("disable", "-y").code == 2
    assert folder.run("enable", *listed, "-y").code == 0


# --- groups


def nest(bench, *chain):
    """Each group in the next."""
    for inner, outer in pairwise(chain):
        group = resolve(bench.context, inner)
        run(bench, Editor(bench.context).edit(group, [assignment(f"groups+={outer}")]).steps)


def test_what_is_taken_back_is_told_field_by_field(place):
    _, folder = place
    jobs = []
    for words in (
        ("edit", "alund", "title=Bosun", "ends=2027-01-31", "manager=jmeer", "groups+=team-it"),
        ("rename", "annlund", "surname=Berg"),
        ("move", "jmeer", "--to", "/Ferries/Kelness/Deck/Officers"),
    ):
        assert folder.run(*words, "-y").code == 0
        jobs.append(str(folder.run("journal", "--last", "1", "--json").json["rows"][0]["number"]))
    for job, rows in (
        (jobs[2], ("place +/Ferries/Kelness/Deck/Officers +-> +/Ferries/Northquay/Deck/Officers",
                   "site +Kelness +-> +Northquay")),
        (jobs[1], ("name +Anna Berg +-> +Anna Lund", "login +aberg +-> +annlund", "surname +Berg +-> +Lund",
                   r"alias +(anna.lund2@marrowick.example +-> +\(empty\)|- anna.lund2@marrowick.example)")),
        (jobs[0], ("title +Bosun +-> +Second mate", r"ends +2027-01-31 +-> +\(empty\)",
                   "manager +Jan van der Meer +-> +Halvard Brekke", r"members +- alund \(Anna Lund\)")),
    ):  # fmt: skip
        told = folder.run("undo", job, "-y").out
        for row in rows:
            assert re.search(f"^  {row}$", told, re.MULTILINE), told
        assert not re.search(r"^  (@|dn )", told, re.MULTILINE), told
    assert folder.run("delete", "toedegaard", "-y").code == 0
    job = str(folder.run("journal", "--last", "1", "--json").json["rows"][0]["number"])
    told = folder.run("undo", job, "-n").out
    assert "Back: staff account toedegaard (Tove Ødegård)" in told
    for row in (
        "place +/Shore/Office",
        "login +toedegaard",
        "manager +Ingrid Marie Åsheim",
        "members +[+] Tove Ødegård",
    ):
        assert re.search(f"^  {row}$", told, re.MULTILINE), told
    assert not re.search("^  @(uid|sAMAccountName|title|member|manager) ", told, re.MULTILINE), told
    assert folder.run("undo", job, "-y").code == 0


def test_what_is_deleted_comes_back_with_memberships_and_reports(place):
    """One, many by a list and by a filter, a unit with its contents; each time undone, value by value."""
    _, folder = place

    def people() -> dict[str, dict]:
        found = folder.run("find", "--columns", "login,full,title,manager,groups,phone,mail,state", "--json").json[
            "rows"
        ]
        return {row["login"]: row for row in found}

    before = people()
    full = folder.run("delete", "/Ferries/Northquay", "-n").err
    assert (
        0 < full.index("release first, on purpose: vandrel release /Ferries/Northquay") < full.index("stand below it")
    )
    assert folder.run("delete", "hbrekke", "/Ferries/Northquay/Stores", "-n").code == 27  # the unit is protected
    assert folder.run("release", "/Ferries/Northquay/Stores", "-y").code == 0
    assert folder.run("move", "jmeer", "--to", "/Ferries/Northquay/Stores", "--fields-stay", "-y").code == 0
    moved = people()
    barred = folder.run("delete", "/Ferries/Northquay/Stores", "-y")
    assert (barred.code, "1 object stands below it: Jan van der Meer" in barred.err) == (20, True), barred.err
    for words, stdin, gone in (
        (["hbrekke"], "", {"hbrekke"}),
        (["-"], "alund\nhbrekke\n", {"alund", "hbrekke"}),
        (["/Ferries/Northquay/Stores", "--contents"], "", {"jmeer"}),
        (["team-night-watch"], "", set[str]()),
        (
            ["--where", "(title=*mate*)", "--under", "/Ferries"],
            "",
            {k for k, v in moved.items() if "mate" in v["title"].lower()},
        ),
    ):
        deleted = folder.run("delete", *words, "-y", "--json", stdin=stdin)
        assert deleted.code == 0, deleted.out + deleted.err
        left = people()
        assert left.keys() == moved.keys() - gone
        assert not any("Halvard Brekke" in row["manager"] for row in left.values()) or "hbrekke" not in gone
        assert folder.run("undo", str(deleted.json["job"]), "-y").code == 0
        back = people()
        for login, row in moved.items():
            # Its password is in no record; so a server that lets nobody be enabled without one has it disabled.
            assert {**back[login], "state": ""} == {**row, "state": ""}, login
    assert before.keys() == moved.keys()


def test_memberships_count_through_others_with_their_path(bench):
    anna = hire(bench, "Anna", "Lund", "1")
    nest(bench, "team-northquay-deck", "team-office", "may-fares")
    found = {m.group.dn.name: m.through for m in effective(bench.context, get(bench, anna))}
    assert found == {
        "team-everybody": (), "team-northquay-deck": (), "team-office": ("team-northquay-deck",),
        "may-fares": ("team-office", "team-northquay-deck"),
    }  # fmt: skip


def test_circles_are_refused_however_long(bench):
    nest(bench, "team-it", "team-office", "team-everybody")
    edit = Editor(bench.context).edit(resolve(bench.context, "team-everybody"), [assignment("groups+=team-it")])
    (finding,) = [f for f in edit.findings if f.is_fatal]
    assert finding.what == "this would make a circle: team-it is in team-office is in team-everybody"
    from_the_other_side = Editor(bench.context).edit(
        resolve(bench.context, "team-it"), [assignment("members+=team-everybody")]
    )
    assert [f.what for f in from_the_other_side.findings if f.is_fatal] == [finding.what]
    own = Editor(bench.context).edit(resolve(bench.context, "team-it"), [assignment("members+=team-it")])
    assert [f.what for f in own.findings if f.is_fatal] == ["a group cannot be a member of itself"]


def test_power_is_told_before_anybody_gets_it_and_stays_behind_in_a_copy(bench):
    anna = hire(bench, "Anna", "Lund", "1", phone=["1"], office=["Bridge"])
    nest(bench, "team-office", "team-harbour-masters")
    edit = Editor(bench.context).edit(
        get(bench, anna), [assignment("groups+=team-office"), assignment("groups+=team-it")]
    )
    told = [f.what for f in edit.findings]
    assert told == [
        "team-harbour-masters carries power: every account of the ferry line; alund (Anna Lund) gets it, through team-office; "
        "who can log on as alund (Anna Lund) gets it too: team-help-desk (reset-passwords in /Ferries)"
    ]
    run(bench, in_order(bench.context, [edit]))
    # Of a group that gets it, the people are named, those of groups in it too.
    given = Editor(bench.context).edit(resolve(bench.context, "team-harbour-masters"), [assignment("members+=team-it")])
    assert [f.what for f in given.findings] == [
        "team-harbour-masters carries power: every account of the ferry line; team-it gets it, and with it alund (Anna Lund)"
    ]
    copy = Copier(view(bench, anna)).copy({"given": ["Bo"], "surname": ["Ek"], "number": ["2"]})
    assert set(copy.draft.derived["groups"].values) == {"team-northquay-deck", "team-everybody", "team-it"}
    assert copy.draft.value("office") == "Bridge"
    assert copy.draft.derived["office"].rule == "copied from alund (Anna Lund)"
    assert {item.field: item.why for item in copy.left_out} == {
        "groups": "it carries power: team-harbour-masters, every account of the ferry line (--privileged takes it along)", "phone": "the person's own",
    }  # fmt: skip
    both = Copier(view(bench, anna), with_power=True).copy({"surname": ["Ek"], "number": ["2"]})
    assert "team-office" in both.draft.derived["groups"].values


def test_copies_of_one_request_do_not_get_in_each_others_way(bench):
    anna = hire(bench, "Anna", "Lund", "1")
    copier = Copier(view(bench, anna))
    copies = [copier.copy({"given": ["Bo"], "surname": ["Ek"], "number": [number]}) for number in ("2", "3")]
    assert [copy.draft.value("login") for copy in copies] == ["bek", "boek"]
    run(bench, account_steps(bench.context, [(copy.draft, None) for copy in copies]))
    rows = {
        row.field: row
        for row in compare_views(view(bench, anna), ObjectView(bench.context, resolve(bench.context, "bek")))
    }
    assert all(rows[name].is_same for name in ("place", "groups", "department", "kind", "company"))
    assert {name for name, row in rows.items() if not row.is_same} == {
        "login", "principal", "name", "full", "display", "given", "surname", "language", "initials", "number", "mail", "enabled",
    }  # fmt: skip


def test_the_pattern_of_nesting_is_checked(bench):
    anna = hire(bench, "Anna", "Lund", "1")
    edit = Editor(bench.context).edit(get(bench, anna), [assignment("groups+=may-fares")])
    assert [f.is_fatal for f in edit.findings] == [False]
    assert "people belong in global ones" in edit.findings[0].what
    wrong = Editor(bench.context).edit(resolve(bench.context, "team-it"), [assignment("members+=may-fares")])
    assert ["the other way round" in f.what for f in wrong.findings] == [True]
    right = Editor(bench.context).edit(resolve(bench.context, "may-fares"), [assignment("members+=team-it")])
    assert not right.findings


def test_groups_of_groups_on_every_directory(place):
    _, folder = place
    assert folder.run("edit", "team-kelness-engine", "groups+=may-fares", "-y").code == 0
    assert folder.run("edit", "may-fares", "groups+=team-kelness-engine", "-y").code == 20  # a circle
    who = folder.run("find", "groups=team-kelness-engine", "--columns", "login", "--as", "csv").out.split()[1]
    shown = folder.run("show", who, "--effective").out
    assert "may-fares" in shown
    line = next(line for line in shown.splitlines() if line.strip().startswith("may-fares"))
    assert line.split() == ["may-fares", "team-kelness-engine"]
    copied = folder.run("copy", who, "Ulla Ny", "number=4712", "--hand-out", "ulla.csv", "-y")
    assert copied.code == 0, copied.err
    rows = {row["field"]: row for row in folder.run("compare", who, "uny", "--json").json["rows"]}
    assert rows["groups"]["same"]
    assert rows["place"]["same"]
    assert not rows["login"]["same"]
    assert folder.run("undo", str(folder.run("journal", "--json").json["rows"][0]["number"]), "-y").code in (0, 29)


def test_a_logon_is_tried_and_its_cause_named(place):
    kind, folder = place
    word, first = "Kv9-fjord-lamp", "Qx7-reef-anchor"
    made = folder.run("create", "crew", "Ivar Stø", "number=816", "site=Kelness", "department=Deck", "category=Hands",
                      "password=-", "change=no", "-y", stdin=f"{first}\n")  # fmt: skip
    assert made.code == 0, made.err

    def tried(password):
        done = folder.run("logon", "istoe", "--password", "-", stdin=f"{password}\n")
        assert password not in done.out + done.err
        return done.code, done.out.strip()

    assert tried(first) == (0, "istoe (Ivar Stø) has logged on.")
    code, said = tried("wrong-Wrong-7")
    assert (code, "the password is wrong" in said) == (41, True)
    assert folder.run("edit", "istoe", "password=-", "change=yes", "-y", stdin=f"{word}\n").code == 0
    if kind == "domain":
        assert tried(word) == (41, "istoe (Ivar Stø): the password is right, and must be changed before anything else.")
        assert folder.run("edit", "istoe", "change=no", "-y").code == 0
        assert folder.run("edit", "istoe", "hours=none", "-y").code == 0
        assert "this hour is none of the allowed" in tried(word)[1]
        assert "Ivar Stø cannot log on: no hour of the week is allowed to it." in folder.run("show", "istoe").out
        assert folder.run("edit", "istoe", "hours=", "ends=2026-01-01", "-y").code == 0
        assert tried(word) == (41, "istoe (Ivar Stø) cannot log on: its last day is over.")
        assert folder.run("edit", "istoe", "ends=", "-y").code == 0
    assert folder.run("disable", "istoe", "-y").code == 0
    code, said = tried(word)
    if kind == "slapd":  # no policy makes it heed the mark, and so it is said
        assert code == 0
    else:
        assert (code, "disabled" in said) == (41, True)


def test_a_week_is_read_at_a_glance():
    assert week.drawn(week.parse("Mon 06-18, Wed 08-10, Sun 22-24")) == [
        "      Mon     Tue     Wed     Thu     Fri     Sat     Sun",
        "06    06-18",
        "08      |             08-10",
        "10      |",
        "18",
        "22                                                    22-24",
        "24",
    ]


def test_nobody_is_said_to_log_on_without_an_hour(bench):
    anna = hire(bench, "Anna", "Lund", "1")
    for hours, able in (("none", False), ("not Sat-Sun", True), ("all", True)):
        run(bench, Editor(bench.context).edit(get(bench, anna), [assignment(f"hours={hours}")]).steps)
        assert logon_state(bench.context, get(bench, anna), date(2026, 6, 1)).able is able, hours


def test_two_members_of_one_name_are_told_apart(bench):
    hire(bench, "Anna", "Lund", "1")
    hire(bench, "Anna", "Lund", "2", category=["Officers"])
    hire(bench, "Bo", "Ek", "3")
    everybody = ObjectView(bench.context, resolve(bench.context, "team-everybody"))
    assert everybody.shown("members") == ["alund (Anna Lund)", "annlund (Anna Lund)", "Bo Ek"]
