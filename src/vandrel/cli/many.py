"""Many new and changed objects at once: checked as a whole, made with progress, told row by row. Import and series."""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli import row_by_row
from vandrel.cli.session import Session, count, exit_code

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from vandrel.cli.passwords import HandOut
    from vandrel.errors import Finding
    from vandrel.intake.item import Item
    from vandrel.jobs.bulk.outcomes import Outcome
    from vandrel.jobs.bulk.roster import Line, Roster, State
    from vandrel.secret import Secret
    from vandrel.steps.runner import Progress
    from vandrel.steps.step import Step

#: Findings and people shown; beyond, a file and a count must do.
_SHOWN, _SAMPLES, _WIDTH = 60, 3, 28
_REFUSALS = 20


def configure(parser: argparse.ArgumentParser) -> None:
    """The options that all such commands take."""
    group = parser.add_argument_group("passwords")
    group.add_argument("--hand-out", metavar="FILE", help="first passwords go here: .csv, .xlsx, or slips in a .pdf")
    group.add_argument("--recipient", metavar="KEY", default="", help="encrypt the hand-out to this age public key")
    group.add_argument("--password", choices=("generate", "ask", "-"),
                       help="for who is given none: generated (default), or one for all, asked for, or read from "
                       "standard input")  # fmt: skip
    group.add_argument("--no-passwords", action="store_true", help="make accounts without passwords, disabled")
    group = parser.add_argument_group("how far to go")
    group.add_argument("--first", type=positive, metavar="N", help="a trial: make only the first N that are to be made")
    group.add_argument("--most-refused", type=natural, default=_REFUSALS, metavar="N",
                       help=f"stop after more refusals than this (default: {_REFUSALS})")  # fmt: skip
    group.add_argument("--results", metavar="FILE", help="what became of each row, as CSV")


def must_be_possible(session: Session) -> None:
    """Refuse what is refused whatever is in a file, before it is read.

    Raises:
        VandrelError: ``usage`` for a hand-out that cannot be made.

    """
    from vandrel.intake.hand_out import must_be_possible

    if session.args.hand_out:
        must_be_possible(Path(session.args.hand_out), session.args.recipient)


def one_for_all(session: Session, kind: str) -> Secret | None:
    """The password that all get who are given none, if there is to be one; None: each gets one of their own.

    Raises:
        Refused: it breaks the rules, whoever gets it.

    """
    from functools import partial

    from vandrel.charter.passwords import check
    from vandrel.cli.passwords import obtain, show_rules

    args = session.args
    if args.password in (None, "generate") or args.no_passwords or args.dry_run:
        return None
    rules = session.context.password_rules(kind)
    if args.password == "ask":
        show_rules(session, rules)
    words = [session.charter.document.organization]
    return obtain(session, args.password, rules, partial(check, rules=rules, login="", full="", words=words), ())


def with_password(items: Iterable[Item], secret: Secret | None) -> Iterator[Item]:
    """The rows, those that have no password with this one."""
    for item in items:
        item.secret = item.secret or secret
        yield item


def positive(text: str) -> int:
    return _number(text, 1)


def natural(text: str) -> int:
    return _number(text, 0)


def _number(text: str, least: int) -> int:
    if not text.isdecimal() or len(text) > 9 or int(text) < least:
        raise argparse.ArgumentTypeError(f"{text!r} is no number of {least} or more")
    return int(text)


# --- showing


def show_findings(session: Session, findings: Sequence[Finding]) -> None:
    """The findings as a table, those that stop first; notes behind."""
    if session.out.as_json or not findings:
        return
    findings = [*(f for f in findings if f.is_fatal), *_together([f for f in findings if not f.is_fatal])]
    rows = [
        (
            str(f.row) if f.row else "-",
            f.column,
            _short(f.value),
            f"{f.what}" if f.is_fatal else f"note: {f.what}",
            f.remedy,
        )
        for f in findings[:_SHOWN]
    ]
    session.out.table(("row", "column", "value", "what is wrong", "what to do"), rows)
    if len(findings) > _SHOWN:
        session.out.line(f"and {len(findings) - _SHOWN} more: --findings FILE writes all of them beside the rows")
    session.out.line()


def _together(notes: Sequence[Finding]) -> list[Finding]:
    """Notes that say the same of many rows as one of them, with the number of the others."""
    from collections import Counter

    from msgspec import structs

    same = Counter((note.column, note.what) for note in notes)
    first = {(note.column, note.what): note for note in reversed(notes)}
    return [
        structs.replace(note, what=f"{note.what}; the same in {count(same[key] - 1, 'more row')}")
        if same[key] > 1
        else note
        for key, note in reversed(first.items())
    ]


def _short(value: str) -> str:
    one_line = " ".join(value.split())
    return one_line if len(one_line) <= _WIDTH else f"{one_line[: _WIDTH - 1]}…"


def show_roster(session: Session, roster: Roster, object_type: str, counted: str = "row") -> None:
    """The first and the last who are to be made, what changes, and the figures of the whole.

    `counted` says what the numbers of the items are.
    """
    from vandrel.jobs.bulk.roster import State

    if session.out.as_json or session.out.quiet:
        return
    new = [line for line in roster.lines if line.state is State.NEW]
    samples = new if len(new) <= 2 * _SAMPLES else [*new[:_SAMPLES], *new[-_SAMPLES:]]
    if samples:
        session.out.heading("New" if len(samples) == len(new) else f"New, the first and the last of {len(new)}")
        header = (f"  {counted}", "login", "name", "place", "groups", "notes")
        columns = zip(header, *(_sample(session, line, object_type) for line in samples), strict=True)
        filled = [column for column in columns if any(column[1:])]
        session.out.table([column[0] for column in filled], list(zip(*(column[1:] for column in filled), strict=True)))
        session.out.line()
    _show_changes(session, roster)
    if roster.missing:
        session.out.note(f"{count(len(roster.missing), 'object')} not in the file, left alone: --missing lists them")


def _sample(session: Session, line: Line, object_type: str) -> tuple[str, ...]:
    draft = line.draft
    assert draft is not None and draft.dn is not None
    row, place = f"  {line.item.row}", session.context.place(draft.dn.parent)
    if object_type == "account":
        groups = ", ".join(draft.values().get("groups", ()))
        return row, draft.value("login"), draft.value("full") or draft.dn.name, place, groups, ""
    return row, "", draft.dn.name, place, ", ".join(line.item.values("groups")), draft.value("notes")


def _show_changes(session: Session, roster: Roster) -> None:
    from vandrel.jobs.bulk.roster import State

    changes = [line for line in roster.lines if line.state is State.CHANGED and line.edit is not None]
    for line in changes[: 2 * _SAMPLES]:
        assert line.edit is not None
        session.out.heading(f"Row {line.item.row}: {session.context.label(line.edit.entry)}")
        rows = [(f"  {d.field}", ", ".join(d.before) or "(empty)", "->", ", ".join(d.after) or "(empty)")
                for d in line.edit.differences]  # fmt: skip
        session.out.table(("field", "before", "", "after"), rows, header=False)
    if len(changes) > 2 * _SAMPLES:
        session.out.line(f"and {len(changes) - 2 * _SAMPLES} more to be changed")
    if changes:
        session.out.line()


def summary(roster: Roster) -> str:
    """What becomes of the rows, in figures."""
    return ", ".join(f"{number} {state.value}" for state, number in sorted(roster.counts().items(), key=_order))


def _order(item: tuple[State, int]) -> int:
    return list(type(item[0])).index(item[0])


# --- making


def make(session: Session, roster: Roster, object_type: str, title: str) -> int:
    """Make what the roster holds: question, passwords, progress, results; returns the exit code."""
    from vandrel.cli.passwords import HandOut
    from vandrel.jobs.bulk.batches import batches
    from vandrel.jobs.bulk.outcomes import outcomes
    from vandrel.jobs.bulk.roster import State
    from vandrel.steps.runner import Plan

    args = session.args
    wanted = [line for line in roster.lines if line.state in (State.NEW, State.CHANGED)][: args.first]
    hand_out = HandOut(session, args.hand_out, args.recipient)
    if args.dry_run:
        return _checked(session, roster, wanted, object_type)
    made = {line.item.row: _password(session, line, hand_out) for line in wanted if line.state is State.NEW}
    _warn_of_one_for_all(session, [secret for secret in made.values() if secret is not None])
    steps: list[Step] = []
    barriers: list[int] = []
    left_out = 0
    absent = _absent(roster, wanted)
    for batch in batches(session.context, wanted, lambda line: made[line.item.row], object_type, hand_out.name, absent):
        barriers += [len(steps) + batch.cut, len(steps) + len(batch.steps)]
        steps += batch.steps
        left_out = batch.left_out
    _tell_left_out(session, left_out)
    read = frozenset(line.dn.key for line in wanted if line.dn is not None and line.state is State.CHANGED)
    plan = Plan(title, steps, whole=False, read=read, barriers=barriers, most_refused=args.most_refused)
    found: list[Outcome] = []
    with row_by_row.results_file(args.results if steps else None) as results:
        with progress(session, len(steps)) as told:
            report = hand_out.carry_out(plan, f"Make {count(len(wanted), 'object')}?", progress=told)
        if report is not None:
            found = list(outcomes(roster, wanted, steps, report))
            if results is not None:
                row_by_row.write_results(results, session, found, report)
            row_by_row.tell(session, found, report, hand_out)
    if session.out.as_json:
        session.out.json(row_by_row.as_json(session, roster, report, found))
    return exit_code(report)


def _absent(roster: Roster, wanted: Sequence[Line]) -> set[str]:
    """The keys of the names of objects that are not to be made now."""
    from vandrel.jobs.bulk.roster import State

    rows = {line.item.row for line in wanted}
    left = (line.dn for line in roster.lines if line.state is State.NEW and line.item.row not in rows)
    return {dn.key for dn in left if dn is not None}


def _tell_left_out(session: Session, number: int) -> None:
    from vandrel.errors import NOTE, Code, Finding, Location

    if number and not session.out.as_json:
        what = f"{count(number, 'manager or the like')} left out: they stand in rows that are made later"
        remedy = "once all are made, the same file with --mode both sets them"
        session.out.findings([Finding(Code.DONE_IN_PART, what, Location(option="--first"), remedy, severity=NOTE)])


def _warn_of_one_for_all(session: Session, secrets: Sequence[Secret]) -> None:
    from vandrel.errors import NOTE, Code, Finding, Location

    number = len(secrets) - len({id(secret) for secret in secrets})
    if number and not session.out.as_json:
        what = (
            f"{number + 1} people get the same password, and each of them knows that of the others until it is changed"
        )
        remedy = "generated ones differ: --hand-out FILE"
        session.out.findings([Finding(Code.PASSWORD, what, Location(option="--password"), remedy, severity=NOTE)])


def _checked(session: Session, roster: Roster, wanted: Sequence[Line], object_type: str) -> int:
    """The steps of a dry run, checked a thousand rows at a time, and let go; of accounts that are alike, one for all.

    What is each one's own was looked at when it was worked out: that its values fit, and that its names are free.

    Raises:
        Refused: the checks do not let them through.

    """
    from vandrel.errors import Refused, are_fatal
    from vandrel.jobs.bulk.batches import batches
    from vandrel.jobs.common.draft import Alike
    from vandrel.secret import Secret

    stand_in = Secret("", generated=True)
    told: dict[Finding, None] = {}
    alike: set[int] = set()
    chosen = []
    for line in wanted:
        kind = id(line.draft.shared) if isinstance(line.draft, Alike) else 0
        if not kind or kind not in alike:
            alike.add(kind)
            chosen.append(line)
    left_out = 0

    def in_turn() -> Iterator[list[Step]]:
        nonlocal left_out
        for batch in batches(
            session.context, chosen, lambda line: stand_in, object_type, absent=_absent(roster, wanted)
        ):
            left_out = batch.left_out
            yield batch.steps

    for findings in session.runner.check_in_turn(in_turn(), {line.dn.key for line in wanted if line.dn is not None}):
        told |= dict.fromkeys(findings)
    _tell_left_out(session, left_out)
    if are_fatal(told):
        raise Refused(list(told))
    session.out.findings(told if not session.out.as_json else ())
    session.out.note("Dry run: nothing was changed.")
    if session.out.as_json:
        session.out.json(row_by_row.as_json(session, roster, None))
    return 0


def _password(session: Session, line: Line, hand_out: HandOut) -> Secret | None:
    from vandrel.charter.passwords import generate

    draft = line.draft
    assert draft is not None
    if draft.rules is None or session.args.no_passwords:
        return None
    if line.item.secret is not None:
        return line.item.secret
    if str(draft.rules.rules["first"].value) == "none":
        return None
    secret = generate(draft.rules, [draft.value(name) for name in ("given", "surname", "login")])
    assert draft.dn is not None
    hand_out.add(draft.dn, draft.value, secret)
    return secret


@contextmanager
def progress(session: Session, steps: int) -> Iterator[Progress]:
    """A bar with rate and time left on standard error, where somebody is looking; nothing elsewhere."""
    if not sys.stderr.isatty() or session.out.quiet or session.out.as_json or session.args.dry_run:
        yield lambda made, planned: None
        return
    from rich.console import Console
    from rich.progress import (
        BarColumn,
        Progress,
        TaskProgressColumn,
        TextColumn,
        TimeElapsedColumn,
        TimeRemainingColumn,
    )
    from rich.theme import Theme

    plain = Theme(dict.fromkeys(("progress.percentage", "progress.elapsed", "progress.remaining"), "default"))
    bar = Progress(
        TextColumn("{task.description}"), BarColumn(complete_style="cyan", finished_style="cyan"),
        TaskProgressColumn(), TextColumn("{task.fields[rate]}"), TimeElapsedColumn(), TextColumn("gone,"),
        TimeRemainingColumn(), TextColumn("left"), console=Console(stderr=True, theme=plain), transient=True,
    )  # fmt: skip
    task = bar.add_task("Making", total=steps, rate="")
    begun: list[float] = []

    def told(made: int, planned: int) -> None:
        if not begun:
            begun.append(time.monotonic())
            bar.start()
        seconds = time.monotonic() - begun[0]
        bar.update(task, completed=made, total=planned, rate=f"{made / seconds:,.0f} steps/s" if seconds else "")

    try:
        yield told
    finally:
        bar.stop()
