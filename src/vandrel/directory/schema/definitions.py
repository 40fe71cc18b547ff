"""Schema definitions as text: the notation of RFC 4512, section 4.1."""

from __future__ import annotations

import re

from msgspec import Struct

_TOKEN = re.compile(r"'((?:[^'\\]|\\27|\\5[Cc])*)'|([()$])|([^\s()$']+)")
_FLAGS = frozenset(
    {"SINGLE-VALUE", "COLLECTIVE", "NO-USER-MODIFICATION", "OBSOLETE", "ABSTRACT", "STRUCTURAL", "AUXILIARY"}
)


class UndefinedSuperior(ValueError):
    """An attribute type that is derived from one that is not known (yet)."""


class AttributeType(Struct, frozen=True):
    """One attribute type; what it inherits from ``sup`` is already filled in.

    ``limit`` is the greatest number of characters (octets for octet strings), 0 where the schema sets none.
    """

    oid: str
    names: tuple[str, ...]
    description: str
    sup: str
    equality: str
    ordering: str
    substring: str
    syntax: str
    limit: int
    single: bool
    read_only: bool
    operational: bool

    @property
    def name(self) -> str:
        """The first name."""
        return self.names[0] if self.names else self.oid


class ObjectClass(Struct, frozen=True):
    """One object class; ``must`` and ``may`` hold its own attributes, without those of its superiors."""

    oid: str
    names: tuple[str, ...]
    description: str
    sup: tuple[str, ...]
    kind: str
    must: tuple[str, ...]
    may: tuple[str, ...]

    @property
    def name(self) -> str:
        """The first name."""
        return self.names[0] if self.names else self.oid


def fields_of(text: str) -> tuple[str, dict[str, tuple[str, ...]]]:
    """The OID and the keyworded parts of one definition in brackets.

    Raises:
        ValueError: the text does not follow the notation.

    """
    tokens = [(m.group(1) is not None, m.group(1) or m.group(2) or m.group(3) or "") for m in _TOKEN.finditer(text)]
    if len(tokens) < 3 or tokens[0][1] != "(" or tokens[-1][1] != ")":
        raise ValueError(f"not a schema definition: {text[:60]!r}")
    oid, index, end = tokens[1][1], 2, len(tokens) - 1
    parts: dict[str, tuple[str, ...]] = {}
    while index < end:
        keyword = tokens[index][1].upper()  # quoted strings of RFC 5234 are of either case
        index += 1
        if keyword in _FLAGS:
            parts[keyword] = ("yes",)
            continue
        if index >= end:
            raise ValueError(f"{keyword} of {oid} has no value")
        if tokens[index] == (False, "("):
            close = tokens.index((False, ")"), index)
            parts[keyword] = tuple(value for _, value in tokens[index + 1 : close] if value != "$")
            index = close + 1
        else:
            parts[keyword] = (tokens[index][1],)
            index += 1
    return oid, parts


def _one(parts: dict[str, tuple[str, ...]], keyword: str) -> str:
    return parts.get(keyword, ("",))[0]


def _text(parts: dict[str, tuple[str, ...]]) -> str:
    return _one(parts, "DESC").replace("\\27", "'").replace("\\5C", "\\").replace("\\5c", "\\")


def attribute_type(text: str, inherited: dict[str, AttributeType]) -> AttributeType:
    """Read an AttributeTypeDescription; `inherited` holds the types defined before it, by lower-case name."""
    oid, parts = fields_of(text)
    sup = _one(parts, "SUP")
    above = inherited.get(sup.lower())
    if sup and above is None:
        raise UndefinedSuperior(f"{oid} is derived from {sup}, which is not defined before it")
    syntax, _, bound = _one(parts, "SYNTAX").partition("{")
    return AttributeType(
        oid=oid,
        names=parts.get("NAME", ()),
        description=_text(parts),
        sup=sup,
        equality=_one(parts, "EQUALITY") or (above.equality if above else ""),
        ordering=_one(parts, "ORDERING") or (above.ordering if above else ""),
        substring=_one(parts, "SUBSTR") or (above.substring if above else ""),
        syntax=syntax or (above.syntax if above else ""),
        limit=int(bound.rstrip("}")) if bound else (above.limit if above and not syntax else 0),
        single="SINGLE-VALUE" in parts,
        read_only="NO-USER-MODIFICATION" in parts,
        operational=_one(parts, "USAGE") not in ("", "userApplications"),
    )


def object_class(text: str) -> ObjectClass:
    """Read an ObjectClassDescription."""
    oid, parts = fields_of(text)
    kind = next((flag for flag in ("ABSTRACT", "AUXILIARY") if flag in parts), "STRUCTURAL")
    # RFC 4512, section 2.4.2: a structural class is derived from top, be that written or not.
    implied = ("top",) if kind == "STRUCTURAL" else ()
    return ObjectClass(
        oid=oid,
        names=parts.get("NAME", ()),
        description=_text(parts),
        sup=parts.get("SUP", implied),
        kind=kind,
        must=parts.get("MUST", ()),
        may=parts.get("MAY", ()),
    )


class ContentRule(Struct, frozen=True):
    """What entries of one structural class may and must have besides (RFC 4512, section 4.1.6)."""

    oid: str
    must: tuple[str, ...]
    may: tuple[str, ...]
    without: tuple[str, ...]


def content_rule(text: str) -> ContentRule:
    """Read a DITContentRuleDescription."""
    oid, parts = fields_of(text)
    return ContentRule(oid, parts.get("MUST", ()), parts.get("MAY", ()), parts.get("NOT", ()))
