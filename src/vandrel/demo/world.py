"""Making the demo's folder: its charter, its directory, its people. Everything goes by the runner, as for anybody."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from importlib import resources
from pathlib import Path

from vandrel import file_names
from vandrel.charter.load import from_text, load
from vandrel.charter.passwords import generate
from vandrel.demo import summer
from vandrel.dialects import dialect_for
from vandrel.directory.dn import DN
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.directory.port import Directory
from vandrel.errors import Code, Location, Refused, VandrelError, are_fatal
from vandrel.jobs.accounts.create import Creator
from vandrel.jobs.common.account_steps import account_steps
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.draft import Draft
from vandrel.jobs.common.edit import Editor
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.hierarchy.build import compare
from vandrel.objects.context import Context
from vandrel.record.journal import Journal
from vandrel.secret import Secret
from vandrel.steps.plan import Plan
from vandrel.steps.runner import Runner

Row = dict[str, str]

#: What a kind needs beyond the columns of the file.
_MORE = {
    "contractor": {"company": ("Radarkontor Pires",), "sponsor": ("jmueller",)},
    "guest": {"sponsor": ("tohara",)},
    "service": {"owner": ("epapadakis",), "notes": ("Shows departures in the ticket halls",)},
}
_FIRST = ("staff", "crew", "yard")


def rows() -> Iterator[Row]:
    """The people of the demo, one row each."""
    text = resources.files(__package__).joinpath("people.csv").read_text("utf-8")
    yield from csv.DictReader(text.splitlines())


def charter_text() -> str:
    """The text of the demo's charter."""
    return resources.files(__package__).joinpath("charter.yaml").read_text("utf-8")


def _write_school(folder: Path) -> None:
    """The profiles of two who take people in, and the charter of one that has a directory of its own."""
    (folder / "school").mkdir()
    for name, target in (
        ("courses.profile.yaml", "courses.profile.yaml"), ("school.profile.yaml", "school.profile.yaml"),
        ("school.charter.yaml", f"school/{file_names.CHARTER}"),
    ):  # fmt: skip
        text = resources.files(__package__).joinpath(name).read_text("utf-8")
        (folder / target).write_text(text, "utf-8")


def make(folder: Path, server: Directory | None = None, journal_url: str = "") -> int:
    """Write the charter, the directory and the journal into an empty folder; return the number of accounts.

    With `server`, the people come there, and not into a file of the folder; `journal_url` is the database of its
    journal, if that is in one.

    Raises:
        VandrelError: ``foreign``, ``schema`` for a server that is not for the demo: nothing was made.

    """
    if server is not None:
        _must_be_for_the_demo(server)
    (folder / file_names.CHARTER).write_text(charter_text(), "utf-8")
    _write_school(folder)
    summer.write(folder)
    charter = load(folder / file_names.CHARTER)
    directory = server or EmbeddedDirectory.create(folder / file_names.DIRECTORY, [charter.base])
    journal = Journal(folder / file_names.JOURNAL, create=True, url=journal_url)
    try:
        context = Context(charter, directory, dialect_for(directory, charter))
        runner = Runner(directory, context.dialect, lambda: journal)
        comparison = compare(context)
        runner.run(Plan("build the hierarchy", comparison.steps, comparison.findings), "vandrel demo")
        people = list(rows())
        first = [row for row in people if row["kind"] in _FIRST]
        rest = [row for row in people if row["kind"] not in _FIRST]
        hired = _hire(context, runner, first, "hire the crew, the staff and the yard")
        _hire(context, runner, rest, "take in the others")
        _managers(context, runner, first, hired)
        return len(people)
    finally:
        journal.close()
        directory.close()


def _must_be_for_the_demo(server: Directory) -> None:
    """See to it that a server is the made-up organization's, for nobody else's is written to, and has what it takes."""
    base, where = from_text(charter_text(), Path("demo")).base, Location(server=server.location)
    if not any(base.is_within(context) for context in server.contexts):
        raise VandrelError(Code.FOREIGN, f"this server does not hold {base}, and the demo is for no other", where=where)
    if server.schema.object_class("vandrelAccount") is None and server.capabilities.schema != "ad":
        what = "the demo needs Vandrel's own schema on the server, and nothing was made"
        raise VandrelError(Code.SCHEMA, what, where=where, remedy="vandrel probe --schema puts it out, to be loaded")


def _hire(context: Context, runner: Runner, people: list[Row], title: str) -> dict[str, DN]:
    """Create the accounts of these people; their names by employee number."""
    creator = Creator(context, context.charter.today())
    drafts: list[tuple[Draft, Secret | None]] = []
    for row in people:
        fields = {name: (value,) for name, value in row.items() if value and name not in ("kind", "refers")}
        draft = creator.draft(row["kind"], {**fields, **_MORE.get(row["kind"], {})})
        if are_fatal(draft.findings):
            raise Refused(draft.findings)
        assert draft.rules is not None
        has_password = draft.rules.rules["first"].value == "generate"
        drafts.append((draft, generate(draft.rules) if has_password else None))
    runner.run(Plan(title, account_steps(context, drafts)), "vandrel demo")
    return {draft.value("number"): draft.dn for draft, _ in drafts if draft.dn is not None}


def _managers(context: Context, runner: Runner, people: list[Row], hired: dict[str, DN]) -> None:
    editor = Editor(context, of_many=True)
    changes = [
        step
        for row in people
        if row["refers"]
        for step in editor.edit(
            resolve(context, str(hired[row["number"]])), [Assignment("manager", "=", (str(hired[row["refers"]]),))]
        ).steps
    ]
    runner.run(Plan("say who reports to whom", changes), "vandrel demo")
