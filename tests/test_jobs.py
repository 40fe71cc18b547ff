"""The jobs of the core: resolving names, creating, editing, building the hierarchy, inferring conventions."""

from __future__ import annotations

from datetime import date

import pytest

from vandrel.directory import dn as names
from vandrel.errors import VandrelError
from vandrel.jobs.accounts.create import Creator
from vandrel.jobs.accounts.logon import logon_state
from vandrel.jobs.audit.infer import infer
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common import create_object
from vandrel.jobs.common.account_steps import account_steps
from vandrel.jobs.common.assignments import Assignment, parse, split
from vandrel.jobs.common.edit import Editor
from vandrel.jobs.common.resolve import NoSingleMatch, resolve
from vandrel.jobs.hierarchy.build import State, compare
from vandrel.jobs.hierarchy.moved_branches import moved_units
from vandrel.secret import Secret
from vandrel.steps.plan import Plan
from vandrel.steps.step import Add, Password, Remove, Rename, Set

TODAY = date(2026, 11, 23)
DECK = {"site": ("Northquay",), "department": ("Deck",), "category": ("Hands",)}


def hire(bench, surname="Lund", given="Anna", number="1", secret=True, **more) -> str:
    """Create one member of the crew and return the logon name."""
    fields = {"given": (given,), "surname": (surname,), "number": (number,), **DECK}
    draft = Creator(bench.context, TODAY).draft("crew", fields | {k: (v,) for k, v in more.items()})
    assert not draft.findings, draft.findings
    password = Secret("Kv9-fjord-lamp", generated=True) if secret else None
    bench.runner.run(Plan("hire", account_steps(bench.context, [(draft, password)])), "test")
    return draft.value("login")


# --- resolving


@pytest.mark.parametrize(
    "typed",
    ["jmueller", "JMUELLER", "jmueller@marrowick.example", "joerg.mueller@marrowick.example", "7", "Jörg Müller", "Müller, Jörg",
     "jör mül", "Mül", "mueller", "muller", "/Ferries/Northquay/Deck/Hands/Jörg Müller",
     "CN=jörg müller, ou=hands,ou=Deck,ou=Northquay,ou=Ferries,dc=marrowick,dc=example"],
)  # fmt: skip
def test_a_person_is_found_by_anything_that_names_them(bench, typed):
    hire(bench, "Müller", "Jörg", "7", language="de")
    hire(bench, "Lund", "Anna", "8")
    if typed == "muller":  # neither the name nor its German spelling: only near
        with pytest.raises(NoSingleMatch) as caught:
            resolve(bench.context, typed)
        assert [c.name for c in caught.value.candidates] == ["jmueller"]
    else:
        assert resolve(bench.context, typed).text("uid") == "jmueller"


def test_several_fit_or_none(bench):
    for number in ("1", "2"):
        hire(bench, number=number)
    with pytest.raises(NoSingleMatch) as caught:
        resolve(bench.context, "lund")
    assert (caught.value.exit_code, len(caught.value.candidates)) == (31, 2)
    with pytest.raises(NoSingleMatch) as caught:
        resolve(bench.context, "Annna Lnud")
    assert caught.value.exit_code == 30
    assert "alund" in [c.name for c in caught.value.candidates]
    assert resolve(bench.context, "alund").text("employeeNumber") == "1"  # a logon name beats fragments


def test_places_and_groups(bench):
    assert str(resolve(bench.context, "/ferries/NORTHQUAY").dn) == "ou=Northquay,ou=Ferries,dc=marrowick,dc=example"
    assert resolve(bench.context, "team-it").dn.name == "team-it"
    with pytest.raises(VandrelError) as caught:
        resolve(bench.context, "/Ferries/Northqay")
    assert "/Ferries/Northquay" in caught.value.findings[0].remedy
    with pytest.raises(VandrelError) as caught:
        resolve(bench.context, "cn=x,ou=Ferries,dc=marrowick,dc=example")
    assert "ou=Ferries" in caught.value.findings[0].remedy


@pytest.mark.parametrize("typed", ["*", "*)(uid=*", "a*", "\\2a", "()"])
def test_what_is_typed_is_never_part_of_a_filter(bench, typed):
    hire(bench)
    with pytest.raises(NoSingleMatch):
        resolve(bench.context, typed)


# --- assignments


@pytest.mark.parametrize(
    ("word", "expected"),
    [
        ("title=Second mate", Assignment("title", "=", ("Second mate",))),
        ("phone+=+47 1", Assignment("phone", "+=", ("+47 1",))),
        ("phone-=1", Assignment("phone", "-=", ("1",))),
        ("home-phone-=1", Assignment("home-phone", "-=", ("1",))),
        ("office=", Assignment("office", "=", ())),
        ("groups+=a, b", Assignment("groups", "+=", ("a", "b"))),
        ("title=a,b", Assignment("title", "=", ("a,b",))),
        ("@carLicense=X=1", Assignment("@carLicense", "=", ("X=1",))),
        ("titel=x", Assignment("titel", "=", ("x",))),
        ("cn=Anna,ou=Deck", None),
        ("uid=a, dc=b", None),
        ("alund", None),
        ("/Ferries/a=b", None),
    ],
)
def test_assignments(word, expected):
    assert parse(word) == expected


def test_names_and_assignments_are_told_apart():
    plain, given = split(["alund", "title=x", "cn=A,dc=b"])
    assert plain == ["alund", "cn=A,dc=b"]
    assert [a.field for a in given] == ["title"]


# --- creating


def test_an_account_is_worked_out_by_the_charter(bench):
    fields = {"given": ("Lærke",), "surname": ("Kjærgård",), "language": ("da",), "number": ("9",), **DECK}
    draft = Creator(bench.context, TODAY).draft("crew", fields)
    values = {name: derived.values for name, derived in draft.derived.items()}
    assert not draft.findings
    assert values["login"] == ("lkjaergaard",)
    assert values["principal"] == ("lkjaergaard@marrowick.example",)
    assert values["mail"] == ("laerke.kjaergaard@marrowick.example",)
    assert values["display"] == ("Kjærgård, Lærke",)
    assert values["initials"] == ("LK",)
    assert values["place"] == ("/Ferries/Northquay/Deck/Hands",)
    assert set(values["groups"]) == {"team-northquay-deck", "team-everybody"}
    assert str(draft.dn) == "cn=Lærke Kjærgård,ou=Hands,ou=Deck,ou=Northquay,ou=Ferries,dc=marrowick,dc=example"
    assert "rung 1 of 6" in draft.derived["login"].rule


def test_the_four_scopes_of_uniqueness(bench):
    assert hire(bench) == "alund"
    draft = Creator(bench.context, TODAY).draft(
        "crew", {"given": ("Anna",), "surname": ("Lund",), "number": ("2",), **DECK}
    )
    assert draft.value("login") == "annlund"  # in the domain: the next rung
    assert draft.value("principal") == "annlund@marrowick.example"  # in the forest: follows the logon name
    assert draft.value("name") == "Anna Lund (2)"  # among its siblings
    assert draft.value("mail") == "anna.lund2@marrowick.example"  # everywhere
    assert draft.value("full") == "Anna Lund"  # need not be unique
    assert "alund is taken by Anna Lund in /Ferries/Northquay/Deck/Hands" in draft.derived["login"].passed
    elsewhere = {
        "given": ("Anna",),
        "surname": ("Lund",),
        "number": ("3",),
        "site": ("Kelness",),
        "department": ("Deck",),
    }
    draft = Creator(bench.context, TODAY).draft("crew", elsewhere | {"category": ("Hands",)})
    assert draft.value("name") == "Anna Lund"  # the same name in another branch is wanted


def test_a_principal_name_that_is_taken_moves_the_logon_name_on(bench):
    hire(bench, "Brekke", "Tor", principal="alund@marrowick.example")
    assert hire(bench, number="2") == "annlund"


def test_two_of_one_request_get_different_names(bench):
    creator = Creator(bench.context, TODAY)
    fields = {"given": ("Samuel",), "surname": ("Bright",), **DECK}
    one, other = (creator.draft("crew", fields | {"number": (n,)}) for n in ("1", "2"))
    assert [d.value("login") for d in (one, other)] == ["sbright", "sambright"]
    assert [d.value("mail") for d in (one, other)] == [
        "samuel.bright@marrowick.example",
        "samuel.bright2@marrowick.example",
    ]
    assert one.dn != other.dn


def test_a_name_that_was_typed_and_is_taken_gets_an_offer(bench):
    hire(bench)
    fields = {"given": ("Arne",), "surname": ("Lund",), "number": ("2",), "login": ("alund",), **DECK}
    (finding,) = [f for f in Creator(bench.context, TODAY).draft("crew", fields).findings if f.where.field == "login"]
    assert finding.code == "taken"
    assert "in the domain" in finding.what
    assert "arnlund" in finding.remedy


@pytest.mark.parametrize(
    ("kind", "fields", "expected"),
    [
        ("crew", {"surname": "Lund"}, {"required"}),
        (
            "crew",
            {"surname": "Lund", "number": "1", "site": "Northqay", "department": "Deck", "category": "Hands"},
            {"bad-value"},
        ),
        ("staff", {"surname": "★", "given": "😀", "number": "1", "department": "IT"}, {"empty-name"}),
        ("staff", {"surname": "Lund", "number": "1", "department": "Workshop"}, {"no-parent"}),
        ("staff", {"surname": "L" * 70, "given": "A", "number": "1", "department": "IT"}, {"schema"}),
        (
            "staff",
            {"surname": "Lund", "number": "1", "department": "IT", "principal": "l@nowhere.example"},
            {"bad-value"},
        ),
        ("staff", {"surname": "Lund", "number": "1", "department": "IT", "ends": "soon"}, {"bad-value"}),
        ("staff", {"surname": "Lund", "number": "1", "department": "IT", "manager": "nobody"}, {"not-found"}),
        ("staff", {"surname": "Lund", "number": "1", "department": "IT", "login": "a/b"}, {"bad-value"}),
        ("staff", {"surname": "Lund", "number": "1", "department": "IT", "country": "Norway"}, {"schema"}),
    ],
)
def test_what_is_wrong_with_a_request(bench, kind, fields, expected):
    draft = Creator(bench.context, TODAY).draft(kind, {name: (value,) for name, value in fields.items()})
    assert {f.code for f in draft.findings if f.is_fatal} == expected


def test_unknown_fields_and_kinds(bench):
    for kind, fields, code in [("crew", {"titel": ("x",)}, 10), ("crow", {}, 11), ("crew", {"members": ("x",)}, 10)]:
        with pytest.raises(VandrelError) as caught:
            Creator(bench.context, TODAY).draft(kind, fields)
        assert caught.value.exit_code == code


def test_kinds_differ(bench):
    boss = hire(bench)
    draft = Creator(bench.context, TODAY).draft(
        "guest", {"given": ("Edwin",), "surname": ("Thorne",), "sponsor": (boss,)}
    )
    assert draft.value("login") == "g-thorne"
    assert draft.value("principal") == "g-thorne@guests.marrowick.example"
    assert draft.value("ends") == "2026-12-23"  # thirty days from 23 November
    draft = Creator(bench.context, TODAY).draft(
        "administrator", {"given": ("Anna",), "surname": ("Lund",), "number": ("1",)}
    )
    assert draft.value("login") == "adm-alund"
    assert draft.value("full") == "Anna Lund (administrator)"
    assert not draft.groups  # the name gives no right


def test_groups_of_the_kind_are_meant_exactly_and_typed_ones_are_resolved(bench):
    fields = {"given": ("Anna",), "surname": ("Lund",), "number": ("1",), "department": ("IT",)}
    draft = Creator(bench.context, TODAY).draft("staff", fields | {"groups": ("sailing", "Team-IT")})
    assert draft.derived["groups"].values == ("team-it", "team-everybody", "may-sailing-plan")
    assert draft.derived["groups"].rule.endswith("typed")
    # Where team-it is gone, a group that only has team-it in its name is no stand-in for it.
    group = resolve(bench.context, "team-it")
    bench.runner.run(Plan("t", [Rename(group.dn, group.dn.parent.child("cn", "team-it-guests"))]), "t")
    draft = Creator(bench.context, TODAY).draft("staff", fields)
    assert [(f.code, "team-it," in f.what) for f in draft.findings] == [("dangling", True)]
    (finding,) = (
        Creator(bench.context, TODAY)
        .draft("staff", fields | {"department": ("Office",), "groups": ("nosuch",)})
        .findings
    )
    assert finding.code == "not-found"


def test_the_steps_of_a_new_account(bench):
    draft = Creator(bench.context, TODAY).draft(
        "crew", {"given": ("Anna",), "surname": ("Lund",), "number": ("1",), **DECK}
    )
    made = account_steps(bench.context, [(draft, Secret("x", generated=True))])
    assert [type(step) for step in made] == [Add, Password, Set, Set]
    assert made[1].must_change
    without = account_steps(bench.context, [(draft, None)])
    assert [type(step) for step in without] == [Add, Set, Set]
    assert without[0].attributes["pwdAccountLockedTime"] == ["000001010000Z"]


@pytest.mark.parametrize(
    ("more", "secret", "able", "words"),
    [
        ({}, True, True, "can log on as alund or alund@marrowick.example. The password must be changed"),
        ({}, False, False, "the account is disabled and it has no password"),
        ({"enabled": "no"}, True, False, "the account is disabled."),
        ({"ends": "2026-11-22"}, True, False, "its last day was 2026-11-22"),
        ({"ends": "2026-11-23"}, True, True, "through 2026-11-23"),
        ({"starts": "2026-11-24"}, True, False, "its first day is 2026-11-24"),
        ({"change": "no"}, True, True, "can log on as alund or alund@marrowick.example."),
    ],
)
def test_whether_an_account_can_log_on_is_said_in_one_sentence(bench, more, secret, able, words):
    entry = resolve(bench.context, hire(bench, secret=secret, **more))
    state = logon_state(bench.context, entry, TODAY)
    assert state.able is able
    assert words in state.sentence
    assert ("cannot" in state.sentence) is not able


def test_groups_and_units(bench):
    login = hire(bench)
    draft = create_object.group(bench.context, "Night watch", {"members": (login,)})
    assert (draft.value("name"), draft.value("scope"), draft.value("purpose")) == (
        "team-night-watch",
        "global",
        "security",
    )
    bench.runner.run(Plan("t", [*create_object.steps(bench.context, draft, "group")]), "t")
    group = resolve(bench.context, "team-night-watch")
    assert bench.context.dialect.members(group) == [str(resolve(bench.context, login).dn)]
    with pytest.raises(VandrelError) as caught:
        create_object.group(bench.context, "Night Watch", {})
    assert caught.value.code == "taken"
    circular = create_object.group(bench.context, "Tides", {"kind": ("circular",)})
    assert (circular.value("purpose"), circular.value("mail")) == ("distribution", "tides@marrowick.example")
    (empty,) = create_object.steps(bench.context, circular, "group")
    assert empty.attributes["member"] == [""]  # RFC 4519 demands one; the empty name is nobody
    unit = create_object.unit(bench.context, "/Ferries/Northquay/Stores", {})
    assert (unit.value("protected"), [f.is_fatal for f in unit.findings]) == ("yes", [False])
    assert {f.code for f in create_object.unit(bench.context, "/Ferries/northquay", {}).findings} == {"taken"}
    assert "no-parent" in {f.code for f in create_object.unit(bench.context, "/No/Such", {}).findings}


# --- editing


def edit(bench, typed: str, *words: str):
    return Editor(bench.context).edit(resolve(bench.context, typed), [a for w in words if (a := parse(w))])


def change(bench, typed: str, *words: str):
    made = edit(bench, typed, *words)
    assert not [f for f in made.findings if f.is_fatal], made.findings
    bench.runner.run(Plan("edit", made.steps), "t")
    return made


def test_fields_are_set_cleared_added_to_and_taken_from(bench):
    login = hire(bench, phone="+47 1")
    change(bench, login, "title=Second mate", "phone+=+47 2", "office=Bridge", "ends=2026-12-31", "protected=yes")
    read = lambda name: bench.context.dialect.read(resolve(bench.context, login), name)
    assert [read(n) for n in ("title", "phone", "office", "ends", "protected")] == [
        ["Second mate"], ["+47 1", "+47 2"], ["Bridge"], ["2026-12-31"], ["yes"],
    ]  # fmt: skip
    # Oslo is at UTC+1 in winter: the day ends at 23:00 UTC.
    assert resolve(bench.context, login).text("vandrelEnd") == "20261231230000Z"
    change(bench, login, "phone-=7 1", "office=", "ends=", "protected=no")
    assert [read(n) for n in ("phone", "office", "ends", "protected")] == [["+47 2"], [], [], ["no"]]


def test_what_is_so_already_makes_no_step(bench):
    login = hire(bench, title="Mate")
    made = edit(bench, login, "title=Mate", "groups+=team-everybody", "office=", "enabled=yes", "phone+=")
    assert (made.steps, made.differences) == ([], [])


def test_membership_from_either_side(bench):
    login, other = hire(bench), hire(bench, "Brekke", "Tor", "2")
    change(bench, login, "groups+=team-it,may-fares")
    change(bench, "team-it", f"members+={other}")
    assert len(bench.context.dialect.members(resolve(bench.context, "team-it"))) == 2
    change(bench, "team-it", f"members-={login},{other}")
    assert resolve(bench.context, "team-it").texts("member") == [""]
    made = change(bench, login, "groups=team-it")
    assert made.differences[0].after == ("team-it",)
    assert made.differences[0].before == ("may-fares", "team-everybody", "team-northquay-deck")
    assert edit(bench, "team-it", "groups+=team-it").findings[0].code == "refused"


def test_a_new_entry_name_is_a_rename_and_comes_last(bench):
    login = hire(bench)
    made = change(bench, login, "name=Anna Brekke", "surname=Brekke", "groups+=team-it")
    assert isinstance(made.steps[-1], Rename)
    entry = resolve(bench.context, login)
    assert entry.dn.name == "Anna Brekke"
    assert str(entry.dn) in resolve(bench.context, "team-it").texts("member")
    assert any("stay as they are" in f.what for f in made.findings)


@pytest.mark.parametrize(
    ("word", "code"),
    [
        ("login=tbrekke", "taken"), ("mail=tor.brekke@marrowick.example", "taken"), ("alias+=Tor.Brekke@marrowick.example", "taken"),
        ("name=Tor Brekke", "taken"), ("login=" + "x" * 21, "bad-value"), ("title=" + "x" * 65, "schema"), ("kind=crow", "unknown-kind"),
        ("site=Bergen", "bad-value"), ("title+=x", "bad-value"), ("phone-=99", "not-found"), ("enabled=perhaps", "bad-value"),
        ("titel=x", "unknown-field"), ("@nosuch=x", "unknown-field"), ("@userPassword=x", "bad-value"), ("manager=lund", ""),
        ("manager=nobody", "not-found"), ("members=x", "unknown-field"), ("@sn=", "schema"), ("@cn=x", "schema"),
        ("@objectClass+=nosuch", "schema"), ("@gidNumber=5", "schema"), ("@seeAlso=abc", "schema"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_an_edit(bench, word, code):
    hire(bench)
    hire(bench, "Brekke", "Tor", "2")
    try:
        found = [f.code for f in edit(bench, "alund", word).findings if f.is_fatal]
    except VandrelError as error:
        found = [error.code]
    assert found[:1] == ([code] if code else [])


def test_raw_attributes(bench):
    login = hire(bench)
    change(bench, login, "@carLicense=AB 1", "@carLicense+=CD 2")
    assert resolve(bench.context, login).texts("carLicense") == ["AB 1", "CD 2"]
    change(bench, login, "@carLicense-=ab 1")
    assert resolve(bench.context, login).texts("carLicense") == ["CD 2"]


# --- the hierarchy


def test_the_design_beside_what_exists(bench):
    context = bench.context
    assert {unit.state for unit in compare(context).units} == {State.BUILT}
    assert not compare(context).steps
    base = context.charter.base
    kelness = base.child("ou", "Ferries").child("ou", "Kelness")
    season = kelness.child("ou", "Season")
    change(bench, "/Ferries/Kelness/Season", "protected=no")
    assert [u.state for u in compare(context).units if u.place[-2:] == ("Kelness", "Season")] == [State.UNPROTECTED]
    bench.runner.run(Plan("t", [Rename(season, base.child("ou", "Season"))]), "t")
    states = {u.place: u for u in compare(context).units}
    assert states["Ferries", "Kelness", "Season"].state is State.MISSING
    assert (states["Season",].state, states["Season",].elsewhere) == (State.MISPLACED, "/Ferries/Kelness/Season")
    assert states["Ferries", "Kelness", "Season"].elsewhere == "/Season"
    away = context.directory.get(base.child("ou", "Season"))
    bench.runner.run(Plan("t", compare(context).steps), "t")  # it goes home, as the one that it was
    back = context.directory.get(season)
    assert away is not None and back is not None and back.identifier == away.identifier
    assert not compare(context).steps
    change(bench, "/Ferries/Kelness/Season", "protected=no")
    bench.runner.run(Plan("t", [Rename(season, base.child("ou", "Attic"))]), "t")
    assert {u.place: u.state for u in compare(context).units}["Attic",] is State.EXTRA
    bench.runner.run(Plan("t", compare(context).steps), "t")
    assert context.directory.get(season) is not None
    assert not compare(context).steps


def test_a_branch_that_stands_elsewhere_goes_home_with_all_that_is_in_it(bench):
    context, base = bench.context, bench.context.charter.base
    ferries, shore = base.child("ou", "Ferries"), base.child("ou", "Shore")
    anna = hire(bench)
    for place in (
        "/Ferries/Northquay",
        "/Shore/IT",
        "/Shore/Office",
        "/Shore",
        "/Ferries/Kelness/Season",
        "/Ferries/Northquay/Season",
    ):
        change(bench, place, "protected=no")
    away = [
        Rename(ferries.child("ou", "Northquay"), shore.child("ou", "northquay")),
        Rename(shore, base.child("ou", "Yard")),
    ]
    bench.runner.run(Plan("t", away), "t")
    comparison = compare(context)
    tops = [("/".join(each.now), "/".join(each.home)) for each in comparison.moved if not each.comes_along]
    assert set(tops) == {
        ("Yard/northquay", "Ferries/Northquay"), ("Yard/IT", "Shore/IT"), ("Yard/Office", "Shore/Office"),
    }  # fmt: skip
    assert [step.new.name for step in comparison.steps if isinstance(step, Rename)] == ["Northquay", "Office", "IT"]
    bench.runner.run(Plan("t", comparison.steps), "t")
    assert "/Ferries/Northquay" in context.place(resolve(context, anna).dn)
    # Two that could be meant are none: it is said where it may belong, and both are made.
    for ship in ("Kelness", "Northquay"):
        change(bench, f"/Ferries/{ship}/Season", "protected=no")
    lost = [Rename(ferries.child("ou", "Kelness").child("ou", "Season"), base.child("ou", "Season")),
            Remove(ferries.child("ou", "Northquay").child("ou", "Season"), {})]  # fmt: skip
    bench.runner.run(Plan("t", lost), "t")
    comparison = compare(context)
    (season,) = (unit for unit in comparison.units if unit.place == ("Season",))
    assert season.elsewhere == "/Ferries/Northquay/Season or /Ferries/Kelness/Season" and not comparison.moved
    # A unit never goes below itself.
    assert not moved_units([("A", "B", "A")], [("C", "A"), ("D", "A")])
    assert not moved_units([("B", "C", "B")], [("B",)])


def test_accounts_where_they_do_not_belong(bench):
    login = hire(bench)
    entry = resolve(bench.context, login)
    assert not compare(bench.context).strays
    for place, why in (("/", "in no unit"), ("/Guests", "holds guest")):
        new = names.parse(f"cn=Anna Lund{',ou=Guests' if place != '/' else ''},dc=marrowick,dc=example")
        bench.runner.run(Plan("t", [Rename(entry.dn, new)]), "t")
        entry = resolve(bench.context, login)
        (stray,) = compare(bench.context).strays
        assert stray.where == place
        assert why in stray.why


# --- conventions


def test_conventions_are_inferred_with_their_exceptions(bench):
    people = [("Anna", "Lund"), ("Tor", "Brekke"), ("Kåre", "Wæhre"), ("Eva", "Moe"), ("Ida", "Vik"), ("Per", "Dahl")]
    for number, (given, surname) in enumerate(people):
        hire(bench, surname, given, str(number), language="nb")
    hire(bench, "Odd", "One", "99", login="captainodd")
    survey = Survey(bench.context)
    found = infer(survey, survey.accounts, "login")
    assert (found.rungs[0].pattern, found.rungs[0].accounts) == ("{given 1}{surname}", 6)
    assert [name for _, name in found.exceptions] == ["captainodd"]
    display = infer(survey, survey.accounts, "display")
    assert (display.rungs[0].pattern, display.conforming) == ("{surname}, {given}", 7)
