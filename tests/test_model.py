"""Two administrators at work by turns, against a simple model: the directory, the journal and the model agree."""

from __future__ import annotations

import copy
import csv
import shutil
import tempfile
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from .conftest import EXAMPLES, IS_SOAK, Folder

NAMES = st.sampled_from(("Ada Berg", "Bo Berg", "Ada Berg", "Carl Dahl", "Eva Berg"))
WHO = st.sampled_from(("one", "other"))
GROUPS = st.sampled_from(("team-it", "team-help-desk", "team-season"))
TITLES = st.sampled_from(("Mate", "Cook", "Pilot", ""))


class TwoAdministrators(RuleBasedStateMachine):
    """Accounts by their logon names: title, whether enabled, groups. What was before each job that can be taken back."""

    template: Path

    def __init__(self) -> None:
        super().__init__()
        self.accounts: dict[str, dict[str, Any]] = {}
        self.gone: dict[str, dict[str, Any]] = {}
        self.history: list[tuple[int, dict[str, Any], dict[str, Any]]] = []
        self.numbers, self.sheets = 7000, 0

    @initialize()
    def begin(self) -> None:
        self.root = tempfile.mkdtemp(prefix="vandrel-")
        shutil.copytree(self.template, Path(self.root) / "demo")
        self.folder = Folder(Path(self.root) / "demo", {})
        self.first = self._listed()

    def teardown(self) -> None:
        shutil.rmtree(self.root, ignore_errors=True)

    def _run(self, who: str, *words: str) -> Any:
        done = self.folder.run(*words, "-y", "--json", LOGNAME=who)
        assert done.code == 0, (words, done.out, done.err)
        return done.json

    def _do(self, who: str, *words: str) -> Any:
        before = copy.deepcopy(self.accounts), copy.deepcopy(self.gone)
        result = self._run(who, *words)
        if result.get("job"):
            self.history.append((result["job"], *before))
        return result

    def _someone(self, data: Any) -> str:
        return data.draw(st.sampled_from(sorted(self.accounts)))

    @rule(who=WHO, name=NAMES)
    def create(self, who: str, name: str) -> None:
        self.numbers += 1
        self.sheets += 1
        sheet = f"sheet{self.sheets}.csv"
        words = ("create", "yard", name, f"number={self.numbers}", "groups=team-workshop", "--hand-out", sheet)
        made = self._do(who, *words)
        fields = {each["field"]: each["after"] for each in made["changes"][0]["fields"]}
        (login,) = fields["login"]
        assert login not in self.accounts
        self.accounts[login] = {"title": "", "enabled": "yes", "groups": {"team-workshop", "team-everybody"}}
        with (self.folder.path / sheet).open(newline="") as file:
            assert [row["login"] for row in csv.DictReader(file)] == [login]

    @precondition(lambda self: self.accounts)
    @rule(who=WHO, data=st.data(), title=TITLES)
    def edit(self, who: str, data: Any, title: str) -> None:
        login = self._someone(data)
        self._do(who, "edit", login, f"title={title}")
        self.accounts[login]["title"] = title

    @precondition(lambda self: self.accounts)
    @rule(who=WHO, data=st.data())
    def turn(self, who: str, data: Any) -> None:
        login = self._someone(data)
        is_enabled = self.accounts[login]["enabled"] == "yes"
        self._do(who, "disable" if is_enabled else "enable", login)
        self.accounts[login]["enabled"] = "no" if is_enabled else "yes"

    @precondition(lambda self: self.accounts)
    @rule(who=WHO, data=st.data(), group=GROUPS)
    def join_or_leave(self, who: str, data: Any, group: str) -> None:
        login = self._someone(data)
        sign = "-=" if group in self.accounts[login]["groups"] else "+="
        self._do(who, "edit", login, f"groups{sign}{group}")
        self.accounts[login]["groups"] ^= {group}

    @precondition(lambda self: self.accounts)
    @rule(who=WHO, data=st.data())
    def delete(self, who: str, data: Any) -> None:
        login = self._someone(data)
        self._do(who, "delete", login)
        self.gone[login] = self.accounts.pop(login)

    @precondition(lambda self: self.gone.keys() - self.accounts.keys())
    @rule(who=WHO, data=st.data())
    def restore(self, who: str, data: Any) -> None:
        login = data.draw(st.sampled_from(sorted(self.gone.keys() - self.accounts.keys())))
        if self.folder.run("restore", login, "-n").code == 0:  # its entry's name may be somebody else's by now
            result = self._do(who, "restore", login)
            fields = {each["field"]: each["after"] for each in result["changes"][0]["fields"]}
            new = next(iter(fields.get("login", [login])), login)
            self.accounts[new] = self.gone.pop(login)

    @precondition(lambda self: self.history)
    @rule(who=WHO)
    def undo(self, who: str) -> None:
        job, accounts, gone = self.history.pop()
        self._run(who, "undo", str(job))
        self.accounts, self.gone = accounts, gone

    def _listed(self) -> dict[str, dict[str, Any]]:
        rows = self.folder.run("find", "--columns", "login,title,enabled,groups", "--as", "csv").out
        return {
            row["login"]: {
                "title": row["title"], "enabled": row["enabled"] or "yes",
                "groups": {group.strip() for group in row["groups"].split("|") if group.strip()},
            }
            for row in csv.DictReader(rows.splitlines())
        }  # fmt: skip

    @invariant()
    def the_directory_is_as_the_model_says(self) -> None:
        if not hasattr(self, "folder"):
            return
        listed = self._listed()
        assert {login: each for login, each in listed.items() if login not in self.first} == self.accounts
        assert {login: each for login, each in listed.items() if login in self.first} == self.first

    @invariant()
    def nothing_points_at_nobody_and_every_job_has_ended(self) -> None:
        if hasattr(self, "folder"):
            assert self.folder.run("audit", "dangling", "--json").json["rows"] == []
            jobs = self.folder.run("journal", "--json").json["rows"]
            assert {job["state"] for job in jobs} <= {"done"}, jobs


def test_two_administrators_and_a_model(demo_template):
    TwoAdministrators.template = demo_template
    case = TwoAdministrators.TestCase
    case.settings = settings(
        max_examples=2 * EXAMPLES, stateful_step_count=30 if IS_SOAK else 10, deadline=None, print_blob=True,
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    case("runTest").runTest()
