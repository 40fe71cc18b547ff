"""What a rule of an audit is: a name, why it matters, and a function that finds what breaks it."""

from __future__ import annotations

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


class Fault(Struct, frozen=True):
    """One object that breaks a rule: what is wrong, and a command that mends it; empty where none does."""

    entry: Entry
    what: str
    remedy: str = ""


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
    return survey.one(entry, "login") or f'"{entry.dn}"'


def rule(name: str, weight: Weight, why: str) -> Callable[[Check], Check]:
    """Register a function as a rule; the first line of its docstring says what it finds."""

    def register(check: Check) -> Check:
        about = (check.__doc__ or "").splitlines()[0].rstrip(".")
        RULES[name] = Rule(name, weight, about[:1].lower() + about[1:], why, check)
        return check

    return register
