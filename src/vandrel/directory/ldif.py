"""LDIF, version 1 (RFC 2849): entries and changes as text, read and written one record at a time."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import NoReturn

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.operations import AddEntry, Change, DeleteEntry, ModifyEntry, RenameEntry
from vandrel.errors import Code, Location, VandrelError

#: Columns after which a line is folded (RFC 2849, note 2).
WIDTH = 76

_NAME = re.compile(r"(?:[A-Za-z][A-Za-z0-9-]*|\d+(?:\.\d+)*)(?:;[A-Za-z0-9-]+)*")
_CONTROL = re.compile(r"control:\s*(\d+(?:\.\d+)+)(?:\s+(true|false))?(?:(::?)\s*(.*))?", re.IGNORECASE)
# RFC 2849, SAFE-STRING, without the control characters that it allows: some readers end a line at them.
_SAFE = re.compile(r"[!-9;=-~][ -~]*|")


#: The parts of a modify record (RFC 2849; RFC 4525 for the last).
_MODIFICATIONS = ("add", "delete", "replace", "increment")


class Modification(Struct, frozen=True):
    """One part of a modify record: ``add``, ``delete``, ``replace`` or ``increment``, an attribute, and its values.

    There may be no values; an increment has one.
    """

    kind: str
    attribute: str
    values: tuple[Value, ...]


class Control(Struct, frozen=True):
    """A control that stands before a change (RFC 2849, section 2; RFC 4511, section 4.1.11)."""

    oid: str
    critical: bool
    value: bytes | None


class Record(Struct, frozen=True):
    """One record; ``line`` is where it begins, counted from 1.

    ``change`` is empty for a content record; else ``add``, ``delete``, ``modify`` or ``modrdn``. Of the other
    fields those are set that belong to it.
    """

    line: int
    dn: DN
    change: str = ""
    attributes: dict[str, list[Value]] = {}
    modifications: tuple[Modification, ...] = ()
    new: DN | None = None
    delete_old: bool = True
    controls: tuple[Control, ...] = ()


def _fail(line: int, why: str, remedy: str = "") -> NoReturn:
    raise VandrelError(Code.BAD_VALUE, f"this is not LDIF: {why}", where=Location(line=line), remedy=remedy)


class _Line(Struct):
    number: int
    text: str


def _unfolded(lines: Iterable[str]) -> Iterator[_Line]:
    """Lines with their continuations joined, comments left out; an empty one ends a record."""
    line: _Line | None = None
    for number, raw in enumerate(lines, 1):
        text = raw.rstrip("\r\n")
        if number == 1:
            text = text.removeprefix("\ufeff")  # the mark that some editors begin a file with
        if text.startswith(" "):
            if line is None:
                _fail(number, "a line that goes on stands where none can", "a record begins with dn:")
            line.text += text[1:]
            continue
        if line is not None and not line.text.startswith("#"):
            yield line
        line = _Line(number, text)
        if not text:
            yield line
            line = None
    if line is not None and not line.text.startswith("#"):
        yield line


#: Turns a URL behind ``:<`` into its octets.
Fetch = Callable[[str], bytes]


class _Reader:
    def __init__(self, is_binary: Callable[[str], bool], fetch: Fetch | None) -> None:
        self._is_binary = is_binary
        self._fetch = fetch

    def pair(self, line: _Line) -> tuple[str, Value]:
        """The attribute description and the value of one line."""
        name, colon, rest = line.text.partition(":")
        if not colon or not _NAME.fullmatch(name):
            _fail(line.number, f"'name: value' is expected, and {line.text[:40]!r} stands there")
        if rest.startswith("<"):
            url = rest[1:].strip()
            if self._fetch is None:
                _fail(
                    line.number,
                    f"{name} is to be read from {url}",
                    "allow it with --allow-files, or write the value out",
                )
            return name, self.value(name, self._fetch(url), line.number)
        if rest.startswith(":"):
            try:
                octets = base64.b64decode(rest[1:].strip(" "), validate=True)
            except (binascii.Error, ValueError):
                _fail(line.number, f"the value of {name} is not base64")
            return name, self.value(name, octets, line.number)
        text = rest.lstrip(" ")
        return name, text.encode() if self._is_binary(name) else text

    def value(self, name: str, octets: bytes, line: int) -> Value:
        """Read a value: text, base64, or a URL."""
        if self._is_binary(name):
            return octets
        try:
            return octets.decode()
        except UnicodeDecodeError:
            _fail(line, f"{name} holds octets that are not UTF-8, and takes text")

    def name(self, line: _Line, what: str, value: Value) -> DN:
        """Read a distinguished name."""
        try:
            return names.parse(str(value))
        except VandrelError as error:
            _fail(line.number, f"{what}: {error}")

    def record(self, lines: list[_Line]) -> Record:
        """Read one record."""
        first, value = lines[0], self.pair(lines[0])
        if value[0].lower() != "dn":
            _fail(first.number, f"a record begins with dn:, and this one with {value[0]}:")
        dn = self.name(first, "dn", value[1])
        rest, controls = lines[1:], []
        while rest and rest[0].text.lower().startswith("control:"):
            controls.append(self.control(rest.pop(0)))
        if not rest or not rest[0].text.lower().startswith("changetype:"):
            if controls:
                _fail(first.number, "a control needs a changetype")
            return Record(first.number, dn, attributes=self.attributes(rest))
        kind = str(self.pair(rest[0])[1]).lower().strip()
        body = rest[1:]
        make = {
            "add": self.add,
            "delete": self.delete,
            "modify": self.modify,
            "modrdn": self.rename,
            "moddn": self.rename,
        }
        if kind not in make:
            _fail(rest[0].number, f"{kind!r} is no changetype", "add, delete, modify, modrdn")
        return make[kind](Record(first.number, dn, controls=tuple(controls)), body)

    def control(self, line: _Line) -> Control:
        """Read a control."""
        match = _CONTROL.fullmatch(line.text)
        if not match:
            _fail(line.number, f"{line.text!r} is no control")
        oid, critical, colon, text = match.groups()
        try:
            value = None if colon is None else base64.b64decode(text, validate=True) if colon == "::" else text.encode()
        except (binascii.Error, ValueError):
            _fail(line.number, f"the value of control {oid} is not base64")
        return Control(oid, (critical or "").lower() == "true", value)

    def attributes(self, lines: list[_Line]) -> dict[str, list[Value]]:
        """Read attributes and their values."""
        values_of: dict[str, list[Value]] = {}
        for line in lines:
            name, value = self.pair(line)
            values_of.setdefault(name, []).append(value)
        return values_of

    def add(self, record: Record, lines: list[_Line]) -> Record:
        """Read an addition."""
        return Record(record.line, record.dn, "add", self.attributes(lines), controls=record.controls)

    def delete(self, record: Record, lines: list[_Line]) -> Record:
        """Read a deletion."""
        if lines:
            _fail(lines[0].number, "nothing follows a changetype: delete")
        return Record(record.line, record.dn, "delete", controls=record.controls)

    def modify(self, record: Record, lines: list[_Line]) -> Record:
        """Read a modification."""
        parts: list[Modification] = []
        while lines:
            head = lines.pop(0)
            kind, attribute = (str(part) for part in self.pair(head))
            if kind.lower() not in _MODIFICATIONS:
                expected = "add:, delete:, replace: or increment:"
                _fail(head.number, f"{expected} is expected, and {kind}: stands there")
            values: list[Value] = []
            while lines and lines[0].text != "-":
                line = lines.pop(0)
                name, value = self.pair(line)
                if name.lower() != attribute.strip().lower():
                    _fail(line.number, f"a value of {attribute} is expected, and one of {name} stands there")
                values.append(value)
            if lines:
                lines.pop(0)
            parts.append(Modification(kind.lower(), attribute.strip(), tuple(values)))
        return Record(record.line, record.dn, "modify", modifications=tuple(parts), controls=record.controls)

    def rename(self, record: Record, lines: list[_Line]) -> Record:
        """Read a rename."""
        items = {name.lower(): (line, value) for line in lines for name, value in [self.pair(line)]}
        if "newrdn" not in items or "deleteoldrdn" not in items:
            _fail(record.line, "a rename needs newrdn: and deleteoldrdn:")
        line, value = items["newrdn"]
        rdn = self.name(line, "newrdn", value)
        if len(rdn.rdns) != 1:
            _fail(line.number, f"newrdn: one relative name is expected, and {str(value)!r} has {len(rdn.rdns)}")
        parent = record.dn.parent
        if "newsuperior" in items:
            parent = self.name(items["newsuperior"][0], "newsuperior", items["newsuperior"][1])
        new = DN((*rdn.rdns, *parent.rdns))
        line, value = items["deleteoldrdn"]
        if str(value).strip() not in ("0", "1"):
            _fail(line.number, f"deleteoldrdn: 0 or 1 is expected, and {str(value)!r} stands there")
        delete_old = str(value).strip() == "1"
        return Record(record.line, record.dn, "modrdn", new=new, delete_old=delete_old, controls=record.controls)


def read(lines: Iterable[str], is_binary: Callable[[str], bool], fetch: Fetch | None = None) -> Iterator[Record]:
    """The records of an LDIF file, one at a time.

    Args:
        lines: the lines of the file, with or without their ends.
        is_binary: whether the values of an attribute are octets; others are text.
        fetch: what a URL behind ``:<`` stands for; None refuses them.

    Raises:
        VandrelError: code ``bad-value``, with the line.

    """
    reader = _Reader(is_binary, fetch)
    lines_of_record: list[_Line] = []
    is_begun = False
    for line in _unfolded(lines):
        if not is_begun and line.text.lower().startswith("version:"):
            if line.text.partition(":")[2].strip() != "1":
                _fail(line.number, "only version 1 is known")
            is_begun = True
            continue
        if line.text:
            is_begun = True
            lines_of_record.append(line)
        elif lines_of_record:
            yield reader.record(lines_of_record)
            lines_of_record = []
    if lines_of_record:
        yield reader.record(lines_of_record)


# --- writing


def line(name: str, value: Value) -> str:
    """One attribute value as it stands in LDIF, folded; base64 where it could not be read back otherwise."""
    if isinstance(value, str) and _SAFE.fullmatch(value) and not value.endswith(" "):
        text = f"{name}: {value}" if value else f"{name}:"
    else:
        octets = value.encode() if isinstance(value, str) else value
        text = f"{name}:: {base64.b64encode(octets).decode()}"
    if len(text) <= WIDTH:
        return text + "\n"
    folded = [text[:WIDTH]]
    folded += [" " + text[start : start + WIDTH - 1] for start in range(WIDTH, len(text), WIDTH - 1)]
    return "\n".join(folded) + "\n"


def content(entry: Entry, keep: Callable[[str], bool] = lambda name: True) -> str:
    """An entry as a content record, with an empty line behind it; object classes first."""
    return line("dn", str(entry.dn)) + _attributes(entry.attributes, keep) + "\n"


def _attributes(attributes: Mapping[str, Sequence[Value]], keep: Callable[[str], bool] = lambda name: True) -> str:
    ordered = sorted(attributes, key=lambda name: name != "objectClass")
    return "".join(line(name, value) for name in ordered if keep(name) for value in attributes[name])


def change(operation: AddEntry | ModifyEntry | RenameEntry | DeleteEntry) -> str:
    """An operation as a change record (RFC 2849), with an empty line behind it."""
    head = line("dn", str(operation.dn))
    match operation:
        case AddEntry(attributes=attributes):
            return head + "changetype: add\n" + _attributes(attributes) + "\n"
        case DeleteEntry():
            return head + "changetype: delete\n\n"
        case RenameEntry(dn=dn, new=new):
            superior = line("newsuperior", str(new.parent)) if new.parent != dn.parent else ""
            return head + "changetype: modrdn\n" + line("newrdn", new.rdn_text) + "deleteoldrdn: 1\n" + superior + "\n"
        case ModifyEntry(changes=changes):
            return head + "changetype: modify\n" + "".join(part for each in changes for part in _parts(each)) + "\n"


def _parts(each: Change) -> Iterator[str]:
    for word, values in (("delete", each.removed), ("add", each.added)):
        if values:
            yield f"{word}: {each.attribute}\n" + "".join(line(each.attribute, value) for value in values) + "-\n"


#: The name of the record that holds definitions (RFC 4512, section 4.2), and its attributes.
SUBSCHEMA = "cn=Subschema"
_CONTEXTS = "namingContexts"
_KINDS = {
    "attributetype": "attributeTypes", "objectclass": "objectClasses", "ditcontentrule": "dITContentRules",
}  # fmt: skip


class Origin(Struct, frozen=True):
    """What a directory says of itself: the contexts that it holds, and its schema's definitions."""

    contexts: tuple[DN, ...]
    definitions: tuple[tuple[str, str], ...]


def origin(where: Origin) -> str:
    """What a directory says of itself as one content record, with an empty line behind it."""
    head = f"dn: {SUBSCHEMA}\nobjectClass: top\nobjectClass: subschema\n"
    contexts = "".join(line(_CONTEXTS, str(context)) for context in where.contexts)
    return head + contexts + "".join(line(_KINDS[kind], text) for kind, text in where.definitions) + "\n"


def origin_of(record: Record) -> Origin | None:
    """What such a record says; None for any other record.

    Raises:
        VandrelError: code ``bad-name`` for a context that cannot be read.

    """
    if str(record.dn) != SUBSCHEMA or record.change not in ("", "add"):
        return None
    values_of = {name.lower(): values for name, values in record.attributes.items()}
    return Origin(
        tuple(names.parse(str(text)) for text in values_of.get(_CONTEXTS.lower(), ())),
        tuple((kind, str(text)) for kind, name in _KINDS.items() for text in values_of.get(name.lower(), ())),
    )
