"""What the commands print: tables, findings, questions. Nothing else knows the terminal."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, TextIO

from vandrel.errors import Code, Finding, VandrelError

if TYPE_CHECKING:
    from rich.console import Console, RenderableType
    from rich.text import Text

#: Columns where the output is no terminal: wide enough for a line of a table, narrow enough for a mail.
_WIDTH_OF_A_FILE = 160

_CONTROL = {code: None for code in (*range(0x20), *range(0x7F, 0xA0)) if code != 0x0A}


def clean(text: str) -> str:
    """Take control characters out of a text from a directory or a command line: they could drive the terminal."""
    return text.translate(_CONTROL) if not text.isprintable() else text


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
        """Put text out as it is."""
        sys.stdout.write(text)

    def line(self, text: RenderableType = "") -> None:
        """Print a line for people."""
        if not self.as_json:
            self.console.print(clean(text) if isinstance(text, str) else text)

    def note(self, text: str) -> None:
        """Print a line that --quiet leaves out."""
        if not self.quiet:
            self.line(text)

    def heading(self, text: str) -> None:
        """Print a heading."""
        from rich.text import Text

        self.line(Text(clean(text), style="bold"))

    def table(self, columns: Sequence[str], rows: Iterable[Sequence[str | Text]], *, header: bool = True) -> None:
        """Print rows in columns, two spaces apart; a terminal that is too narrow folds the cells."""
        if self.as_json:
            return
        from rich.table import Table
        from rich.text import Text

        table = Table(box=None, show_header=header, header_style="bold", pad_edge=False, padding=(0, 2, 0, 0))
        for column in columns:
            table.add_column(column, overflow="fold")
        for row in rows:
            table.add_row(*(Text(clean(cell), style=style_of(cell)) if isinstance(cell, str) else cell for cell in row))
        if self.console.is_terminal:
            self.line(table)
            return
        with self.console.capture() as captured:
            self.console.print(table)
        for line in captured.get().splitlines():  # a file needs no padding at the ends of its lines
            sys.stdout.write(line.rstrip() + "\n")

    def findings(self, findings: Iterable[Finding]) -> None:
        """Print findings to standard error: what, where, what to do."""
        findings = list(findings)
        if not findings or self.as_json:
            return
        sys.stdout.flush()
        from rich.text import Text

        console = self._make(sys.stderr)
        for finding in findings:
            text = Text()
            text.append("stop  " if finding.is_fatal else "note  ", style="bold red" if finding.is_fatal else "bold")
            where = str(finding.where)
            if where and where not in finding.what:
                text.append(f"{clean(where)}: ")
            text.append(clean(finding.what))
            if finding.remedy:
                text.append(f"\n      {clean(finding.remedy)}", style="dim")
            console.print(text)

    def candidates(self, rows: Sequence[Sequence[str]]) -> None:
        """Print to standard error what a typed name may have meant, the last column unpadded."""
        from rich.table import Table

        sys.stdout.flush()
        table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
        for row in rows:
            table.add_row(*(clean(cell) for cell in ("", *row)))
        console = self._make(sys.stderr)
        with console.capture() as captured:
            console.print(table)
        sys.stderr.write("".join(f"{line.rstrip()}\n" for line in captured.get().splitlines()))

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


_STYLES = {
    "disabled": "red", "missing": "red", "misplaced": "red", "not in the charter": "yellow", "not protected": "yellow",
    "built": "green", "broken off": "red", "in part": "yellow", "protected": "cyan",
}  # fmt: skip


def style_of(word: str) -> str:
    """The colour of a word that must be seen at a glance; most have none."""
    return _STYLES.get(word, "")
