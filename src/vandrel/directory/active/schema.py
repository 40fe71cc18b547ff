"""The schema of a server with the Active Directory schema, in the notation of RFC 4512.

[MS-ADTS] 3.1.1.3.1.1.1: such a server publishes its subschema in that notation too, but leaves out matching rules,
puts lengths and what only the system sets into ``extendedAttributeInfo``, and classes that are attached to others
into ``dITContentRules``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence, Set

from vandrel.directory.schema.definitions import fields_of

#: What to read from the subschema subentry.
ATTRIBUTES = ("attributeTypes", "objectClasses", "dITContentRules", "extendedAttributeInfo")

_ARC = "1.3.6.1.4.1.1466.115.121.1."
_STRING, _INTEGER, _OCTETS = _ARC + "15", _ARC + "27", _ARC + "40"

#: Syntaxes without an equivalent in RFC 4517 ([MS-ADTS] 3.1.1.2.2.2), as the ones whose values look the same.
_SYNTAXES = {
    "1.2.840.113556.1.4.906": _INTEGER,  # LargeInteger
    "1.2.840.113556.1.4.907": _OCTETS,  # security descriptor
    "1.2.840.113556.1.4.905": _STRING,  # Teletex
    "1.2.840.113556.1.4.903": _STRING,  # name with octets
    "1.2.840.113556.1.4.904": _STRING,  # name with text
    _ARC + "43": _STRING,
    _ARC + "53": _STRING,
}
#: [MS-ADTS] 3.1.1.2.2.4.1: how values of a syntax are compared.
_RULES = {
    _STRING: "EQUALITY caseIgnoreMatch SUBSTR caseIgnoreSubstringsMatch",
    _INTEGER: "EQUALITY integerMatch ORDERING integerOrderingMatch",
    _OCTETS: "EQUALITY octetStringMatch",
    _ARC + "12": "EQUALITY distinguishedNameMatch",
    _ARC + "7": "EQUALITY booleanMatch",
    _ARC + "26": "EQUALITY caseExactIA5Match SUBSTR caseExactIA5SubstringsMatch",
    _ARC + "38": "EQUALITY objectIdentifierMatch",
    _ARC + "24": "EQUALITY generalizedTimeMatch ORDERING generalizedTimeOrderingMatch",
    _ARC + "44": "EQUALITY caseExactMatch SUBSTR caseExactSubstringsMatch",
    _ARC + "36": "EQUALITY numericStringMatch",
}

_MORE = re.compile(r"\(\s*(?P<oid>[\d.]+) NAME '[^']*'(?: RANGE-LOWER '-?\d+')?(?: RANGE-UPPER '(?P<upper>\d+)')?")

#: Worked out by the server when it is asked ([MS-ADTS] 3.1.1.4.5), and so given only to those who ask by name.
COMPUTED = ("msDS-User-Account-Control-Computed", "createTimestamp", "modifyTimestamp", "canonicalName")

#: Octets that people know as text, and that filters take as text: [MS-DTYP] 2.4.2.1 and 2.3.4.3.
SIDS = frozenset({"objectSid"})
GUIDS = frozenset({"objectGUID"})

#: Attached to a class for good, and not always told of: [MS-ADSC] 2.44.
_ATTACHED = {"domainDNS": ("samDomain",)}

#: Demanded by classes and given by the server itself ([MS-ADTS] 3.1.1.5.2.4).
_GIVEN = frozenset(
    "objectCategory nTSecurityDescriptor instanceType objectSid sAMAccountName groupType".lower().split()
)


def definitions(subschema: Mapping[str, Sequence[str]]) -> Iterator[tuple[str, str]]:
    """Definitions as `vandrel.directory.schema.Schema` takes them, from the values of the subschema subentry."""
    more = {}
    for text in subschema.get("extendedAttributeInfo", ()):
        if match := _MORE.match(text):
            more[match["oid"]] = (match["upper"] or "", "SYSTEM-ONLY" in text)
    defined = set(_GIVEN)
    for text in subschema.get("attributeTypes", ()):
        definition, name, system = _attribute(text, more)
        if system:
            defined.add(name.lower())
        yield "attributetype", definition
    rules = {}
    for text in subschema.get("dITContentRules", ()):
        oid, parts = fields_of(text)
        rules[oid] = parts
    for text in subschema.get("objectClasses", ()):
        yield "objectclass", _class(text, rules, defined)


def _attribute(text: str, more: Mapping[str, tuple[str, bool]]) -> tuple[str, str, bool]:
    """A definition, the attribute's name, and whether only the server sets it."""
    oid, parts = fields_of(text)
    name = parts["NAME"][0]
    syntax = _STRING if name in SIDS | GUIDS else _SYNTAXES.get(parts["SYNTAX"][0], parts["SYNTAX"][0])
    upper, system = more.get(oid, ("", False))
    bound = f"{{{upper}}}" if upper and syntax == parts["SYNTAX"][0] else ""
    flags = " SINGLE-VALUE" if "SINGLE-VALUE" in parts else ""
    # What makes a new object is given by whoever makes it, though only the system changes it afterwards.
    fixed = ("NO-USER-MODIFICATION" in parts or system) and name not in ("objectClass", "cn", "ou", "dc")
    if fixed or name in COMPUTED:
        flags += " NO-USER-MODIFICATION"
    return f"( {oid} NAME '{name}' {_RULES.get(syntax, '')} SYNTAX {syntax}{bound}{flags} )", name, fixed


def _class(text: str, rules: Mapping[str, Mapping[str, tuple[str, ...]]], defined: Set[str]) -> str:
    oid, parts = fields_of(text)
    rule = rules.get(oid, {})
    kind = next((flag for flag in ("ABSTRACT", "AUXILIARY") if flag in parts), "STRUCTURAL")
    must = [name for name in (*parts.get("MUST", ()), *rule.get("MUST", ())) if name.lower() not in defined]
    unused = [name for name in (*parts.get("MUST", ()), *rule.get("MUST", ())) if name.lower() in defined]
    may = [*parts.get("MAY", ()), *rule.get("MAY", ()), *unused, *_GIVEN]
    name = parts["NAME"][0]
    above = [sup for sup in (*parts.get("SUP", ()), *_ATTACHED.get(name, ())) if sup != name]
    sup = f" SUP ( {' $ '.join(above)} )" if above else ""
    demands = f" MUST ( {' $ '.join(must)} )" if must else ""
    return f"( {oid} NAME '{name}'{sup} {kind}{demands} MAY ( {' $ '.join(may)} ) )"


#: Kept in the security descriptor, and shown as attributes by those who can read it.
_ROOT = "2.25.229936377437684810161030963458479331276.1"
VIRTUAL = (
    ("attributetype", f"( {_ROOT}.4 NAME 'vandrelProtected' EQUALITY booleanMatch SYNTAX {_ARC}7 SINGLE-VALUE "
                      "USAGE directoryOperation )"),
    ("attributetype", f"( {_ROOT}.23 NAME 'vandrelGuarding' EQUALITY booleanMatch SYNTAX {_ARC}7 SINGLE-VALUE "
                      "USAGE directoryOperation )"),
    ("attributetype", f"( {_ROOT}.11 NAME 'vandrelPasswordFixed' EQUALITY booleanMatch SYNTAX {_ARC}7 SINGLE-VALUE "
                      "USAGE directoryOperation )"),
    ("attributetype", f"( {_ROOT}.24 NAME 'vandrelShieldedFrom' EQUALITY caseIgnoreMatch SYNTAX {_ARC}15 "
                      "USAGE directoryOperation )"),
    ("attributetype", f"( {_ROOT}.22 NAME 'vandrelDelegation' EQUALITY caseIgnoreMatch SYNTAX {_ARC}15 "
                      "USAGE directoryOperation )"),
)  # fmt: skip
