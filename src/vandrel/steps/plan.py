"""A change worked out in full, and what became of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Set
from typing import Any

import msgspec
from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.errors import Code, Finding, VandrelError
from vandrel.steps.step import Step


class Plan(Struct, frozen=True):
    """A change worked out in full.

    With ``is_atomic`` it is made whole or not at all, where the directory can and the plan fits one batch; else a
    refused step does not stop the others. ``findings`` are what the job itself found; those of the common checks
    come on top. ``read`` are the keys of the names of objects that the job has read: nobody asks again whether they are
    there; a server that has lost one since refuses the step. ``barriers`` are numbers of steps after which what follows
    may build upon what came before: of an object that was refused, nothing more is tried, and no group takes it in,
    which is no refusal of its own. After more than ``most_refused`` refusals, if it is not None, the job stops, and
    can be resumed. ``undoes`` is the number of the job that it takes back. With ``for_good`` what it removes
    does not go into the attic. ``leavers`` is what people had before it, by the identifiers of their accounts: it is
    kept for their return. ``results`` is the path of the file that tells what became of each row.
    """

    title: str
    steps: Sequence[Step]
    findings: Sequence[Finding] = ()
    is_atomic: bool = True
    read: Set[str] = frozenset()
    barriers: Sequence[int] = ()
    most_refused: int | None = None
    undoes: int = 0
    for_good: bool = False
    leavers: Mapping[str, Mapping[str, Any]] = {}
    results: str = ""


class RunResult(Struct):
    """What became of a plan: the number of its job in the journal, counts, and the name and reason of each refusal.

    Of an object that was refused, what was to follow is not told again. ``tried`` is the number of steps that were
    tried, ``stopped`` says that there were more refusals than wanted, ``lost`` which objects could not be made,
    ``stayed`` which could not be removed, ``unset`` whose password could not be set,
    ``half_set`` whose password was set without a mark that belongs to it, and ``kept_out``, by name, which
    objects did not take another one in, as groups do, and why. ``changed_since`` are objects that a
    job had made before it broke off, and that somebody has changed before it was resumed; ``twice`` notes of unique
    values that somebody else was given at the same moment.
    """

    job: int = 0
    planned: int = 0
    made: int = 0
    tried: int = 0
    refused: list[tuple[str, VandrelError]] = msgspec.field(default_factory=list)
    seconds: float = 0.0
    stopped: bool = False
    not_created: set[DN] = msgspec.field(default_factory=set)
    not_deleted: set[DN] = msgspec.field(default_factory=set)
    unset: set[DN] = msgspec.field(default_factory=set)
    half_set: set[DN] = msgspec.field(default_factory=set)
    kept_out: dict[str, list[tuple[DN, VandrelError]]] = msgspec.field(default_factory=dict)
    changed_since: list[DN] = msgspec.field(default_factory=list)
    twice: list[Finding] = msgspec.field(default_factory=list)

    def take_unset(self, dn: DN, error: VandrelError) -> None:
        """Take note of a password that was refused, wholly or in part."""
        (self.half_set if error.code is Code.HALF_SET else self.unset).add(dn)

    @property
    def is_in_part(self) -> bool:
        """Whether not everything was made as it should be."""
        return bool(self.refused or self.twice) or self.made < self.planned
