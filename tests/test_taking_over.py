"""Directories that others built are taken over as docs/taking-over.md tells it: each command as printed."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator
from pathlib import Path

import pytest

from vandrel.directory import dn as names
from vandrel.directory import ldif
from vandrel.directory.operations import AddEntry, Change, ModifyEntry, SetPassword
from vandrel.errors import Code
from vandrel.secret import Secret

from . import servers
from .conftest import Folder
from .test_posix import schema_of

PAGE = (Path(__file__).parent.parent / "docs" / "taking-over.md").read_text("utf-8")
BASE = names.parse("dc=marrowick,dc=example")
PEOPLE = [
    ("Anna", "Lund"), ("Tor", "Brekke"), ("Eva", "Moe"), ("Ida", "Vik"), ("Per", "Dahl"), ("Odd", "Nes"), ("Kai", "Ek"),
    ("Mia", "Holm"), ("Nils", "Aas"), ("Berit", "Bye"), ("Jon", "Foss"), ("Siv", "Lie"),
]  # fmt: skip
TEAMS = {"staff": PEOPLE, "deck": PEOPLE[:6], "office": PEOPLE[6:], "pilots": PEOPLE[2:5]}


def login(person: tuple[str, str]) -> str:
    return f"{person[0][0]}{person[1]}".lower()


def unix(by_login: bool) -> str:
    """A directory as Unix administrators build it, in LDIF that is not ours."""
    text = "".join(
        f"dn: ou={unit},{BASE}\nobjectClass: organizationalUnit\nou: {unit}\n\n" for unit in ("people", "groups")
    )
    for number, (given, surname) in enumerate(PEOPLE):
        uid = login((given, surname))
        boss = f"manager: uid=alund,ou=people,{BASE}" if number else "title: Harbour master"
        text += f"""dn: uid={uid},ou=people,{BASE}
objectClass: inetOrgPerson
objectClass: posixAccount
objectClass: shadowAccount
uid: {uid}
cn: {given} {surname}
sn: {surname}
givenName: {given}
mail: {given.lower()}.{surname.lower()}@harbour.example
employeeNumber: {1001 + number}
uidNumber: {2000 + number}
gidNumber: 5000
homeDirectory: /srv/home/{uid}
loginShell: /bin/bash
gecos: {given} {surname}
shadowMax: 90
{boss}

"""
    for number, (team, members) in enumerate(TEAMS.items()):
        kept = "" if by_login else "objectClass: groupOfUniqueNames\n"
        text += (
            f"dn: cn={team},ou=groups,{BASE}\n{kept}objectClass: posixGroup\ncn: {team}\ngidNumber: {5000 + number}\n"
        )
        for person in members:
            text += (
                f"memberUid: {login(person)}\n" if by_login else f"uniqueMember: uid={login(person)},ou=people,{BASE}\n"
            )
        text += "\n"
    return text


def by_hand() -> Iterator[AddEntry | ModifyEntry | SetPassword]:
    """A domain as somebody fills it by hand."""
    for unit in ("people", "groups"):
        yield AddEntry(BASE.child("ou", unit), {"objectClass": ["organizationalUnit"]})
    dns = {person: BASE.child("ou", "people").child("cn", " ".join(person)) for person in PEOPLE}
    for number, (given, surname) in enumerate(PEOPLE):
        dn, mail = dns[given, surname], f"{given.lower()}.{surname.lower()}@harbour.example"
        yield AddEntry(dn, {
            "objectClass": ["user"], "sAMAccountName": [login((given, surname))], "givenName": [given], "sn": [surname],
            "displayName": [f"{given} {surname}"], "mail": [mail], "employeeID": [str(1001 + number)],
            "userPrincipalName": [f"{login((given, surname))}@marrowick.example"], "userAccountControl": ["514"],
            **({"manager": [str(dns["Anna", "Lund"])]} if number else {"title": ["Harbour master"]}),
        })  # fmt: skip
        yield SetPassword(dn, Secret(f"Quay-Lantern-{number}-kelp"), must_change=False)
        yield ModifyEntry(dn, (Change("userAccountControl", ("514",), ("512",)),))
    for team, members in TEAMS.items():
        yield AddEntry(BASE.child("ou", "groups").child("cn", team), {
            "objectClass": ["group"], "sAMAccountName": [team], "member": [str(dns[person]) for person in members],
        })  # fmt: skip


@pytest.fixture(params=["memberUid", "uniqueMember", "domain"])
def taken_over(request, tmp_path) -> Iterator[tuple[str, Folder]]:
    """A folder with nothing but a connection to such a directory."""
    kind = request.param
    if kind == "domain":
        with servers.domain() as server:
            (tmp_path / "admin.secret").write_text(servers.Domain.PASSWORD)
            identity = "bind: Administrator@marrowick.example, password-file: admin.secret"
            directory = servers.open_directory(server.settings())
            outcomes = directory.execute(list(by_hand()), atomic=False)
            assert not any(outcomes), outcomes
            directory.close()
            yield kind, connected(tmp_path, server.url, identity, f"ca-file: {server.ca_file}, ")
        return
    setup = servers.BARE._replace(schema=schema_of(tmp_path, by_login=kind == "memberUid"))
    with servers.running(setup) as server:
        directory = servers.open_directory(server.as_root())
        lines = unix(kind == "memberUid").splitlines(keepends=True)
        steps = [AddEntry(each.dn, each.attributes) for each in ldif.read(lines, directory.schema.is_binary)]
        people = [step.dn for step in steps if step.dn.naming_attribute == "uid"]
        steps += [SetPassword(dn, Secret("Quay-Lantern-kelp"), must_change=False) for dn in people]  # type: ignore[misc]
        assert not any(directory.execute(steps, atomic=False))
        directory.close()
        yield kind, connected(tmp_path, server.url, "sasl: external", "")


def connected(path: Path, url: str, identity: str, more: str) -> Folder:
    (path / "connections.yaml").write_text(
        f'connections: {{harbour: {{hosts: ["{url}"], {more}identities: {{admin: {{{identity}}}}}}}}}\n'
    )
    for file in path.iterdir():
        file.chmod(0o600)
    return Folder(path, {"VANDREL_DIRECTORY": "harbour"})


def into_the_charter(folder: Folder, block: list[str]) -> None:
    """What the page says to write into the charter: into the part of that name, or behind everything."""
    charter = folder.path / "charter.yaml"
    text = charter.read_text("utf-8")
    assert block[0] == "hierarchy:"
    text = text.replace("\nhierarchy:\n", f"\nhierarchy:\n{block[1]}\n")
    charter.write_text(text + "\n" + "\n".join(block[2:]) + "\n", "utf-8")


def test_taken_over_as_it_is_told(taken_over):
    kind, folder = taken_over
    told: dict[str, list[str]] = {}
    lines = iter(PAGE.splitlines())
    for line in lines:
        if line.startswith("<!-- "):
            what, block = line[5:-4].strip(), []
            while (line := next(lines)).strip():
                block.append(line[4:])
            if what == "into charter.yaml":
                into_the_charter(folder, block)
            else:
                (folder.path / what).write_text("\n".join(block) + "\n")
        elif line.startswith("    vandrel "):
            words = shlex.split(line)[1:]
            done = folder.run(*words)
            is_audit = words[0] == "audit"
            assert done.code in ((0, Code.FAULTS_FOUND.exit_code) if is_audit else (0,)), line + done.out + done.err
            told.setdefault(words[0], []).append(done.out + done.err)
    # The draft is by what stands there, and takes nothing of the server's own for a field.
    charter = (folder.path / "charter.yaml").read_text("utf-8")
    assert "s-amaccount-type" not in charter and "\n  cn:" not in charter
    assert ("gecos" in charter) == (kind != "domain")
    assert charter.count("harbour.example") and "?" in charter
    before, after = told["audit"]
    assert "nothing found" in before
    assert re.findall(r"^([a-z-]+) \((?:grave|fault|advice)\)", after, re.MULTILINE) == ["manager-missing"], after
    # Hired as those are who were there, renamed, and back again.
    seen = {
        name: folder.run("show", name, "--json").json["objects"][0]["fields"] for name in ("sberg", "ustrand", "ohaug")
    }
    assert seen["sberg"]["mail"] == ["siri.berg@harbour.example"]
    assert [set(seen[name]["groups"]) - {"Domain Users"} for name in seen] == [{"staff"}, {"staff", "deck"}, {"staff"}]
    if kind != "domain":
        assert [seen[name]["uid-number"] for name in seen] == [["2012"], ["2017"], ["2015"]]
        assert "the server keeps nobody out by a mark" in told["leave"][0]
        assert "Ola Haug cannot log on: it has no password" in told["leave"][0]
    else:
        assert "Ola Haug cannot log on: the account is disabled" in told["leave"][0]
    assert "Ola Haug can log on as ohaug" in told["leave"][1]
    assert "18 accounts" in told["find"][0]
