"""``vandrel unpack``: a backup put into a folder."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "unpack"
HELP = "put a backup into a folder"
DESCRIPTION = """\
Put the files of a backup into a folder that has none of them yet: the charter, the directory's file, journal, attic and
snapshots. The backup is checked to its end first. The directory is the same one, so its jobs can be finished and taken
back there; from then on work in one of the two."""
EXAMPLES = """\
  vandrel unpack directory-2026-11-28.backup --to new-house
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("file", metavar="FILE", help="the backup")
    parser.add_argument("--to", metavar="FOLDER", required=True, help="the folder, made where there is none")


def run(session: Session) -> Report:
    """Unpack it; this needs no charter."""
    from vandrel.jobs.common.report import Report, count
    from vandrel.record.backup import unpack

    args = session.args
    manifest = unpack(Path(args.file), Path(args.to))
    rows = [(file.name, file.size) for file in manifest.files]
    summary = f"{count(len(rows), 'file')} of {manifest.taken} in {args.to}: {', '.join(row[0] for row in rows)}."
    return Report("unpack", ("name", "octets"), rows, is_for_programs=True, summary=[summary])
