"""``vandrel audit``: what is wrong in the directory, why it matters, and what mends it."""

from __future__ import annotations

import argparse
import json
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report

NAME = "audit"
HELP = "what is wrong in the directory, and what mends it"
DESCRIPTION = """\
Read the directory once and judge it by rules: accounts that are out and still hold rights, names and places that are
not by the charter, circles, what points nowhere, who holds power. Each fault has a reason and, where there is one, the
command that mends it. An audit of everything is remembered beside the journal, and the next one tells what is new and
what is gone. What is meant to be so stands in the charter (exceptions), with a reason and a last day."""
EXAMPLES = """\
  vandrel audit
  vandrel audit --rules                         what is looked at, and why
  vandrel audit misplaced name-not-by-rule --under /Ferries
  vandrel audit --mend misplaced spelling       as one change, shown before
  vandrel audit --page audit.html               to be read in a browser and passed on
  vandrel audit --weight grave --json           by a scheduler: the exit code tells
  vandrel audit --since 2026-11-23 --mail-to accounts@marrowick.example
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("names", nargs="*", metavar="RULE", help="only these rules")
    parser.add_argument("--rules", action="store_true", help="list the rules, and audit nothing")
    under = parser.add_argument("--under", metavar="PLACE", default="", help="only this unit and what stands below it")
    complete.attach(under, complete.places)
    parser.add_argument("--mend", action="store_true", help="mend what these rules find, where no answer is needed")
    parser.add_argument("--page", metavar="FILE", help="write it as one HTML file too, with figures, to be passed on")
    parser.add_argument("--since", type=options.day, metavar="DAY", help="only what was first found then, or later")
    options.add_mail_report(parser)
    parser.add_argument("--weight", choices=("grave", "fault", "advice"), default="", help="this and what is graver")


def run(session: Session) -> Proposal | Report:
    """Hand the request on, and remember what was found."""
    from vandrel import file_names, safe_file
    from vandrel.jobs.audit.audit import AuditRequest, as_report, audit, known_since, list_rules, remembered

    args = session.args
    if args.rules:
        return list_rules()
    if args.mend:
        from vandrel.jobs.audit.mend import mend

        return mend(session.context, AuditRequest(args.names, args.under, args.weight))
    notes = session.journal_path.with_name(file_names.AUDIT)
    content: object = None
    with suppress(OSError, ValueError):
        content = json.loads(notes.read_text("utf-8"))
    earlier = remembered(content)
    request = AuditRequest(args.names, args.under, args.weight)
    if args.page:
        safe_file.must_be_free(Path(args.page))
    result = audit(session.context, request, earlier)
    faults = result.remembered
    if request.is_whole and faults != earlier and not args.dry_run:
        encoded = json.dumps({"faults": [[each.rule, each.object, each.since] for each in faults]}, indent=1)
        safe_file.write(notes, encoded.encode(), replace=True)
    if args.since:
        result = known_since(result, args.since)
    if args.page:
        from vandrel.cli.present.audit_page import render
        from vandrel.jobs.audit.page import page_of

        safe_file.write(Path(args.page), render(page_of(result)).encode(), "page")
        session.terminal.note(f"The page is in {args.page}.")
    return as_report(result)
