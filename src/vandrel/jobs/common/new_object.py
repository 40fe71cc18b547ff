"""New objects of any type: the steps that make one, and what happens as people see it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial

from vandrel.directory.dn import DN
from vandrel.errors import VandrelError
from vandrel.fields import ACCOUNT, Shape
from vandrel.jobs.common.draft import BatchDraft, Draft
from vandrel.jobs.common.proposal import Action, FieldChange, ObjectChange
from vandrel.objects.context import Context
from vandrel.objects.namesakes import Namesakes
from vandrel.objects.view import shown_values
from vandrel.steps.step import Add, Set, Step
from vandrel.text.string_prep import prepare


def new_object_steps(context: Context, object_type: str, dn: DN, fields: Mapping[str, Sequence[str]]) -> list[Step]:
    """The steps that make one object with these fields: its creation, and what can be set only then."""
    steps: list[Step] = [Add(dn, context.dialect.new_entry(object_type, dn, fields))]
    after = context.dialect.changes_after_creation(object_type, fields)
    return [*steps, Set(dn, tuple(after))] if after else steps


def creation(
    context: Context, draft: Draft | BatchDraft, object_type: str, row: int = 0, namesakes: Namesakes | None = None
) -> ObjectChange:
    """What happens to a new object, with the rule that gave each value.

    The draft must have a name. With `namesakes`, objects that it points at are told from others of the same name.
    """
    assert draft.dn is not None
    show = partial(_for_people, context, namesakes)
    place = context.place(draft.dn.parent)
    label = draft.value("full") if object_type == ACCOUNT else ""
    if isinstance(draft, Draft):
        fields = [
            FieldChange(d.field, after=tuple(show(d.field, d.values)), rule=d.rule, passed=d.passed)
            for d in draft.derived.values()
        ]
        kind = draft.kind if object_type == ACCOUNT else ""
    else:
        fields = [FieldChange(name, after=tuple(show(name, v))) for name, v in draft.values().items()]
        kind = draft.value("kind")
    return ObjectChange(
        Action.CREATE, object_type, draft.dn, label or draft.dn.name, place, tuple(fields), kind=kind, row=row
    )


def _for_people(context: Context, namesakes: Namesakes | None, name: str, values: Sequence[str]) -> list[str]:
    """Values as people read them; names of groups and places are so already."""
    if name in context.fields and name != "groups":
        try:
            if namesakes is not None and context.fields[name].shape is Shape.REFERENCE:
                return sorted(namesakes.shown(values), key=prepare)
            return shown_values(context.fields[name], values)
        except VandrelError:  # no distinguished name: a finding says so
            return list(values)
    return list(values)
