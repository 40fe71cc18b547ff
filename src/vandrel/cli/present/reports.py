"""Reports on the terminal: facts, rows, tables, drawings, objects in full."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from vandrel.cli.terminal import clean, style_of
from vandrel.jobs.common.report import Branch, Cell, ObjectDetail, Report, Table, shown

if TYPE_CHECKING:
    from rich.text import Text
    from rich.tree import Tree

    from vandrel.cli.session import Session
    from vandrel.cli.terminal import Terminal


def put_out(session: Session, report: Report) -> int:
    """Put a report out, and return its exit code."""
    out = session.terminal
    if report.abandons and not session.args.dry_run:
        session.runner.abandon(report.abandons)
    if out.as_json:
        from vandrel.cli.present.json_output import encode, of_report

        out.write(encode(of_report(report)))
        return report.exit_code
    out.findings(report.findings)
    if report.text:
        out.write(report.text)
    if report.title:
        out.heading(report.title)
    if report.facts:
        out.table(("fact", "value"), [(name, shown(cell)) for name, cell in report.facts], header=False)
    is_shown = report.drawing is None and not report.is_for_programs and not report.text
    rows = [[shown(cell) for cell in row] for row in report.rows] if is_shown else []
    if rows:
        if report.facts:
            out.line()
        out.table(report.columns, rows, header=report.has_header)
    if report.drawing is not None:
        out.line(_tree(report.drawing))
    for number, detail in enumerate(report.objects):
        if number:
            out.line()
        show_object(out, detail)
    is_below = bool(rows or report.drawing or report.objects or report.facts)
    for table in report.tables:
        is_below |= show_table(out, table, is_below=is_below)
    for number, line in enumerate(report.summary):
        out.note(f"\n{line}" if is_below and number == 0 else line)
    return report.exit_code


def show_table(out: Terminal, table: Table, *, is_below: bool = True) -> bool:
    """Put out a table under its title; of one without rows what it says in their place. Whether there was anything."""
    rows = [_row(row, is_indented=bool(table.title)) for row in table.rows]
    if not rows and not table.empty:
        return False
    if is_below:
        out.line()
    if table.title:
        out.heading(table.title)
    if rows:
        out.table(_row(table.columns, is_indented=bool(table.title)), rows, header=table.has_header)
    else:
        out.line(f"  {table.empty}")
    return True


def _row(row: Sequence[Cell], *, is_indented: bool) -> list[str]:
    cells = [shown(cell) for cell in row]
    return [f"  {cells[0]}", *cells[1:]] if is_indented else cells


def show_object(out: Terminal, detail: ObjectDetail) -> None:
    """Put out one object in full: first what the reader wants to know, then the fields by topic."""
    out.styled([(detail.title, "bold"), *((f"  {mark}", style_of(mark)) for mark in detail.marks)])
    if detail.sentence:
        out.line(detail.sentence)
    if not detail.is_brief:
        out.styled([(detail.dn, "dim")])
    if detail.topics:
        out.line()
        out.table(("topic", "field", "value"), detail.topics, header=False, lead="bold")
    if detail.week:
        out.line()
        out.heading(detail.week[0])
        for line in detail.week[1:]:
            out.line(f"  {line}")
    if detail.lines:
        out.line()
        for line in detail.lines:
            out.line(line)
    for number, table in enumerate(detail.tables):
        show_table(out, table, is_below=bool(number) or not detail.is_brief)


def _tree(branch: Branch) -> Tree:
    from rich.tree import Tree

    root = Tree(_label(branch), guide_style="dim")
    waiting = [(root, branch)]
    while waiting:
        node, shown_branch = waiting.pop()
        for below in shown_branch.below:
            waiting.append((node.add(_label(below)), below))
    return root


def _label(branch: Branch) -> Text:
    from rich.text import Text

    label = Text(clean(branch.name), style="bold" if branch.is_unit else "")
    for word in branch.words:
        label.append(f"  {clean(word)}")
    for mark in branch.marks:
        label.append(f"  {clean(mark)}", style=style_of(mark))
    for word in branch.faint:
        label.append(f"  {clean(word)}", style="dim")
    return label
