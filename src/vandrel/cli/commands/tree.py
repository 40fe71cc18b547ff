"""``vandrel tree``: the places of the directory, drawn."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.commands.journal import number
from vandrel.cli.session import Session, count
from vandrel.directory.dn import LEVEL

if TYPE_CHECKING:
    from collections.abc import Iterator

    from rich.tree import Tree

    from vandrel.directory.entry import Entry

NAME = "tree"
HELP = "draw the places of the directory"
DESCRIPTION = """\
Draw the units below a place as they are in the directory, with the number of accounts and groups directly in each.
What the server made of its own accord is told apart from units."""
EXAMPLES = """\
  vandrel tree                       everything
  vandrel tree /Ferries/Northquay    one branch
  vandrel tree northquay --objects   with the accounts and groups
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    place = parser.add_argument("place", nargs="?", metavar="PLACE", help="the unit to begin with (default: the top)")
    complete.attach(place, complete.places)
    parser.add_argument("--objects", action="store_true", help="draw the accounts and groups too")
    parser.add_argument("--depth", type=number, metavar="N", help="levels to draw")


def run(session: Session) -> int:
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.resolve import resolve

    context, args = session.context, session.args
    top = resolve(context, args.place, ("unit",)) if args.place else context.directory.get(context.charter.base)
    if top is None:
        raise VandrelError(
            Code.NOT_FOUND, "the directory is empty", where=Location(server=session.directory.location),
            remedy="vandrel hierarchy build makes the units of the charter",
        )  # fmt: skip
    entries = sorted(_worth_drawing(session, top), key=lambda entry: entry.dn.key)
    counts = _counts(session, entries)
    if session.out.as_json:
        session.out.json(
            {"command": "tree", "units": [_as_json(session, e, counts) for e in entries if _is_branch(session, e, top)]}
        )
        return 0
    _draw(session, entries, counts, top)
    return 0


def _worth_drawing(session: Session, top: Entry) -> Iterator[Entry]:
    """What stands below; of what the server made for itself, the first level alone, and nothing meant for experts."""
    context = session.context
    # What a base holds that is no unit of ours is the server's: its insides are not what people come for.
    closed: set[str] = set()
    found = sorted(context.directory.search(top.dn), key=lambda entry: len(entry.dn.key))
    for entry in found:
        if entry.dn != top.dn and entry.dn.key.rpartition(LEVEL)[0] in closed:
            closed.add(entry.dn.key)
            continue
        own = context.dialect.is_servers_own(entry)
        if (
            entry.dn != top.dn
            and context.dialect.object_type_of(entry) == ""
            and context.directory.capabilities.schema == "ad"
        ):
            closed.add(entry.dn.key)
        if entry.dn == top.dn or not own or context.dialect.object_type_of(entry):
            yield entry


def _is_branch(session: Session, entry: Entry, top: Entry) -> bool:
    return entry is top or entry.dn == top.dn or session.context.dialect.object_type_of(entry) in ("unit", "")


def _counts(session: Session, entries: list[Entry]) -> dict[str, dict[str, int]]:
    """For each name, how many accounts and groups stand directly below it."""
    counts: dict[str, dict[str, int]] = {}
    for entry in entries:
        object_type = session.context.dialect.object_type_of(entry)
        found = counts.setdefault(entry.dn.parent.key, {})
        found[object_type] = found.get(object_type, 0) + 1
    return counts


def _as_json(session: Session, entry: Entry, counts: dict[str, dict[str, int]]) -> dict[str, object]:
    from vandrel.cli.commands.show import delegations, states

    found = counts.get(entry.dn.key, {})
    return {
        "place": session.context.place(entry.dn),
        "dn": str(entry.dn),
        "state": states(session, entry),
        "delegation": [{"team": t, "tasks": tasks, "state": state} for t, tasks, state in delegations(session, entry)],
        "accounts": found.get("account", 0),
        "groups": found.get("group", 0),
    }


def _draw(session: Session, entries: list[Entry], counts: dict[str, dict[str, int]], top: Entry) -> None:
    from rich.text import Text
    from rich.tree import Tree

    from vandrel.cli.commands.show import delegations, states
    from vandrel.cli.terminal import clean, style_of

    context, args = session.context, session.args
    branches: dict[str, Tree] = {}
    drawn = None
    for entry in entries:
        object_type = context.dialect.object_type_of(entry)
        is_branch = _is_branch(session, entry, top)
        level = len(entry.dn) - len(top.dn)
        if (not is_branch and not args.objects) or (args.depth is not None and level > args.depth):
            continue
        top_name = entry.dn == context.charter.base
        name = str(entry.dn) if top_name else entry.dn.name if is_branch else context.label(entry)
        label = Text()
        label.append(clean(name), style="bold" if is_branch else "")
        if object_type == "" and not top_name:
            label.append("  made by the server", style="dim")
        found = counts.get(entry.dn.key, {})
        said = [
            count(found[object_type], object_type) for object_type in ("account", "group") if found.get(object_type)
        ]
        if is_branch and said:
            label.append(f"  {', '.join(said)}")
        marks = states(session, entry)
        for mark in marks:
            # Units are protected as a rule: the one that is not must catch the eye.
            label.append(f"  {mark}", style="dim" if object_type == "unit" else style_of(mark))
        if object_type == "unit" and not marks:
            label.append("  not protected", style=style_of("not protected"))
        if object_type == "unit":
            for team, tasks, state in delegations(session, entry):
                label.append(f"  {team}: {tasks}{f' ({state})' if state else ''}", style="dim")
        above = branches.get(entry.dn.parent.key)
        branch = Tree(label, guide_style="dim") if above is None else above.add(label)
        drawn = drawn or branch
        branches[entry.dn.key] = branch
    if drawn is not None:
        session.out.line(drawn)
