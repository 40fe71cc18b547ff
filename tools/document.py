"""Writes those pages of docs/ that say what the code already says: exit codes, fields, the manual page."""

from __future__ import annotations

import ast
import json
import sys
import tomllib
from pathlib import Path

import grimp

from vandrel.cli.commands.manual import page
from vandrel.cli.present.json_output import json_schema
from vandrel.dialects.active import ActiveDialect
from vandrel.dialects.base import BaseDialect
from vandrel.dialects.standard import StandardDialect
from vandrel.directory.schema.shipped import configuration
from vandrel.errors import Code
from vandrel.fields import FIELDS, Topic

HOME = Path(__file__).parent.parent
DOCS = HOME / "docs"
MARKS = ("<!-- made by tools/document.py -->\n", "<!-- until here -->\n")


def exit_codes() -> str:
    """docs/exit-codes.md."""
    rows = "\n".join(f"| {code.exit_code} | `{code}` | {code.meaning} |" for code in Code if not code.is_of_rows)
    return f"""\
# Exit codes

The tens name the family: 1x a request that cannot be read, 2x refused by a rule, 3x not found or ambiguous, 4x out of
reach or not permitted. With `--json` the word is the `code` of a finding.

| code | word | meaning |
|---|---|---|
| 0 | `done` | done |
{rows}
"""


def fields() -> str:
    """docs/fields.md."""
    text = "# Fields\n\nThe words for what is known about an account, a group or a unit. "
    text += "A raw attribute is written `@attribute`.\n\n"
    text += (
        "The last two columns say where a field is kept: by the standards' schema with Vandrel's own, and by that of "
    )
    text += "Active Directory.\nWhere there is nothing, the charter can name an attribute (`attributes`).\n"
    for topic in Topic:
        text += f"\n## {topic.value}\n\n| field | on | what it is | values | standard | ad |\n|---{'|---' * 5}|\n"
        for field in FIELDS.values():
            if field.topic is topic:
                many = ", several" if field.many else ""
                on = ", ".join(sorted(field.on))
                kept = " | ".join(_kept(dialect, field.name) for dialect in (StandardDialect, ActiveDialect))
                unit = f", in {field.unit}" if field.unit else ""
                what = f"{field.about} | {field.shape.value}{unit}{many}"
                text += f"| `{field.name}` | {on} | {what} | {kept} |\n"
    return text


def _kept(dialect: type[BaseDialect], field: str) -> str:
    codec = dialect.CODECS.get(field)
    attributes = codec.attributes() if codec is not None else ()
    said = ", ".join(f"`{name}`" for name in dict.fromkeys(attributes) if name)
    return said or ("the groups" if field == "groups" else "")


def architecture() -> str:
    """docs/architecture.md with the rooms of the code, as the contract in pyproject.toml orders them."""
    contracts = tomllib.loads((HOME / "pyproject.toml").read_text("utf-8"))["tool"]["importlinter"]["contracts"]
    rooms = [name.strip() for line in contracts[0]["layers"] for name in line.split(" : ")]
    jobs = [f"vandrel.jobs.{name.strip()}" for line in contracts[1]["layers"] for name in line.split(" : ")]
    rooms = [each for room in rooms for each in ([room, *jobs] if room == "vandrel.jobs" else [room])]
    graph = grimp.build_graph("vandrel")
    lines = ["| room | what it knows | imports |", "|---|---|---|"]
    for room in rooms:
        inside = {room, *graph.find_descendants(room)} if room != "vandrel.jobs" else {room}
        imported = set().union(*map(graph.find_modules_directly_imported_by, inside)) - inside
        uses = [other for other in rooms if any(each == other or each.startswith(f"{other}.") for each in imported)]
        uses = [other for other in uses if other != "vandrel.jobs"]
        lines.append(f"| `{_short(room)}` | {_purpose(room)} | {', '.join(map(_short, uses))} |")
    return _between(DOCS / "architecture.md", "\n".join(lines) + "\n")


def json_results() -> str:
    """docs/json.md with the keys of a result and of what it holds, from the schema that the program puts out."""
    lines = []
    for title, schema in json_schema()["$defs"].items():
        if "enum" in schema:
            lines.append(f"\n**{title}** {schema.get('description', '').splitlines()[0]} {_type(schema)}.")
            continue
        lines += [f"\n**{title}** {schema.get('description', '').splitlines()[0]}\n", "| key | value |", "|---|---|"]
        lines += [f"| `{key}` | {_type(value)} |" for key, value in schema["properties"].items()]
    return _between(DOCS / "json.md", "\n".join(lines) + "\n")


def _type(schema: dict[str, object]) -> str:
    """A JSON Schema in words."""
    match schema:
        case {"$ref": str(name)}:
            return f"{name.rpartition('/')[2]}"
        case {"enum": [*values]}:
            return " or ".join(json.dumps(value) for value in values)
        case {"anyOf": [*kinds]}:
            return " or ".join(_type(kind) for kind in kinds)
        case {"type": "array", "items": dict(items)}:
            return f"list of {_type(items)}"
        case {"type": "object", "additionalProperties": dict(values)}:
            return f"object with {_type(values)} for each key"
        case {"type": str(name)}:
            return name
    return "anything"


def _short(room: str) -> str:
    return room.removeprefix("vandrel.").replace(".", "/")


def _purpose(room: str) -> str:
    """The first line of a module's docstring."""
    base = HOME / "src" / Path(*room.split("."))
    path = base / "__init__.py" if base.is_dir() else base.with_suffix(".py")
    return (ast.get_docstring(ast.parse(path.read_text("utf-8"))) or "").splitlines()[0].rstrip(".")


def _between(path: Path, text: str) -> str:
    """The page with what stands between the marks replaced."""
    before, _, rest = path.read_text("utf-8").partition(MARKS[0])
    return before + MARKS[0] + text + MARKS[1] + rest.partition(MARKS[1])[2]


def main() -> int:
    """Write the pages; with --check only say whether they are up to date."""
    pages = {"exit-codes.md": exit_codes(), "fields.md": fields(), "vandrel.1": page()}
    pages |= {"vandrel-schema.ldif": configuration(), "architecture.md": architecture(), "json.md": json_results()}
    stale = [name for name, text in pages.items() if not _same(DOCS / name, text)]
    if "--check" in sys.argv:
        print("\n".join(f"docs/{name} is out of date: make docs" for name in stale))
        return bool(stale)
    for name in stale:
        (DOCS / name).write_text(pages[name], "utf-8")
    return 0


def _same(path: Path, text: str) -> bool:
    """Whether the file says the same; the date of the manual page does not count."""

    def undated(page: str) -> str:
        return "\n".join(line for line in page.splitlines() if not line.startswith(".TH "))

    return path.exists() and undated(path.read_text("utf-8")) == undated(text)


if __name__ == "__main__":
    sys.exit(main())
