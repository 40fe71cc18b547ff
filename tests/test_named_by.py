"""Accounts whose entries are named by the logon name: on a file, a standard server, and one with the AD schema."""

from __future__ import annotations

import pytest

from .conftest import Folder, Result
from .test_three import place

__all__ = ["place"]  # the fixture

HANDS = "/Ferries/Kelness/Deck/Hands"
ROSTER = (
    "number,given,surname,site,department,category\n4802,Eva,Moe,Kelness,Deck,Hands\n4803,Evan,Moe,Kelness,Deck,Hands\n"
)


@pytest.fixture
def named(place) -> tuple[str, Folder]:
    """The folder with a charter that names accounts by their logon names."""
    kind, folder = place
    text = (folder.path / "charter.yaml").read_text()
    (folder.path / "named.yaml").write_text(f"named-by: login\n{text}")
    return kind, Folder(folder.path, folder.env | {"VANDREL_CHARTER": "named.yaml"})


def fine(result: Result) -> str:
    assert result.code == 0, result.out + result.err
    return result.out


def seen(folder: Folder, name: str) -> dict:
    return folder.run("show", name, "--json").json["objects"][0]


def test_the_name_of_the_entry_is_the_logon_name_whatever_happens_to_it(named):
    kind, folder = named
    attribute = "CN" if kind == "domain" else "uid"

    def stands_as(login: str, full: str, where: str) -> None:
        shown = seen(folder, login)
        assert shown["dn"].startswith(f"{attribute}={login},"), shown["dn"]
        assert shown["place"] == where
        assert shown["fields"]["display"][0].split(", ")[0] == full.rsplit(maxsplit=1)[-1]
        assert shown["fields"]["login"] == shown["fields"]["name"] == [login]
        assert {"team-everybody"} <= set(shown["fields"]["groups"])
        if kind != "domain":  # there the name of the entry and the full name are one attribute
            assert shown["fields"].get("full", [full]) == [full]

    fine(folder.run("create", "crew", "Ada Nygård", "number=4801", "site=Kelness", "department=Deck", "category=Hands",
                    "language=nb", "password=none", "-y"))  # fmt: skip
    stands_as("anygaard", "Ada Nygård", HANDS)
    fine(folder.run("edit", "anygaard", "login=adan", "-y"))
    stands_as("adan", "Ada Nygård", HANDS)
    fine(folder.run("rename", "adan", "surname=Brekkestø", "-y"))
    stands_as("abrekkestoe", "Ada Brekkestø", HANDS)
    fine(folder.run("move", "abrekkestoe", "--to", "/Ferries/Sandhaven/Deck/Hands", "-y"))
    stands_as("abrekkestoe", "Ada Brekkestø", "/Ferries/Sandhaven/Deck/Hands")
    fine(folder.run("delete", "abrekkestoe", "-y"))
    fine(folder.run("restore", "abrekkestoe", "-y"))
    stands_as("abrekkestoe", "Ada Brekkestø", "/Ferries/Sandhaven/Deck/Hands")
    taken = folder.run("edit", "abrekkestoe", "login=hbrekke", "-y")
    assert taken.code != 0 and "hbrekke" in taken.err
    stands_as("abrekkestoe", "Ada Brekkestø", "/Ferries/Sandhaven/Deck/Hands")
    fine(folder.run("delete", "abrekkestoe", "-y"))
    a_file_of_people_is_named_so_too_and_a_second_time_changes_nothing(folder, attribute)


def a_file_of_people_is_named_so_too_and_a_second_time_changes_nothing(folder: Folder, attribute: str) -> None:
    (folder.path / "hands.csv").write_text(ROSTER)
    fine(folder.run("import", "hands.csv", "--propose", "--kind", "crew", "-q"))
    fine(folder.run("import", "hands.csv", "--kind", "crew", "--no-passwords", "-y"))
    logins = [row["login"] for row in folder.run("find", "Moe", "--columns", "login", "--json").json["rows"]]
    assert len(logins) == 2
    for login in logins:
        assert seen(folder, login)["dn"].startswith(f"{attribute}={login},"), login
    again = folder.run("import", "hands.csv", "--kind", "crew", "--no-passwords", "-y")
    assert "2 there already" in again.out
    fine(folder.run("undo", str(folder.run("journal", "--json").json["rows"][0]["number"]), "-y"))
