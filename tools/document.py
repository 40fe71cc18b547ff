"""Writes those pages of docs/ that say what the code already says: exit codes, fields, the manual page."""

from __future__ import annotations

import sys
from pathlib import Path

from vandrel.cli.commands.manual import page
from vandrel.dialects.active import ActiveDialect
from vandrel.dialects.base import BaseDialect
from vandrel.dialects.standard import StandardDialect
from vandrel.directory.schema.shipped import configuration
from vandrel.errors import Code
from vandrel.fields import FIELDS, Topic

DOCS = Path(__file__).parent.parent / "docs"


def exit_codes() -> str:
    """docs/exit-codes.md."""
    rows = "\n".join(f"| {code.exit_code} | `{code}` | {code.meaning} |" for code in Code if not code.is_of_rows)
    return f"""\
# Exit codes

The tens name the family: 1x a request that cannot be read, 2x refused by a rule, 3x not found or ambiguous, 4x out of
reach or not permitted. With `--json` the word stands in the findings on standard error.

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


def main() -> int:
    """Write the pages; with --check only say whether they are up to date."""
    pages = {"exit-codes.md": exit_codes(), "fields.md": fields(), "vandrel.1": page()}
    pages["vandrel-schema.ldif"] = configuration()
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
