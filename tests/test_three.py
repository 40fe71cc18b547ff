"""The program on each of the three directories: the tour of the demo, and a day's work with one option changed."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from vandrel.directory import dn as names

from . import servers
from .conftest import Folder

#: As each server calls what the program shows.
SLAPD = """\
connections:
  harbour:
    hosts: ["{url}"]
    identities:
      admin: {{sasl: external}}
      everyday: {{bind: "{dn}", password-file: hers}}
      wrong: {{bind: "cn=nobody,dc=marrowick,dc=example", password-file: hers}}
"""
DOMAIN = """\
connections:
  harbour:
    hosts: ["{url}"]
    ca-file: {ca_file}
    identities:
      admin: {{bind: Administrator@marrowick.example, password-file: his}}
      everyday: {{bind: "{dn}", password-file: hers}}
      wrong: {{bind: nobody@marrowick.example, password-file: hers}}
"""
#: Works in the shore office, in the demo.
TOVE = "cn=Tove Ødegård,ou=Office,ou=Shore,dc=marrowick,dc=example"


#: By the sort of directory, the folder where the demo's tour was taken, and both as they were then.
_toured: dict[str, tuple[Folder, servers.Again]] = {}


@pytest.fixture(scope="module", params=["embedded", "slapd", "domain"])
def place(request, tmp_path_factory) -> Iterator[tuple[str, Folder]]:
    """A folder where the demo's tour was taken, and the sort of directory that it was taken on."""
    if request.param not in _toured:
        _toured[request.param] = _tour(request.param, tmp_path_factory.mktemp(request.param))
    folder, again = _toured[request.param]
    with again.begun():
        yield request.param, folder


def _tour(kind: str, folder: Path) -> tuple[Folder, servers.Again]:
    env = {"XDG_CACHE_HOME": str(folder / "cache"), "XDG_CONFIG_HOME": str(folder / "config")}
    server, more = None, []
    if kind != "embedded":
        server, more = servers.made(kind), ["--directory", "harbour"]
        (folder / "connections.yaml").write_text(
            (SLAPD if kind == "slapd" else DOMAIN).format(
                url=server.url, dn=TOVE, ca_file=getattr(server, "ca_file", "")
            )
        )
        for name, password in (("hers", "Kv9-fjord-lamp"), ("his", servers.Domain.PASSWORD)):
            (folder / name).write_text(password)
            (folder / name).chmod(0o600)
    made = Folder(folder, env).run("demo", "demo", *more)
    assert made.code == 0, made.out + made.err  # every command of the tour ended as the tour says
    inside = Folder(folder / "demo", env | ({"VANDREL_DIRECTORY": "harbour"} if more else {}))
    return inside, servers.Again(server, folder)


def test_a_day(place):
    """Hire, look, change, disable, create a group, a unit and a computer: read back from the directory each time."""
    kind, folder = place
    hired = folder.run("create", "staff", "Ole Vik", "number=4711", "department=IT", "--hand-out", "ole.csv", "-y")
    assert hired.code == 0, hired.err
    due = "A new password is due" if kind == "slapd" else "The password must be changed"  # no policy demands it there
    assert f"Ole Vik can log on as ovik or ovik@marrowick.example. {due} at the next logon" in hired.out
    assert "password" in (folder.path / "ole.csv").read_text().splitlines()[0]
    assert folder.run("edit", "ovik", "title=Technician", "phone=1", "phone+=2", "ends=2027-03-31", "-y").code == 0
    shown = folder.run("show", "ovik", "--json").json["objects"][0]
    fields = shown["fields"]
    assert (fields["title"], fields["phone"], fields["ends"]) == (["Technician"], ["1", "2"], ["2027-03-31"])
    assert set(fields["groups"]) - {"Domain Users"} == {"team-it", "team-everybody"}
    assert (
        folder.run("find", "title=Tech*", "--columns", "login,ends", "--as", "csv").out
        == "login,ends\novik,2027-03-31\n"
    )
    again = folder.run("edit", "ovik", "title=Technician", "-y")
    assert (again.code, "Nothing to change." in again.out) == (0, True)
    off = folder.run("edit", "ovik", "enabled=no", "-y")
    word = (
        "can log on as ovik or ovik@marrowick.example, though it is marked as disabled: no password policy"
        if kind == "slapd"
        else "cannot log on: the account is disabled"
    )
    assert f"Ole Vik {word}" in off.out  # that server has no policy that makes it heed the mark
    assert "ovik" in folder.run("find", "enabled=no", "--columns", "login", "--as", "csv").out.split()
    assert folder.run("create", "group", "Day crew", "kind=team", "members=ovik", "-y").code == 0
    assert folder.run("find", "groups=team-day-crew", "--columns", "login", "--as", "csv").out == "login\novik\n"
    assert folder.run("create", "computer", "IT-DESK-1", "groups=team-desks", "notes=By the door", "-y").code == 0
    computers = folder.run("find", "--type", "computers", "IT", "--columns", "name,notes,groups,place", "--json").json[
        "rows"
    ]
    (desk,) = [row for row in computers if row["name"] == "IT-DESK-1"]
    assert desk["place"] == "/Machines/Desks"
    assert "team-desks" in desk["groups"]
    assert folder.run("create", "computer", "it-desk-1", "-y").code == 23
    assert folder.run("edit", "it-desk-1", "enabled=no", "-y").code == 0
    assert folder.run("show", "it-desk-1", "--json").json["objects"][0]["state"] == ["disabled"]
    renamed = folder.run("edit", "ovik", "name=Ole Vik (IT)", "-y")
    assert renamed.code == 0, renamed.err
    assert "Ole Vik (IT)" in folder.run("show", "team-day-crew").out


def test_jobs_on_one_group_are_taken_back_in_any_order(place):
    """The empty name is in a list of members while nobody else is, whoever came first and whoever goes last."""
    kind, folder = place
    assert folder.run("create", "group", "Tow crew", "kind=team", "-y").code == 0
    joined = [
        folder.run("edit", who, "groups+=team-tow-crew", "-y", "--json").json["job"] for who in ("alund", "hbrekke")
    ]

    def listed() -> list[str]:
        shown = folder.run("show", "team-tow-crew", "--bare", "@member").out.splitlines()
        return [names.parse(value).name if value else "" for value in shown]

    nobody = [] if kind == "domain" else [""]
    assert sorted(listed()) == ["Anna Lund", "Halvard Brekke"]
    assert folder.run("undo", str(joined[0]), "-y").code == 0
    assert listed() == ["Halvard Brekke"]
    last = folder.run("undo", str(joined[1]), "-y", "--json").json["job"]
    assert listed() == nobody
    assert folder.run("undo", str(last), "-y").code == 0
    assert listed() == ["Halvard Brekke"]


def test_a_suffix_comes_is_given_to_many_and_goes(place):
    kind, folder = place

    def told(*words: str) -> str:
        return folder.run("suffixes", *words, "-y").err

    assert "the charter does not have lines.example" in told("change", "marrowick.example", "--to", "lines.example")
    charter = folder.path / "charter.yaml"
    text = charter.read_text("utf-8")
    charter.write_text(
        text.replace("suffixes: [marrowick.example", "suffixes: [marrowick.example, lines.example"), "utf-8"
    )
    under = ("--under", "/Shore/IT")
    if kind == "domain":
        refused = told("change", "marrowick.example", "--to", "lines.example", *under)
        assert "lines.example is not registered on the server" in refused
        assert "the name of a domain, and cannot be withdrawn" in told("withdraw", "marrowick.example")
    assert folder.run("suffixes", "register", "Lines.example", "-y").code == 0
    listed = {row["suffix"]: row for row in folder.run("suffixes", "--json").json["rows"]}
    assert listed["lines.example"]["registered by"] == ("charter and server" if kind == "domain" else "charter")
    before = {name: listed[name]["accounts"] for name in ("marrowick.example", "lines.example")}
    in_it = folder.run(
        "find", "--under", "/Shore/IT", "principal=*@marrowick.example", "--columns", "login", "--as", "csv"
    )
    many = len(in_it.out.split()) - 1
    assert folder.run("suffixes", "change", "marrowick.example", "--to", "lines.example", *under, "-y").code == 0
    fields = folder.run("show", "jmueller", "--json").json["objects"][0]["fields"]
    assert (fields["principal"], fields["mail"]) == (["jmueller@lines.example"], ["joerg.mueller@lines.example"])
    assert "joerg.mueller@marrowick.example" in fields["alias"]
    listed = {row["suffix"]: row["accounts"] for row in folder.run("suffixes", "--json").json["rows"]}
    assert int(listed["lines.example"]) == many > 3
    assert int(listed["marrowick.example"]) == int(before["marrowick.example"]) - many
    assert f"lines.example is that of {many} accounts: " in told("withdraw", "lines.example")
    assert "lines.example is the one that they have" in told("withdraw", "lines.example", "--to", "lines.example")
    back = folder.run("suffixes", "withdraw", "lines.example", "--to", "marrowick.example", "-y")
    assert (back.code, "the charter registers lines.example too" in back.err) == (0, True)
    fields = folder.run("show", "jmueller", "--json").json["objects"][0]["fields"]
    assert fields["mail"] == ["joerg.mueller@marrowick.example"]
    assert fields["alias"] == ["joerg.mueller@lines.example"]
    charter.write_text(text, "utf-8")
    assert "lines.example is registered nowhere" in told("withdraw", "lines.example")
    last = folder.run("journal", "--last", "1", "--json").json["rows"][0]["number"]
    charter.write_text(
        text.replace("suffixes: [marrowick.example", "suffixes: [marrowick.example, lines.example"), "utf-8"
    )
    assert folder.run("undo", str(last), "-y").code == 0  # those who had it have it again, and it is registered
    assert folder.run("show", "jmueller", "--bare", "principal").out == "jmueller@lines.example\n"
    assert folder.run("suffixes", "withdraw", "lines.example", "--to", "marrowick.example", "-y").code == 0
    charter.write_text(text, "utf-8")


def test_refusals_are_the_same_everywhere(place):
    _, folder = place
    assert folder.run("create", "unit", "/Shore/Office", "-y").code == 23
    assert folder.run("create", "unit", "/Nowhere/Office", "-y").code == 24
    assert folder.run("create", "staff", "Ann Vik", "number=1", "department=IT", "login=toedegaard", "-n").code == 23
    assert folder.run("edit", "toedegaard", "login=" + "x" * 30, "-y").code == 16
    assert folder.run("show", "nobody-at-all").code == 30
    assert folder.run("find", "--where", "(|(cn=a)(title=b").code == 13
    refused = folder.run("edit", "/Shore/Office", "name=Bureau", "-y")
    assert (refused.code, "protected" in refused.err) == (27, True)


def test_a_copy_can_be_opened_and_rehearsed_upon(place, tmp_path):
    kind, folder = place
    copy, ldif = str(tmp_path / "copy.db"), str(tmp_path / "copy.ldif")
    assert folder.run("export", "--schema", "--to", ldif).code == 0
    offline = Folder(folder.path, {name: value for name, value in folder.env.items() if name != "VANDREL_DIRECTORY"})
    loaded = offline.run("load", ldif, "--directory", copy, "-y")
    assert loaded.code == 0, loaded.err
    one, other = (where.json["objects"][0] for where in (
        folder.run("show", "hbrekke", "--json"), offline.run("show", "hbrekke", "--json", "--directory", copy),
    ))  # fmt: skip
    server = {"primary"} if kind == "domain" else set()  # the server alone gives identifiers
    for name, values in one["fields"].items():
        if name not in server:
            assert set(other["fields"].get(name, ())) == set(values) - {"Domain Users"}, name
    assert offline.run("edit", "hbrekke", "title=Rehearsed", "-y", "--directory", copy).code == 0
    assert "Rehearsed" not in folder.run("show", "hbrekke").out


def test_identities_are_switched_by_one_word(place):
    kind, folder = place
    if kind == "embedded":
        assert folder.run("show", "alund", "--who", "admin").code == 2
        return
    given = folder.run("edit", "toedegaard", "password=-", "change=no", "-y", stdin="Kv9-fjord-lamp\n")
    assert given.code == 0, given.err
    probed = folder.run("probe", "/Shore", "--who", "everyday")
    assert probed.code == 0, probed.err
    assert "(others: --who admin, --who wrong)" in probed.out
    assert "Tove Ødegård" in probed.out
    refused = folder.run("edit", "hbrekke", "title=Cook", "-y", "--who", "everyday")
    assert refused.code == 41
    assert "title" in refused.err
    assert "--who" in refused.err
    assert "Captain" in folder.run("show", "hbrekke").out
    wrong = folder.run("show", "hbrekke", "--who", "wrong")
    assert (wrong.code, "Kv9" in wrong.err + wrong.out) == (41, False)
    assert folder.run("show", "hbrekke", "--who", "amdin").code == 30
    assert folder.run("show", "hbrekke", "--directory", "harbor").code == 30


def test_what_the_directory_is_and_does(place):
    kind, folder = place
    found = folder.run("probe", "--json").json
    assert (
        found["facts"].get("holds", found["facts"].get("holds, the default first"))[0].lower()
        == "dc=marrowick,dc=example"
    )
    does = {ability["what"]: ability for ability in found["tables"]["abilities"]}
    mends = does["names that point at a renamed, moved or deleted object"]["by"]
    assert mends == ("Vandrel, as further steps of the same change" if kind == "slapd" else "the directory")
    assert does["keeping disabled accounts out"]["fine"] == (kind != "slapd")
    rules = {rule["rule"]: (rule["value"], rule["source"]) for rule in found["tables"]["password_rules"]}
    assert rules["length"] == (12, "charter")
    assert rules["maximum-age"] == ((42, "domain marrowick") if kind == "domain" else (0, "charter"))
    assert "Kv9" not in json.dumps(found)


def test_a_job_is_finished_on_its_own_directory_alone(place, tmp_path):
    kind, folder = place
    if kind == "embedded":
        return
    shutil.copytree(folder.path, tmp_path / "elsewhere")
    stranger = Folder(tmp_path / "elsewhere", {k: v for k, v in folder.env.items() if k != "VANDREL_DIRECTORY"})
    assert stranger.run("hierarchy", "build", "--directory", "other.db", "-y").code == 0
    assert stranger.run("journal", "1", "--verify", "--directory", str(Path("other.db"))).code == 44
    stands = folder.run("journal", "1", "--verify", "--json").json["rows"]
    assert len(stands) > 60
    # Groups that the plan made have got members since; the units are as they were made.
    assert {step["stands"] for step in stands if step["dn"].lower().startswith("ou=")} == {True}
    assert folder.run("journal", "1", "--verify").code == (29 if kind == "slapd" else 0)
