"""What the commands print: tables, findings, questions. Nothing else knows the terminal."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any, TextIO

from vandrel.errors import Code, Finding, VandrelError

if TYPE_CHECKING:
    from rich.console import Console, RenderableType
    from rich.text import Text

#: Columns where the output is no terminal: wide enough for a line of a table, narrow enough for a mail.
_WIDTH_OF_A_FILE = 160

_CONTROL = {code: None for code in (*range(0x20), *range(0x7F, 0xA0)) if code != 0x0A}


def clean(text: str) -> str:
    """Text from a directory without control characters, which could drive the terminal."""
    return text.translate(_CONTROL) if not text.isprintable() else text


class Output:
    """One command's output.

    Attributes:
        as_json: whether one JSON object goes to standard output instead of text for people.
        quiet: whether only errors and what was asked for are printed.

    """

    def __init__(
        self, *, as_json: bool = False, quiet: bool = False, verbose: bool = False, color: bool = True
    ) -> None:
        self.as_json, self.quiet, self.verbose = as_json, quiet, verbose
        self._color = color and not os.environ.get("NO_COLOR")
        self._console: Console | None = None

    @property
    def console(self) -> Console:
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
    def interactive(self) -> bool:
        """Whether somebody can be asked."""
        return sys.stdin.isatty() and sys.stdout.isatty()

    # --- for programs

    def json(self, data: Any) -> None:
        import json

        json.dump(data, sys.stdout, ensure_ascii=False, indent=2, default=str)
        sys.stdout.write("\n")

    # --- for people

    def line(self, text: RenderableType = "") -> None:
        if not self.as_json:
            self.console.print(clean(text) if isinstance(text, str) else text)

    def note(self, text: str) -> None:
        """A line that --quiet leaves out."""
        if not self.quiet:
            self.line(text)

    def heading(self, text: str) -> None:
        from rich.text import Text

        self.line(Text(clean(text), style="bold"))

    def table(self, columns: Sequence[str], rows: Iterable[Sequence[str | Text]], *, header: bool = True) -> None:
        """Rows in columns, two spaces apart; a terminal that is too narrow folds the cells."""
        from rich.table import Table
        from rich.text import Text

        table = Table(box=None, show_header=header, header_style="bold", pad_edge=False, padding=(0, 2, 0, 0))
        for column in columns:
            table.add_column(column, overflow="fold")
        for row in rows:
            table.add_row(*(Text(clean(cell), style=style_of(cell)) if isinstance(cell, str) else cell for cell in row))
        if self.as_json or self.console.is_terminal:
            self.line(table)
            return
        with self.console.capture() as captured:
            self.console.print(table)
        for line in captured.get().splitlines():  # a file needs no padding at the ends of its lines
            sys.stdout.write(line.rstrip() + "\n")

    def findings(self, findings: Iterable[Finding]) -> None:
        """Findings to standard error: what, where, what to do."""
        from rich.text import Text

        console = self._make(sys.stderr)
        for finding in findings:
            text = Text()
            text.append("stop  " if finding.is_fatal else "note  ", style="bold red" if finding.is_fatal else "bold")
            if finding.where and finding.where not in finding.what:
                text.append(f"{clean(finding.where)}: ")
            text.append(clean(finding.what))
            if finding.remedy:
                text.append(f"\n      {clean(finding.remedy)}", style="dim")
            console.print(text)

    def error(self, error: VandrelError) -> None:
        if self.as_json:
            import json

            findings = [finding.as_json() for finding in error.findings]
            json.dump({"exit": error.exit_code, "findings": findings}, sys.stderr, ensure_ascii=False, indent=2)
            sys.stderr.write("\n")
        else:
            sys.stdout.flush()
            self.findings(error.findings)

    # --- asking

    def confirm(self, question: str, *, yes: bool) -> None:
        """Go on only if the answer is yes.

        Raises:
            VandrelError: ``declined``; ``usage`` where nobody can be asked and --yes was not given.

        """
        if yes:
            return
        if not self.interactive or self.as_json:
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
