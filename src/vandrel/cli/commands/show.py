"""``vandrel show``: everything about one object or several."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli import complete, options
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "show"
HELP = "show everything about an account, a group or a unit"
DESCRIPTION = """\
Show accounts, groups and units, named by a logon name, a mail address, an employee number, a place, a
distinguished name, or fragments of a name. What is shown is what the directory has now."""
EXAMPLES = """\
  vandrel show alund                          by logon name
  vandrel show "jör mül" /Ferries/Northquay   by fragments, and a unit by its place
  vandrel show alund --only phone             the fields and attributes with this in their name, empty ones too
  vandrel show alund --bare dn                the distinguished name alone, ready to paste
  vandrel show alund --effective              every group that counts, and by which way
  vandrel show alund --hours-picture week.png  the hours of the week, as a picture (png, svg, pdf)
  vandrel show alund --password-rules         the rules in force for the password, and its age
  vandrel show alund --raw                    every attribute as the directory has it
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    names = parser.add_argument("names", nargs="*", metavar="NAME", help="account, group or unit")
    complete.attach(names, complete.objects)
    only = parser.add_argument(
        "--only", metavar="FRAGMENT", help="fields and attributes with this in their name, empty ones too"
    )
    complete.attach(only, complete.columns)
    bare = parser.add_argument(
        "--bare", metavar="FIELD", help="the values of one field alone: dn, mail, web, @attribute ..."
    )
    complete.attach(bare, complete.columns)
    parser.add_argument(
        "--all", action="store_true", help="also what is allowed and empty, and what the directory keeps itself"
    )
    parser.add_argument(
        "--effective",
        action="store_true",
        help="every group that counts, by way of which others; and inherited policies",
    )
    parser.add_argument(
        "--password-rules", action="store_true", help="the password rules in force, where each comes from, and ages"
    )
    parser.add_argument("--hours-picture", metavar="FILE", help="draw the hours of the week into this file")
    parser.add_argument(
        "--raw", action="store_true", help="attributes by their names in the schema, with their raw values"
    )


def run(session: Session) -> Report:
    """Hand the request on; a picture of hours is drawn here."""
    from vandrel.jobs.inspect.show import ShowRequest, show

    args = session.args
    names = args.names or [options.ask_name(session)]
    if args.hours_picture:
        return _draw_hours(session, names)
    request = ShowRequest(
        names, args.only or "", args.bare or "", args.raw, args.all, args.effective, args.password_rules
    )
    return show(session.context, request)


def _draw_hours(session: Session, names: list[str]) -> Report:
    from vandrel.cli.figures import save, week_figure
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.jobs.common.report import Report
    from vandrel.jobs.inspect.show import hours_of
    from vandrel.text import week

    if len(names) > 1:
        raise VandrelError(Code.USAGE, "one picture is of one account", where=Location(option="--hours-picture"))
    title, hours = hours_of(session.context, names[0])
    path = Path(session.args.hours_picture)
    save(week_figure(week.parse(hours), title, hours), path)
    return Report(
        "show", facts=[("picture", str(path))] if session.terminal.as_json else [], summary=[f"Written: {path}"]
    )
