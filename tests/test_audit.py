"""An audit finds what was spoiled and nothing else, says what mends it, and remembers what it has found."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

import pytest

from vandrel.dialects.dialect import Dialect
from vandrel.directory import dn as names
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.entry import Entry
from vandrel.directory.operations import Change, DeleteEntry, ModifyEntry
from vandrel.errors import Code
from vandrel.jobs.audit.audit import all_rules
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.common.edit import Editor

from . import servers
from .conftest import IS_SOAK, Folder
from .test_attic import done
from .test_directory_contract import ANNA as FIRST
from .test_directory_contract import BASE, DECK, group, make, person, unit
from .test_servers import context
from .test_stops import domain, slapd
from .test_upkeep import assignment, get, hire, run

__all__ = ["context", "domain", "slapd"]  # the fixtures

ANNA, HALVARD = "alund (Anna Lund)", "hbrekke (Halvard Brekke)"


def faults(folder: Folder, *words: str) -> dict[tuple[str, str], str]:
    """What is wrong, with the command that mends it: by rule and object."""
    rows = folder.run("audit", *words, "--json").json["rows"]
    return {(row["rule"], row["label"]): row["remedy"] for row in rows}


#: Rules that are tested where such faults can be made.
ELSEWHERE = ("group-circle", "dangling", "address-twice", "unused", "password-reversible", "password-never-old",
             "power-never-ends", "locked", "alias-of-another", "change-impossible", "delegation-not-in-force",
             "delegation-strange", "seat-of-the-gone", "seat-twice", "seats-beyond", "seat-field-missing")  # fmt: skip
#: How to spoil the demo, which rule finds it on which object, and which others have a reason to speak.
SPOILED = [
    (["disable alund"], "out-but-in-groups", ANNA, {"manager-out"}),
    (["edit alund ends=2026-01-01"], "ended-not-left", ANNA, {"out-but-in-groups", "manager-out"}),
    (["edit alund @employeeType="], "kind-unknown", ANNA, {"wrong-kind-in-unit"}),
    (["edit alund @departmentNumber="], "field-missing", ANNA, set()),
    (["edit alund @l=Nowhere"], "not-in-list", ANNA, {"misplaced"}),
    (["edit alund office=bridge-deck", 'edit hbrekke jmeer office="Bridge deck"'], "spelling", ANNA, set()),
    (["move alund --to /Guests"], "misplaced", ANNA, {"wrong-kind-in-unit"}),
    (["move alund --to /Guests"], "wrong-kind-in-unit", ANNA, {"misplaced"}),
    (["edit alund login=zz9"], "name-not-by-rule", "zz9 (Anna Lund)", {"person-twice"}),
    (["edit alund @employeeNumber=2001"], "number-twice", ANNA, set()),
    (["edit alund hbrekke mobile=+4755550000"], "phone-twice", HALVARD, set()),
    (["disable hbrekke"], "manager-out", ANNA, {"out-but-in-groups"}),
    (["edit hbrekke manager=alund"], "manager-circle", ANNA, set()),
    (["edit alund groups-=team-everybody"], "group-of-kind-missing", ANNA, set()),
    (["create group Forgotten kind=team"], "group-empty", "team-forgotten", set()),
    (["edit alund groups+=team-harbour-masters"], "power-with-mail", ANNA, {"power-within-reach", "power-without-name"}),
    (["edit alund groups+=team-harbour-masters", "disable alund"], "power-of-the-gone", ANNA,
     {"out-but-in-groups", "manager-out", "power-without-name", "group-all-out"}),
    (["release /Shore/Office"], "unit-unprotected", "Office", set()),
    (["create unit /Shore/Attics"], "unit-empty", "Attics", set()),
    (["create unit /Shore/Attics", "create group Loft kind=team place=/Shore/Attics members=alund"], "unit-not-designed",
     "Attics", set()),
    (["edit alund password=none"], "password-missing", ANNA, set()),
    (['edit alund "notes=Key: pw=Kelp-1, ask"'], "password-told", ANNA, set()),
    (["disable alund", "edit alund starts=2026-01-05"], "start-missed", ANNA, {"out-but-in-groups", "manager-out"}),
    (["disable alund", "edit alund @vandrelBack=20260105000000Z"], "return-missed", ANNA, {"manager-out"}),
    (["edit x-mpires @vandrelEnd="], "end-missing", "x-mpires (Marta Pires)", set()),
    (["edit team-it owner=alund", "disable alund"], "keeper-out", "team-it",
     {"out-but-in-groups", "manager-out"}),
    (["edit alund manager="], "manager-missing", ANNA, set()),
    (["edit alund hours=none"], "hours-none", ANNA, set()),
    (["edit alund @uid=аlund2"], "look-alike", "аlund2 (Anna Lund)", {"name-not-by-rule", "person-twice"}),
    (["edit alund @uid=captain"], "name-reserved", "captain (Anna Lund)", {"name-not-by-rule", "person-twice"}),
    (["edit alund @vandrelPrincipalName=alund@old.example"], "suffix-unknown", ANNA, {"name-not-by-rule"}),
    (["edit alund mail=anna@elsewhere.example"], "address-foreign", ANNA, {"name-not-by-rule"}),
    (["edit alund @mail=anna..lund@marrowick.example"], "address-misshapen", ANNA, {"name-not-by-rule"}),
    (["edit alund mail="], "address-missing", ANNA, set()),
    (['create crew "Halvard Brekke" number=9911 site=Northquay department=Deck category=Hands --hand-out h.csv'],
     "person-twice", HALVARD,
     {"manager-missing"}),
    (["edit alund @title='First  mate'"], "stray-spaces", ANNA, {"spelling"}),
    (["edit alund @sn=LUND"], "name-in-one-case", ANNA, set()),
    (["edit alund hbrekke jmeer annlund iaasheim office=Bridge company='Marrowick Ferries' postcode=4001",
      "edit alund postcode=4009"], "office-in-two-places", ANNA, {"spelling"}),
    (["edit hbrekke groups+=team-harbour-masters"], "power-within-reach", HALVARD, {"power-with-mail", "power-without-name"}),
    (["edit team-harbour-masters owner=alund"], "power-by-owning", "team-harbour-masters", set()),
    (["edit alund groups+=team-harbour-masters"], "power-without-name", ANNA, {"power-with-mail", "power-within-reach"}),
    (['create administrator "Ann Able" number=9912 --hand-out a.csv'], "name-without-power", "adm-aable (Ann Able (administrator))", set()),
    (["create group One kind=team members=alund", "create group Two kind=team members=team-one",
      "edit team-two groups+=team-harbour-masters"], "power-far-away", "team-one",
     {"power-with-mail", "power-within-reach", "power-without-name"}),
    (["create group Loft kind=team name=loft members=alund"], "group-name-not-by-rule", "loft", set()),
    (["create group Loft kind=team members=alund", "edit team-loft @vandrelGroupKind=odd"], "group-kind-unknown", "team-loft", set()),
    (["create group Loft kind=team members=alund", "disable alund"], "group-all-out", "team-loft",
     {"out-but-in-groups", "manager-out"}),
    (["create group Loft kind=team members=alund,hbrekke,jmeer", "create group Attic kind=team members=alund,hbrekke,jmeer"],
     "group-twice", "team-loft", set()),
    (["release /Machines/Bridges", "delete /Machines/Bridges"], "unit-missing", "Machines", set()),
    (["create computer KN-9 place=/Shore/Office"], "computer-misplaced", "KN-9", set()),
    (["edit hbrekke groups+=may-sailing-plan"], "direct-in-domain-local", "may-sailing-plan", set()),
]  # fmt: skip


#: What the demo has from the beginning.
known: dict[str, dict[tuple[str, str], str]] = {}


@pytest.mark.parametrize(("spoil", "rule", "label", "others"), SPOILED, ids=[case[1] for case in SPOILED])
def test_each_rule_finds_what_was_spoiled_and_is_silent_once_it_is_mended(demo, spoil, rule, label, others):
    before = known["demo"] = known.get("demo") or faults(demo)
    for line in spoil:
        done(demo, *shlex.split(line))
    after = faults(demo)
    new = after.keys() - before.keys()
    assert (rule, label) in new
    assert {found for found, _ in new} <= {rule, *others}
    alone = faults(demo, rule)
    assert (rule, label) in alone and alone.keys() <= after.keys()
    remedy = after[rule, label]
    if remedy and "..." not in remedy:
        for command in remedy.split(" && "):
            done(demo, *shlex.split(command)[1:])
        assert (rule, label) not in faults(demo)


#: What keeps these fields on a server with the other schema: [MS-ADA1] to [MS-ADA3].
ATTRIBUTES = {
    "@departmentNumber": "@department", "@employeeNumber": "@employeeID", "@uid": "@sAMAccountName",
    "@vandrelPrincipalName": "@userPrincipalName", "@vandrelEnd=": "@accountExpires=0",
}  # fmt: skip
#: Rules on what it does not keep, or takes from nobody: a day of return, kinds of group, passwords.
NOT_THERE = {"return-missed", "group-kind-unknown", "password-missing"}


def spelled(line: str) -> str:
    """A command with those attributes."""
    for plain, other in ATTRIBUTES.items():
        line = line.replace(plain, other)
    return line


#: People enough that each fault is on somebody else.
GIVEN = "Ada Bram Cleo Dirk Edda Finn Gerd Hanno Ilse Joost".split()
SURNAMES = "Quarle Rendon Stavik Trosse Uvlund Vexholm Wyrd Yarrow".split()


class Case(NamedTuple):
    """One way to spoil the directory, with people of its own: what comes first, the lines, and what is found then."""

    rule: str
    label: str
    others: set[str]
    first: list[str]
    lines: list[str]
    parts: dict[str, str]

    def explains(self, rule: str, label: str) -> bool:
        """Whether a fault comes of this: it is what was meant, or what goes with it on those who take part."""
        takes_part = label == self.label or any(part.casefold() in label.casefold() for part in self.parts.values())
        return rule in {self.rule, *self.others} and takes_part


class Crew:
    """People who take the parts of those in `SPOILED`, each case others."""

    def __init__(self, folder: Folder) -> None:
        people = [(given, surname) for surname in SURNAMES for given in GIVEN]
        rows = [f"{8000 + n},{given},{surname},crew,Northquay,Deck,Officers,Second mate,iaasheim"
                for n, (given, surname) in enumerate(people)]  # fmt: skip
        heads = "number,given,surname,kind,site,department,category,title,manager"
        (folder.path / "more.csv").write_text("\n".join([heads, *rows]) + "\n")
        assert folder.run("import", "more.csv", "--propose").code == 0
        done(folder, "import", "more.csv", "--hand-out", "more-out.csv")
        found = folder.run("find", "number=8*", "--columns", "login,full", "--json").json["rows"]
        self._free = [(row["login"], row["full"]) for row in found]
        assert len(self._free) == len(people)

    def cast(self, number: int, lines: list[str], rule: str, label: str, others: set[str]) -> Case:
        """A case with others in it, and with names of its own for what is made."""
        parts = {"zz9": f"zz{number}"}
        parts |= {name: f"{name}{number}" for name in ("Loft", "Attics", "Attic", "One", "Two")}
        parts |= {f"team-{name}": f"team-{name}{number}" for name in ("loft", "one", "two")}
        first = []
        for login, full in (("alund", "Anna Lund"), ("hbrekke", "Halvard Brekke"), ("jmeer", "Joost Meer")):
            if re.search(rf"{login}|а{login[1:]}|{full}", " ".join([*lines, label])):
                parts[login], parts[full] = self._free.pop()
                parts[f"а{login[1:]}2"] = f"а{parts[login][1:]}2"
                parts[full.split()[-1].upper()] = parts[full].split()[-1].upper()
        if "alund" in parts and "hbrekke" in parts:  # as it is with those two
            first = [f"edit {parts['alund']} manager={parts['hbrekke']}"]
        names_ = re.compile(rf"(?<![\w-])(?:{'|'.join(sorted(parts, key=len, reverse=True))})(?![\w-])")
        said = [names_.sub(lambda match: parts[match[0]], text) for text in [*lines, label]]
        return Case(rule, said[-1], others, first, said[:-1], parts)


@pytest.mark.parametrize("kind", ["file", "slapd", "domain"])
def test_all_faults_at_once_are_found_and_nothing_else_and_mended(kind, request, demo):
    if kind == "domain" and not IS_SOAK:
        pytest.skip("make soak takes it: two minutes")
    folder = demo if kind == "file" else request.getfixturevalue(kind).begun().folder
    if kind != "file":
        _begins_as_the_file_does(folder, demo, kind)
    crew = Crew(folder)
    cases = [crew.cast(number, *case) for number, case in enumerate(SPOILED)
             if kind != "domain" or case[1] not in NOT_THERE]  # fmt: skip
    for line in (line for case in cases for line in case.first):
        done(folder, *shlex.split(line))
    before = faults(folder).keys()
    jobs: dict[tuple[str, str], list[int]] = {}
    for case in cases:
        for line in case.lines:
            made = folder.run(*shlex.split(spelled(line) if kind == "domain" else line), "-y", "--json")
            assert made.code == 0, (case.rule, line, made.err)
            jobs.setdefault((case.rule, case.label), []).append(made.json["job"])
    after = faults(folder)
    assert jobs.keys() <= after.keys()
    others = [found for found in after.keys() - before if not any(case.explains(*found) for case in cases)]
    assert others == [("number-twice", HALVARD)]  # whose number another one was given
    # Where nothing can be pasted, somebody who knows puts right what was done.
    known_better = [found for found in jobs if not is_pasteable(after[found])]
    for found in jobs.keys() - known_better:
        run_pasted(folder, after[found])
    take_back(folder, *(jobs[found] for found in known_better))
    for _ in range(3):  # a remedy may leave something to do: who is disabled is still in groups
        for found, remedy in faults(folder).items():
            if found not in before and is_pasteable(remedy):
                run_pasted(folder, remedy)
    left = faults(folder).keys() - before
    take_back(folder, *(jobs[case.rule, case.label] for case in cases if any(case.explains(*found) for found in left)))
    assert not faults(folder).keys() - before


def take_back(folder: Folder, *jobs: list[int]) -> None:
    for number in sorted((number for numbers in jobs for number in numbers), reverse=True):
        done(folder, "undo", str(number))


def is_pasteable(remedy: str) -> bool:
    return bool(remedy) and "..." not in remedy


def run_pasted(folder: Folder, remedy: str) -> None:
    for command in remedy.split(" && "):
        done(folder, *shlex.split(command)[1:])


def _begins_as_the_file_does(folder: Folder, demo: Folder, kind: str) -> None:
    """What the server made for itself is left alone, and a draft tells the same."""
    # On a domain, tasks can be in force; and a full name is an entry's.
    more = {"group-kind-unknown", "delegation-not-in-force", "person-twice"}
    known_here, at_home = ({each for each in faults(one) if each[0] not in more} for one in (folder, demo))
    assert known_here == at_home
    drafted, by_file = (each.run("charter", "draft", "drafted.yaml").out.partition("\nNot by the draft")[0]
                        for each in (folder, demo))  # fmt: skip
    assert "crew           39" in by_file
    if kind == "slapd":  # a domain keeps the full name in the name of the entry, which tells one pattern less
        assert drafted == by_file
    assert drafted.partition("\nNames")[0] == by_file.partition("\nNames")[0]
    assert folder.run("charter", "check", "--charter", "drafted.yaml").code == 0


def test_circles_of_groups_are_found(demo):
    done(demo, "create", "group", "Deck crew", "kind=team", "members=team-it")
    outer, inner = (
        names.parse(demo.run("show", name, "--bare", "dn").out.strip()) for name in ("team-it", "team-deck-crew")
    )
    directory = EmbeddedDirectory(demo.path / "directory.db")
    circle = ModifyEntry(outer, (Change("member", (), (str(inner),)),))
    assert directory.execute([circle], atomic=True) == [None]
    directory.close()
    assert {("group-circle", "team-it"), ("group-circle", "team-deck-crew")} <= faults(demo).keys()
    done(demo, *shlex.split(faults(demo)["group-circle", "team-it"])[1:])
    assert not [found for found in faults(demo) if found[0] == "group-circle"]


def test_names_of_nobody_and_addresses_of_two_are_found_where_no_server_forbids_them(context):
    with servers.running(servers.PLAIN) as server:
        root = servers.open_directory(server.settings())
        bo, watch = DECK.child("cn", "Bo Berg"), DECK.child("cn", "watch")
        shared, alias = ["both@marrowick.example"], ["bo.berg@marrowick.example", "both@marrowick.example"]
        make(root, unit(BASE), unit(DECK), person(FIRST, "alund", mail=shared), person(bo, "bberg", mail=shared),
             group(watch, FIRST, bo))  # fmt: skip
        aliased = ModifyEntry(bo, (Change("vandrelMailAlias", added=tuple(alias)),))
        assert root.execute([aliased], atomic=True) == [None]
        survey = Survey(context(servers.open_directory(server.settings())))
        assert [fault.entry.dn for fault in all_rules()["alias-of-another"].check(survey)] == [bo]
        assert not list(all_rules()["dangling"].check(survey))
        assert {fault.entry.dn for fault in all_rules()["address-twice"].check(survey)} == {FIRST, bo}
        assert root.execute([DeleteEntry(bo)], atomic=True) == [None]
        survey = Survey(context(servers.open_directory(server.settings())))
        assert [(fault.entry.dn, fault.what) for fault in all_rules()["dangling"].check(survey)] == [
            (watch, "member points at Bo Berg, which is not there")
        ]
        assert not list(all_rules()["address-twice"].check(survey))
        root.close()


def say_yes(patch: pytest.MonkeyPatch, dialect: Dialect, fields: Sequence[str]) -> None:
    """Let these fields of all accounts be ``yes``."""
    read = type(dialect).read_many
    patch.setattr(type(dialect), "read_many", lambda self, entries, field, object_type: (
        [["yes"]] * len(entries) if field in fields else read(self, entries, field, object_type)))  # fmt: skip


def test_what_only_some_directories_tell_is_judged_there(bench, monkeypatch):
    """A last logon, a password that can be read, and one that never grows old, as a domain shows them."""
    anna = hire(bench, "Anna", "Lund", "1")
    now = datetime.now(UTC)

    def told(last: int, created: int, marked: str = "") -> list[str]:
        instants = {"last logon": now - timedelta(days=last), "created": now - timedelta(days=created)}
        dialect = bench.context.dialect
        monkeypatch.setattr(type(dialect), "tells_last_logon", True)
        monkeypatch.setattr(type(dialect), "instants", lambda self, entry: iter(instants.items()))
        with monkeypatch.context() as patch:
            say_yes(patch, dialect, (marked,))
            survey = Survey(bench.context)
            return [name for name in ELSEWHERE[3:7]
                    if any(fault.entry.dn == anna for fault in all_rules()[name].check(survey))]  # fmt: skip

    assert get(bench, anna) is not None
    assert told(91, 200) == ["unused"]
    assert told(89, 200) == told(91, 29) == []
    assert told(1, 200, "password-reversible") == ["password-reversible"]
    assert told(1, 200, "password-never-expires") == ["password-never-old"]
    run(bench, Editor(bench.context).edit(get(bench, anna), [assignment("groups+=team-harbour-masters")]).steps)
    assert told(1, 200, "password-never-expires") == ["password-never-old", "power-never-ends"]


def test_every_rule_has_a_test():
    assert {case[1] for case in SPOILED} | set(ELSEWHERE) == set(all_rules())


def test_what_is_new_and_what_is_gone_is_told(demo):
    first = demo.run("audit")
    assert "since the last audit" not in first.out
    done(demo, "release", "/Shore/Office")
    second = demo.run("audit")
    assert (second.code, "1 new since the last audit, 0 gone." in second.out) == (Code.FAULTS_FOUND.exit_code, True)
    assert "new  Office" in second.out
    assert "0 new since the last audit" in demo.run("audit").out
    done(demo, "protect", "/Shore/Office")
    assert "0 new since the last audit, 1 gone." in demo.run("audit").out
    assert "gone" not in demo.run("audit", "misplaced").out  # a part of it tells nothing of the rest


def test_exceptions_have_a_reason_and_an_end(demo):
    charter = demo.path / "charter.yaml"
    text = charter.read_text(encoding="utf-8")
    written = (
        'exceptions:\n  - {rule: unit-unprotected, of: [/Shore/Office], reason: being rebuilt, owner: T, until: "%s"}\n'
    )
    done(demo, "release", "/Shore/Office")
    assert ("unit-unprotected", "Office") in faults(demo)
    charter.write_text(text + written % "2999-12-31", encoding="utf-8")
    assert ("unit-unprotected", "Office") not in faults(demo)
    assert "1 exception of the charter" in demo.run("audit").out
    charter.write_text(text + written % "2026-01-01", encoding="utf-8")
    told = demo.run("audit")
    assert ("unit-unprotected", "Office") in faults(demo)
    assert "has run out on 2026-01-01: being rebuilt" in told.err


def test_parts_of_it(demo):
    done(demo, "release", "/Shore/Office")
    assert faults(demo, "--under", "/Ferries").keys() < faults(demo).keys()
    assert {rule for rule, _ in faults(demo, "--weight", "fault")} == {"unit-unprotected"}
    assert demo.run("audit", "nonsense").code == Code.USAGE.exit_code
    listed = demo.run("audit", "--rules", "--json").json["rows"]
    assert {row["rule"] for row in listed} == set(all_rules())
    (demo.path / "audit.json").write_text("not JSON")
    assert demo.run("audit").code == Code.FAULTS_FOUND.exit_code


def test_a_lock_and_tasks_that_differ_from_the_charter_are_found(bench, monkeypatch):
    anna = hire(bench, "Anna", "Lund", "1")
    dialect = type(bench.context.dialect)
    assert not list(all_rules()["locked"].check(Survey(bench.context)))
    monkeypatch.setattr(dialect, "is_locked", lambda self, entry: entry.dn == anna)
    assert [fault.entry.dn for fault in all_rules()["locked"].check(Survey(bench.context))] == [anna]
    with monkeypatch.context() as patch:
        say_yes(patch, bench.context.dialect, ("change", "password-fixed"))
        assert [fault.entry.dn for fault in all_rules()["change-impossible"].check(Survey(bench.context))] == [anna]
    # A file keeps no tasks in force: here it says that it does, and that another one is.
    ferries, read = bench.context.charter.base.child("ou", "Ferries"), dialect.read

    def in_force(self: object, entry: Entry, field: str) -> list[str]:
        return ["team-it: unlock"] if field == "delegation" and entry.dn == ferries else read(self, entry, field)

    monkeypatch.setattr(dialect, "read", in_force)
    assert not list(all_rules()["delegation-not-in-force"].check(Survey(bench.context)))
    monkeypatch.setattr(dialect, "why_not_kept", lambda self, field, object_type: "")
    strange, lacking = (list(all_rules()[name].check(Survey(bench.context)))
                        for name in ("delegation-strange", "delegation-not-in-force"))  # fmt: skip
    assert [(fault.entry.dn, fault.what) for fault in strange] == [(ferries, "not in the charter: team-it: unlock")]
    assert "team-help-desk may not reset-passwords" in {fault.entry.dn: fault.what for fault in lacking}[ferries]


def test_faults_are_mended_as_one_change_that_is_shown_and_can_be_taken_back(demo):
    done(demo, "edit", "alund", "@title=First  mate")
    done(demo, "move", "jmeer", "alund", "--to", "/Guests")
    done(demo, "release", "/Shore/Office")
    rules = ("stray-spaces", "misplaced", "unit-unprotected", "person-twice")
    before = {rule: {label for found, label in faults(demo, rule)} for rule in rules}
    assert all(before.values())
    dry = demo.run("audit", "--mend", *rules, "-n")
    assert (dry.code, "left as it is: the same name" in dry.err) == (0, True)
    assert {rule: {label for found, label in faults(demo, rule)} for rule in rules} == before
    told = done(demo, "audit", "--mend", *rules)
    after = {rule: {label for found, label in faults(demo, rule)} for rule in rules}
    assert after == {**{rule: set() for rule in rules}, "person-twice": before["person-twice"]}
    job = re.search(r"job (\d+) in the journal", told)
    assert job is not None, told
    done(demo, "undo", job.group(1))
    assert {rule: {label for found, label in faults(demo, rule)} for rule in rules} == before
    assert demo.run("audit", "--mend").code == Code.USAGE.exit_code


def test_a_dry_run_remembers_nothing(demo):
    assert demo.run("audit", "-n").code == Code.FAULTS_FOUND.exit_code
    assert "since the last audit" not in demo.run("audit").out
    assert "0 new since the last audit" in demo.run("audit").out
