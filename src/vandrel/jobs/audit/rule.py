"""What a rule of an audit is: a name, why it matters, and a function that finds what breaks it."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Iterator
from enum import StrEnum

from msgspec import Struct

from vandrel.directory.entry import Entry
from vandrel.jobs.audit.survey import Survey


class Weight(StrEnum):
    """How much a fault matters."""

    GRAVE = "grave"
    FAULT = "fault"
    ADVICE = "advice"


#: The words of a command line, without the name of the program; ``...`` stands for what somebody must know.
Command = tuple[str, ...]


class Fault(Struct, frozen=True):
    """One object that breaks a rule: what is wrong, and the commands that mend it, one after the other; or none."""

    entry: Entry
    what: str
    mended_by: tuple[Command, ...] = ()

    @property
    def remedy(self) -> str:
        """The commands as they can be pasted into a shell."""
        return " && ".join(f"vandrel {shlex.join(words)}" for words in self.mended_by)


Check = Callable[[Survey], Iterator[Fault]]


class Rule(Struct, frozen=True):
    """One rule.

    Attributes:
        name: by which it is chosen and excepted.
        weight: how much it matters.
        about: what it finds, in words.
        why: why that matters.
        check: finds it.

    """

    name: str
    weight: Weight
    about: str
    why: str
    check: Check


RULES: dict[str, Rule] = {}


def login_of(survey: Survey, entry: Entry) -> str:
    """By what a command takes an object."""
    return survey.one(entry, "login") or (entry.dn.name if survey.is_known_by_name(entry) else str(entry.dn))


def command(*words: str) -> tuple[Command, ...]:
    """One command that mends a fault."""
    return (words,)


def edit(survey: Survey, entry: Entry, *assignments: str) -> tuple[Command, ...]:
    """The command that edits an object so."""
    return command("edit", login_of(survey, entry), *assignments)


def rule(name: str, weight: Weight, why: str) -> Callable[[Check], Check]:
    """Register a function as a rule; the first line of its docstring says what it finds."""

    def register(check: Check) -> Check:
        about = (check.__doc__ or "").splitlines()[0].rstrip(".")
        RULES[name] = Rule(name, weight, about[:1].lower() + about[1:], why, check)
        return check

    return register
