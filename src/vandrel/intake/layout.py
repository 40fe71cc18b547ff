"""How a tabular file is laid out: recognized from its first lines, or as somebody says."""

from __future__ import annotations

import codecs
import csv
from collections import Counter
from collections.abc import Iterator
from io import StringIO
from pathlib import Path

from msgspec import Struct

from vandrel.errors import Code, Location, VandrelError

SPREADSHEETS = (".xlsx", ".xlsm", ".ods")
SEPARATORS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "pipe"}

#: More than this is no line of a roster; it would only fill the memory.
LONGEST_LINE = 1_000_000
#: Characters that are read at once: few at first, for often the first lines are all that is wanted.
_FIRST_BLOCK, _BLOCK = 8192, 262_144
_SAMPLE = 65_536
_SAMPLE_LINES = 50
#: Octets that Windows-1252 gives no letter, and Latin-1 none that anybody types.
_NOT_WINDOWS = frozenset(b"\x81\x8d\x8f\x90\x9d")


class Layout(Struct, frozen=True):
    """``form`` is ``text`` or ``sheet``; ``header`` the row of the header counted from 1, 0 where there is none."""

    form: str = "text"
    encoding: str = "utf-8"
    separator: str = ","
    quote: str = '"'
    header: int = 1
    sheet: str = ""

    def __str__(self) -> str:
        where = f"header in row {self.header}" if self.header else "no header"
        if self.form == "sheet":
            return f"sheet {self.sheet}, {where}"
        quote = f"quoted by {self.quote}" if self.quote else "no quotes"
        separator = SEPARATORS.get(self.separator, repr(self.separator))
        return f"{self.encoding}, separated by {separator}, {quote}, {where}"


def recognize(path: Path, *, encoding: str = "", separator: str = "", quote: str | None = None) -> Layout:
    """The layout of a delimited text file; what is given is taken as it is.

    Raises:
        VandrelError: ``not-found`` or ``not-permitted`` where it cannot be read, ``usage`` for an unknown encoding.

    """
    if encoding:
        try:
            codecs.lookup(encoding)
        except LookupError:
            remedy = "write utf-8, utf-16, windows-1252 or latin-1"
            raise VandrelError(
                Code.USAGE, f"there is no encoding {encoding!r}", where=Location(file=str(path)), remedy=remedy
            ) from None
    encoding = encoding or encoding_of(path)
    sample = "".join(_first_lines(path, encoding))
    separator = separator or _separator(sample)
    return Layout("text", encoding, separator, '"' if quote is None else quote)


def octets(path: Path) -> Iterator[bytes]:
    """The octets of a file in blocks.

    Raises:
        VandrelError: ``not-found`` or ``not-permitted``.

    """
    try:
        with path.open("rb") as source:
            while block := source.read(_SAMPLE):
                yield block
    except FileNotFoundError:
        raise VandrelError(Code.NOT_FOUND, "there is no such file", where=Location(file=str(path))) from None
    except OSError as error:
        raise VandrelError(
            Code.NOT_PERMITTED, f"it cannot be read: {error.strerror}", where=Location(file=str(path))
        ) from None


def encoding_of(path: Path) -> str:
    """The encoding of a text file: by its mark, or by what its octets can be; the whole file is looked at."""
    decoder = codecs.getincrementaldecoder("utf-8")()
    utf8, windows, first = True, True, b""
    for block in octets(path):
        if not first:
            first = block
            if marked := _marked(first):
                return marked
        if utf8:
            try:
                decoder.decode(block)
            except UnicodeDecodeError:
                utf8 = False
        if not utf8 and not _NOT_WINDOWS.isdisjoint(block):
            windows = False
    if utf8:
        try:
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            utf8 = False
    return "utf-8" if utf8 else "windows-1252" if windows else "latin-1"


def _marked(first: bytes) -> str:
    """The encoding that the first octets tell: a byte order mark (Unicode 23.8), or UTF-16 without one."""
    if first.startswith(codecs.BOM_UTF8):
        return "utf-8-sig"
    if first.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return "utf-16"
    pairs = max(1, len(first) // 2)
    if first[1::2].count(0) > pairs * 0.7:
        return "utf-16-le"
    return "utf-16-be" if first[0::2].count(0) > pairs * 0.7 else ""


def lines(path: Path, encoding: str) -> Iterator[str]:
    """The lines of a text file with their ends; what cannot be decoded comes as U+FFFD.

    Raises:
        VandrelError: ``bad-value`` for a line longer than any roster has.

    """
    with path.open(encoding=encoding, errors="replace", newline="") as source:
        number, rest, size = 0, "", _FIRST_BLOCK
        while True:
            try:
                block = source.read(size)
            except UnicodeError as error:  # UTF-16 without its mark
                raise VandrelError(
                    Code.BAD_VALUE, f"this is no {encoding}: {error}", where=Location(file=str(path))
                ) from None
            rest += block
            # A line ends in LF, CR LF or CR; whether an LF follows the last CR is not known yet.
            end = rest.rfind("\n") + 1 or rest.rfind("\r", 0, -1) + 1 if block else len(rest)
            rows = list(StringIO(rest[:end], newline=""))
            rest = rest[end:]
            if max(map(len, rows), default=0) >= LONGEST_LINE or len(rest) >= LONGEST_LINE:
                number += next((n for n, line in enumerate(rows, 1) if len(line) >= LONGEST_LINE), len(rows) + 1)
                what = f"line {number} has more than {LONGEST_LINE:,} characters"
                raise VandrelError(
                    Code.BAD_VALUE, what, where=Location(file=str(path)), remedy="this is no table of rows"
                )
            yield from rows
            if not block:
                return
            number, size = number + len(rows), _BLOCK


def _first_lines(path: Path, encoding: str) -> Iterator[str]:
    for number, line in enumerate(lines(path, encoding)):
        if number >= _SAMPLE_LINES:
            return
        yield line[:_SAMPLE]


def _separator(sample: str) -> str:
    """The separator by which most lines fall into the same number of cells, and into most of them."""
    best, score = ",", 0.0
    for separator in SEPARATORS:
        try:
            widths = Counter(
                len(row) for row in csv.reader(sample.splitlines(keepends=True), delimiter=separator) if row
            )
        except csv.Error:
            continue
        if not widths:
            continue
        width, rows = widths.most_common(1)[0]
        quality = (width - 1) * rows / widths.total() if width > 1 else 0.0
        if quality > score:
            best, score = separator, quality
    return best
