"""One way into another directory or a service: first and later runs, what others do there, faults, and stops."""

from __future__ import annotations

import json
import shutil
import signal
import ssl
import subprocess
import sys
import time
import urllib.error
import urllib.request
from base64 import b64encode
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.directory import dn as names
from vandrel.directory.entry import Entry
from vandrel.directory.service import mapping
from vandrel.errors import Code
from vandrel.stand_in.storage import Guest

from . import services
from .conftest import _HEEDING, IS_SOAK, PROGRAM, Folder, Result
from .services import CUT, CUT_BEHIND, Service
from .test_three import place

__all__ = ["place"]  # the fixture

#: The crew of Northquay in the demo: those of the profile.
CREW = 13


@pytest.fixture
def service(tmp_path: Path) -> Iterator[Service]:
    with services.running(tmp_path / "service.db") as running:
        yield running


@pytest.fixture
def school(demo: Folder, service: Service) -> Folder:
    """The demo with a connection to the service that its profile is for."""
    (demo.path / "connections.yaml").write_text(service.connection(patience=3, seconds=3))
    return demo


def go(folder: Folder, *words: str, profile: str = "courses.profile.yaml", into: str = "courses") -> Result:
    return folder.run("synchronize", profile, "--into", into, "-y", *words)


def fine(result: Result) -> Result:
    assert result.code == 0, result.out + result.err
    return result


def is_settled(folder: Folder, *, recent: str = "", **more: str) -> None:
    """A further run has nothing to do."""
    told = fine(go(folder, *filter(None, [recent]), **more))
    assert "Nothing to change: it is there as it should be." in told.out, told.out


def test_first_and_later_runs_send_what_differs_and_nothing_else(school, service):
    told = fine(go(school)).out
    assert f"There: new: {CREW} accounts, 3 groups." in told
    people = service.people()
    anna = people["anna.lund2@marrowick.example"]
    enterprise = anna[mapping.ENTERPRISE]
    assert (anna["name"]["familyName"], anna["title"], anna["active"]) == ("Lund", "Deckhand", True)
    assert (enterprise["employeeNumber"], enterprise["organization"]) == ("2004", "Marrowick Ferries")
    assert enterprise["manager"]["value"] == people["anna.lund@marrowick.example"]["id"]
    assert "anna.lund2@marrowick.example" in service.members("team-northquay-deck")
    assert not {"password", "phoneNumbers"} & set(anna), anna
    service.requests.clear()
    is_settled(school)
    assert {method for method, _ in service.requests} == {"GET"} and len(service.requests) == 2, service.requests
    fine(school.run("edit", "annlund", "title=Bosun", "phone=+47 5555 0199", "-y"))
    service.requests.clear()
    fine(go(school))
    assert [method for method, _ in service.requests].count("PATCH") == 1
    anna = service.people()["anna.lund2@marrowick.example"]
    assert (anna["title"], anna["phoneNumbers"][0]["value"]) == ("Bosun", "+47 5555 0199")


def test_a_recent_run_asks_for_what_changed_alone(school, service):
    fine(go(school))
    service.application.people.clock = lambda: datetime.now(UTC)  # type: ignore[union-attr]
    _age(school, service)
    service.requests.clear()
    is_settled(school, recent="--recent")
    assert [path for _, path in service.requests] == ["/v2/Users", "/v2/Groups"]  # each by the time of its last change
    fine(school.run("edit", "annlund", "title=Bosun", "-y"))
    fine(school.run("create", "crew", "Ada Nygård", "number=4801", "site=Northquay", "department=Deck",
                    "category=Hands", "language=nb", "--hand-out", "ada.csv", "-y"))  # fmt: skip
    fine(school.run("delete", "bakerblom", "-y"))
    mary = service.people()["mary.ashworth@marrowick.example"]["id"]
    service.link().change("/Users", mary, [{"op": "replace", "path": "title", "value": "Purser"}], "")
    service.requests.clear()
    told = fine(go(school, "--recent")).out
    # 13 of the crew, of whom Ada is new, Anna differs, and Mary was changed there; 3 groups, of which one differs.
    assert "new: 1 account; 1 changed; 1 group with other members; 1 disabled; 12 as they should be" in told, told
    assert "Purser" in told  # what others changed is seen
    assert len(service.requests) < 40, service.requests  # for five changes, with reading back
    anna = service.people()["anna.lund2@marrowick.example"]["id"]
    assert ("GET", f"/v2/Users/{anna}") in service.requests  # found by her identifier, and not by going through all
    people = service.people()
    assert people["anna.lund2@marrowick.example"]["title"] == "Bosun"
    assert not people["bjorn.akerblom@marrowick.example"]["active"]
    assert "ada.nygaard@marrowick.example" in service.members("team-northquay-deck")
    assert "bjorn.akerblom@marrowick.example" not in service.members("team-northquay-deck")
    is_settled(school, recent="--recent")
    is_settled(school)


def test_who_is_as_a_run_left_them_is_changed_without_being_read_and_who_is_not_is_not(school, service):
    fine(go(school))
    service.application.people.clock = lambda: datetime.now(UTC)  # type: ignore[union-attr]
    anna = service.people()["anna.lund2@marrowick.example"]["id"]
    of_anna = f"/v2/Users/{anna}"
    for title in ("Bosun", "Cook"):
        _age(school, service)
        fine(school.run("edit", "annlund", f"title={title}", "-y"))
        service.requests.clear()
        fine(go(school, "--recent"))
        asked = [method for method, path in service.requests if path == of_anna]
        assert asked == ["PATCH", "GET"]  # what came of it is read back
        assert service.people()["anna.lund2@marrowick.example"]["title"] == title
    _age(school, service)
    fine(school.run("edit", "annlund", "manager=mary.ashworth", "-y"))
    fine(go(school, "--recent"))
    mary = service.people()["mary.ashworth@marrowick.example"]["id"]
    assert service.people()["anna.lund2@marrowick.example"][mapping.ENTERPRISE]["manager"]["value"] == mary
    _age(school, service)
    is_settled(school, recent="--recent")
    fine(school.run("edit", "annlund", "title=Stoker", "-y"))

    def somebody_else(number: int, method: str, path: str) -> None:
        if (method, path) == ("PATCH", of_anna):
            (record,) = (each for each in service.application.people.resources if each.id == anna)
            if record.title == "Cook":
                record.title, record.meta.version = "Purser", 'W/"other"'

    service.answer = somebody_else
    refused = go(school, "--recent")
    assert refused.code and "has changed since" in refused.out + refused.err, refused
    assert service.people()["anna.lund2@marrowick.example"]["title"] == "Purser"


def _age(folder: Folder, service: Service) -> None:
    """Let an hour pass: what was sent was changed an hour ago, and so was the last run."""
    import sqlite3

    db = sqlite3.connect(folder.path / "links.db")
    db.execute("UPDATE run SET begun = ?", ((datetime.now(UTC) - timedelta(minutes=30)).isoformat(),))
    db.commit()
    db.close()
    for record in service.application.people.resources:  # type: ignore[union-attr]
        record.meta.last_modified = datetime.now(UTC) - timedelta(hours=1)


def test_a_new_name_a_leaver_and_somebody_deleted(school, service):
    fine(go(school))
    before = {name: person["id"] for name, person in service.people().items()}
    fine(school.run("rename", "arnlund", "surname=Lundqvist", "-y"))
    fine(school.run("delete", "bakerblom", "-y"))
    fine(school.run("disable", "hbrekke", "-y"))
    told = fine(go(school)).out
    assert "1 disabled" in told
    people = service.people()
    assert people["arne.lundqvist@marrowick.example"]["id"] == before["arne.lund@marrowick.example"]
    assert {name for name, person in people.items() if not person["active"]} == {
        "bjorn.akerblom@marrowick.example", "halvard.brekke@marrowick.example"
    }  # fmt: skip
    assert "bjorn.akerblom@marrowick.example" not in service.members("team-northquay-deck")
    assert "halvard.brekke@marrowick.example" in service.members("team-northquay-deck")
    is_settled(school)
    fine(school.run("undo", _last_job(school), "--directory", "courses", "-y"))
    people = service.people()
    assert {name: person["id"] for name, person in people.items()} == before
    assert all(person["active"] for person in people.values())


def _last_job(folder: Folder) -> str:
    return str(folder.run("journal", "--directory", "courses", "--json").json["rows"][0]["number"])


def test_what_others_do_there_is_told_and_left_or_written_over_when_asked(school, service):
    fine(go(school))
    other = service.link()
    people = service.people()
    anna, mary = (people[name]["id"] for name in ("anna.lund2@marrowick.example", "mary.ashworth@marrowick.example"))
    other.change("/Users", anna, [{"op": "replace", "path": "title", "value": "Bosun"}], "")
    other.create("/Users", {"schemas": [mapping.USER], "userName": "olga@elsewhere.example", "active": True})
    other.delete("/Users", mary, "")
    told = fine(go(school)).out
    assert "Deleted there since it was sent: comes back (1)" in told
    assert "There, and not from here: left alone (1)\n  olga@elsewhere.example" in told
    row = next(line for line in told.splitlines() if "anna.lund2" in line and "Deckhand" in line)
    assert "title" in row and "Bosun" in row
    people = service.people()
    assert people["anna.lund2@marrowick.example"]["title"] == "Bosun"
    assert people["mary.ashworth@marrowick.example"]["id"] == mary  # the service kept it, and it is the same again
    assert "mary.ashworth@marrowick.example" in service.members("team-northquay-tickets")
    fine(go(school, "--overwrite"))
    assert service.people()["anna.lund2@marrowick.example"]["title"] == "Deckhand"
    assert "olga@elsewhere.example" in service.people()
    # What was deleted is seen, and brought back by hand as well.
    fine(school.run("delete", "mary.ashworth@marrowick.example", "--directory", "courses", "-y"))
    assert "mary.ashworth" in school.run("find", "--deleted", "--directory", "courses").out
    fine(school.run("restore", "mary.ashworth@marrowick.example", "--directory", "courses", "-y"))
    assert service.people()["mary.ashworth@marrowick.example"]["id"] == mary


def test_a_service_that_spells_otherwise_what_it_was_sent_is_left_in_peace(school, service):
    fine(go(school))
    anna = service.people()["anna.lund2@marrowick.example"]["id"]
    service.link().change("/Users", anna, [{"op": "replace", "path": "title", "value": "DECKHAND"}], "")
    is_settled(school)
    assert "DECKHAND" not in go(school).out
    fine(school.run("edit", "annlund", "title=Bosun", "-y"))
    assert "Deckhand" in go(school).out  # and it is a change of others as soon as it would be written over
    fine(go(school, "--overwrite"))
    assert service.people()["anna.lund2@marrowick.example"]["title"] == "Bosun"


def test_who_is_there_already_is_found_and_the_doubtful_are_asked_about(school, service):
    other = service.link()
    enterprise = {mapping.ENTERPRISE: {"employeeNumber": "2004"}}
    for name, more in (
        ("al@school.example", enterprise | {"name": {"familyName": "Lund"}}),
        ("mary.ashworth@marrowick.example", {"name": {"familyName": "Somebody"}}),
    ):
        other.create("/Users", {"schemas": [mapping.USER, mapping.ENTERPRISE], "userName": name, **more})
    told = fine(go(school))
    assert "mary.ashworth@marrowick.example there cannot be told" in told.err
    people = service.people()
    assert "al@school.example" not in people  # renamed by its number
    assert len(people) == CREW
    key = "mary.ashworth@marrowick.example"
    assert f"--same {key}={key}" in told.err
    fine(go(school, "--same", f"{key}={key}"))
    assert service.people()[key]["name"]["familyName"] == "Ashworth"
    assert go(school, "--same", "nonsense").code == Code.USAGE.exit_code
    is_settled(school)


def test_too_many_who_go_and_a_source_that_reads_empty_stop_a_run(school, service):
    fine(go(school))
    there = len(service.people())
    for login in ("annlund", "arnlund", "bakerblom", "hbrekke"):
        fine(school.run("delete", login, "-y"))
    told = go(school)
    assert told.code == Code.REFUSED.exit_code and "4 accounts would be disabled there, and 3 may be" in told.err
    assert go(school, "--most-gone", "4", "-n").code == 0
    _for_others(school, "/Ferries/Kelness/Season")
    told = go(school, "--most-gone", "1000")
    assert told.code == Code.REFUSED.exit_code and "nobody is sent" in told.err, told.err
    assert all(person["active"] for person in service.people().values()) and len(service.people()) == there


def _for_others(folder: Folder, unit: str) -> None:
    """Let the profile send the people of another unit."""
    profile = folder.path / "courses.profile.yaml"
    profile.write_text(profile.read_text().replace("[/Ferries/Northquay]", f"[{unit}]"))


PROFILE_FAULTS = """\
vandrel-profile: 1
copying:
  send: [given, surnme, password, recovery-mail]
  build: {login: "{mial}", place: "{given"}
  under: [Ferries]
  gone: burn
"""


def test_each_fault_of_a_profile_is_told_with_its_place(school):
    (school.path / "faulty.yaml").write_text(PROFILE_FAULTS)
    told = go(school, profile="faulty.yaml")
    assert told.code == Code.BAD_VALUE.exit_code
    for where, what in (
        ("3:17", "surnme"), ("3:25", "password is not sent"), ("3:35", "recovers a password"), ("4:18", "mial"), ("4:35", "is not closed"),
        ("5:11", "no place"), ("6:9", "burn"),
    ):  # fmt: skip
        assert any(f"faulty.yaml:{where}" in line and what in line for line in told.err.splitlines()), (where, told.err)


# --- faults of the service and of the way to it


def _scim(status: int, detail: str = "for the test", **headers: str) -> tuple[int, dict[str, str], bytes]:
    body = {"schemas": ["urn:ietf:params:scim:api:messages:2.0:Error"], "status": str(status), "detail": detail}
    return status, {"content-type": "application/scim+json", **headers}, json.dumps(body).encode()


HTML = (200, {"content-type": "text/html"}, b"<html>sign in</html>")
PAGE = {
    "schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"], "totalResults": 9, "startIndex": 1,
    "itemsPerPage": 1, "Resources": [{"id": "1", "userName": "the same"}],
}  # fmt: skip
SAME_PAGE = (200, {"content-type": "application/scim+json"}, json.dumps(PAGE).encode())


@pytest.mark.parametrize(
    ("when", "answer", "code"),
    [
        ("read", _scim(401), Code.NOT_PERMITTED),
        ("read", _scim(403), Code.NOT_PERMITTED),
        ("read", _scim(500), Code.OUT_OF_REACH),
        ("read", HTML, Code.OUT_OF_REACH),
        ("read", SAME_PAGE, Code.OUT_OF_REACH),
        ("read", CUT, Code.OUT_OF_REACH),
        ("write", _scim(401), Code.NOT_PERMITTED),  # the token ran out in the middle
        ("write", _scim(403), Code.DONE_IN_PART),
        ("write", _scim(404), Code.DONE_IN_PART),
        ("write", _scim(409), Code.DONE_IN_PART),
        ("write", _scim(412), Code.DONE_IN_PART),
        ("write", _scim(413), Code.DONE_IN_PART),
        ("write", HTML, Code.OUT_OF_REACH),
        ("write", _scim(500), Code.OUT_OF_REACH),
    ],
)
def test_a_fault_is_told_in_words_and_the_next_run_makes_the_rest(school, service, when, answer, code):
    method, count = ("GET", 0) if when == "read" else ("POST", 6)

    def faulty(number: int, asked: str, path: str) -> services.Answer:
        posts = sum(each == method for each, _ in service.requests)
        return answer if asked == method and posts > count else None

    service.answer = faulty
    told = go(school)
    assert told.code == code.exit_code, told.out + told.err
    assert "stop" in told.err and "\x1b" not in told.err
    service.answer = lambda number, asked, path: None
    for job in school.run("journal", "--directory", "courses", "--json").json["rows"]:
        if job["state"] == "broken off":
            fine(school.run("resume", str(job["number"]), "--directory", "courses", "-y"))
    fine(go(school))
    assert len(service.people()) == CREW
    is_settled(school)


@pytest.mark.parametrize("answer", [_scim(429, **{"Retry-After": "1"}), _scim(503), CUT, CUT_BEHIND])
def test_a_service_that_is_busy_or_lost_for_a_moment_is_tried_again_and_nothing_is_made_twice(school, service, answer):
    service.answer = lambda number, method, path: answer if number in (1, 7, 12) else None
    told = fine(go(school))
    assert len(service.people()) == CREW and "Done:" in told.out
    service.answer = lambda number, method, path: None
    is_settled(school)


def test_a_certificate_that_is_not_trusted_a_service_that_is_away_and_a_token_that_anybody_reads(school, service):
    whole = service.connection(patience=0)
    (school.path / "connections.yaml").write_text(whole.replace(f"{service.folder}/authority.pem", _another(school)))
    told = go(school)
    assert told.code == Code.CERTIFICATE.exit_code and "ca-file" in told.err, told.err
    (school.path / "connections.yaml").write_text(whole.replace(str(service.port), "1"))
    assert go(school).code == Code.OUT_OF_REACH.exit_code
    token = school.path / "token"
    token.write_text((service.folder / "token").read_text())
    token.chmod(0o644)
    (school.path / "connections.yaml").write_text(whole.replace(f"{service.folder}/token", str(token)))
    told = go(school)
    assert told.code == Code.NOT_PERMITTED.exit_code and "chmod 600" in told.err
    (school.path / "connections.yaml").write_text(whole.replace("https:", "http:"))
    assert go(school).code == Code.CONNECTIONS.exit_code
    assert token.read_text().strip() not in told.out + told.err + (school.path / "journal.db").read_bytes().decode(
        "latin-1"
    )


def _another(folder: Folder) -> str:
    import trustme

    trustme.CA().cert_pem.write_to_path(str(folder.path / "other.pem"))
    assert ssl.create_default_context(cafile=str(folder.path / "other.pem"))
    return str(folder.path / "other.pem")


def test_what_a_service_says_never_drives_the_terminal_a_filter_or_a_name(school, service):
    fine(go(school))
    other = service.link()
    for name in ("x\x1b[2J)(uid=*)", "y,o=else", 'z" or userName pr'):
        other.create("/Users", {"schemas": [mapping.USER], "userName": name, "displayName": "\x1b]0;title\x07"})
    told = fine(school.run("find", "--directory", "courses", "--columns", "login,display"))
    assert "\x1b" not in told.out + told.err
    assert "(uid=*)" in told.out and "y,o=else" in told.out
    assert fine(school.run("show", "y,o=else", "--directory", "courses")).out.startswith("y,o=else")
    fine(school.run("delete", 'z" or userName pr', "--directory", "courses", "-y"))
    assert len(service.people()) == CREW + 2
    strange = {"schemas": [], "id": "1", "userName": 5, "name": [], "emails": {"value": 1}, "active": "maybe"}
    entry = mapping.to_entry(strange, mapping.name_of(strange, names.parse("o=school")), lambda identifier: None)
    assert (str(entry.dn), entry.texts("mail")) == ("uid=1,o=school", [])


# --- stops


def test_a_service_is_asked_for_no_more_than_a_command_is_about(school, service):
    """Of twenty thousand people, nobody reads all to show one."""
    fine(go(school))
    anna = "anna.lund2@marrowick.example"
    for words, most in ((("show", anna), 12), (("edit", anna, "title=Bosun", "-y"), 14), (("disable", anna, "-y"), 12)):
        service.requests.clear()
        asked: list[str] = []
        service.answer = lambda number, method, path, asked=asked: asked.append(path)  # type: ignore[misc]
        fine(school.run(*words, "--directory", "courses", VANDREL_WHO="" if words[0] == "show" else "everyday"))
        assert len(asked) <= most, (words, service.requests)
    assert fine(school.run("synchronize", "courses.profile.yaml", "--into", "courses", "-n", VANDREL_WHO="nobody"))


def test_stopped_before_and_behind_each_request_nothing_is_lost_and_nothing_is_twice(school, service, tmp_path):
    """At each request in turn (`make soak`) the program is killed, resumed, killed again, resumed, and run once more."""
    _for_others(school, "/Ferries/Northquay/Tickets")
    fresh = {path.name: path.read_bytes() for path in school.path.iterdir() if path.is_file()}
    fine(go(school))
    expected, requests = set(service.people()), len(service.requests)
    writes = [n for n, (method, _) in enumerate(service.requests) if method != "GET"]
    assert len(writes) > 5
    for stop in range(writes[0], requests, 1 if IS_SOAK else 7):
        for answer in (CUT, CUT_BEHIND):
            for path in school.path.iterdir():
                if path.is_file():
                    path.unlink()
            for name, content in fresh.items():
                (school.path / name).write_bytes(content)
            (school.path / "first.csv").unlink(missing_ok=True)
            with services.running(tmp_path / f"{stop}{answer}.db") as again:
                _killed(
                    school, again, stop, answer, "synchronize", "courses.profile.yaml", "--into", "courses", "-y", "-q"
                )
                jobs = school.run("journal", "--directory", "courses", "--json").json["rows"]
                if jobs[0]["state"] == "broken off":
                    number = str(jobs[0]["number"])
                    _killed(school, again, len(again.requests) + 1, answer, "resume", number, "--directory", "courses",
                            "-y", "-q")  # fmt: skip
                    fine(school.run("resume", number, "--directory", "courses", "-y"))
                fine(go(school))
                assert set(again.people()) == expected
                assert len(again.people()) == len({person["id"] for person in again.people().values()})
                is_settled(school)


def _killed(folder: Folder, service: Service, stop: int, answer: str, *words: str) -> None:
    """Run the program, and kill it when the service has the request of this number."""
    running: list = []

    def kill(number: int, method: str, path: str) -> services.Answer:
        if number < stop or not running:
            return None
        running.pop().kill()
        return answer

    service.answer = kill
    process = folder.start(*words)
    running.append(process)
    process.communicate(timeout=60)
    assert process.returncode in (-signal.SIGKILL, 0, 1), process.returncode
    service.answer = lambda number, method, path: None


# --- another directory

SCHOOL = "school.profile.yaml"


@pytest.fixture
def partner(demo: Folder) -> Folder:
    """The directory of the school, in a file, with a charter of its own, beside the demo."""
    folder = Folder(demo.path / "school")
    fine(folder.run("hierarchy", "build", "-y"))
    return folder


def into(folder: Folder) -> str:
    return str(folder.path / "directory.db")


def shown(folder: Folder, name: str) -> dict:
    return fine(folder.run("show", name, "--json")).json["objects"][0]


def test_units_suffix_and_place_there_are_its_own_and_passwords_go_to_the_hand_out(demo, partner):
    fine(go(demo, "--hand-out", "first.csv", profile=SCHOOL, into=into(partner)))
    anna = shown(partner, "annlund")
    assert anna["place"] == "/Partners/Northquay"
    assert anna["fields"]["principal"] == ["annlund@school.example"]
    assert anna["fields"]["manager"] == ["Anna Lund (alund)"]
    assert set(anna["fields"]["groups"]) == {"team-northquay-deck"}
    assert len((demo.path / "first.csv").read_text().splitlines()) == CREW + 1
    assert "password set" in partner.run("show", "annlund").out
    is_settled(demo, profile=SCHOOL, into=into(partner))
    # Moved by those who work there: it stays where they want it.
    fine(partner.run("create", "unit", "/Partners/Bridge", "-y"))
    fine(partner.run("move", "annlund", "--to", "/Partners/Bridge", "-y"))
    is_settled(demo, profile=SCHOOL, into=into(partner))
    fine(demo.run("edit", "annlund", "title=Bosun", "-y"))
    fine(go(demo, profile=SCHOOL, into=into(partner)))
    assert (shown(partner, "annlund")["place"], shown(partner, "annlund")["fields"]["title"]) == (
        "/Partners/Bridge", ["Bosun"],
    )  # fmt: skip
    # Taken back as one.
    before = partner.state()
    fine(demo.run("rename", "annlund", "surname=Moe", "-y"))
    fine(go(demo, profile=SCHOOL, into=into(partner)))
    assert shown(partner, "amoe")["fields"]["full"] == ["Anna Moe"]
    fine(partner.run("undo", str(partner.run("journal", "--json").json["rows"][0]["number"]), "-y"))
    assert _without_times(partner.state()) == _without_times(before)


def _without_times(state: bytes) -> list:
    from ast import literal_eval

    left = {"modifyTimestamp", "modifiersName", "entryCSN"}
    return [(dn, [(name, sorted(map(str, values))) for name, values in pairs if name not in left])
            for dn, pairs in literal_eval(state.decode())]  # fmt: skip


def test_deleted_there_if_the_profile_says_so_with_a_place_in_the_attic(demo, partner):
    with (demo.path / SCHOOL).open("a") as profile:
        profile.write("  gone: delete\n")
    fine(go(demo, profile=SCHOOL, into=into(partner)))
    fine(demo.run("delete", "annlund", "-y"))
    fine(go(demo, profile=SCHOOL, into=into(partner)))
    assert partner.run("show", "annlund").code == Code.NOT_FOUND.exit_code
    is_settled(demo, profile=SCHOOL, into=into(partner))
    fine(partner.run("restore", "annlund", "-y"))
    fine(demo.run("restore", "annlund", "-y"))
    is_settled(demo, profile=SCHOOL, into=into(partner))
    told = go(demo, "--under", "/Ferries/Northquay/Deck", profile=SCHOOL, into=into(partner))
    assert "Nothing to change" in fine(told).out  # a part of the units says nothing of who is gone


def test_between_directories_of_any_sort(place, demo):
    """From a file into each sort, where the same people are already; and from each into a file."""
    kind, folder = place
    target = into(folder) if kind == "embedded" else "harbour"
    text = (demo.path / SCHOOL).read_text()
    alike = "".join(line for line in text.splitlines(keepends=True) if "  place" not in line)
    (demo.path / "alike.yaml").write_text(alike.replace("principal: ", "notes: "))
    if kind != "embedded":
        shutil.copy(folder.path.parent / "connections.yaml", demo.path)
        for name in ("hers", "his"):
            shutil.copy(folder.path.parent / name, demo.path)
    told = fine(go(demo, profile="alike.yaml", into=target)).out
    assert "new:" not in told and "changed" in told, told  # known by their numbers
    fine(demo.run("create", "crew", "Ada Nygård", "number=4801", "site=Northquay", "department=Deck", "category=Hands",
                  "language=nb", "--hand-out", "hers.csv", "-y"))  # fmt: skip
    fine(demo.run("rename", "annlund", "surname=Moe", "-y"))
    told = fine(go(demo, "--hand-out", "ada.csv", profile="alike.yaml", into=target)).out
    assert "There: new: 1 account; 1 changed; 1 group with other members" in told, told
    ada = shown(folder, "anygaard")
    assert ada["place"] == "/Ferries/Northquay/Deck/Hands" and "team-northquay-deck" in ada["fields"]["groups"]
    assert shown(folder, "amoe")["fields"]["surname"] == ["Moe"]
    assert len((demo.path / "ada.csv").read_text().splitlines()) == 2
    is_settled(demo, profile="alike.yaml", into=target, recent="--recent")
    is_settled(demo, profile="alike.yaml", into=target)
    shutil.copytree(demo.path / "school", demo.path / "fresh")
    fresh = Folder(demo.path / "fresh")
    fine(fresh.run("hierarchy", "build", "-y"))
    told = fine(go(folder, profile=SCHOOL, into=into(fresh))).out
    assert f"new: 1 unit, {CREW + 1} accounts, 3 groups" in told, told  # with one whom the demo's tour hires
    assert "team-northquay-deck" in shown(fresh, "asblund")["fields"]["groups"]
    is_settled(folder, profile=SCHOOL, into=into(fresh))


# --- records and entries

WORD = st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc")), min_size=1, max_size=12)
SINGLE = ["sn", "givenName", "displayName", "title", "employeeNumber", "departmentNumber", "o", "externalId"]
MANY = ["telephoneNumber", "mobile", "homePhone"]
ENTRIES = st.builds(
    lambda single, many, mail, is_off: (
        {name: [value] for name, value in single.items()} | many | ({"mail": mail[:1]} if mail else {})
        | ({"vandrelMailAlias": mail[1:]} if mail[1:] else {}) | ({"pwdAccountLockedTime": [mapping.DISABLED]} if is_off else {})
    ),
    st.dictionaries(st.sampled_from(SINGLE), WORD),
    st.dictionaries(st.sampled_from(MANY), st.lists(WORD, min_size=1, max_size=3, unique=True)),
    st.lists(st.from_regex(r"[a-z]{1,8}@[a-z]{1,8}\.example", fullmatch=True), max_size=3, unique=True),
    st.booleans(),
)  # fmt: skip


@given(ENTRIES, ENTRIES)
def test_an_entry_comes_back_as_it_was_sent_and_a_patch_makes_one_of_another(before, after):
    """By the library's own reading of a patch (RFC 7644, 3.5.2), which is none of ours."""
    from scim2_models import Context, EnterpriseUser, PatchOp, User

    dn = names.parse("uid=anna,o=school")
    person = User[EnterpriseUser].model_validate(mapping.to_resource(Entry(dn, before), str))

    def entry_of(resource: User) -> Entry:
        entry = mapping.to_entry(resource.model_dump(), dn, lambda identifier: None)
        return Entry(dn, {name: values for name, values in entry.attributes.items()
                          if name not in ("uid", "objectClass", "entryUUID")})  # fmt: skip

    assert entry_of(person).attributes == before
    operations = mapping.patch(person.model_dump(), Entry(dn, before), Entry(dn, after), str)
    if operations:
        body = {"schemas": [mapping.PATCH], "Operations": operations}
        PatchOp[User[EnterpriseUser]].model_validate(body, scim_ctx=Context.RESOURCE_PATCH_REQUEST).patch(person)
    assert entry_of(person).attributes == after


def test_the_stand_in_passes_what_the_library_checks_of_a_service(service):
    import httpx2
    from scim2_client.engines.httpx2 import SyncSCIMClient
    from scim2_tester import Status, check_server

    token = (service.folder / "token").read_text().strip()
    trusted = ssl.create_default_context(cafile=f"{service.folder}/authority.pem")
    client = httpx2.Client(base_url=service.url, verify=trusted, headers={"Authorization": f"Bearer {token}"})
    results = check_server(SyncSCIMClient(client))
    assert len(results) > 100
    assert [each for each in results if each.status in (Status.ERROR, Status.CRITICAL)] == []


def test_the_stand_in_has_seats_suffixes_and_limits(tmp_path, school):
    rules = {"suffixes": ["marrowick.example"], "products": {"deck-course": 1}, "requests": 90, "fail": {503: 1000}}
    with services.running(tmp_path / "strict.db", **rules) as service:
        fine(go(school))
        fine(go(school))
        people = list(service.people())
        add = ("entitlement=deck-course",)
        for name, code in ((people[0], 0), (people[1], Code.TAKEN.exit_code)):
            told = school.run("edit", name, *add, "--directory", "courses", "-y")
            assert told.code == code, told.out + told.err
        assert service.application is not None
        assert service.application.people.seats() == [{"name": "deck-course", "seats": 1, "given": 1}]
        told = school.run("create", "staff", "Olga Strange", "number=4444", "department=IT", "login=olga@other.example",
                          "--directory", "courses", "-y", "--no-color")  # fmt: skip
        assert "olga@other.example" not in service.people(), told.out


def guests(folder: Folder) -> dict[str, tuple[str, str]]:
    """Guests by address: how far the invitation has come, and what is seen of whoever answers for them."""
    rows = fine(folder.run("guests", "--into", "courses", "--json")).json["rows"]
    return {row["guest"]: (row["state"], row["sponsor is"]) for row in rows}


def accept(service: Service) -> int:
    """Answer the newest invitation as a guest does, who has no token; the status."""
    assert service.application is not None
    newest = max((service.application.people.folder / "messages").iterdir(), key=lambda path: path.stat().st_mtime)
    link = newest.read_text().rpartition("POST ")[2].strip()
    trusted = ssl.create_default_context(cafile=f"{service.folder}/authority.pem")
    try:
        with urllib.request.urlopen(urllib.request.Request(link, method="POST"), context=trusted) as answer:
            return int(answer.status)
    except urllib.error.HTTPError as error:
        return error.code


def test_guests_are_invited_reminded_and_looked_after(school, tmp_path):
    def invite(address: str, *words: str) -> Result:
        return school.run("guests", "invite", address, *words, "--into", "courses", "-y")

    with services.running(tmp_path / "guests.db") as service:
        fine(invite("bell@harbour.example", "given=Anna", "surname=Bell", "--sponsor", "alund"))
        fine(invite("carl@harbour.example", "--sponsor", "hbrekke"))
        assert accept(service) == 200
        assert guests(school) == {
            "bell@harbour.example": ("pending", "here"), "carl@harbour.example": ("accepted", "here"),
        }  # fmt: skip
        for words, code in (
            (("bell@harbour.example", "--sponsor", "alund"), Code.TAKEN), (("bell", "--sponsor", "alund"), Code.BAD_VALUE),
            (("x@y.example", "--sponsor", "nobody-x"), Code.NOT_FOUND), (("x@y.example",), Code.USAGE),
            (("x@y.example", "titel=a", "--sponsor", "alund"), Code.UNKNOWN_FIELD),
        ):  # fmt: skip
            assert invite(*words).code == code.exit_code, words
        assert service.application is not None
        (bell,) = [each for each in service.application.people.resources if each.user_name == "bell@harbour.example"]
        bell[Guest].invited = (datetime.now(UTC) - timedelta(days=20)).isoformat()
        bell[Guest].ends -= timedelta(days=20)
        assert guests(school)["bell@harbour.example"] == ("expired", "here")
        refused = school.run("guests", "remind", "carl@harbour.example", "--into", "courses", "-y")
        assert (refused.code, "has accepted on" in refused.err) == (Code.REFUSED.exit_code, True)
        reminded = fine(school.run("guests", "remind", "--into", "courses", "-y", "--json")).json["job"]
        assert guests(school)["bell@harbour.example"] == ("pending", "here")
        fine(school.run("disable", "alund", "-y"))
        fine(school.run("delete", "hbrekke", "-y"))
        told = fine(school.run("guests", "--into", "courses")).out
        assert guests(school) == {
            "bell@harbour.example": ("pending", "disabled"), "carl@harbour.example": ("accepted", "not found"),
        }  # fmt: skip
        assert "2 guests: 1 pending, 1 accepted." in told
        assert "2 guests for whom nobody here answers any more." in told
        refused = invite("dora@harbour.example", "--sponsor", "alund")
        assert (refused.code, "can answer for nobody" in refused.err) == (Code.REFUSED.exit_code, True)
        assert accept(service) == 200
        assert guests(school)["bell@harbour.example"][0] == "accepted"
        assert "No invitation waits for an answer." in school.run("guests", "remind", "--into", "courses", "-y").out
        fine(school.run("delete", "bell@harbour.example", "--directory", "courses", "-y"))  # withdrawn
        assert set(guests(school)) == {"carl@harbour.example"}
        purging = ("purge", "--there", "bell@harbour.example", "--directory", "courses")
        assert "bell@harbour.example" in school.run("find", "--deleted", "--directory", "courses").out
        assert school.run(*purging, "--confirm", "2").code != 0
        assert "1 forgotten there for good" in fine(school.run(*purging, "--confirm", "1")).out
        assert list(service.application.people.deleted()) == []
        assert school.run(*purging, "--confirm", "1").code == Code.NOT_FOUND.exit_code
        assert school.run("purge", "--there", "alund", "--confirm", "1").code == Code.REFUSED.exit_code
        assert reminded
    assert "only a service takes invitations" in school.run("guests", "--into", "directory.db").err


def test_seats_roles_and_photographs_go_along(school, service):
    """And are told as fields of the service; what it has of other roles stays."""
    picture = bytes.fromhex("ffd8ffe000104a464946") + b"\0" * 40 + bytes.fromhex("ffd9")
    (school.path / "anna.jpg").write_bytes(picture)
    profile = school.path / "courses.profile.yaml"
    profile.write_text(profile.read_text().replace("send: [given,", "send: [photo, entitlement, given,"))
    fine(school.run("edit", "annlund", "photo=anna.jpg", "entitlement+=deck-course", "entitlement+=fire-course", "-y"))
    fine(go(school))
    anna = "anna.lund2@marrowick.example"
    sent = service.people()[anna]
    assert [each["value"] for each in sent["entitlements"]] == ["deck-course", "fire-course"]
    assert sent["photos"] == [{"value": "data:image/jpeg;base64," + b64encode(picture).decode(), "type": "photo"}]
    is_settled(school)
    fine(school.run("edit", anna, "service-role+=author", "--directory", "courses", "-y"))
    fine(school.run("edit", "annlund", "photo=", "entitlement-=fire-course", "-y"))
    fine(go(school))
    sent = service.people()[anna]
    assert ([each["value"] for each in sent["entitlements"]], "photos" in sent) == (["deck-course"], False)
    found = school.run(
        "find", "service-role=author", "--directory", "courses", "--columns", "login,entitlement", "--as", "csv"
    )
    assert found.out.split() == ["login,entitlement", f"{anna},deck-course"]
    fine(school.run("edit", anna, "service-role=", "--directory", "courses", "-y"))
    assert "roles" not in service.people()[anna]


def test_the_demo_serves_a_stand_in_and_is_a_place_to_rehearse_on(tmp_path):
    words = [sys.executable, "-c", _HEEDING, str(PROGRAM), "demo", "ferry", "--no-tour", "--stand-in"]
    serving = subprocess.Popen(words, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    try:
        ferry, deadline = Folder(tmp_path / "ferry"), time.monotonic() + 30
        while not (ferry.path / "connections.yaml").exists() and time.monotonic() < deadline:
            time.sleep(0.1)
        fine(go(ferry))
        fine(ferry.run("guests", "invite", "bell@harbour.example", "--sponsor", "alund", "--into", "courses", "-y"))
        assert len(list((ferry.path / "service" / "messages").iterdir())) == 1
        refused = ferry.run(
            "edit", "anna.lund2@marrowick.example", "entitlement=fire-course", "--directory", "courses", "-y"
        )
        assert "there is no product fire-course" in refused.err  # the rules of its folder count
        is_settled(ferry)
    finally:
        serving.send_signal(signal.SIGINT)
        out, _ = serving.communicate(timeout=20)
    assert "It is the connection courses in " in out and "Traceback" not in out
    assert serving.returncode == 0, out
