"""Search filters: their text (RFC 4515) and their meaning for one entry (RFC 4511, section 4.5.1.7)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import NoReturn, Protocol

from msgspec import Struct

from vandrel.errors import Code, Location, VandrelError

_DESCRIPTION = re.compile(r"(?:[A-Za-z][A-Za-z0-9-]*|\d+(?:\.\d+)+)(?:;[A-Za-z0-9-]+)*")
_RULE = re.compile(r"[A-Za-z][A-Za-z0-9-]*|\d+(?:\.\d+)+")
_ESCAPE = re.compile(r"[\x00()*\\]")


class And(Struct, frozen=True):
    """All parts hold."""

    parts: tuple[Filter, ...]


class Or(Struct, frozen=True):
    """Any part holds."""

    parts: tuple[Filter, ...]


class Not(Struct, frozen=True):
    """The part does not hold."""

    part: Filter


class Compare(Struct, frozen=True):
    """``=``, ``>=``, ``<=`` or ``~=`` with one value."""

    attribute: str
    operator: str
    value: str


class Present(Struct, frozen=True):
    """The attribute has a value."""

    attribute: str


class Substring(Struct, frozen=True):
    """``initial`` and ``final`` may be empty; ``middle`` holds what stands between two asterisks."""

    attribute: str
    initial: str
    middle: tuple[str, ...]
    final: str


class Extensible(Struct, frozen=True):
    """``attribute:dn:rule:=value``; attribute or rule may be empty, not both."""

    attribute: str
    rule: str
    dn: bool
    value: str


Filter = And | Or | Not | Compare | Present | Substring | Extensible

EVERYTHING = Present("objectClass")


def escape(value: str) -> str:
    """A value made safe to stand in a filter (RFC 4515, section 3).

    >>> escape("Deck (aft)*")
    'Deck \\\\28aft\\\\29\\\\2a'
    """
    return _ESCAPE.sub(lambda m: f"\\{ord(m.group()):02x}", value)


def to_text(item: Filter) -> str:
    """The filter in the notation of RFC 4515."""
    match item:
        case Compare(attribute, operator, value):  # by far the most
            return f"({attribute}{operator}{escape(value)})"
        case And(parts):
            return f"(&{''.join(map(to_text, parts))})"
        case Or(parts):
            return f"(|{''.join(map(to_text, parts))})"
        case Not(part):
            return f"(!{to_text(part)})"
        case Present(attribute):
            return f"({attribute}=*)"
        case Substring(attribute, initial, middle, final):
            inner = "".join(f"{escape(part)}*" for part in middle)
            return f"({attribute}={escape(initial)}*{inner}{escape(final)})"
        case Extensible(attribute, rule, dn, value):
            return f"({attribute}{':dn' if dn else ''}{':' + rule if rule else ''}:={escape(value)})"


#: More than anybody types, and fewer than the embedded directory and servers take in one search.
_MOST_PARTS, _SHOWN = 500, 120


class _Reader:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0
        self.parts = 0

    def fail(self, why: str) -> NoReturn:
        """The error for the text at the current position."""
        raise VandrelError(
            Code.BAD_FILTER,
            f"{self.text[:_SHOWN]!r}{'...' if len(self.text) > _SHOWN else ''} is not a filter: {why}",
            where=Location(column=self.at + 1),
            remedy="a filter looks like (&(objectClass=person)(title=*mate*)); write ( ) * \\ in a value "
            "as \\28 \\29 \\2a \\5c",
        )

    def spaces(self) -> None:
        """Skip spaces."""
        while self.text[self.at : self.at + 1].isspace():
            self.at += 1

    def expect(self, char: str) -> None:
        """Take a character, or fail."""
        if self.text[self.at : self.at + 1] != char:
            actual = self.text[self.at : self.at + 1]
            self.fail(f"{char!r} is expected, {repr(actual) if actual else 'the end'} found")
        self.at += 1

    def filter(self, depth: int = 0) -> Filter:
        """Read a filter in parentheses."""
        if depth > 100:
            self.fail("more than 100 levels of brackets")
        self.parts += 1
        if self.parts > _MOST_PARTS:
            self.fail(f"more than {_MOST_PARTS} parts")
        self.spaces()
        self.expect("(")
        self.spaces()
        kind = self.text[self.at : self.at + 1]
        item: Filter
        if kind in ("&", "|", "!") and kind:
            self.at += 1
            parts: list[Filter] = []
            self.spaces()
            while self.text[self.at : self.at + 1] == "(":
                parts.append(self.filter(depth + 1))
                self.spaces()
            if kind == "!":
                if len(parts) != 1:
                    self.fail("'!' takes exactly one filter in brackets")
                item = Not(parts[0])
            else:  # no part at all: absolute true and false (RFC 4526)
                item = And(tuple(parts)) if kind == "&" else Or(tuple(parts))
        else:
            item = self.item()
        self.expect(")")
        return item

    def item(self) -> Filter:
        """Read what compares one attribute."""
        match = _DESCRIPTION.match(self.text, self.at)
        attribute = match.group() if match else ""
        self.at += len(attribute)
        if self.text[self.at : self.at + 1] == ":":
            return self.extensible(attribute)
        if not attribute:
            self.fail("an attribute is expected")
        for operator in (">=", "<=", "~=", "="):
            if self.text.startswith(operator, self.at):
                self.at += len(operator)
                break
        else:
            self.fail(f"=, >=, <= or ~= is expected after {attribute!r}")
        chunks = self.value(stars=operator == "=")
        if len(chunks) == 1:
            return Compare(attribute, operator, chunks[0])
        if len(chunks) == 2 and chunks == ["", ""]:
            return Present(attribute)
        if "" in chunks[1:-1]:
            self.fail("two asterisks stand side by side")
        return Substring(attribute, chunks[0], tuple(chunks[1:-1]), chunks[-1])

    def extensible(self, attribute: str) -> Filter:
        """Read an extensible match."""
        dn, rule = False, ""
        if re.compile(r":dn(?=:)", re.IGNORECASE).match(self.text, self.at):
            dn = True
            self.at += 3
        if self.text[self.at : self.at + 1] == ":" and self.text[self.at + 1 : self.at + 2] != "=":
            match = _RULE.match(self.text, self.at + 1)
            if not match:
                self.fail("a matching rule is expected after ':'")
            rule, self.at = match.group(), match.end()
        if not self.text.startswith(":=", self.at):
            self.fail("':=' is expected")
        self.at += 2
        if not attribute and not rule:
            self.fail("an attribute or a matching rule is expected before ':='")
        return Extensible(attribute, rule, dn, self.value(stars=False)[0])

    def value(self, *, stars: bool) -> list[str]:
        """The value up to the closing bracket, cut at the asterisks where `stars` are wild cards."""
        chunks: list[bytearray] = [bytearray()]
        while self.at < len(self.text):
            char = self.text[self.at]
            if char == ")":
                break
            if char == "\\":
                pair = self.text[self.at + 1 : self.at + 3]
                if not re.fullmatch(r"[0-9A-Fa-f]{2}", pair):
                    self.fail("a backslash must be followed by two hexadecimal digits")
                chunks[-1].append(int(pair, 16))
                self.at += 3
                continue
            if char == "*":
                if not stars:
                    self.fail("'*' is no wild card here; write it as \\2a")
                chunks.append(bytearray())
            elif char in ("(", "\x00"):
                self.fail(f"{char!r} must be written as \\{ord(char):02x}")
            else:
                chunks[-1] += char.encode("utf-8", "surrogatepass")
            self.at += 1
        try:
            return [bytes(chunk).decode() for chunk in chunks]
        except UnicodeDecodeError:
            self.fail("the escaped bytes are not UTF-8")


def parse(text: str) -> Filter:
    """Read a filter; the outermost brackets may be left out.

    Raises:
        VandrelError: code ``bad-filter``, with the column.

    """
    stripped = text.strip()
    reader = _Reader(stripped if stripped.startswith("(") else f"({stripped})")
    item = reader.filter()
    reader.spaces()
    if reader.at < len(reader.text):
        reader.fail("something follows the end of the filter")
    return item


def attributes_of(item: Filter) -> set[str]:
    """The attributes that a filter asks about, as they are spelled in it, without options."""
    match item:
        case And(parts) | Or(parts):
            return set[str]().union(*map(attributes_of, parts))
        case Not(part):
            return attributes_of(part)
        case _:
            return {item.attribute.split(";")[0]} - {""}


def asks_all(item: Filter) -> bool:
    """Whether a part of a filter asks about all attributes, by a matching rule alone (RFC 4511, 4.5.1.7.7)."""
    match item:
        case And(parts) | Or(parts):
            return any(map(asks_all, parts))
        case Not(part):
            return asks_all(part)
        case _:
            return not item.attribute


class Matcher(Protocol):
    """What a schema knows about comparing values (`vandrel.directory.schema`)."""

    def compare(self, attribute: str, operator: str, stored: str | bytes, asserted: str) -> bool:
        """Whether two values of an attribute compare so."""

    def substring(self, item: Substring, stored: str | bytes) -> bool:
        """Whether a value has these pieces."""

    def attribute_name(self, name: str) -> str:
        """The schema's name of an attribute."""

    def is_defined(self, item: Compare | Present | Substring | Extensible) -> bool:
        """Whether a part of a filter is true or false, and not Undefined."""

    def descriptions(self, name: str, present: Iterable[str]) -> list[str]:
        """Those of the attributes of an entry that a filter on `name` asks about."""

    def extensible(self, item: Extensible, stored: str | bytes) -> bool:
        """Whether a value fulfils an extensible match."""


class Values(Protocol):
    """What a filter needs of an entry: the values of an attribute under its canonical name."""

    attributes: dict[str, list[str | bytes]]

    def values_of(self, attribute: str) -> list[str | bytes]:
        """The values of an attribute."""

    def dn_values(self) -> list[tuple[str, str]]:
        """Attribute and value of each part of the name."""


def matches(item: Filter, entry: Values, rules: Matcher) -> bool:
    """Whether `entry` fulfils the filter; Undefined counts as false, also under ``!``-free parts."""
    return _holds(item, entry, rules) is True


def _holds(item: Filter, entry: Values, rules: Matcher) -> bool | None:
    """Three-valued: None is Undefined (an attribute that the schema does not know)."""
    match item:
        case And(parts):
            results = [_holds(part, entry, rules) for part in parts]
            return False if False in results else (None if None in results else True)
        case Or(parts):
            results = [_holds(part, entry, rules) for part in parts]
            return True if True in results else (None if None in results else False)
        case Not(part):
            result = _holds(part, entry, rules)
            return None if result is None else not result
        case _:
            return _leaf_holds(item, entry, rules)


def _leaf_holds(item: Compare | Present | Substring | Extensible, entry: Values, rules: Matcher) -> bool | None:
    if not rules.is_defined(item):
        return None
    name = rules.attribute_name(item.attribute)
    stored = [value for each in rules.descriptions(name, entry.attributes) for value in entry.values_of(each)]
    match item:
        case Present():
            return bool(stored)
        case Compare(_, operator, value):
            return any(rules.compare(name, operator, one, value) for one in stored)
        case Substring():
            return any(rules.substring(item, one) for one in stored)
        case Extensible(_, _, dn, _):
            candidates = stored + ([v for k, v in entry.dn_values() if rules.attribute_name(k) == name] if dn else [])
            return any(rules.extensible(item, one) for one in candidates)
