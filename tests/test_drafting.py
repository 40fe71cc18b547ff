"""A charter drafted from a directory: what it says, what it asks, and what it finds not to fit."""

from __future__ import annotations

import shutil
from collections import Counter
from pathlib import Path

import pytest
import yaml
from hypothesis import example, given
from hypothesis import strategies as st

from vandrel.charter.load import from_text, load
from vandrel.directory import dn as names
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.entry import Value
from vandrel.directory.operations import AddEntry
from vandrel.errors import Code, VandrelError
from vandrel.jobs.audit.infer import conforming, infer
from vandrel.jobs.audit.survey import Survey
from vandrel.jobs.drafting.draft import DraftRequest, draft_charter
from vandrel.jobs.drafting.evidence import Noted, write

from . import servers
from .conftest import Folder
from .test_attic import done
from .test_upkeep import hire

TOP = names.parse("dc=marrowick,dc=example")


@pytest.fixture
def bare(demo, tmp_path) -> Folder:
    """The demo's directory alone: its charter is thrown away."""
    folder = Folder(tmp_path / "bare", demo.env)
    folder.path.mkdir()
    shutil.copy(demo.path / "directory.db", folder.path)
    return folder


def drafted(folder: Folder, demo: Folder, *words: str) -> str:
    """The text of a draft of what the demo's directory holds by now."""
    for path in demo.path.glob("directory.db*"):
        shutil.copy(path, folder.path)
    told = folder.run("charter", "draft", *words)
    assert told.code == 0, told.err
    return told.out


def not_fitting(text: str) -> dict[str, int]:
    """The rules that something is not by, with how many objects, as the draft says."""
    block = text.partition("# What is not by these rules")[2].partition("\n#\n")[0].splitlines()[1:]
    return {words[0]: int(words[1].rstrip(":")) for line in block if (words := line.lstrip("# ").split())}


def test_the_demo_is_drafted_as_its_charter_says_but_for_what_no_directory_tells(demo, bare):
    told = bare.run("charter", "draft", "charter.yaml")
    assert told.code == 0 and "crew" in told.out, told.err
    draft, real = load(bare.path / "charter.yaml").document, load(demo.path / "charter.yaml").document
    assert (draft.base, draft.suffixes, draft.organization) == (real.base, real.suffixes, real.organization)
    assert {name: set(words) for name, words in draft.lists.items()} == {n: set(w) for n, w in real.lists.items()}
    assert {n: kind.place for n, kind in draft.kinds.items()} == {n: kind.place for n, kind in real.kinds.items()}
    for name in ("crew", "staff", "yard", "seasonal"):
        ours, theirs = draft.kinds[name], real.kinds[name]
        assert set(ours.groups) == set(theirs.groups), name
        assert theirs.sets.items() <= ours.sets.items(), name
        assert set(theirs.requires) <= {*ours.requires, *ours.sets}, name
    assert (draft.kinds["seasonal"].ends, draft.kinds["guest"].suffix) == ("09-30", "guests.marrowick.example")
    first = {n: rule.ladder[0] for n, kind in draft.kinds.items() if (rule := kind.names.login) is not None}  # type: ignore[union-attr]
    assert first == {
        "seasonal": "s{year -2}{surname}", "administrator": "adm-{given 1}{surname}",
        "contractor": "x-{given 1}{surname}", "guest": "g-{surname}", "service": "svc-{surname}",
    }  # fmt: skip
    assert draft.names.login.ladder[0] == "{given 1}{surname bare}"  # type: ignore[union-attr]
    assert {n: (g.place, g.scope, g.purpose, g.mail) for n, g in draft.groups.items()} == {
        n: (g.place, g.scope, g.purpose, g.mail) for n, g in real.groups.items()
    }
    # The units are the same ones, and each holds the same kinds; nobody says where computers would go.
    ours, theirs = load(bare.path / "charter.yaml").design, load(demo.path / "charter.yaml").design
    assert {u.place: set(u.holds) for u in ours} == {u.place: set(u.holds) - {"computer"} for u in theirs}
    assert len(draft.hierarchy["Ferries"].units) == 1  # type: ignore[union-attr]


def test_the_audit_against_a_draft_finds_what_the_draft_says_and_nothing_else(demo, bare):
    done(demo, "move", "alund", "--to", "/Guests")
    done(demo, "edit", "jmeer", "login=captainjo")
    done(demo, "edit", "hbrekke", "groups-=team-everybody")
    done(demo, "edit", "sbright", "@l=Northqay")
    done(demo, "release", "/Ferries/Kelness/Season")
    done(demo, "delete", "/Ferries/Kelness/Season", "--contents")
    done(demo, "release", "/Shore/Office")
    text = drafted(bare, demo)
    assert "'Northqay' is written 1 times: is it 'Northquay'?" in text
    (bare.path / "charter.yaml").write_text(text)
    said = not_fitting(text)
    wanted = {"misplaced", "name-not-by-rule", "group-of-kind-missing", "not-in-list", "unit-missing"}
    assert wanted <= said.keys(), said
    rows = Counter(row["rule"] for row in bare.run("audit", *said, "--json").json["rows"])
    assert rows == said
    assert bare.run("charter", "check").code == 0


def test_every_run_drafts_the_same(demo, bare):
    shutil.copy(demo.path / "directory.db", bare.path)
    texts = set()
    for seed in ("1", "2", "3", "4"):
        process = Folder(bare.path, bare.env | {"PYTHONHASHSEED": seed}).start("charter", "draft", f"{seed}.yaml")
        assert (process.wait(60), process.communicate()[1]) == (0, "")
        texts.add((bare.path / f"{seed}.yaml").read_text())
    assert len(texts) == 1


def test_kinds_are_found_where_no_account_says_its_own(demo, bare):
    everybody = demo.run("find", "--columns", "login", "--as", "csv").out.split()[1:]
    done(demo, "edit", *everybody, "@employeeType=")
    text = drafted(bare, demo)
    document = yaml.safe_load(text)
    places = {kind["place"] for kind in document["kinds"].values()}
    assert {"/Ferries/{site}/{department}/{category}", "/Shore/{department}", "/Ferries/{site}/Season"} <= places
    assert "# ? the accounts do not say of which kind they are" in text
    edits = [line.split("vandrel ")[1] for line in text.splitlines() if "vandrel edit --where" in line]
    assert {edit.rpartition("kind=")[2] for edit in edits} == document["kinds"].keys()
    assert not_fitting(text)["kind-unknown"] == 64


def test_what_contradicts_itself_is_asked(demo, bare):
    hands = demo.run("find", "kind=yard", "--columns", "login", "--as", "csv").out.split()[1:]
    done(demo, "move", *hands[:2], "--to", "/Guests")
    text = drafted(bare, demo)
    assert "# ? only 2 of 4 stand there; most others in /" in text


def test_attributes_without_a_field_become_own_ones(demo, bare):
    for number, login in enumerate(("alund", "hbrekke", "jmeer")):
        done(
            demo,
            "edit",
            login,
            f"@carLicense=MF {number}",
            f"@roomNumber=2{number}",
            f"@destinationIndicator=7{number}",
        )
    fields = yaml.safe_load(drafted(bare, demo))["fields"]
    assert fields == {"destination-indicator": fields["destination-indicator"]}  # the other two have fields
    field = fields["destination-indicator"]
    assert (field["shape"], field["attribute"]) == ("number", {"standard": "destinationIndicator"})


def test_a_draft_never_overwrites_and_needs_somebody_to_learn_from(demo, bare, tmp_path):
    (bare.path / "mine.yaml").write_text("mine")
    taken = bare.run("charter", "draft", "mine.yaml")
    assert (taken.code, (bare.path / "mine.yaml").read_text()) == (Code.TAKEN.exit_code, "mine")
    nobody = bare.run("charter", "draft", "--base", "ou=Groups,dc=marrowick,dc=example")
    assert nobody.code == Code.REFUSED.exit_code and "no account" in nobody.err
    assert bare.run("charter", "draft", "--base", "nothing").code == Code.BAD_NAME.exit_code
    none = Folder(tmp_path / "none", demo.env)
    none.path.mkdir()
    assert none.run("charter", "draft").code == Code.OUT_OF_REACH.exit_code
    assert bare.run("charter", "draft", "--json").json["command"] == "charter draft"


def test_a_server_that_others_filled_is_drafted(tmp_path):
    """People named by uid under ou=people, groups of names, nothing of ours."""
    with servers.running(servers.BARE) as server:
        directory = servers.open_directory(server.as_root())
        people, teams = TOP.child("ou", "people"), TOP.child("ou", "groups")
        steps = [AddEntry(dn, {"objectClass": ["organizationalUnit"], "ou": [dn.name]}) for dn in (people, teams)]
        crowd = [("Anna", "Lund"), ("Tor", "Brekke"), ("Eva", "Moe"), ("Ida", "Vik"), ("Per", "Dahl"), ("Odd", "Nes")]
        for first, surname in crowd:
            uid = f"{first}.{surname}".lower()
            steps.append(AddEntry(people.child("uid", uid), {
                "objectClass": ["inetOrgPerson"], "uid": [uid], "cn": [f"{first} {surname}"], "sn": [surname],
                "givenName": [first], "mail": [f"{uid}@harbour.example"], "o": ["Harbour Trust"],
            }))  # fmt: skip
        members = [str(step.dn) for step in steps[2:]]
        steps.append(
            AddEntry(teams.child("cn", "all"), {"objectClass": ["groupOfNames"], "cn": ["all"], "member": members})
        )  # type: ignore[dict-item]
        assert directory.execute(steps, atomic=True) == [None] * len(steps)
        draft = draft_charter(directory, TOP, DraftRequest("Harbour Trust"))
        directory.close()
    document = from_text(draft.text, Path("charter.yaml")).document
    (kind,) = document.kinds.values()
    assert (document.organization, kind.place, kind.groups) == ("Harbour Trust", "/people", ["all"])
    assert document.named_by == "login"
    assert document.names.login.ladder == ["{given}.{surname}"]  # type: ignore[union-attr]
    assert document.names.mail.ladder == ["{login}@{domain}"]  # type: ignore[union-attr]
    assert kind.sets == {"company": "Harbour Trust"}


def flat(folder: Path, *people: tuple[str, str]) -> str:
    """The draft of a directory whose people stand right below its top."""
    directory = EmbeddedDirectory.create(folder / "directory.db", [TOP])
    steps = [AddEntry(TOP, {"objectClass": ["organization", "dcObject"], "o": ["Harbour"], "dc": ["marrowick"]})]
    for number, (cn, display) in enumerate(people):
        attributes: dict[str, list[Value]] = {
            "objectClass": ["inetOrgPerson"], "cn": [cn], "sn": [cn.split()[-1]], "displayName": [display],
            "uid": [f"u{number}"], "employeeType": ["Full time"],
        }  # fmt: skip
        steps.append(AddEntry(TOP.child("cn", cn), attributes))
    assert directory.execute(steps, atomic=True) == [None] * len(steps)
    try:
        return draft_charter(directory, TOP, DraftRequest()).text
    finally:
        directory.close()


def test_people_without_units_or_a_kind_that_can_be_one_are_drafted_with_a_question(tmp_path):
    text = flat(tmp_path, ("Anna Lund", "Lund"), ("Tor Brekke", "Brekke"))
    document = from_text(text, Path("charter.yaml")).document
    assert (list(document.kinds), document.kinds["accounts"].place) == (["accounts"], "/Accounts")
    assert "# ? none of them stands in a unit: where do they belong?" in text


def test_what_the_directory_holds_is_never_more_than_a_comment(tmp_path):
    hostile = "x\nvandrel: 7 \x1b[31m {surname"
    people = [("Anna Lund", hostile), ("Tor Brekke", hostile + "y"), ("Eva Moe", hostile + "z"), ("Ida Vik", "Vik")]
    text = flat(tmp_path, *people)
    assert "\x1b" not in text and text.count("\nvandrel:") == 1
    assert from_text(text, Path("charter.yaml")).document.organization == "Harbour"


def test_nobody_is_no_draft(bench):
    with pytest.raises(VandrelError, match="no account"):
        draft_charter(bench.context.directory, bench.context.charter.base, DraftRequest())


def test_notes_and_questions_stand_where_they_belong():
    document = {"a": Noted({"b": Noted(1, "2 of 3", ("why?",)), "c": None}, "all"), "d": ["{x}", "y: z"]}
    text = write(document)
    assert text == "\na:  # all\n  # ? why?\n  b: 1  # 2 of 3\n  c:\nd: ['{x}', 'y: z']\n"
    assert yaml.safe_load(text) == {"a": {"b": 1, "c": None}, "d": ["{x}", "y: z"]}


WORDS = st.text(st.characters(codec="utf-8"), max_size=30)
DOCUMENTS = st.recursive(
    st.one_of(st.integers(-99, 99), st.booleans(), WORDS, st.lists(WORDS, max_size=3)),
    lambda inner: st.dictionaries(st.text("abcxyz-", min_size=1, max_size=8), inner, min_size=1, max_size=4),
    max_leaves=12,
)


def with_notes(value: object, said: str) -> object:
    """Every value of a document with a note and a question."""
    if isinstance(value, dict):
        value = {key: with_notes(inner, said) for key, inner in value.items()}
    return Noted(value, said, (said,))


@given(st.dictionaries(st.text("abcxyz-", min_size=1, max_size=8), DOCUMENTS, max_size=4), WORDS)
@example({"a": "\x85", "b": ["a\x85b"]}, "\x85")  # a line break to YAML 1.1 alone
def test_a_document_is_read_back_as_it_was_whatever_is_said_of_it(document, said):
    assert (yaml.safe_load(write(document)) or {}) == document
    noted = {key: with_notes(value, said) for key, value in document.items()}
    assert (yaml.safe_load(write(noted)) or {}) == document


PEOPLE = [("Anna", "Lund"), ("Tor", "Brekke"), ("Eva", "Moe"), ("Ida", "Vik"), ("Per", "Dahl"), ("Odd", "Nes"),
          ("Kari", "Holm"), ("Nils", "Aas")]  # fmt: skip


@pytest.mark.parametrize(
    ("login", "pattern", "style"),
    [("{g}.{s}", "{given}.{surname}", "ascii lower plain"), ("{s}{i}", "{surname}{given 1}", "ascii lower plain"),
     ("{i}{s}", "{given 1}{surname}", "ascii lower plain"), ("{s}", "{surname}", "ascii lower plain"),
     ("x-{i}{s}", "x-{given 1}{surname}", "ascii lower plain"), ("k26{s}", "k26{surname}", "ascii lower plain"),
     ("{g}_{s}", "{given}_{surname}", "ascii lower plain"), ("{s}-{g}", "{surname}-{given}", "ascii lower plain")],
)  # fmt: skip
def test_the_pattern_by_which_names_were_made_is_found_again(bench, login, pattern, style):
    for number, (first, last) in enumerate(PEOPLE):
        name = login.format(g=first.lower(), s=last.lower(), i=first[0].lower())
        hire(bench, first, last, str(number), login=[name])
    survey = Survey(bench.context)
    year = str(bench.context.charter.today().year)[-2:]
    told = infer(survey, survey.accounts, "login")
    wanted = pattern.replace(year, "{year -2}")
    assert ([(rung.pattern, rung.accounts) for rung in told.rungs], told.style) == ([(wanted, len(PEOPLE))], style)
    assert told.exceptions == ()
    assert conforming(survey, survey.accounts, told) == len(PEOPLE)


def test_what_a_pattern_does_not_explain_is_an_exception_and_no_rung(bench):
    for number, (first, last) in enumerate(PEOPLE):
        hire(bench, first, last, str(number), login=["captainodd" if number == 3 else f"{first}.{last}".lower()])
    survey = Survey(bench.context)
    told = infer(survey, survey.accounts, "login")
    assert [rung.accounts for rung in told.rungs] == [len(PEOPLE) - 1]
    assert [name for _, name in told.exceptions] == ["captainodd"]
