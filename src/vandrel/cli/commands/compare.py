"""``vandrel compare``: two objects side by side."""

from __future__ import annotations

import argparse

from vandrel.cli import complete
from vandrel.cli.session import Session, count

NAME = "compare"
HELP = "two objects side by side, groups too"
DESCRIPTION = """\
Put two objects side by side: what differs, what only one of them has, and, with --all, what is the same. Groups are
compared one by one."""
EXAMPLES = """\
  vandrel compare alund bdahl
  vandrel compare adm-alund adm-tsund --all
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    for place in ("left", "right"):
        name = parser.add_argument(place, metavar="NAME", help="account, group, unit or computer")
        complete.attach(name, complete.objects)
    parser.add_argument("--all", action="store_true", help="also what is the same")


def run(session: Session) -> int:
    from rich.text import Text

    from vandrel.jobs.common.resolve import resolve
    from vandrel.jobs.inspect.compare import compare

    context = session.context
    left, right = (resolve(context, name) for name in (session.args.left, session.args.right))
    rows = compare(context, left, right)
    if session.out.as_json:
        found = [{"field": r.field, "left": list(r.left), "right": list(r.right), "same": r.same} for r in rows]
        session.out.json({"command": NAME, "left": str(left.dn), "right": str(right.dn), "fields": found})
        return 0
    shown = []
    for row in rows:
        if row.same and not session.args.all:
            continue
        both = [value for value in row.left if value in row.right]
        left_only, right_only = ([v for v in values if v not in both] for values in (row.left, row.right))
        style = "dim" if row.same else ""
        shown.append(
            (row.field, Text(_said(row.left if row.same else left_only), style), Text(_said(right_only), style))
        )
        if both and not row.same:
            shown.append(("", Text(f"both: {', '.join(both)}", "dim"), Text("")))
    if shown:
        session.out.table(("field", context.label(left), context.label(right)), shown)
    same = sum(row.same for row in rows)
    session.out.note(f"{chr(10) if shown else ''}{count(len(rows) - same, 'field')} different, {same} the same.")
    return 0


def _said(values: object) -> str:
    assert isinstance(values, list | tuple)
    return ", ".join(values) or "-"
