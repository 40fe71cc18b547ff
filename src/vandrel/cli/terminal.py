"""What the commands print: tables, findings, questions. Nothing else knows the terminal."""

from __future__ import annotations

import os
import re
import shlex
import sys
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, TextIO

from msgspec import structs

from vandrel.errors import Code, Finding, Location, VandrelError

if TYPE_CHECKING:
    from rich.console import Console, RenderableType

#: Columns where the output is no terminal: wide enough for a line of a table, narrow enough for a mail.
_WIDTH_OF_A_FILE = 160

_CONTROL = {code: None for code in (*range(0x20), *range(0x7F, 0xA0)) if code != 0x0A}


#: Findings that differ in the object alone are told as one from so many on; a remedy that is a command about it.
_ALIKE = 4
_ABOUT_ONE = re.compile(r"(.*\bvandrel [a-z]+) ([^-].*)", re.DOTALL)


def clean(text: str) -> str:
    """Take control characters out of a text from a directory or a command line: they could drive the terminal."""
    return text.translate(_CONTROL) if not text.isprintable() else text


def input_lines() -> Iterator[str]:
    """Read standard input line by line.

    Raises:
        VandrelError: ``bad-value`` where it is not UTF-8.

    """
    try:
        yield from sys.stdin
    except UnicodeDecodeError as error:
        what = f"standard input is not UTF-8: byte {error.object[error.start]:#04x}"
        raise VandrelError(Code.BAD_VALUE, what, where=Location(file="-"), remedy="write it as UTF-8") from None


def _together(findings: Iterable[Finding]) -> Iterator[Finding]:
    """The findings; of many that say the same of one object each, one with a command about all of these."""
    groups: dict[object, list[tuple[Finding, str, str]]] = {}
    for finding in findings:
        about_one = _ABOUT_ONE.fullmatch(finding.remedy) if finding.where.dn else None
        command, name = about_one.groups() if about_one else ("", "")
        key = (finding.code, finding.what, finding.severity, command) if command else len(groups)
        groups.setdefault(key, []).append((finding, command, name))
    for same in groups.values():
        if len(same) < _ALIKE:
            yield from (finding for finding, _, _ in same)
            continue
        first, command, _ = same[0]
        remedy = " ".join([command, *(name for _, _, name in same)])
        yield structs.replace(first, where=Location(text=f"{len(same)} objects"), remedy=remedy)


def _width(text: str) -> int:
    """How many columns a text takes in a terminal."""
    if text.isascii():  # most is, and to load the tables of the other characters takes time
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def _write_plain(rows: Sequence[Sequence[str]]) -> None:
    """Write rows into a file or a pipe: cells padded to their column, lines of a cell one below another."""
    split = [[cell.split("\n") for cell in row] for row in rows]
    widths = (
        [max((_width(line) for row in split for line in row[n]), default=0) for n in range(len(rows[0]))]
        if rows
        else []
    )
    for row in split:
        for number in range(max(map(len, row), default=0)):
            cells = [lines[number] if number < len(lines) else "" for lines in row]
            padded = (cell + " " * (width - _width(cell)) for cell, width in zip(cells, widths, strict=True))
            sys.stdout.write("  ".join(padded).rstrip() + "\n")


class Terminal:
    """The output of one command.

    Attributes:
        as_json: whether one JSON object goes to standard output instead of text for people.
        quiet: whether only errors and what was asked for are printed.

    """

    def __init__(self, *, as_json: bool = False, quiet: bool = False, color: bool = True) -> None:
        """Begin; `color` is whether colours are wanted where the output is a terminal."""
        self.as_json, self.quiet = as_json, quiet
        self._color = color and not os.environ.get("NO_COLOR")
        self._console: Console | None = None

    @property
    def console(self) -> Console:
        """The console of standard output, made on first use."""
        if self._console is None:
            self._console = self._make(sys.stdout)
        return self._console

    def _make(self, file: TextIO) -> Console:
        from rich.console import Console

        terminal = file.isatty()
        return Console(
            file=file, no_color=not self._color, highlight=False, markup=False, emoji=False, soft_wrap=not terminal,
            width=None if terminal else _WIDTH_OF_A_FILE, color_system="auto" if terminal and self._color else None,
        )  # fmt: skip

    @property
    def is_interactive(self) -> bool:
        """Whether somebody can be asked."""
        return sys.stdin.isatty() and sys.stdout.isatty() and not self.as_json

    def write(self, text: str) -> None:
        """Put text out as it is; a terminal gets it without what could drive the terminal."""
        sys.stdout.write(clean(text) if self.is_terminal else text)

    @property
    def is_terminal(self) -> bool:
        """Whether standard output is a terminal: only there colours and folded cells are wanted."""
        return sys.stdout.isatty()

    def line(self, text: str | RenderableType = "") -> None:
        """Print a line for people."""
        if self.as_json:
            return
        if isinstance(text, str) and not self.is_terminal:
            sys.stdout.write(f"{clean(text)}\n")
            return
        self.console.print(clean(text) if isinstance(text, str) else text)

    def styled(self, parts: Sequence[tuple[str, str]]) -> None:
        """Print a line whose parts have styles of their own; (text, style) pairs."""
        if not self.is_terminal:
            self.line("".join(text for text, _ in parts))
            return
        from rich.text import Text

        self.line(Text.assemble(*((clean(text), style) for text, style in parts)))

    def note(self, text: str) -> None:
        """Print a line that --quiet leaves out."""
        if not self.quiet:
            self.line(text)

    def heading(self, text: str) -> None:
        """Print a heading."""
        self.styled([(text, "bold")])

    def table(
        self, columns: Sequence[str], rows: Iterable[Sequence[str]], *, header: bool = True, lead: str = ""
    ) -> None:
        """Print rows in columns, two spaces apart; a terminal that is too narrow folds the cells.

        `lead` is the style of the first column.
        """
        if self.as_json:
            return
        rows = [[clean(cell) for cell in row] for row in rows]
        if not self.is_terminal:
            _write_plain([list(columns), *rows] if header else rows)
            return
        from rich.table import Table
        from rich.text import Text

        table = Table(box=None, show_header=header, header_style="bold", pad_edge=False, padding=(0, 2, 0, 0))
        for column in columns:
            table.add_column(column, overflow="fold")
        for row in rows:
            styles = [lead or style_of(row[0]), *map(style_of, row[1:])]
            table.add_row(*map(Text, row, styles))
        self.console.print(table)

    def findings(self, findings: Iterable[Finding]) -> None:
        """Print findings to standard error: what, where, what to do."""
        findings = list(findings)
        if not findings or self.as_json:
            return
        sys.stdout.flush()
        for finding in _together(findings):
            where = str(finding.where)
            prefix = f"{clean(where)}: " if where and where not in finding.what else ""
            mark = "stop  " if finding.is_fatal else "note  "
            remedy = f"\n      {clean(finding.remedy)}" if finding.remedy else ""
            if not sys.stderr.isatty():
                sys.stderr.write(f"{mark}{prefix}{clean(finding.what)}{remedy}\n")
                continue
            from rich.text import Text

            style = "bold red" if finding.is_fatal else "bold"
            parts = ((mark, style), (prefix, ""), (clean(finding.what), ""), (remedy, "dim"))
            self._make(sys.stderr).print(Text.assemble(*parts))

    def candidates(self, rows: Sequence[Sequence[str]]) -> None:
        """Print to standard error what a typed name may have meant, the last column unpadded."""
        sys.stdout.flush()
        widths = [max(_width(row[n]) for row in rows) for n in range(len(rows[0]) - 1)]
        for row in rows:
            cells = [
                clean(cell) + " " * (width - _width(cell)) for cell, width in zip(row, widths, strict=False) if width
            ]
            sys.stderr.write("  " + "  ".join([*cells, clean(row[-1])]).rstrip() + "\n")

    def confirm(self, question: str, *, yes: bool) -> None:
        """Go on only if the answer is yes.

        Raises:
            VandrelError: ``declined``; ``usage`` where nobody can be asked and --yes was not given.

        """
        if yes:
            return
        if not self.is_interactive:
            raise VandrelError(
                Code.USAGE, "nobody can be asked here", remedy="add --yes to make the change, --dry-run to see it only"
            )
        answer = input(f"{question} [yes/no] ").strip().casefold()
        if answer not in ("y", "yes"):
            raise VandrelError(Code.DECLINED, "nothing was changed")

    def confirm_typed(self, question: str, answer: str, *, option: str) -> None:
        """Go on only if this very answer is typed, or was given beforehand: for what nothing brings back.

        Raises:
            VandrelError: ``declined`` for another answer; ``usage`` where nobody can be asked.

        """
        if not option and not self.is_interactive:
            remedy = f"give the answer on purpose: --confirm {shlex.quote(answer)}"
            raise VandrelError(Code.USAGE, "nobody can be asked here", remedy=remedy)
        typed = option or input(f"{question} ").strip()
        if typed != answer:
            raise VandrelError(Code.DECLINED, f"{typed!r} is not {answer!r}: nothing was changed")


_STYLES = {
    "disabled": "red", "missing": "red", "misplaced": "red", "not in the charter": "yellow", "not protected": "yellow",
    "built": "green", "broken off": "red", "in part": "yellow", "protected": "cyan",
}  # fmt: skip


def style_of(word: str) -> str:
    """The colour of a word that must be seen at a glance; most have none."""
    return _STYLES.get(word, "")
