"""The places of the directory, drawn: units with what stands directly in them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct

from vandrel.directory.entry import Entry
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import UNIT
from vandrel.jobs.common.report import Branch, Cell, Report, count
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context
from vandrel.objects.delegation import delegation_rows
from vandrel.objects.view import ObjectView


class TreeRequest(Struct, frozen=True):
    """What to draw: from which unit on, how many levels, and whether accounts and groups are drawn too."""

    place: str = ""
    depth: int | None = None
    with_objects: bool = False


def tree(context: Context, request: TreeRequest) -> Report:
    """Draw the units below a place as they are in the directory.

    Raises:
        VandrelError: ``not-found`` where the directory is empty, or what resolving the place raises.

    """
    base = context.charter.base
    top = resolve(context, request.place, (UNIT,)) if request.place else context.directory.get(base)
    if top is None:
        raise VandrelError(
            Code.NOT_FOUND, "the directory is empty", where=Location(server=context.directory.location),
            remedy="vandrel hierarchy build makes the units of the charter",
        )  # fmt: skip
    entries, counts = _read(context, top, with_leaves=request.with_objects)
    columns = ("place", "dn", "state", "delegation", "accounts", "groups")
    rows = [_row(context, entry, counts) for entry in entries if _is_branch(context, entry, top)]
    return Report("tree", columns, rows, drawing=_drawn(context, request, entries, counts, top))


def _read(context: Context, top: Entry, *, with_leaves: bool) -> tuple[list[Entry], dict[str, dict[str, int]]]:
    """What is drawn, superiors first; and for each name, how many objects of each type stand directly below it.

    Accounts, groups and computers are counted as they come, and kept only where they are drawn.
    """
    counts: dict[str, dict[str, int]] = {}
    entries: list[Entry] = []
    for entry in context.directory.search(top.dn):
        object_type = context.object_type(entry)
        is_leaf = object_type not in (UNIT, "") and entry.dn != top.dn
        if is_leaf:
            types = counts.setdefault(entry.dn.parent_key, {})
            types[object_type] = types.get(object_type, 0) + 1
        if with_leaves or not is_leaf:
            entries.append(entry)
    drawn = sorted(_worth_drawing(context, entries, top), key=lambda entry: entry.dn.key)
    for entry in drawn:
        if _is_closed(context, entry, top):
            counts.pop(entry.dn.key, None)  # what is not drawn is not counted
    return drawn, counts


def _worth_drawing(context: Context, entries: Sequence[Entry], top: Entry) -> Iterator[Entry]:
    """Of what the server made for itself, the first level alone, and nothing that is meant for experts."""
    # What a base holds that is no unit of ours is the server's: its insides are not what people come for.
    closed: set[str] = set()
    for entry in sorted(entries, key=lambda entry: len(entry.dn.key)):
        if entry.dn != top.dn and entry.dn.parent_key in closed:
            closed.add(entry.dn.key)
            continue
        if _is_closed(context, entry, top):
            closed.add(entry.dn.key)
        if entry.dn == top.dn or context.object_type(entry) != "" or not context.dialect.is_servers_own(entry):
            yield entry


def _is_closed(context: Context, entry: Entry, top: Entry) -> bool:
    """Whether what stands in it is not drawn: it is no unit of ours, and the server makes such containers."""
    return entry.dn != top.dn and context.object_type(entry) == "" and context.dialect.has_servers_own


def _is_branch(context: Context, entry: Entry, top: Entry) -> bool:
    return entry.dn == top.dn or context.object_type(entry) in (UNIT, "")


def _row(context: Context, entry: Entry, counts: Mapping[str, Mapping[str, int]]) -> list[Cell]:
    types = counts.get(entry.dn.key, {})
    delegated = [f"{team}: {tasks}{f' ({state})' if state else ''}" for team, tasks, state in
                 delegation_rows(context, entry)]  # fmt: skip
    states = ObjectView(context, entry).states
    return [context.place(entry.dn), str(entry.dn), states, delegated, types.get("account", 0), types.get("group", 0)]


def _drawn(
    context: Context, request: TreeRequest, entries: Sequence[Entry], counts: Mapping[str, Mapping[str, int]],
    top: Entry,
) -> Branch | None:  # fmt: skip
    branches: dict[str, Branch] = {}
    root: Branch | None = None
    for entry in entries:
        is_branch = _is_branch(context, entry, top)
        level = len(entry.dn) - len(top.dn)
        if (not is_branch and not request.with_objects) or (request.depth is not None and level > request.depth):
            continue
        branch = _branch(context, entry, counts.get(entry.dn.key, {}), is_branch=is_branch)
        above = branches.get(entry.dn.parent.key)
        if above is not None:
            above.below.append(branch)
        root = root or branch
        branches[entry.dn.key] = branch
    return root


def _branch(context: Context, entry: Entry, types: Mapping[str, int], *, is_branch: bool) -> Branch:
    view = ObjectView(context, entry)
    is_top = entry.dn == context.charter.base
    branch = Branch(str(entry.dn) if is_top else entry.dn.name if is_branch else view.label, is_unit=is_branch)
    is_servers = not is_top and (view.object_type == "" or context.dialect.is_servers_own(entry))
    if is_servers:
        branch.faint.append("made by the server")
    words = [count(types[each], each) for each in ("account", "group") if types.get(each)]
    branch.words += [", ".join(words)] if is_branch and words else []
    if view.object_type == UNIT and not is_servers:
        # Units are protected as a rule: the one that is not must catch the eye.
        branch.marks += [] if "protected" in view.states else ["not protected"]
        branch.faint += [f"{team}: {tasks}{f' ({state})' if state else ''}" for team, tasks, state in
                         delegation_rows(context, entry)]  # fmt: skip
    else:
        branch.marks += [] if is_servers else view.states
    return branch
