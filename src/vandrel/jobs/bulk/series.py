"""Series: numbered accounts, groups or computers."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import cast

from msgspec import Struct, structs

from vandrel.fields import ACCOUNT, COMPUTER
from vandrel.intake.description import Description, ObjectType
from vandrel.intake.item import Item
from vandrel.jobs.bulk.planner import Planner
from vandrel.jobs.bulk.propose import BulkOptions, propose_roster
from vandrel.jobs.common.create_object import first_name
from vandrel.jobs.common.directory_index import DirectoryIndex
from vandrel.jobs.common.name_allocator import NameAllocator
from vandrel.jobs.common.proposal import Proposal, listed_names
from vandrel.objects.context import Context
from vandrel.secret import Secret

#: Stands for the number in a stem or a value.
NUMBER = "#"


class SeriesRequest(Struct, frozen=True):
    """A series.

    Attributes:
        kind: a kind of account in the charter, or ``group``, or ``computer``.
        stem: what the number is put behind, or in place of its ``#``.
        fields: the values of fields, as typed; a ``#`` in them stands for the number.
        count: how many.
        first: the first number of those that there are to be, some of which may be there already; 0: the next that are
            free, from 1 on.
        digits: digits up to which zeros are put before the number.
        skip_taken: whether numbers in use are skipped, and not refused.
        secret: one password for all; None: each gets one of its own.
        options: how far to go.

    """

    kind: str
    stem: str
    fields: Mapping[str, tuple[str, ...]]
    count: int
    first: int = 0
    digits: int = 1
    skip_taken: bool = True
    secret: Secret | None = None
    options: BulkOptions = BulkOptions()

    @property
    def object_type(self) -> str:
        """What the objects of the series are."""
        return self.kind if self.kind in ("group", COMPUTER) else ACCOUNT


def propose_series(context: Context, request: SeriesRequest) -> Proposal:
    """Propose a series.

    Raises:
        VandrelError: ``unknown-kind``, ``unknown-field``.

    """
    kind = request.kind if request.object_type == ACCOUNT else ""
    if kind:
        context.charter.kind(kind)
    described = Description(object_type=cast(ObjectType, request.object_type), kind=kind)
    planner = Planner(context, described, context.charter.today(), is_file=False)
    in_use: list[str] = []
    roster = planner.plan(_items(context, request, in_use))
    name = f"{request.kind} {request.stem}"
    proposal = propose_roster(context, roster, request.object_type, request.options, "series", name, is_file=False)
    notes: list[str] = []
    if request.first and in_use:
        is_one = len(in_use) == 1
        notes += [
            f"{'Number' if is_one else 'Numbers'} {listed_names(in_use)} {'is' if is_one else 'are'} in use already."
        ]
    if 0 < request.options.first < len(roster.lines):
        begin = request.first or roster.lines[0].item.row
        notes += [f"The rest of them: --first-number {begin} in place of --first {request.options.first}."]
    return structs.replace(proposal, summary=[*notes, *proposal.summary])


def _items(context: Context, request: SeriesRequest, in_use: list[str]) -> Iterator[Item]:
    """One item for each number that is free, or for each number where those that are taken are refused.

    With a first number, there are no others than so many from it on. Those passed over are added to `in_use`.
    """
    allocator = NameAllocator(context, DirectoryIndex(context))
    number, produced = request.first or 1, 0
    while produced < request.count and not (request.first and number >= request.first + request.count):
        digits = str(number).zfill(request.digits)
        number += 1
        name = request.stem.replace(NUMBER, digits) if NUMBER in request.stem else f"{request.stem}{digits}"
        fields = {
            field: tuple(value.replace(NUMBER, digits) for value in values) for field, values in request.fields.items()
        }
        if request.skip_taken and _is_taken(context, allocator, request.object_type, name, fields):
            in_use.append(digits)
            continue
        produced += 1
        fields.setdefault("login" if request.object_type == ACCOUNT else "name", (name,))
        if request.object_type == ACCOUNT:
            fields.setdefault("surname", (name,))
        yield Item(int(digits), fields, secret=request.secret, has_patterns=True)


def _is_taken(
    context: Context, allocator: NameAllocator, object_type: str, name: str, fields: Mapping[str, Sequence[str]]
) -> bool:
    """Whether somebody is called so already."""
    if object_type == ACCOUNT:
        return not allocator.is_free("login", name)
    if object_type == COMPUTER:
        return not allocator.is_free("login", f"{name.upper()}$") or allocator.is_held_anywhere(name)
    kind = fields.get("kind") or (next(iter(context.charter.document.groups), ""),)
    return allocator.is_held_anywhere(first_name(context, kind[0], name))
