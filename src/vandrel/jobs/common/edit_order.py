"""The order in which the steps of edits are made."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import structs

from vandrel.directory.operations import Change
from vandrel.jobs.common.edit import Edit
from vandrel.objects.context import Context
from vandrel.steps.references import with_references
from vandrel.steps.step import Rename, Set, Step


def in_order(context: Context, edits: Sequence[Edit], passwords: Sequence[Step] = ()) -> list[Step]:
    """The steps of several edits as one plan.

    Renames come last, because every other step knows the objects by their old names; and after each, what keeps the
    names right that point at the object.
    """
    steps = [step for edit in edits for step in edit.steps]
    renames = [step for step in steps if isinstance(step, Rename)]
    others = [*(step for step in steps if not isinstance(step, Rename)), *passwords]
    match others, renames:
        case [Set(dn, changes)], [rename] if dn == rename.dn and not _are_references(context, changes):
            # Nothing else knows the old name: what changes goes together with the groups that follow, in one wait less.
            ordered = [rename, *_once_renamed(context, rename, changes)]
        case _:
            ordered = [*others, *renames]
    return with_references(context.directory, context.dialect, ordered)


def _once_renamed(context: Context, rename: Rename, changes: Sequence[Change]) -> list[Step]:
    """The changes of an object that has its new name: the value that names it has come with that."""
    name, attribute = rename.new.name, context.directory.schema.attribute_name(rename.new.naming_attribute)
    changes = [
        structs.replace(change, added=tuple(value for value in change.added if value != name))
        if change.attribute == attribute
        else change
        for change in changes
    ]
    left = tuple(change for change in changes if change.removed or change.added)
    return [Set(rename.new, left)] if left else []


def _are_references(context: Context, changes: Sequence[Change]) -> bool:
    """Whether any of these changes what an object points at."""
    return any(context.directory.schema.is_reference(change.attribute) for change in changes)
