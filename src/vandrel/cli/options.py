"""Options that several commands share, and the requests that they become."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session
from vandrel.cli.terminal import input_lines
from vandrel.errors import Code, Location, VandrelError

if TYPE_CHECKING:
    from collections.abc import Mapping
    from datetime import date, datetime
    from zoneinfo import ZoneInfo

    from vandrel.jobs.bulk.propose import BulkOptions
    from vandrel.jobs.common.assignments import Assignment
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.selection import Selection
    from vandrel.jobs.lifecycle.attic import AtticSelection
    from vandrel.secret import Secret

#: Refusals after which a run of very many stops, unless told otherwise.
_REFUSALS = 20
_DIGITS = 15


def positive(text: str) -> int:
    """A whole number of 1 or more."""
    return _number(text, 1)


def natural(text: str) -> int:
    """A whole number of 0 or more."""
    return _number(text, 0)


def _number(text: str, least: int) -> int:
    if not text.isascii() or not text.isdecimal() or len(text) > _DIGITS or int(text) < least:
        raise argparse.ArgumentTypeError(f"{text!r} is no number of {least} or more")
    return int(text)


def day(text: str) -> date:
    """A day, as 2026-12-31."""
    from datetime import date

    try:
        return date.fromisoformat(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is no day: write 2026-12-31") from None


# --- which objects


def add_selection(parser: argparse.ArgumentParser) -> None:
    """Add the options that choose many; names are the command's own business."""
    group = parser.add_argument_group("many at once")
    group.add_argument("--where", metavar="FILTER", help="everything that this filter of RFC 4515 finds")
    under = group.add_argument("--under", metavar="PLACE", help="of what the filter finds, only this unit and below")
    complete.attach(under, complete.places)


def add_names(parser: argparse.ArgumentParser) -> None:
    """Add names alone, for commands without assignments; and the options for many."""
    names = parser.add_argument("names", nargs="*", metavar="NAME", help="whom or what; - reads names, a line each")
    complete.attach(names, complete.objects)
    add_selection(parser)


def selection(session: Session, typed: list[str]) -> Selection:
    """The objects that a command is about: names, or whom somebody is asked for.

    Raises:
        VandrelError: ``usage`` where nothing is named and nobody can be asked.

    """
    from vandrel.jobs.common.selection import Selection

    args = session.args
    names = [name for word in typed for name in (_lines() if word == "-" else [word])]
    where = getattr(args, "where", None) or ""
    if not names and not where:
        names = [ask_name(session)]
    return Selection(names, where, getattr(args, "under", None) or "")


def set_field(session: Session, field: str, value: str, object_types: tuple[str, ...] = ()) -> Proposal:
    """Propose one value of one field for all that a command is about; raises what `selection` and the job raise."""
    from vandrel.fields import OBJECT_TYPES
    from vandrel.jobs.common.assignments import Assignment
    from vandrel.jobs.common.edit_proposal import edit_all
    from vandrel.jobs.common.selection import select

    chosen = select(session.context, selection(session, session.args.names), object_types or OBJECT_TYPES)
    return edit_all(session.context, chosen, [Assignment(field, "=", (value,))], session.args.command)


def ask_name(session: Session) -> str:
    """Ask for the name that a command lacks.

    Raises:
        VandrelError: ``usage`` where nobody can be asked.

    """
    if not session.terminal.is_interactive:
        raise VandrelError(Code.USAGE, "whom or what?", remedy=f"vandrel {session.args.command} NAME")
    return input("Whom or what? ")


def _lines() -> list[str]:
    return [line.strip() for line in input_lines() if line.strip()]


# --- assignments


def split(session: Session, words: list[str]) -> tuple[list[str], list[Assignment]]:
    """Words taken apart into names and assignments, by the charter's fields; passwords are choices.

    Raises:
        VandrelError: ``usage`` for a password that was typed.

    """
    from vandrel.jobs.common.assignments import check_passwords
    from vandrel.jobs.common.assignments import split as split_words

    plain, assignments = split_words(words, session.charter.fields)
    check_passwords(assignments)
    return plain, assignments


def add_hand_out(parser: argparse.ArgumentParser) -> None:
    """Add the option for the file of generated passwords."""
    parser.add_argument("--hand-out", metavar="FILE", help="write generated passwords to this file, for you alone")
    _add_mail_passwords(parser)


def _add_mail_passwords(parser: argparse._ActionsContainer) -> None:
    parser.add_argument("--mail-passwords", action="store_true",
                        help="send each of them as the charter says as well: password-mail")  # fmt: skip


def add_not_running(parser: argparse.ArgumentParser) -> None:
    """Add the option of commands that need a job for themselves."""
    about = "the process of the job is gone, though its lock or the other host does not tell"
    parser.add_argument("--not-running", action="store_true", help=about)


def add_mail_report(parser: argparse.ArgumentParser) -> None:
    """Add the option that sends what a command says to somebody."""
    parser.add_argument("--mail-to", metavar="ADDRESS", default="", help="send what is said here to somebody as well")


# --- very many at once


def add_first_passwords(parser: argparse.ArgumentParser) -> None:
    """Add the options that say where the passwords of new accounts come from and go."""
    group = parser.add_argument_group("passwords")
    group.add_argument("--hand-out", metavar="FILE", help="first passwords go here: .csv, .xlsx, or slips in a .pdf")
    _add_mail_passwords(group)
    group.add_argument("--recipient", metavar="KEY", default="", help="encrypt the hand-out to this age public key")
    group.add_argument("--password", choices=("generate", "ask", "-"),
                       help="for who is given none: generated (default), or one for all, asked for, or read from "
                       "standard input")  # fmt: skip
    group.add_argument("--no-passwords", action="store_true", help="make accounts without passwords, disabled")


def add_bulk(parser: argparse.ArgumentParser) -> None:
    """Add the options of commands that make very many objects at once."""
    add_first_passwords(parser)
    group = parser.add_argument_group("how far to go")
    group.add_argument("--first", type=positive, metavar="N", help="a trial: make only the first N that are to be made")
    group.add_argument("--most-refused", type=natural, default=_REFUSALS, metavar="N",
                       help=f"stop after more refusals than this (default: {_REFUSALS})")  # fmt: skip
    group.add_argument("--results", metavar="FILE", help="what became of each row, as CSV")


def bulk_options(session: Session) -> BulkOptions:
    """How far to go.

    Raises:
        VandrelError: ``usage`` for a hand-out that cannot be made, whatever is in a file.

    """
    from pathlib import Path

    from vandrel.intake.hand_out import must_be_possible
    from vandrel.jobs.bulk.propose import BulkOptions

    args = session.args
    if args.hand_out:
        must_be_possible(Path(args.hand_out), args.recipient)
    first, most_refused = getattr(args, "first", None) or 0, getattr(args, "most_refused", _REFUSALS)
    return BulkOptions(first, most_refused, args.no_passwords, getattr(args, "sound_only", False))


def password_for_all(session: Session, source: str, kind: str) -> Secret | None:
    """The one password that all get who are given none; None where each gets one of their own.

    Raises:
        Refused: it breaks the rules, whoever gets it.

    """
    from functools import partial

    from vandrel.charter.passwords import check
    from vandrel.cli.present.passwords import ask_or_read, show_rules

    args = session.args
    if source not in ("ask", "-") or args.no_passwords or args.dry_run:
        return None
    rules = session.context.password_rules(kind)
    if source == "ask":
        show_rules(session, rules)
    words = [session.charter.document.organization]
    return ask_or_read(session, source, partial(check, rules=rules, login="", full="", words=words))


# --- the attic


def add_attic_selection(parser: argparse.ArgumentParser) -> None:
    """Add what chooses among the objects that were deleted."""
    parser.add_argument("names", nargs="*", metavar="NAME", help="what it was called, or its number in the attic")
    group = parser.add_argument_group("which of them")
    group.add_argument("--job", type=natural, default=0, metavar="N", help="what this job deleted")
    group.add_argument("--kind", metavar="KIND", default="", help="of this kind or type")
    under = group.add_argument("--under", metavar="PLACE", default="", help="what was there and below")
    complete.attach(under, complete.places)
    add_times(group, "deleted")


def add_times(parser: argparse._ActionsContainer, what: str) -> None:
    """Add the options for the first and the last moment that count."""
    parser.add_argument("--since", metavar="TIME", help=f"{what} then or later: 2026-11-28, or 2026-11-28T16:00")
    parser.add_argument("--until", metavar="TIME", help=f"{what} then or before")


def times(session: Session) -> tuple[datetime | None, datetime | None]:
    """The first and the last moment, in the charter's zone; a day counts whole.

    Raises:
        VandrelError: ``usage`` for a time that cannot be read.

    """
    args, zone = session.args, session.charter.zone
    return _moment("--since", args.since, zone), _moment("--until", args.until, zone, is_last=True)


def attic_selection(session: Session, names: list[str]) -> AtticSelection:
    """What these options choose.

    Raises:
        VandrelError: ``usage`` for a time that cannot be read.

    """
    from vandrel.jobs.lifecycle.attic import AtticSelection

    args = session.args
    return AtticSelection(tuple(names), args.job, args.kind, args.under, *times(session))


def _moment(option: str, text: str | None, zone: ZoneInfo, *, is_last: bool = False) -> datetime | None:
    from datetime import datetime, time

    if not text:
        return None
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        what, remedy = f"{text!r} is no time", "write 2026-11-28, or 2026-11-28T16:00"
        raise VandrelError(Code.USAGE, what, where=Location(option=option), remedy=remedy) from None
    if is_last and len(text) <= len("2026-11-28"):
        moment = datetime.combine(moment, time.max)
    return moment if moment.tzinfo else moment.replace(tzinfo=zone)


def add_confirm(parser: argparse.ArgumentParser, what: str) -> None:
    """Add the option that gives the answer to a question which --yes does not answer."""
    parser.add_argument(
        "--confirm", metavar="ANSWER", default="", help=f"{what}, typed beforehand; --yes is not enough"
    )


def answers(words: list[str]) -> Mapping[str, str]:
    """Which account is meant by which key, from words like ``2099=alund``.

    Raises:
        VandrelError: ``usage`` for a word without both.

    """
    values = {}
    for word in words:
        key, _, name = word.partition("=")
        if not key or not name:
            what = f"{word!r} does not say which account it is"
            raise VandrelError(Code.USAGE, what, where=Location(option="--same"), remedy="--same 2099=alund")
        values[key] = name
    return values
