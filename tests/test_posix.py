"""At home in directories that others built: people named by uid, POSIX accounts, groups of both sorts and by logon name."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from vandrel.charter.load import from_text
from vandrel.directory import dn as names
from vandrel.directory import ldif
from vandrel.directory.entry import Entry
from vandrel.directory.operations import AddEntry, Change, ModifyEntry
from vandrel.directory.schema import shipped_definitions
from vandrel.errors import Code
from vandrel.jobs.drafting.draft import DraftRequest, draft_charter

from . import servers
from .conftest import Folder, Result

#: As others wrote it: RFC 2307, section 5.3, and its successor draft, where a group is one of RFC 4519 as well.
PEOPLE = """\
dn: ou=people,dc=marrowick,dc=example
objectClass: organizationalUnit
ou: people

dn: ou=groups,dc=marrowick,dc=example
objectClass: organizationalUnit
ou: groups

dn: uid=alund,ou=people,dc=marrowick,dc=example
objectClass: inetOrgPerson
objectClass: posixAccount
objectClass: shadowAccount
uid: alund
cn: Anna Lund
sn: Lund
givenName: Anna
uidNumber: 2000
gidNumber: 5000
homeDirectory: /srv/home/alund
loginShell: /bin/zsh
gecos: Anna Lund,,,
shadowMax: 90
description: keeps the  two spaces

dn: uid=tbrekke,ou=people,dc=marrowick,dc=example
objectClass: inetOrgPerson
objectClass: posixAccount
uid: tbrekke
cn: Tor Brekke
cn;lang-ja:: 44OI44O8
sn: Brekke
givenName: Tor
uidNumber: 2007
gidNumber: 5000
homeDirectory: /srv/home/tbrekke
manager: uid=alund,ou=people,dc=marrowick,dc=example
"""
BY_LOGIN = (
    PEOPLE
    + """
dn: cn=staff,ou=groups,dc=marrowick,dc=example
objectClass: posixGroup
cn: staff
gidNumber: 5000
memberUid: alund
memberUid: tbrekke
memberUid: long-gone

dn: cn=deck,ou=groups,dc=marrowick,dc=example
objectClass: posixGroup
cn: deck
gidNumber: 5001
memberUid: alund
"""
)
BY_UNIQUE_NAME = (
    PEOPLE
    + """
dn: cn=staff,ou=groups,dc=marrowick,dc=example
objectClass: groupOfUniqueNames
objectClass: posixGroup
cn: staff
gidNumber: 5000
memberUid: alund
memberUid: tbrekke
uniqueMember: uid=alund,ou=people,dc=marrowick,dc=example
uniqueMember: uid=tbrekke,ou=people,dc=marrowick,dc=example

dn: cn=deck,ou=groups,dc=marrowick,dc=example
objectClass: groupOfUniqueNames
cn: deck
uniqueMember: uid=alund,ou=people,dc=marrowick,dc=example
"""
)
CHARTER = """\
vandrel: 1
organization: Harbour Trust
base: dc=marrowick,dc=example
suffixes: [harbour.example]
named-by: login
group-classes: [{group_class}]
posix: {{uid-numbers: [2000, 2011], gid-numbers: [5000, 5999], group: staff, home: "/srv/home/{{login}}"}}
hierarchy: {{people: {{}}, groups: {{}}}}
kinds:
  people: {{place: /people, groups: [staff]}}
groups:
  team: {{name: "{{stem}}", place: /groups}}
"""


def schema_of(path: Path, *, by_login: bool) -> str:
    """What to add to a server: its schema of groups is structural in the one case, auxiliary in the other."""
    # The server has the two numbers built in.
    posix = [f"{kind} {text}" for kind, text in shipped_definitions() if " 1.3.6.1.1.1." in text
             and "'uidNumber' DESC" not in text and "'gidNumber' DESC" not in text]  # fmt: skip
    (path / "bis.schema").write_text("\n".join(posix) + "\n")
    return f"include {'/etc/ldap/schema/nis.schema' if by_login else path / 'bis.schema'}"


@pytest.fixture(params=["rfc2307", "rfc2307bis"])
def server(request, tmp_path) -> Iterator[tuple[str, servers.Slapd]]:
    """A server with nothing of ours."""
    by_login = request.param == "rfc2307"
    setup = servers.BARE._replace(schema=schema_of(tmp_path, by_login=by_login))
    with servers.running(setup) as running:
        directory = servers.open_directory(running.as_root())
        text = BY_LOGIN if by_login else BY_UNIQUE_NAME
        records = list(ldif.read(text.splitlines(keepends=True), directory.schema.is_binary))
        steps = [AddEntry(record.dn, record.attributes) for record in records]
        assert directory.execute(steps, atomic=False) == [None] * len(steps)
        directory.close()
        yield request.param, running


@pytest.fixture
def place(server, tmp_path) -> tuple[str, Folder, servers.Slapd]:
    kind, running = server
    group_class = "posixGroup" if kind == "rfc2307" else "groupOfUniqueNames"
    (tmp_path / "charter.yaml").write_text(CHARTER.format(group_class=group_class))
    (tmp_path / "connections.yaml").write_text(
        f'connections: {{harbour: {{hosts: ["{running.url}"], identities: {{admin: {{sasl: external}}}}}}}}\n'
    )
    return kind, Folder(tmp_path, {"VANDREL_DIRECTORY": "harbour"}), running


def fine(result: Result) -> str:
    assert result.code == 0, result.out + result.err
    return result.out


def seen(folder: Folder, name: str) -> dict:
    return folder.run("show", name, "--json").json["objects"][0]


def raw(running: servers.Slapd, name: str) -> dict[str, list]:
    directory = servers.open_directory(running.as_root())
    try:
        entries = [e for e in directory.search(directory.contexts[0]) if e.dn.name == name]
        found = next((e for e in entries if e.has_class("posixAccount")), None) or entries[0]  # or a group of one's own
        return {key: sorted(map(str, values)) for key, values in found.attributes.items()}
    finally:
        directory.close()


def test_hire_change_rename_let_go_and_bring_back(place):
    kind, folder, running = place
    assert seen(folder, "alund")["fields"]["groups"] == ["deck", "staff"]
    assert seen(folder, "staff")["fields"]["members"] == ["alund", "tbrekke"]
    fine(folder.run("edit", "--where", "(objectClass=person)", "kind=people", "-y"))  # as a draft says to
    untouched = raw(running, "tbrekke")
    # Hired: the next number, the first group's, the home by its pattern; in the groups by whichever list they have.
    fine(folder.run("create", "people", "Eva Moe", "password=none", "-y"))
    eva = raw(running, "emoe")
    assert (eva["uidNumber"], eva["gidNumber"], eva["homeDirectory"]) == (["2008"], ["5000"], ["/srv/home/emoe"])
    assert {"posixAccount", "inetOrgPerson"} <= set(eva["objectClass"])
    assert seen(folder, "emoe")["fields"]["groups"] == ["staff"]
    assert "emoe" in raw(running, "staff")["memberUid"]
    if kind != "rfc2307":
        assert "uid=emoe,ou=people,dc=marrowick,dc=example" in raw(running, "staff")["uniqueMember"]
    (folder.path / "more.csv").write_text("given,surname\nIda,Vik\nPer,Dahl\n")
    fine(folder.run("import", "more.csv", "--propose", "--kind", "people", "-q"))
    fine(folder.run("import", "more.csv", "--no-passwords", "-y"))
    assert [raw(running, name)["uidNumber"] for name in ("ivik", "pdahl")] == [["2009"], ["2010"]]
    fine(folder.run("create", "people", "Odd Nes", "password=none", "-y"))
    assert raw(running, "ones")["uidNumber"] == ["2011"]
    fine(folder.run("create", "people", "Kai Ek", "password=none", "-y"))
    assert raw(running, "kek")["uidNumber"] == ["2001"]  # the range is at its end: the first gap
    assert folder.run("create", "people", "Mia Holm", "uid-number=2001", "password=none", "-y").code == (
        Code.TAKEN.exit_code
    )
    # Another logon name: the name of the entry, its groups and its home follow; what is not named stays as it is.
    told = fine(folder.run("rename", "alund", "surname=Berg", "-y"))
    anna = raw(running, "aberg")
    assert seen(folder, "aberg")["fields"]["groups"] == ["deck", "staff"], told
    assert (anna["gecos"], anna["shadowMax"], anna["description"]) == (
        ["Anna Lund,,,"], ["90"], ["keeps the  two spaces"],
    )  # fmt: skip
    assert seen(folder, "tbrekke")["fields"]["manager"] == ["aberg"]
    assert {key: value for key, value in raw(running, "tbrekke").items() if untouched.get(key) != value}.keys() <= {
        "manager", "entryCSN", "modifyTimestamp", "modifiersName",
    }  # fmt: skip
    # The first group, by its number, and the last day, as Unix systems count it: the days since 1970 began.
    assert seen(folder, "emoe")["fields"]["primary"] == ["staff"]
    fine(folder.run("edit", "emoe", "ends=2026-12-31", "-y"))
    assert (raw(running, "emoe")["shadowExpire"], "shadowAccount" in raw(running, "emoe")["objectClass"]) == (
        ["20819"],
        True,
    )
    assert seen(folder, "emoe")["fields"]["ends"] == ["2026-12-31"]
    assert folder.run("find", "ends=2026-12-31", "--columns", "login", "--as", "csv").out.split() == ["login", "emoe"]
    fine(folder.run("edit", "emoe", "ends=", "-y"))
    assert "shadowExpire" not in raw(running, "emoe")
    # From both sides, and a group of one's own.
    fine(folder.run("edit", "deck", "members+=emoe,tbrekke", "-y"))
    fine(folder.run("edit", "aberg", "groups-=deck", "-y"))
    assert seen(folder, "deck")["fields"]["members"] == ["emoe", "tbrekke"]
    fine(folder.run("create", "group", "Watch", "name=watch", "members=emoe", "-y"))
    watch = raw(running, "watch")
    if kind == "rfc2307":
        assert (watch["memberUid"], watch["gidNumber"]) == (["emoe"], ["5002"])
    else:
        assert (watch["uniqueMember"], "gidNumber" in watch) == (["uid=emoe,ou=people,dc=marrowick,dc=example"], False)
    assert seen(folder, "watch")["fields"]["members"] == ["emoe"]
    # Gone, and back with everything.
    before = raw(running, "emoe"), raw(running, "deck"), raw(running, "staff")
    assert "is a member of" in fine(folder.run("delete", "emoe", "-y"))
    assert "emoe" not in str(raw(running, "deck")) + str(raw(running, "staff"))
    fine(folder.run("restore", "emoe", "-y"))
    times = {"entryCSN", "modifyTimestamp", "createTimestamp", "modifiersName", "creatorsName", "entryUUID"}
    for now, then in zip((raw(running, "emoe"), raw(running, "deck"), raw(running, "staff")), before, strict=True):
        assert {k: v for k, v in now.items() if k not in times} == {k: v for k, v in then.items() if k not in times}
    assert "long-gone" in raw(running, "staff")["memberUid"] or kind != "rfc2307"  # nobody of ours: left alone
    fine(folder.run("undo", str(folder.run("journal", "--json").json["rows"][0]["number"]), "-y"))
    assert folder.run("show", "emoe").code == Code.NOT_FOUND.exit_code
    assert folder.run("audit").code in (0, Code.FAULTS_FOUND.exit_code)


def test_accounts_with_groups_of_their_own(place):
    """The group comes and goes with the account, is called as it is, and stays where others are in it."""
    kind, folder, running = place
    charter = (folder.path / "charter.yaml").read_text()
    classes = "posixGroup" if kind == "rfc2307" else "groupOfUniqueNames, posixGroup"
    charter = charter.replace("group: staff", "personal-groups: /groups").replace(", groups: [staff]", "")
    charter = re.sub("group-classes: .*", f"group-classes: [{classes}]", charter)
    (folder.path / "charter.yaml").write_text(charter)
    fine(folder.run("edit", "--where", "(objectClass=person)", "kind=people", "-y"))
    told = fine(folder.run("create", "people", "Eva Moe", "password=none", "-y"))
    assert re.search(r"gid-number +2008 +a group of its own, emoe in /groups", told), told
    assert (raw(running, "emoe")["uidNumber"], seen(folder, "emoe")["fields"]["primary"]) == (["2008"], ["emoe"])
    (folder.path / "more.csv").write_text("given,surname\nIda,Vik\nPer,Dahl\n")
    fine(folder.run("import", "more.csv", "--propose", "--kind", "people", "-q"))
    fine(folder.run("import", "more.csv", "--no-passwords", "-y"))

    def groups() -> dict[str, tuple[str, str]]:
        """The number of each, and how many members it has."""
        rows = folder.run("find", "--type", "groups", "--columns", "name,gid-number,members", "--json").json["rows"]
        return {
            row["name"]: (row["gid-number"], row["members"]) for row in rows if row["name"] not in ("staff", "deck")
        }

    assert groups() == {"emoe": ("2008", "1"), "ivik": ("2009", "1"), "pdahl": ("2010", "1")}
    taken = folder.run("create", "people", "Sara Taff", "password=none", "-y")
    assert (taken.code, "there is a group staff in /groups" in taken.err) == (Code.TAKEN.exit_code, True), taken.err
    renamed = folder.run("rename", "emoe", "surname=Berg", "-y")
    assert "its own group emoe becomes eberg" in renamed.out + renamed.err, fine(renamed)
    assert groups()["eberg"] == ("2008", "1") and "emoe" not in groups()
    fine(folder.run("undo", str(folder.run("journal", "--json").json["rows"][0]["number"]), "-y"))
    assert groups()["emoe"] == ("2008", "1")
    before = raw(running, "ivik")
    fine(folder.run("delete", "ivik", "-y"))
    assert "ivik" not in groups() and folder.run("show", "ivik").code == Code.NOT_FOUND.exit_code
    fine(folder.run("restore", "ivik", "-y"))
    assert groups()["ivik"] == ("2009", "1")
    assert raw(running, "ivik")["uidNumber"] == before["uidNumber"]
    blamed = [row for row in folder.run("audit", "--json").json["rows"] if "ou=groups" in str(row)]
    assert not [row for row in blamed if "cn=ivik" in str(row)], blamed
    fine(folder.run("edit", "pdahl", "groups+=emoe", "-y"))
    fine(folder.run("delete", "emoe", "-y"))
    assert seen(folder, "emoe")["fields"]["members"] == ["pdahl"]  # so it is not its own any more, and stays
    directory = servers.open_directory(running.as_root())
    draft = draft_charter(directory, directory.contexts[0], DraftRequest("Harbour Trust"))
    directory.close()
    posix = from_text(draft.text, Path("charter.yaml")).document.posix
    assert posix is not None and (posix.group, posix.personal_groups) in (("staff", ""), ("", "/groups"))


def test_who_comes_into_a_very_long_list_is_told_whatever_the_list_holds(place):
    kind, folder, running = place
    base = names.parse("ou=people,dc=marrowick,dc=example")
    people = [base.child("uid", f"hand{number}") for number in range(1010)]
    adds = [AddEntry(dn, {"objectClass": ["inetOrgPerson"], "uid": [dn.name], "cn": [dn.name], "sn": ["Hand"]})
            for dn in people]  # fmt: skip
    lists = [Change("memberUid", added=tuple(dn.name for dn in people))]
    lists += [Change("uniqueMember", added=tuple(map(str, people)))] if kind != "rfc2307" else []
    staff = names.parse("cn=staff,ou=groups,dc=marrowick,dc=example")
    directory = servers.open_directory(running.as_root())
    assert not any(directory.execute([*adds, ModifyEntry(staff, tuple(lists))], atomic=False))
    for operator, mark in (("-=", "-"), ("+=", "+")):
        told = fine(folder.run("edit", "staff", f"members{operator}alund", "-y"))
        assert re.search(rf"staff now\n +members +\{mark} ", told), told
        assert ("alund" in raw(running, "staff")["memberUid"]) == (mark == "+")
    directory.close()


def test_a_member_with_an_identifier_behind_its_name_is_one_like_the_others(bench):
    """RFC 4517, 3.3.21: the identifier tells apart who has had a name; it is no part of it."""
    group = Entry(names.parse("cn=crew,dc=x"), {"objectClass": ["groupOfUniqueNames"], "cn": ["crew"],
                  "uniqueMember": ["uid=a,dc=x#'0101'B", "uid=b,dc=x"]})  # fmt: skip
    dialect = bench.context.dialect
    assert dialect.members(group) == ["uid=a,dc=x", "uid=b,dc=x"]
    assert dialect.member_change(group, [names.parse("uid=a,dc=x")], []) == []
    (change,) = dialect.member_change(group, [], [names.parse("uid=a,dc=x")])
    assert (change.attribute, change.removed) == ("uniqueMember", ("uid=a,dc=x#'0101'B",))


def test_its_charter_is_drafted_with_the_classes_and_the_numbers(server):
    kind, running = server
    directory = servers.open_directory(running.as_root())
    try:
        draft = draft_charter(directory, directory.contexts[0], DraftRequest("Harbour Trust"))
    finally:
        directory.close()
    document = from_text(draft.text, Path("charter.yaml")).document
    assert document.named_by == "login"
    assert document.group_classes == (["posixGroup"] if kind == "rfc2307" else ["groupOfUniqueNames", "posixGroup"])
    assert document.posix is not None
    assert (document.posix.uid_numbers[0], document.posix.home) == (2000, "/srv/home/{login}")
    assert document.posix.group == "staff"


def test_a_charter_names_one_first_group_and_a_place(demo):
    text = (demo.path / "charter.yaml").read_text()
    for posix, said in (
        ("{group: staff, personal-groups: /Groups}", "a group of its own, or another as its first"),
        ("{personal-groups: Groups}", "is no place: it does not begin with"),
    ):
        (demo.path / "charter.yaml").write_text(f"{text}\nposix: {posix}\n")
        told = demo.run("charter", "check")
        assert (told.code != 0, said in told.err) == (True, True), told.err


def test_the_same_in_a_file(tmp_path):
    """For rehearsals: the shipped schema has RFC 2307, and a file keeps logon names in groups as a server does."""
    text = CHARTER.format(group_class="groupOfNames, posixGroup")
    (tmp_path / "charter.yaml").write_text(text)
    folder = Folder(tmp_path)
    fine(folder.run("hierarchy", "build", "-y"))
    fine(folder.run("create", "group", "staff", "-y"))
    fine(folder.run("create", "people", "Eva Moe", "password=none", "ssh-key=ssh-ed25519 AAAA eva", "-y"))
    eva = seen(folder, "emoe")["fields"]
    assert (eva["uid-number"], eva["gid-number"], eva["shell"]) == (["2000"], ["5000"], ["/bin/bash"])
    assert eva["ssh-key"] == ["ssh-ed25519 AAAA eva"] and eva["groups"] == ["staff"]
    fine(folder.run("edit", "staff", "@memberUid=emoe", "-y"))
    fine(folder.run("rename", "emoe", "surname=Lie", "-y"))
    assert folder.run("show", "staff", "--raw").out.count("elie") == 2
    (tmp_path / "faulty.yaml").write_text(text.replace("[2000, 2011]", "[2011, 2000]").replace("{login}", "{lgin}"))
    told = folder.run("charter", "check", "--charter", "faulty.yaml")
    assert told.code == Code.CHARTER.exit_code and "before it begins" in told.err and "lgin" in told.err
    fine(folder.run("create", "people", "Ida Vik", "password=none", "ends=2026-12-31", "-y"))
    ida = folder.run("show", "ivik", "--raw", "--json").json["objects"][0]["attributes"]
    assert ida["shadowExpire"] == ["20819"] and ida["vandrelEnd"]  # both: for Unix systems, and as everywhere
    fine(folder.run("create", "group", "watch", "-y"))
    assert folder.run("edit", "ivik", "primary=watch", "-y").code == Code.REFUSED.exit_code  # who is no member
    fine(folder.run("edit", "ivik", "groups+=watch", "-y"))
    fine(folder.run("edit", "ivik", "primary=watch", "-y"))
    assert seen(folder, "ivik")["fields"]["gid-number"] == ["5001"]
    rows = [line.split() for line in folder.run("find", "--type", "groups").out.splitlines()]
    assert {row[0]: row[3] for row in rows if row and row[0] in ("staff", "watch")} == {"staff": "2", "watch": "1"}
