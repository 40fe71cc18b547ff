"""The candidates that an ambiguous or misspelt name leaves, as a table on standard error."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from vandrel.cli.terminal import clean
from vandrel.jobs.common.resolve import Candidate


def show(candidates: Sequence[Candidate]) -> None:
    """Print what the typed name may have meant."""
    rows = [(clean(one.name), clean(one.full), one.object_type, clean(one.place)) for one in candidates]
    widths = [max(len(row[column]) for row in rows) for column in range(3)]
    for row in rows:
        cells = [cell.ljust(width) for cell, width in zip(row[:3], widths, strict=True) if width]
        print("  " + "  ".join([*cells, row[3]]).rstrip(), file=sys.stderr)
