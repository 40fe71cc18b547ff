"""``vandrel backup``: everything of ours in one file."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "backup"
HELP = "put the charter, the directory's file, journal, attic and snapshots into one file"
DESCRIPTION = """\
Copy everything of ours into one file for its owner alone: the charter and the connections beside it, the file of an
embedded directory, and the journal, attic and snapshots of any directory. Others may be at work: they wait for a
moment, and what is copied is of one moment. The file is read again to its end before the command says that it is done.
vandrel unpack puts it into another folder, for another user or on another machine."""
EXAMPLES = """\
  vandrel backup /srv/backups/directory-2026-11-28.backup
  vandrel unpack /srv/backups/directory-2026-11-28.backup --to new-house
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("file", metavar="FILE", help="the file to make")


def run(session: Session) -> Report:
    """Pack what is there."""
    from vandrel import file_names
    from vandrel.jobs.common.report import Report, count
    from vandrel.record.backup import pack

    beside = session.journal_path.parent
    others = (session.folder / name for name in (file_names.CONNECTIONS, file_names.LISTS))
    plain = [session.charter_path, *(path for path in others if path.exists())]
    names = (file_names.JOURNAL, file_names.ATTIC, file_names.SNAPSHOTS, file_names.LINKS)
    directory = () if session.target else (session.directory_path,)
    databases = [*directory, *(beside / name for name in names)]
    manifest = pack(Path(session.args.file), plain, databases)
    rows = [(file.name, file.size, file.digest) for file in manifest.files]
    summary = f"{count(len(rows), 'file')} in {session.args.file}, checked: {', '.join(row[0] for row in rows)}."
    if session.journal_url:
        summary = f"{summary} The journal is in a database, and not in it."
    return Report("backup", ("name", "octets", "digest"), rows, is_for_programs=True, summary=[summary])
