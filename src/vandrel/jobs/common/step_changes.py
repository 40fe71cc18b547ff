"""What steps do to objects, as people see it: for jobs that begin with steps and not with fields."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.member_lists import BY_NAME
from vandrel.directory.operations import Change
from vandrel.jobs.common.proposal import Action, FieldChange, ObjectChange
from vandrel.objects.context import Context
from vandrel.objects.view import shown_attribute
from vandrel.steps.step import Add, Password, Remove, Rename, Set, Step


def changes_of_steps(context: Context, steps: Iterable[Step]) -> list[ObjectChange]:
    """What happens to each object, in the order of the steps; attributes are written ``@attribute``."""
    changes: list[ObjectChange] = []
    for step in steps:
        match step:
            case Add(dn, attributes):
                fields = [
                    FieldChange(f"@{n}", after=_for_people(n, v)) for n, v in attributes.items() if n != "objectClass"
                ]
                changes.append(_change(context, Action.CREATE, dn, attributes, fields))
            case Set(dn, parts):
                fields = [
                    FieldChange(
                        f"@{c.attribute}", _for_people(c.attribute, c.removed), _for_people(c.attribute, c.added),
                        is_partial=not c.is_exclusive, concerned=_concerned(c),
                    )
                    for c in parts
                ]  # fmt: skip
                changes.append(_change(context, Action.CHANGE, dn, {}, fields))
            case Rename(dn, new):
                fields = [FieldChange("dn", (str(dn),), (str(new),))]
                changes.append(_change(context, Action.CHANGE, dn, {}, fields, new))
            case Remove(dn, attributes):
                changes.append(_change(context, Action.DELETE, dn, attributes, []))
            case Password(dn, secret, _):
                after = ("(none)",) if secret is None else ("generated" if secret.generated else "typed",)
                changes.append(_change(context, Action.CHANGE, dn, {}, [FieldChange("password", (), after)]))
    return changes


def _change(
    context: Context, action: Action, dn: DN, attributes: dict[str, list[Value]], fields: Sequence[FieldChange],
    new: DN | None = None,
) -> ObjectChange:  # fmt: skip
    object_type = context.object_type(Entry(dn, attributes)) if attributes else ""
    place = context.place(dn.parent)
    return ObjectChange(action, object_type, dn, dn.name, place, tuple(fields), new_dn=new)


def _concerned(change: Change) -> tuple[str, ...]:
    """Who comes into a list of members or leaves it; nobody where the empty name does, or the list is another."""
    values = (*change.added, *change.removed)
    is_of_names = change.attribute in BY_NAME and not change.is_exclusive and all(values)
    return tuple(map(str, values)) if is_of_names else ()


def _for_people(name: str, values: Sequence[Value]) -> tuple[str, ...]:
    return tuple(shown_attribute(name, value) or "(the empty name)" for value in values)
