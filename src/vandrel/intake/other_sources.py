"""Rows that come from elsewhere than a tabular file: from standard input, and from LDIF (RFC 2849)."""

from __future__ import annotations

import csv
import io
from pathlib import Path
from typing import BinaryIO

from vandrel.directory import ldif
from vandrel.errors import Code, Location, VandrelError
from vandrel.intake.description import join_values

#: What stands for standard input.
STANDARD_INPUT = "-"


def as_table(path: Path, folder: Path, standard_input: BinaryIO) -> Path:
    """The file with the rows: the one that was named, or a new one in `folder` with what is in the other source.

    Args:
        path: a tabular file, an LDIF file, or ``-``.
        folder: an empty folder for this alone.
        standard_input: what ``-`` stands for: delimited text, or LDIF.

    Raises:
        VandrelError: ``ldif`` where the records cannot be read; ``bad-value`` for standard input with nothing in it.

    """
    if str(path) == STANDARD_INPUT:
        content = standard_input.read()
        if not content.strip():
            raise VandrelError(Code.BAD_VALUE, "standard input is empty", where=Location(file=STANDARD_INPUT))
        is_ldif = content.lstrip(b"\xef\xbb\xbf \r\n").lower().startswith((b"version:", b"dn:", b"#"))
    elif path.suffix.lower() == ".ldif":
        content, is_ldif = path.read_bytes(), True
    else:
        return path
    name = "standard-input" if str(path) == STANDARD_INPUT else path.stem
    target = folder / f"{name}.csv"
    target.write_bytes(_rows(content) if is_ldif else content)
    return target


def _rows(content: bytes) -> bytes:
    """The entries of LDIF as delimited text: a column for each attribute, in the order in which they come."""
    lines = content.decode("utf-8-sig", errors="replace").splitlines()
    entries = [record.attributes for record in ldif.read(lines, lambda name: False) if record.attributes]
    columns = list(dict.fromkeys(name for entry in entries for name in entry))
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(columns)
    for entry in entries:
        values = ([value for value in entry.get(name, ()) if isinstance(value, str)] for name in columns)
        writer.writerow([join_values(texts) for texts in values])
    return out.getvalue().encode()
