"""The worked examples of CONTRIBUTING.md, read from the page and run."""

from __future__ import annotations

import re
import textwrap
from pathlib import Path

import pytest

from vandrel.dialects.base import table
from vandrel.dialects.codec import FieldCodec
from vandrel.dialects.standard import StandardDialect
from vandrel.directory.filter import And, Compare
from vandrel.fields import ACCOUNT, OBJECT_TYPES, Field, FieldCatalog, Topic
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit_proposal import edit_all
from vandrel.jobs.common.proposal import Proposal
from vandrel.jobs.common.report import Report
from vandrel.objects.context import Context

PAGE = (Path(__file__).parent.parent / "CONTRIBUTING.md").read_text("utf-8")
KNOWN = {
    "Context": Context, "Report": Report, "Proposal": Proposal, "OBJECT_TYPES": OBJECT_TYPES, "ACCOUNT": ACCOUNT,
    "And": And, "Compare": Compare, "Assignment": Assignment, "edit_all": edit_all,
}  # fmt: skip


def blocks(title: str) -> list[str]:
    """The pieces of code below a heading."""
    section = PAGE.partition(f"## {title}\n")[2].partition("\n## ")[0]
    return [
        textwrap.dedent(block) for block in re.findall(r"(?:^(?:    .*)?\n)+", section, re.MULTILINE) if block.strip()
    ]


@pytest.fixture
def crew(bench):
    from .test_jobs import hire

    hire(bench)
    return bench


def test_a_field_takes_one_line_and_one_for_each_dialect(crew, monkeypatch):
    line, codec = (block.strip().rstrip(",") for block in blocks("A field"))
    field = eval(line, {"Field": Field, "Topic": Topic})
    new = eval(f"table({codec})", {"FieldCodec": FieldCodec, "table": table})
    monkeypatch.setattr(StandardDialect, "CODECS", StandardDialect.CODECS | new)
    charter = crew.context.charter
    monkeypatch.setitem(charter.__dict__, "fields", FieldCatalog(charter.fields | {field.name: field}))
    context = Context(charter, crew.context.directory, StandardDialect(crew.context.directory, charter))
    (anna,) = context.directory.search(charter.base, where=Compare("sn", "=", "Lund"))
    proposal = edit_all(context, [anna], [Assignment("pronouns", "=", ("they/them",))], "edit")
    assert [(f.field, f.after) for f in proposal.changes[0].fields] == [("pronouns", ("they/them",))]
    assert [(c.attribute, c.added) for c in proposal.steps[0].changes] == [("destinationIndicator", ("they/them",))]


def test_a_command_that_reports(crew):
    job, command = blocks("A command that reports")
    space = dict(KNOWN)
    exec(job, space)
    rows = dict(space["count_types"](crew.context).rows)
    assert (rows["account"], rows["computer"]) == (1, 0)
    exec(command, space)
    assert {"NAME", "HELP", "DESCRIPTION", "EXAMPLES", "WRITES", "configure", "run"} <= space.keys()


def test_a_command_that_changes(crew):
    (job,) = blocks("A command that changes")
    space = dict(KNOWN)
    exec(job, space)
    (anna,) = crew.context.directory.search(crew.context.charter.base, where=Compare("sn", "=", "Lund"))
    given = edit_all(crew.context, [anna], [Assignment("office", "=", ("Bridge",))], "edit")
    from vandrel.steps.plan import Plan

    crew.runner.run(Plan("give", given.steps), "test")
    closing = space["close_office"](crew.context, "Bridge")
    assert [(f.before, f.after) for f in closing.changes[0].fields] == [(("Bridge",), ())]
    crew.runner.run(Plan("close", closing.steps), "test")
    assert not list(
        crew.context.directory.search(
            crew.context.charter.base, where=Compare("physicalDeliveryOfficeName", "=", "Bridge")
        )
    )


@pytest.mark.parametrize("title", ["A field", "A command that reports", "A command that changes"])
def test_an_example_has_twenty_lines_at_most(title):
    assert sum(block.strip().count("\n") + 1 for block in blocks(title)) <= 20
