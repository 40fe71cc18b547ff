"""The steps that make the rows of a file, some at a time."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.directory.operations import Change
from vandrel.fields import ACCOUNT, COMPUTER
from vandrel.jobs import create_object
from vandrel.jobs.create import steps as account_steps
from vandrel.jobs.draft import Draft
from vandrel.jobs.edit import in_order
from vandrel.jobs.house import House
from vandrel.jobs.roster import Line, State
from vandrel.secret import Secret
from vandrel.steps.step import Add, Set, Step

#: Rows that are made together, with their passwords and groups, before the next ones.
TOGETHER = 1000


class Batch(Struct):
    """Steps of some rows, and where a new turn must begin: after what the others build upon."""

    steps: list[Step]
    cut: int
    lines: list[Line]


def batches(
    house: House, lines: Sequence[Line], secret: Callable[[Line], Secret | None], sort: str, kept: str = ""
) -> Iterator[Batch]:
    """The steps of all rows that are to be made, a thousand rows at a time: objects, passwords, then memberships.

    `secret` gives the password of a new account, or None; `kept` names the file where generated ones stand.
    """
    wanted = [line for line in lines if line.state in (State.NEW, State.CHANGED)]
    later: list[Step] = []
    known = {line.dn.key for line in wanted if line.dn is not None and line.state is State.NEW}
    for start in range(0, len(wanted), TOGETHER):
        chunk = wanted[start : start + TOGETHER]
        new = [line for line in chunk if line.draft is not None and line.state is State.NEW]
        if sort == ACCOUNT:
            made = account_steps(house, [(line.draft, secret(line)) for line in new if line.draft], kept)
        else:
            made = [step for line in new if line.draft for step in _objects(house, line, sort)]
        made, references = _references_apart(house, made, known)
        edits, more = _edits_apart(
            house, in_order(house, [line.edit for line in chunk if line.edit is not None]), known
        )
        later += [*references, *more]
        cut = next((n for n, step in enumerate(made) if not _is_birth(step, known)), len(made))
        if made or edits:
            yield Batch([*made, *edits], cut, chunk)
    for start in range(0, len(later), TOGETHER):
        yield Batch(later[start : start + TOGETHER], 0, [])


def _objects(house: House, line: Line, sort: str) -> list[Step]:
    assert isinstance(line.draft, Draft)
    made = create_object.steps(house, line.draft, sort)
    groups = line.item.fields.get("groups", ())
    return [*made, *create_object.join_groups(house, line.draft, groups)] if sort == COMPUTER else made


def _is_birth(step: Step, known: set[str]) -> bool:
    return isinstance(step, Add) or (isinstance(step, Set) and step.dn.key in known)


def _references_apart(house: House, steps: list[Step], known: set[str]) -> tuple[list[Step], list[Step]]:
    """Names of file-mates go into steps of their own, at the end: there may be a circle of people who report."""
    schema, apart, made = house.directory.schema, [], []
    for step in steps:
        if isinstance(step, Add):
            for name in schema.references_in(step.attributes) - {"member"}:
                mates = [v for v in step.attributes[name] if str(schema.key(name, v)) in known]
                if mates:
                    rest = [value for value in step.attributes[name] if value not in mates]
                    attributes = {k: v for k, v in step.attributes.items() if k != name} | (
                        {name: rest} if rest else {}
                    )
                    step = Add(step.dn, attributes)  # noqa: PLW2901
                    apart.append(_adding(step.dn, name, mates))
        made.append(step)
    return made, apart


def _edits_apart(house: House, steps: Sequence[Step], known: set[str]) -> tuple[list[Step], list[Step]]:
    """Changes that point at file-mates who are new go to the end as well."""
    schema, apart, kept = house.directory.schema, list[Step](), list[Step]()
    for step in steps:
        changes = step.changes if isinstance(step, Set) else ()
        late = [
            change for change in changes if schema.is_reference(change.attribute)
            and any(str(schema.key(change.attribute, value)) in known for value in change.added if value)
        ]  # fmt: skip
        if not late:
            kept.append(step)
            continue
        if rest := [change for change in changes if change not in late]:
            kept.append(Set(step.dn, tuple(rest)))
        apart.append(Set(step.dn, tuple(late)))
    return kept, apart


def _adding(dn: DN, name: str, values: Sequence[str | bytes]) -> Step:
    return Set(dn, (Change(name, added=tuple(values)),))
