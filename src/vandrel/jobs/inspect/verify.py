"""Whether the files of ours are as they were written: the directory, its journal, the attic and the snapshots."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.embedded.store import EmbeddedDirectory
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.jobs.common.report import Report, Table, count
from vandrel.objects.context import Context
from vandrel.record.attic import Attic
from vandrel.record.journal import Journal
from vandrel.record.snapshots import Snapshots


class OwnFiles(Struct, frozen=True):
    """What stands beside a directory; None for what was never written."""

    journal: Journal | None
    attic: Attic
    snapshots: Snapshots


def verify(context: Context, files: OwnFiles) -> Report:
    """Go through every file from one end to the other; what is damaged is named, and is the exit code."""
    looked_at: list[tuple[str, int, list[Finding]]] = []
    directory = context.directory
    if isinstance(directory, EmbeddedDirectory):
        entries, findings = directory.verify()
        looked_at.append(("directory", entries, [_with_remedy(finding, files.snapshots) for finding in findings]))
    if files.journal is not None:
        looked_at.append(("journal", *files.journal.verify()))
    if files.attic.exists:
        items = sum(1 for _ in files.attic.items())
        looked_at.append(("attic", items, list(files.attic.damaged)))
    if files.snapshots.exists:
        snapshots = files.snapshots.all()
        each = [finding for snapshot in snapshots for finding in files.snapshots.verify(snapshot)]
        looked_at.append(("snapshots", len(snapshots), list(dict.fromkeys(each))))
    rows = [(name, number, len(findings)) for name, number, findings in looked_at]
    display_rows = [
        (name, count(number, {"directory": "entry", "journal": "step", "attic": "object"}.get(name, "snapshot")),
         f"{len(findings)} damaged" if findings else "whole")
        for name, number, findings in looked_at
    ]  # fmt: skip
    findings = [finding for _, _, each in looked_at for finding in each]
    return Report(
        "verify", ("file", "held", "damaged"), rows, tables=[Table("files", "", ("file", "holds", ""), display_rows)],
        is_for_programs=True, findings=findings, exit_code=Code.DAMAGED.exit_code if findings else 0,
    )  # fmt: skip


def _with_remedy(finding: Finding, snapshots: Snapshots) -> Finding:
    """A finding on an entry, with the last snapshot that has it whole."""
    if not finding.where.dn or finding.remedy:
        return finding
    number = next(_whole_in(finding.where.dn, snapshots), 0)
    remedy = f'vandrel restore "{finding.where.dn}" --from-snapshot {number}' if number else (
        "no snapshot has it whole; vandrel journal --about it tells what was written"
    )  # fmt: skip
    return Finding(finding.code, finding.what, finding.where, remedy, NOTE)


def _whole_in(dn: str, snapshots: Snapshots) -> Iterator[int]:
    """The snapshots that have an object of this name, whole, the last first."""
    try:
        key = names.parse(dn).key
    except VandrelError:
        return
    for snapshot in reversed(snapshots.all() if snapshots.exists else []):
        for each in snapshots.held(snapshot):
            if each.dn.key == key:
                try:
                    snapshots.entry(each)
                except VandrelError:
                    break
                yield snapshot.number


def left_out(damage: dict[str, str]) -> list[Finding]:
    """A note of each entry that was found damaged on the way, and left out."""
    what = "the entry is damaged, and left out: the file is not as it was written"
    return [
        Finding(Code.DAMAGED, what, Location(dn=dn), "vandrel verify tells what to do", NOTE)
        for dn in dict.fromkeys(damage.values())
    ]
