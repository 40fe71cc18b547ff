"""``vandrel delete``: objects that go, one or thousands, and who loses them."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import selection
from vandrel.cli.session import Session, count, exit_code, steps_as_json

if TYPE_CHECKING:
    from vandrel.jobs.lifecycle.delete import Deleting

NAME = "delete"
HELP = "delete accounts, groups, computers and units"
DESCRIPTION = """\
Delete objects, by name, by filter or from a list: what stands below them, which groups they leave, and who loses a
manager is shown first, and asked once for all. What was there is in the journal: vandrel undo brings it back, with its
memberships and reports, as a new object with the old name, and without its password."""
EXAMPLES = """\
  vandrel delete alund
  vandrel delete /Ferries/Northquay/Stores --contents
  vandrel delete --where "(employeeType=seasonal)" --under /Ferries/Kelness -n
  vandrel find kind=seasonal ends="2026-*" --columns login --as csv | tail -n +2 | vandrel delete - --yes
"""
WRITES = True

#: Objects up to which every one is shown; beyond, figures must do.
_SHOWN = 10


def configure(parser: argparse.ArgumentParser) -> None:
    selection.add_names(parser)
    parser.add_argument("--contents", action="store_true", help="all that stands below a unit goes along")


def run(session: Session) -> int:
    from vandrel.errors import Refused, are_fatal
    from vandrel.jobs.lifecycle.delete import delete, give_back
    from vandrel.steps.runner import Plan

    chosen = selection.chosen(session, session.args.names)
    found = delete(session.context, chosen, contents=session.args.contents)
    _preview(session, found)
    if are_fatal(found.findings):
        raise Refused(found.findings)
    names = ", ".join(entry.dn.name for entry in chosen[:_SHOWN])
    more = f" and {len(chosen) - _SHOWN} more" if len(chosen) > _SHOWN else ""
    plan = Plan(f"{NAME} {names}{more}", found.steps, found.findings, whole=False)
    report = session.carry_out(plan, f"Delete {count(len(found.entries), 'object')}?")
    if report is not None and report.stayed and (back := give_back(found, report.stayed)):
        what = f"give back memberships: {count(len(report.stayed), 'object')} could not be deleted"
        session.report(session.runner.run(Plan(what, back, whole=False), session.command))
    if report is not None and report.made:
        session.out.note(f"To bring back what is gone: vandrel undo {report.job}")
    if session.out.as_json:
        gone = [str(entry.dn) for entry in found.entries]
        losses = [{"dn": str(x.holder), "attribute": x.attribute, "loses": str(x.gone)} for x in found.losses]
        job = report.job if report else None
        session.out.json({"command": NAME, "objects": gone, "losses": losses, "steps": steps_as_json(plan), "job": job})
    return exit_code(report)


def _preview(session: Session, found: Deleting) -> None:
    """Of a few objects each with who loses it; of many their figures."""
    from collections import Counter

    if session.out.as_json or session.out.quiet:
        return
    context, entries = session.context, found.entries
    for entry in entries[:_SHOWN] if len(entries) <= _SHOWN else ():
        session.out.heading(f"{context.label(entry)} in {context.place(entry.dn.parent)}")
        lost: dict[str, list[str]] = {}
        for loss in found.losses:
            if loss.gone == entry.dn:
                lost.setdefault(_meaning(loss.attribute), []).append(loss.holder.name)
        rows = [(f"  {meaning}", _some(sorted(who))) for meaning, who in lost.items()]
        session.out.table(("what", "whom"), rows or [("  nothing points at it", "")], header=False)
    if len(entries) > _SHOWN:
        object_types = Counter(context.dialect.object_type_of(entry) or "object" for entry in entries)
        session.out.heading("To be deleted")
        session.out.line("  " + ", ".join(count(number, object_type) for object_type, number in object_types.items()))
        for attribute, number in Counter(loss.attribute for loss in found.losses).items():
            find_owners = len({loss.holder.key for loss in found.losses if loss.attribute == attribute})
            if attribute == "member":
                session.out.line(f"  {count(number, 'membership')} in {count(find_owners, 'group')}")
            else:
                session.out.line(
                    f"  {count(find_owners, 'object')} that stay{'s' if find_owners == 1 else ''} with no {attribute}"
                )
    session.out.line()


def _some(who: list[str]) -> str:
    more = f" and {len(who) - _SHOWN} more" if len(who) > _SHOWN else ""
    return ", ".join(who[:_SHOWN]) + more


def _meaning(attribute: str) -> str:
    """What an attribute that points at somebody says, from the side of who is pointed at."""
    known = {"member": "is a member of", "manager": "is the manager of", "owner": "is the owner of"}
    return known.get(attribute, f"is the {attribute} of")
