"""What ``vandrel show`` adds on demand: the week, groups that count, the rules for the password."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.directory.entry import Entry


def week_of(session: Session, hours: str) -> None:
    """Logon hours as a week, by the organization's clock."""
    from vandrel.text import week

    session.out.line()
    session.out.heading(f"Hours of the week ({session.charter.document.time_zone})")
    for line in week.drawn(week.parse(hours)):
        session.out.line(f"  {line}")


def hours_picture(session: Session, entries: Sequence[Entry]) -> int:
    """Draw the hours of one account into a file.

    Raises:
        VandrelError: ``usage`` for several accounts, ``not-found`` where there are no hours.

    """
    from pathlib import Path

    from vandrel.cli.figures import save, week_figure
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.text import week

    if len(entries) > 1:
        raise VandrelError(Code.USAGE, "one picture is of one account", where=Location(option="--hours-picture"))
    context, path = session.context, Path(session.args.hours_picture)
    hours = context.one(entries[0], "hours")
    if not hours:
        what = f"{context.label(entries[0])} has no hours: it may log on at any time"
        raise VandrelError(
            Code.NOT_FOUND, what, where=Location(field="hours"), remedy='give it some: hours="Mon-Fri 06-18"'
        )
    title = f"{context.label(entries[0])}: hours of the week ({session.charter.document.time_zone})"
    save(week_figure(week.parse(hours), title, hours), path)
    session.out.note(f"Written: {path}")
    return 0


def groups_that_count(session: Session, entry: Entry) -> None:
    """Every group that membership amounts to, with the path that gives it."""
    from vandrel.jobs.groups.membership import convertible, effective
    from vandrel.jobs.hierarchy.policies import reaching

    reach = session.charter.power
    rows = [
        (f"  {found.group.dn.name}", " in ".join(found.through) or "directly", reach.get(found.group.dn.name, ""))
        for found in effective(session.context, entry)
    ]
    session.out.line()
    session.out.heading("Groups that count")
    session.out.table(("group", "through", "power"), rows or [("  none", "", "")], header=False)
    object_type = session.context.dialect.object_type_of(entry)
    if object_type == "group" and session.context.one(entry, "scope"):
        session.out.line()
        session.out.heading("What its scope could become")
        scopes = [(f"  {scope}", why or "yes") for scope, why in convertible(session.context, entry)]
        session.out.table(("scope", "why"), scopes, header=False)
    if policies := reaching(session.context, entry.dn if object_type in ("unit", "") else entry.dn.parent):
        session.out.line()
        session.out.heading("Policies that reach it, the last wins")
        session.out.table(
            ("policy", "from", ""),
            [(f"  {p.name}", p.unit, "enforced" if p.enforced else "") for p in policies], header=False,
        )  # fmt: skip


def rules_in_force(session: Session, entry: Entry) -> None:
    """The rules in force for an account, each with its source, and what they mean for the password it has."""
    from vandrel.cli.passwords import show_rules
    from vandrel.jobs.accounts.password_age import ages
    from vandrel.jobs.common.edit import password_rules

    if session.context.dialect.object_type_of(entry) != "account":
        return
    rules = password_rules(session.context, entry)
    session.out.line()
    show_rules(session, rules)
    known = ages(session.context, entry, rules)
    said = [("set", known.set, ""), ("its owner may change it from", known.minimum_age, rules.rules["minimum-age"].source)]
    said.append(("too old from", known.old, known.source))
    rows = [
        (f"  {label}", when.astimezone(session.charter.zone).strftime("%Y-%m-%d %H:%M") if when else "never", source)
        for label, when, source in said
    ]
    session.out.heading("The password that it has")
    if known.set is None:
        session.out.line("  when it was set is not known")
    else:
        session.out.table(("what", "when", "from"), rows, header=False)
