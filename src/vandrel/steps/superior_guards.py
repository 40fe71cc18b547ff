"""Superiors of protected objects: where their access list must change too, a step of its own does it.

[MS-ADTS] 3.1.1.5.5: whoever may delete the children of an object needs no right on the child. So an object is safe
only where its superior denies that as well.
"""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import structs

from vandrel.dialects.dialect import Dialect
from vandrel.directory.dn import DN
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory, Scope
from vandrel.steps.plan import Plan
from vandrel.steps.step import Add, Set, Step


def with_superior_guards(directory: Directory, dialect: Dialect, plan: Plan) -> Plan:
    """The plan, with a step before each protection whose superior does not guard its children yet."""
    attribute = dialect.superior_guard
    if not attribute or not any(_protects(step, dialect) for step in plan.steps):
        return plan
    visited: set[DN] = set()
    steps: list[Step] = []
    barriers = []
    ends = set(plan.barriers)
    for number, step in enumerate(plan.steps):
        if number in ends:
            barriers.append(len(steps))
        superior = step.dn.parent
        if _protects(step, dialect) and superior and superior not in visited:
            visited.add(superior)
            entry = directory.get(superior)
            if entry is None or entry.text(attribute) != "TRUE":
                steps.append(Set(superior, (Change(attribute, added=("TRUE",)),)))
        steps.append(step)
    return structs.replace(plan, steps=steps, barriers=barriers)


def is_guard_still_needed(directory: Directory, dialect: Dialect, step: Step, undone: Sequence[Step]) -> bool:
    """Whether a step takes the guard from a superior of which other children stay protected.

    Args:
        directory: where they stand.
        dialect: how protection is kept.
        step: the step.
        undone: steps before it, which release or remove children.

    """
    if not isinstance(step, Set) or all(change.attribute != dialect.superior_guard for change in step.changes):
        return False
    released = {other.dn for other in undone if not isinstance(other, Add)}
    children = directory.search(step.dn, Scope.ONE)
    return any(dialect.read(child, "protected") == ["yes"] for child in children if child.dn not in released)


def _protects(step: Step, dialect: Dialect) -> bool:
    attribute = dialect.attribute("protected", "unit")
    return isinstance(step, Set) and any(c.attribute == attribute and "TRUE" in c.added for c in step.changes)
