"""Two objects side by side: what is the same, different, only here, only there; groups too."""

from __future__ import annotations

from msgspec import Struct

from vandrel.jobs.common.report import Report, Table, count
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context
from vandrel.objects.view import ObjectView
from vandrel.text.string_prep import prepare

#: Every object has one of its own.
_OWN = frozenset({"password", "change", "locked"})


class CompareRequest(Struct, frozen=True):
    """Two objects, as typed, and whether what is the same is shown as well."""

    left: str
    right: str
    with_same: bool = False


class Comparison(Struct, frozen=True):
    """One field: the values of the one and of the other."""

    field: str
    left: tuple[str, ...]
    right: tuple[str, ...]

    @property
    def is_same(self) -> bool:
        """Whether the values are equal, in whichever order."""
        return sorted(map(prepare, self.left)) == sorted(map(prepare, self.right))


def compare_views(left: ObjectView, right: ObjectView) -> list[Comparison]:
    """The fields that one of the two has values in, in the order of the fields; the place first."""
    rows = [Comparison("place", (left.place,), (right.place,))]
    for field in left.context.fields.values():
        if field.name in _OWN or not {left.object_type, right.object_type} & field.on:
            continue
        row = Comparison(field.name, _values(left, field.name), _values(right, field.name))
        if row.left or row.right:
            rows.append(row)
    return rows


def _values(view: ObjectView, name: str) -> tuple[str, ...]:
    return tuple(view.shown(name)) if view.object_type in view.context.fields[name].on else ()


def compare(context: Context, request: CompareRequest) -> Report:
    """Put two objects side by side.

    Raises:
        VandrelError: what resolving a name raises.

    """
    left, right = (ObjectView(context, resolve(context, name)) for name in (request.left, request.right))
    fields = compare_views(left, right)
    same = sum(row.is_same for row in fields)
    rows = [(row.field, row.left, row.right, row.is_same) for row in fields]
    rows_shown: list[tuple[str, str, str]] = []
    for row in fields:
        if row.is_same and not request.with_same:
            continue
        both = [value for value in row.left if value in row.right] if not row.is_same else []
        left_only = [value for value in row.left if value not in both]
        right_only = [value for value in row.right if value not in both and not row.is_same]
        rows_shown.append(
            (row.field, ", ".join(left_only) or "-", ", ".join(right_only) or ("=" if row.is_same else "-"))
        )
        if both:
            rows_shown.append(("", f"both: {', '.join(both)}", ""))
    columns = ("field", left.label, right.label) if left.label != right.label else ("field", "left", "right")
    side_by_side = Table("side_by_side", "", columns, rows_shown, has_header=True)
    summary = [f"{count(len(fields) - same, 'field')} different, {same} the same."]
    return Report("compare", ("field", "left", "right", "same"), rows, tables=[side_by_side], is_for_programs=True,
                  summary=summary)  # fmt: skip
