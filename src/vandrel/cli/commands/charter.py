"""``vandrel charter``: check it, begin or draft one, put out its schema, try its names, infer conventions."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel import file_names, safe_file
from vandrel.cli import options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "charter"
HELP = "the house rules: check, begin, draft, explain, infer"
DESCRIPTION = """\
Work on the charter, the file of house rules (docs/charter.md).

  check    name every fault in it, with line and column
  new      write a charter to start from
  draft    write the charter of a directory that was filled without one: what each line rests on, what does not fit
  schema   put out its JSON Schema, for editors
  kinds    list the kinds of account, with what each requires
  names    show what its patterns make of a person's name, every rung of each ladder
  infer    say which patterns the names of the directory's accounts follow, and which are exceptions"""
EXAMPLES = """\
  vandrel charter check
  vandrel charter kinds
  vandrel charter new --organization "Skelling Boatyard" --domain skelling.example
  vandrel charter draft drafted.yaml --directory harbour
  vandrel charter schema > charter.schema.json
  vandrel charter names crew "Jörg Müller-Lüdenscheidt" language=de number=2041
  vandrel charter infer login mail
"""
WRITES = False

ACTIONS = ("check", "new", "draft", "schema", "kinds", "names", "infer")


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("action", choices=ACTIONS, help="what to do")
    parser.add_argument(
        "words",
        nargs="*",
        metavar="WORD",
        help="for new and draft: the file; for names: kind, name and fields; for infer: fields",
    )
    parser.add_argument("--organization", metavar="NAME", help="new, draft: name of the organization")
    parser.add_argument("--base", metavar="DN", help="draft: the top of what is read; otherwise the directory's own")
    parser.add_argument(
        "--domain", metavar="DOMAIN", help="new: its domain; the base and the first suffix follow from it"
    )


def run(session: Session) -> Report:
    """Hand the request on."""
    from vandrel.charter.load import load
    from vandrel.jobs.audit import charter_reports
    from vandrel.jobs.common.report import Report

    args = session.args
    match args.action:
        case "check":
            return charter_reports.contents(load(session.charter_path, fresh=True))
        case "new":
            return _new(session)
        case "draft":
            return _draft(session)
        case "schema":
            from vandrel.charter.document import json_schema

            return Report("charter schema", text=json.dumps(json_schema(), ensure_ascii=False, indent=2) + "\n")
        case "kinds":
            return charter_reports.kinds(session.charter)
        case "names":
            plain, fields = options.split(session, args.words)
            request = charter_reports.NamesRequest("".join(plain[:1]), " ".join(plain[1:]), fields)
            return charter_reports.names(session.charter, request)
    return charter_reports.conventions(session.context, args.words)


def _draft(session: Session) -> Report:
    """Draft a charter, and write it into a new file or put it out."""
    from msgspec import structs

    from vandrel.directory import dn as names
    from vandrel.jobs.common.report import Report
    from vandrel.jobs.drafting.draft import DraftRequest, draft_charter

    args, directory = session.args, session.any_directory
    if args.words:
        safe_file.must_be_free(Path(args.words[0]))
    base = names.parse(args.base) if args.base else directory.contexts[0]
    draft = draft_charter(directory, base, DraftRequest(args.organization or ""))
    if not args.words:
        return draft.report if args.json else Report("charter draft", text=draft.text)
    safe_file.write(Path(args.words[0]), draft.text.encode(), "charter")
    summary = f"{args.words[0]} is written. Read it and answer its questions, then: vandrel charter check"
    return structs.replace(draft.report, summary=[summary])


def _new(session: Session) -> Report:
    """Write a charter to start from."""
    from vandrel.charter.starter import starter_text
    from vandrel.jobs.common.report import Report

    args = session.args
    path = Path(args.words[0] if args.words else file_names.CHARTER)
    text = starter_text(args.organization or "", args.domain or "")
    safe_file.write(path, text.encode(), "charter", private=False)
    return Report(
        "charter new", text=f"{path} is written. Make it yours, then: vandrel charter check, vandrel hierarchy build\n"
    )
