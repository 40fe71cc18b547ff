"""``vandrel hierarchy``: the charter's design beside what exists, and building what is missing."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli.session import Session, count, exit_code, steps_as_json

if TYPE_CHECKING:
    from vandrel.directory.ldif import Origin
    from vandrel.jobs.hierarchy.build import Comparison

NAME = "hierarchy"
HELP = "the charter's units beside what exists; build what is missing"
DESCRIPTION = """\
Draw the hierarchy that the charter designs beside the directory: what is built, missing, not protected, misplaced or
not in the charter, and which accounts stand where they do not belong. `build` makes the missing units and groups, and
the directory itself where there is none. `delegate` puts in force what the charter delegates to teams: as access entries
where the server keeps them on units; for slapd as text of access rules, which its own administrator loads."""
EXAMPLES = """\
  vandrel hierarchy                  what is there and what is not
  vandrel hierarchy --differences    only what is not as designed
  vandrel hierarchy build --dry-run  what would be made
  vandrel hierarchy build
  vandrel hierarchy delegate          let teams do what the charter delegates to them
  vandrel hierarchy delegate --rules  the same as access rules for slapd
"""
WRITES = True


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "action",
        nargs="?",
        choices=("draw", "build", "delegate"),
        default="draw",
        help="draw (the default), build or delegate",
    )
    parser.add_argument("--rules", action="store_true", help="with delegate: print access rules for slapd, in LDIF")
    parser.add_argument("--differences", action="store_true", help="draw only what is not as designed")


def run(session: Session) -> int:
    from vandrel.jobs.hierarchy.build import compare
    from vandrel.steps.runner import Plan

    if session.args.action == "delegate":
        return _delegate(session)
    build = session.args.action == "build"
    if build and session.is_missing and not new_directory(session):
        return 0
    comparison = compare(session.context)
    if not build:
        if session.out.as_json:
            session.out.json(_as_json(comparison))
        else:
            _draw(session, comparison)
        return 0
    _preview(session, comparison)
    plan = Plan("build the hierarchy", comparison.steps, comparison.findings)
    report = session.carry_out(plan, f"Make {count(len(plan.steps), 'change')}?")
    if session.out.as_json:
        session.out.json(
            {"command": "hierarchy build", "steps": steps_as_json(plan), "job": report.job if report else None}
        )
    return exit_code(report)


def _delegate(session: Session) -> int:
    """Put in force what the charter delegates, or print it as access rules."""
    from vandrel.cli.change import carry_out
    from vandrel.fields import UNIT
    from vandrel.jobs.hierarchy import delegation
    from vandrel.jobs.hierarchy.access_rules import as_ldif

    context = session.context
    if session.args.rules:
        print(as_ldif(context), end="")
        return 0
    if why := context.dialect.why_not_kept("delegation", UNIT):
        said = "a file knows no identities" if context.directory.capabilities.embedded else why
        session.out.note(f"The charter records what is delegated; here nothing enforces it: {said}.")
        session.out.note("For slapd: vandrel hierarchy delegate --rules prints access rules to load.")
        return 0
    edits = delegation.missing(context)
    if not edits:
        session.out.note("Everything that the charter delegates is in force.")
        return 0
    return carry_out(session, edits, verb="delegate")


def new_directory(session: Session, origin: Origin | None = None) -> bool:
    """Make the directory's file, as a copy of another if that is what `origin` tells of; false after a dry run."""
    from vandrel.directory.embedded.store import EmbeddedDirectory

    charter = session.charter
    session.out.note(f"There is no directory yet: {session.directory_path} will be made, for {charter.base}.")
    if session.args.dry_run:
        session.out.note("Dry run: nothing was changed.")
        return False
    session.out.confirm("Make it?", yes=session.args.yes)
    contexts = list(dict.fromkeys([*(origin.contexts if origin else ()), charter.base]))
    definitions = origin.definitions if origin else ()
    EmbeddedDirectory.create(session.directory_path, contexts, definitions).close()
    return True


def _preview(session: Session, comparison: Comparison) -> None:
    from vandrel.directory import place as places
    from vandrel.jobs.hierarchy.build import State

    if session.out.as_json or session.out.quiet:
        return
    rows = [
        (f"  {places.to_text(unit.place)}", "unit, protected" if unit.state is State.MISSING else "protect", unit.about)
        for unit in comparison.units
        if unit.state in (State.MISSING, State.UNPROTECTED)
    ]
    rows += [(f"  {name}", "group", "") for name in comparison.groups]
    if rows:
        session.out.heading("To be done")
        session.out.table(("place", "what", "about"), rows, header=False)
        session.out.line()


def _draw(session: Session, comparison: Comparison) -> None:
    from rich.text import Text
    from rich.tree import Tree

    from vandrel.cli.terminal import clean, style_of
    from vandrel.jobs.hierarchy.build import State

    root = Tree(
        Text(f"{clean(session.charter.document.organization)}  {session.charter.base}", style="bold"), guide_style="dim"
    )
    branches: dict[tuple[str, ...], Tree] = {(): root}
    off = [unit.place for unit in comparison.units if unit.state is not State.BUILT]
    differing = {place[:depth] for place in off for depth in range(1, len(place) + 1)}
    for unit in comparison.units:
        if session.args.differences and unit.place not in differing:
            continue
        label = Text(clean(unit.place[-1]))
        if unit.state is not State.BUILT:  # what is as designed needs no word
            label.append(f"  {unit.state.value}", style=style_of(unit.state.value))
        if unit.elsewhere:
            label.append(f", belongs at {clean(unit.elsewhere)}")
        if unit.accounts:
            label.append(f"  {count(unit.accounts, 'account')}")
        if unit.about:
            label.append(f"  {clean(unit.about)}", style="dim")
        above = branches.get(unit.place[:-1], root)
        branches[unit.place] = above.add(label)
    session.out.line(root)
    if comparison.groups:
        session.out.line()
        session.out.heading("Groups of the design that are missing")
        session.out.line("  " + ", ".join(comparison.groups))
    if comparison.strays:
        session.out.line()
        session.out.heading("Accounts where they do not belong")
        session.out.table(
            ("name", "place", "why"), [(f"  {s.dn.name}", s.where, s.why) for s in comparison.strays], header=False
        )
    _summary(session, comparison)


def _summary(session: Session, comparison: Comparison) -> None:
    from collections import Counter

    from vandrel.jobs.hierarchy.build import State

    counts = Counter(unit.state for unit in comparison.units)
    said = [f"{counts[state]} {state.value}" for state in State if counts[state]]
    session.out.note(f"\n{count(len(comparison.units), 'unit')}: {', '.join(said)}.")
    if comparison.steps:
        session.out.note("vandrel hierarchy build makes what is missing, and protects what is to be protected.")


def _as_json(comparison: Comparison) -> dict[str, object]:
    from vandrel.directory import place as places

    return {
        "command": "hierarchy",
        "units": [
            {
                "place": places.to_text(unit.place),
                "state": unit.state.value,
                "accounts": unit.accounts,
                "belongs": unit.elsewhere or None,
            }
            for unit in comparison.units
        ],
        "missing_groups": list(comparison.groups),
        "strays": [{"dn": str(stray.dn), "place": stray.where, "why": stray.why} for stray in comparison.strays],
    }
