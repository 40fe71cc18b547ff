"""Fields that the organization declares in its charter: everywhere a built-in one works, these do."""

from __future__ import annotations

import pytest

from vandrel.errors import Code

OWN = """
fields:
  locker:
    about: locker in the crew room
    form: '[A-Z]-[0-9]{2}'
    attribute: {standard: destinationIndicator, ad: extensionAttribute1}
  safety-course:
    about: day of the last safety course
    shape: date
    attribute: {standard: carLicense, ad: extensionAttribute2}
  watch:
    about: watch on board
    values: [Port, Starboard]
    attribute: {standard: registeredAddress, ad: extensionAttribute3}
"""
CREW = (
    "create",
    "crew",
    "Anna Berg",
    "number=2501",
    "site=Kelness",
    "department=Deck",
    "category=Hands",
    "password=none",
)


@pytest.fixture
def yard(demo):
    charter = demo.path / "charter.yaml"
    charter.write_text(charter.read_text("utf-8") + OWN, "utf-8")
    return demo


def fields_of(folder, name: str) -> dict[str, list[str]]:
    return folder.run("show", name, "--json").json["objects"][0]["fields"]


def test_an_own_field_from_creation_to_copy(yard):
    made = yard.run(*CREW, "locker=K-07", "safety-course=2026-03-14", "watch=port", "-y")
    assert (made.code, made.err) == (0, ""), made.err
    fields = fields_of(yard, "aberg")
    assert (fields["locker"], fields["safety-course"], fields["watch"]) == (["K-07"], ["2026-03-14"], ["Port"])
    assert yard.run("find", "locker=K-07", "--columns", "login,watch", "--as", "csv").out.split() == [
        "login,watch",
        "aberg,Port",
    ]
    changed = yard.run("edit", "aberg", "watch=Starboard", "web=https://x.example/{locker}", "-y")
    assert (changed.code, fields_of(yard, "aberg")["web"]) == (0, ["https://x.example/K-07"]), changed.err
    assert "locker" in yard.run("compare", "aberg", "hbrekke").out
    stays = yard.run("copy", "aberg", "Bo Berg", "number=2502", "password=none", "-n").out
    assert "locker" in stays.partition("Stays behind")[2]
    assert "locker in the crew room" in yard.run("show", "aberg", "--only", "lock").out


@pytest.mark.parametrize(
    ("assignment", "code"),
    [
        ("locker=7", Code.BAD_VALUE),
        ("watch=Midships", Code.BAD_VALUE),
        ("safety-course=soon", Code.BAD_VALUE),
        ("lokcer=K-07", Code.UNKNOWN_FIELD),
    ],
)
def test_what_an_own_field_cannot_take(yard, assignment, code):
    done = yard.run(*CREW, assignment, "-y")
    assert done.code == code.exit_code, done.err


def test_an_own_field_in_a_file_and_back(yard):
    (yard.path / "new.csv").write_text(
        "number,given,surname,site,department,category,locker,watch\n2503,Cy,Berg,Kelness,Deck,Hands,K-08,Port\n"
        "2504,Di,Berg,Kelness,Deck,Hands,8,Port\n", "utf-8",
    )  # fmt: skip
    assert yard.run("import", "new.csv", "--propose", "--kind", "crew").code == 0
    checked = yard.run("import", "new.csv", "-n", "--json")
    assert [(f["row"], f["column"], f["code"]) for f in checked.findings] == [(3, "locker", "bad-value")]
    assert yard.run("import", "new.csv", "--sound-only", "--no-passwords", "-y").code == 0
    assert fields_of(yard, "2503")["locker"] == ["K-08"]
    out = ("find", "locker=*", "--columns", "number,locker,watch", "--to", "back.csv")
    assert yard.run(*out).code == 0
    assert yard.run("import", "back.csv", "--propose", "--kind", "crew").code == 0
    again = yard.run("import", "back.csv", "--mode", "update", "-n", "--json")
    assert [row["result"] for row in again.json["rows"]] == ["as it is"]


def test_a_kind_can_require_an_own_field(yard):
    charter = yard.path / "charter.yaml"
    text = charter.read_text("utf-8")
    charter.write_text(text.replace("requires: [", "requires: [locker, ", 1), "utf-8")
    assert yard.run("charter", "check").code == 0
    done = yard.run(*CREW, "-y")
    assert (done.code, "locker is required" in done.err) == (Code.REQUIRED.exit_code, True), done.err


@pytest.mark.parametrize(
    ("spec", "what"),
    [
        ("title: {attribute: {standard: x}}", "built-in"),
        ("Locker: {}", "name"),
        ("l: {form: '['}", "expression"),
        ("l: {shape: text, values: [a], form: a}", "both"),
    ],
)
def test_faults_of_own_fields_are_found(demo, spec, what):
    charter = demo.path / "charter.yaml"
    charter.write_text(charter.read_text("utf-8") + f"\nfields:\n  {spec}\n", "utf-8")
    done = demo.run("charter", "check")
    assert (done.code, what in done.err) == (Code.CHARTER.exit_code, True), done.err
