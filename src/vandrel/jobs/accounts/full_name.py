"""A full name as somebody types it, taken apart."""

from __future__ import annotations

from vandrel.objects.context import Context
from vandrel.text import people


def name_parts(context: Context, name: str) -> dict[str, str]:
    """The parts of a full name that was typed; those that are empty are left out."""
    if not name:
        return {}
    parts = people.split_full_name(name, context.charter.particles)
    values = {"given": parts.given, "middle": parts.middle, "surname": parts.surname, "generation": parts.generation}
    return {field: value for field, value in values.items() if value}
