"""``vandrel load``: take LDIF in, entries and changes."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli.session import Session
from vandrel.cli.terminal import input_lines

if TYPE_CHECKING:
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report

NAME = "load"
HELP = "take in LDIF: objects and changes"
DESCRIPTION = """\
Take in LDIF (RFC 2849), objects and changes, checked like every change. What is there already as it should be is left
alone, so the same file can be loaded again. Into a directory of its own, named by --directory and made if need be, a
copy of another one can be rehearsed upon."""
EXAMPLES = """\
  vandrel load changes.ldif --dry-run
  vandrel load everything.ldif --directory rehearsal.db
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("file", metavar="FILE", help="the LDIF file; - for standard input")
    parser.add_argument(
        "--allow-files", action="store_true", help="let values be read from the files that the LDIF names"
    )


def run(session: Session) -> Proposal | Report:
    """Read the file, and hand its records on; the directory is made where there is none."""
    from itertools import chain

    from vandrel.cli.new_directory import make_directory
    from vandrel.directory import ldif
    from vandrel.directory.schema import Schema, shipped_definitions
    from vandrel.intake.ldif_file import BinaryAttributes, content_of, lines
    from vandrel.jobs.bulk.load import LoadRequest, load
    from vandrel.jobs.common.report import Report

    args = session.args
    # What is octets and what is text, only the schema knows: that of the file itself, if it brings one.
    binary = BinaryAttributes(Schema(shipped_definitions()) if session.is_missing else session.context.directory.schema)
    source = input_lines() if args.file == "-" else lines(Path(args.file))
    records = ldif.read(source, binary, content_of if args.allow_files else None)
    first = next(records, None)
    origin = ldif.origin_of(first) if first is not None else None
    is_copy = session.is_missing and origin is not None
    if session.is_missing and not make_directory(session, origin):
        return Report("load")
    binary.schema = session.context.directory.schema
    if origin is None and first is not None:
        records = chain([first], records)
    return load(session.context, LoadRequest(records, args.file, is_copy=is_copy))
