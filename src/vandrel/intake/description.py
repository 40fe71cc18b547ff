"""The small file that says what the columns of a tabular file mean: one class per mapping, and how it is read.

It stands beside the tabular file: ``crew.csv`` and ``crew.intake.yaml``.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated, Any, Literal, get_args

import msgspec
from msgspec import Meta, Struct

from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import FieldCatalog, Shape
from vandrel.intake.layout import Layout
from vandrel.text.nearest import did_you_mean

Text = Annotated[str, Meta(min_length=1)]

ObjectType = Literal["account", "group", "unit", "computer"]
Mode = Literal["create", "update", "both"]

#: What a column can be for besides a field of ours.
PLACE, PASSWORD = "place", "password"
#: Between several values in one cell of a file that Vandrel writes; before one that is a value's own, a backslash.
BETWEEN = "|"
_OWN = f"\\{BETWEEN}"
_BETWEEN_TWO = re.compile(rf"(?<!\\){re.escape(BETWEEN)}")


def join_values(values: Iterable[str]) -> str:
    r"""Several values as one cell of a file that Vandrel writes.

    >>> join_values(["team-lamps", "Ship|Shore"])
    'team-lamps | Ship\\|Shore'
    """
    return f" {BETWEEN} ".join(value.replace(BETWEEN, _OWN) for value in values)


def split_values(cell: str, separator: str) -> tuple[str, ...]:
    r"""The values of one cell, without blanks around them; the other way round where Vandrel wrote it.

    >>> split_values(r"team-lamps | Ship\|Shore", "|"), split_values("one; two;", ";")
    (('team-lamps', 'Ship|Shore'), ('one', 'two'))
    """
    if separator == BETWEEN and _OWN in cell:
        parts = [part.replace(_OWN, BETWEEN) for part in _BETWEEN_TWO.split(cell)]
    else:
        parts = cell.split(separator)
    return tuple(part.strip() for part in parts if part.strip())


class _Part(Struct, frozen=True, forbid_unknown_fields=True, rename="kebab", omit_defaults=True):
    """A mapping of the file: immutable; a key that is not known is a fault."""


class File(_Part, frozen=True):
    """How the file is laid out; what is not said is recognized."""

    encoding: Annotated[str, Meta(description="utf-8, utf-16, windows-1252, latin-1 ...")] = ""
    separator: Annotated[str, Meta(description="The character between cells; \\t for a tab.")] = ""
    quote: Annotated[str | None, Meta(description="The character around cells; empty: none.")] = None
    header: Annotated[int, Meta(description="Row of the header; 0: there is none.", ge=0)] = 1
    sheet: Annotated[str, Meta(description="Name of the sheet of a spreadsheet.")] = ""


class Column(_Part, frozen=True):
    """What one column means, where a field alone does not say it."""

    field: Annotated[str, Meta(description="The field that it gives.")] = ""
    word: Annotated[str, Meta(description="A word for it, to be used in 'built'.")] = ""
    dates: Annotated[list[Text], Meta(description="How days are written: DD.MM.YYYY, YYYY-MM-DD ...")] = []
    yes: Annotated[list[str], Meta(description="Words that mean yes.")] = []
    no: Annotated[list[str], Meta(description="Words that mean no.")] = []
    split: Annotated[str, Meta(description="What divides the values of a list within a cell.")] = ""
    pad: Annotated[int, Meta(description="Digits to fill up with leading zeros.", ge=0, le=20)] = 0
    allow: Annotated[list[Text], Meta(description="Values that stand for nothing elsewhere: Null, NA ...")] = []


class Description(_Part, frozen=True):
    """The whole file."""

    vandrel_intake: Annotated[int, Meta(description="Version of the format: 1.", ge=1, le=1)] = 1
    object_type: Annotated[ObjectType, Meta(description="What each row is.")] = msgspec.field(
        default="account", name="type"
    )
    kind: Annotated[str, Meta(description="Kind of account or group, where no column gives it.")] = ""
    file: Annotated[File, Meta(description="How the file is laid out.")] = File()
    columns: Annotated[dict[str, str | Column], Meta(description="Header of a column: the field that it gives.")] = {}
    constants: Annotated[dict[str, str], Meta(description="Fields with one value for every row.")] = {}
    built: Annotated[dict[str, str], Meta(description="Fields built from others by a pattern.")] = {}
    passwords: Annotated[
        Literal["generate", "ask", "none"],
        Meta(description="For new people without one: generated, one for all that is asked for, or none."),
    ] = "generate"
    key: Annotated[list[Text], Meta(description="The fields by which somebody who exists is found again.")] = []
    mode: Annotated[Mode, Meta(description="Make new objects, change those that exist, or both.")] = "create"

    def column(self, name: str) -> Column:
        """What one column means."""
        definition = self.columns.get(name, "")
        return Column(field=definition) if isinstance(definition, str) else definition


class IntakeFaults(VandrelError):
    """An intake description with faults: one finding for each, in the order of the file."""


def json_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of the file."""
    return msgspec.json.schema(Description)


def beside(path: Path) -> Path:
    """Where the description of a tabular file stands."""
    return path.with_name(f"{path.stem}.intake.yaml")


def load(path: Path, fields: FieldCatalog, of: str = "FILE") -> Description:
    """Read a description, which is that of the file `of`.

    Raises:
        IntakeFaults: code ``intake``, every fault with file, line and column.
        VandrelError: ``not-found`` or ``not-permitted`` where it cannot be read.

    """
    from vandrel.text.schema_errors import convert
    from vandrel.text.yaml_source import read

    try:
        text = path.read_text("utf-8")
    except FileNotFoundError:
        raise VandrelError(
            Code.NOT_FOUND, "there is no such description of columns", where=Location(file=str(path)),
            remedy=f"vandrel import {shlex.quote(of)} --propose writes one",
        ) from None  # fmt: skip
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is not UTF-8"
        raise VandrelError(Code.NOT_PERMITTED, f"it cannot be read: {why}", where=Location(file=str(path))) from None
    source = read(str(path), text, Code.INTAKE)
    description = convert(source, Description, json_schema())
    _check(source, description, fields)
    if source.faults:
        faults = IntakeFaults(Code.INTAKE, source.faults[0].what)
        faults.findings = tuple(source.faults)
        raise faults
    return description


def _check(source: Any, description: Description, fields: FieldCatalog) -> None:
    """Faults of meaning: fields that are none, dates that cannot be read."""
    header_of: dict[str, str] = {}
    for name in description.columns:
        column = description.column(name)
        path = ("columns", name)
        if column.field:
            _known_words(source, path, column.field, description.object_type, fields)
            if column.field in header_of and not fields.get(column.field, fields["phone"]).many:
                source.fault(path, f"{column.field} is given by two columns: {header_of[column.field]} and {name}")
            header_of[column.field] = name
        for pattern in column.dates:
            if not date_format(pattern):
                source.fault(
                    path, f"{pattern!r} is no way to write a day", "write DD.MM.YYYY, MM/DD/YY, YYYY-MM-DD ..."
                )
        if both := {word.casefold() for word in column.yes} & {word.casefold() for word in column.no}:
            source.fault(path, f"{sorted(both)[0]!r} means both yes and no")
    for part in ("constants", "built"):
        for name in getattr(description, part):
            _known_words(source, (part, name), name, description.object_type, fields)
            if name == PASSWORD:
                source.fault((part, name), "one password is not given to several people", key=True)
    for index, name in enumerate(description.key):
        if name not in header_of and name not in description.constants and name not in description.built:
            source.fault(("key", index), f"no column gives {name}", did_you_mean(name, header_of))


def _known_words(source: Any, path: tuple[str, ...], name: str, object_type: str, fields: FieldCatalog) -> None:
    usable = {f for f, field in fields.items() if object_type in field.on and field.shape is not Shape.SECRET}
    if name not in usable and name not in (PLACE, PASSWORD):
        hint = did_you_mean(name, usable) or f"the fields are: {', '.join(sorted(usable))}"
        source.fault(path, f"there is no field {name!r}", hint, key=path[0] != "columns")


_TOKENS = {"YYYY": "%Y", "YY": "%y", "MM": "%m", "DD": "%d"}


def date_format(pattern: str) -> str:
    """The format of the C library for a way to write a day, as ``DD.MM.YYYY``; empty where it is none."""
    directive = re.sub("|".join(_TOKENS), lambda match: _TOKENS[match[0]], pattern.replace("%", "%%"))
    return directive if {"%m", "%d"} <= set(re.findall("%.", directive)) and re.search("%[yY]", directive) else ""


def layout_of(file: File) -> dict[str, str | None]:
    """What a description says of the layout, for `vandrel.intake.table.open_table`."""
    separator = {"\\t": "\t"}.get(file.separator, file.separator)
    return {
        "encoding": file.encoding or None, "separator": separator or None, "quote": file.quote,
        "sheet": file.sheet or None,
    }  # fmt: skip


def as_yaml(description: Description, layout: Layout, comments: dict[str, str]) -> str:
    """A description as it is written for people: with what was recognized, and a word on each column."""
    lines = [
        "# What the columns mean. vandrel import FILE reads this file, which stands beside it.",
        "vandrel-intake: 1",
    ]
    lines.append(f"type: {description.object_type}")
    lines.append(
        f"kind: {description.kind}" if description.kind else "# kind: ...           # where no column gives it"
    )
    lines.append(f"file:  # {layout}")
    if layout.form == "sheet":
        lines.append(f"  sheet: {_quoted(layout.sheet)}")
    else:
        lines += [f"  encoding: {layout.encoding}", f"  separator: {_quoted(layout.separator)}",
                  f"  quote: {_quoted(layout.quote)}"]  # fmt: skip
    lines.append(f"  header: {layout.header}")
    lines.append("columns:")
    for name in description.columns:
        column = description.column(name)
        settings = {key: value for key, value in msgspec.to_builtins(column).items() if key != "field"}
        more = "".join(f", {key}: {_flow(value)}" for key, value in settings.items())
        value = f"{{field: {column.field}{more}}}" if settings else (column.field or '""')
        comment = f"  # {comments[name]}" if comments.get(name) else ""
        lines.append(f"  {_quoted(name)}: {value}{comment}")
    if description.constants:
        lines.append(f"constants: {_flow(description.constants)}")
    if description.object_type == "account":
        lines.append(f"passwords: {description.passwords}  # or ask (one for all), or none; or a column")
    lines.append(f"key: [{', '.join(description.key)}]        # by which somebody who exists is found again")
    others = ", or ".join(word for word in get_args(Mode) if word != description.mode)
    lines.append(f"mode: {description.mode}           # or {others}")
    return "\n".join(lines) + "\n"


def _quoted(text: str) -> str:
    plain = re.fullmatch(r"[A-Za-z][A-Za-z0-9_-]*( [A-Za-z0-9_-]+)*", text)
    if plain and text.lower() not in ("yes", "no", "true", "false", "null", "on", "off", "y", "n"):
        return text
    return msgspec.json.encode(text).decode()


def _flow(value: Any) -> str:
    if isinstance(value, list):
        return f"[{', '.join(map(_flow, value))}]"
    if isinstance(value, dict):
        return f"{{{', '.join(f'{_quoted(key)}: {_flow(item)}' for key, item in value.items())}}}"
    return _quoted(value) if isinstance(value, str) else str(value)
