"""The schema of a directory: attribute types, object classes, and what they demand of an entry."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence, Set
from functools import cached_property, lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import structs

from vandrel.directory.dn import DN
from vandrel.directory.filter import Compare, Extensible, Present, Substring
from vandrel.directory.schema import matching, syntaxes
from vandrel.directory.schema.definitions import (
    AttributeType,
    ContentRule,
    ObjectClass,
    UndefinedSuperior,
    attribute_type,
    content_rule,
    object_class,
)
from vandrel.errors import NOWHERE, Code, Finding, Location, VandrelError
from vandrel.text.string_prep import fold, prepare, prepare_all, prepare_fragment

if TYPE_CHECKING:
    from vandrel.directory.schema.entry_check import EntryCheck

__all__ = ["AttributeType", "Attributes", "ObjectClass", "Schema", "read_definitions", "shipped_definitions"]

Attributes = Mapping[str, "list[str | bytes]"]

#: The files of definitions that an embedded directory starts with.
SHIPPED = ("standard.schema", "vandrel.schema", "posix.schema")


#: Assertions that are kept as looked at.
_MOST_KEPT = 256


@lru_cache(maxsize=1)
def shipped_definitions() -> tuple[tuple[str, str], ...]:
    """All shipped definitions as (``attributetype``, ``objectclass`` or ``ditcontentrule``, text)."""
    # Beside this module, and not by `importlib.resources`: that would take a tenth of the time of a short command.
    return tuple(each for name in SHIPPED for each in read_definitions(Path(__file__).with_name(name)))


def read_definitions(file: Path) -> Iterator[tuple[str, str]]:
    """The definitions in a file, one in each line, as (``attributetype``, ``objectclass`` ..., text)."""
    for line in file.read_text("utf-8").splitlines():
        if line and not line.startswith("#"):
            kind, _, text = line.partition(" ")
            yield kind, text


class Schema:
    """A set of definitions, asked by name or OID without regard to case."""

    def __init__(self, definitions: Iterable[tuple[str, str]], *, bounds_bind: bool = True) -> None:
        """Read definitions.

        Args:
            definitions: as `definitions` has them.
            bounds_bind: whether the lengths in braces are the greatest; else they are suggestions (RFC 4512, 4.1.2).

        """
        self._attributes: dict[str, AttributeType] = {}
        self._classes: dict[str, ObjectClass] = {}
        #: Assertions that were looked at: attribute and value.
        self._misfits: set[tuple[str, str]] = set()
        self._fitting: set[tuple[str, str]] = set()
        self._shapes: dict[tuple[str, ...], tuple[frozenset[str], frozenset[str]]] = {}
        texts = list(definitions)
        #: (``attributetype``, ``objectclass`` or ``ditcontentrule``, text) of everything, as it was given.
        self.definitions = tuple(texts)
        #: What could not be read, and why: the rest of the schema counts all the same.
        self.passed_over: list[str] = []
        self._content_rules: dict[str, ContentRule] = {}
        self._define_attributes([text for kind, text in texts if kind == "attributetype"])
        for kind, text in texts:
            try:
                if kind == "objectclass":
                    cls = object_class(text)
                    self._classes |= {name.lower(): cls for name in (*cls.names, cls.oid)}
                elif kind == "ditcontentrule":
                    rule = content_rule(text)
                    self._content_rules[rule.oid.lower()] = rule
            except ValueError as error:
                self.passed_over.append(str(error))
        self._canonical = {key: attribute.name for key, attribute in self._attributes.items()}
        types = set(self._attributes.values())
        self._normalizers = {a.name: matching.normalizer(a.equality) for a in types}
        self._normalizers |= {a.name: self._identified for a in types if a.equality == "objectIdentifierMatch"}
        bound = {a.name: a if bounds_bind or not a.limit else structs.replace(a, limit=0) for a in types}
        self._validators = {name: (a, syntaxes.validator(a.syntax)) for name, a in bound.items()}
        self._references = frozenset(a.name for a in types if a.syntax in (syntaxes.DN_SYNTAX, syntaxes.NAME_AND_UID))

    def _define_attributes(self, texts: list[str]) -> None:
        """Define attribute types; servers put them out in any order, so what is derived waits for its superior."""
        while texts:
            waiting = []
            for text in texts:
                try:
                    attribute = attribute_type(text, self._attributes)
                except UndefinedSuperior:
                    waiting.append(text)
                    continue
                except ValueError as error:
                    self.passed_over.append(str(error))
                    continue
                for name in (*attribute.names, attribute.oid):
                    self._attributes[name.lower()] = attribute
            if len(waiting) == len(texts):
                self.passed_over += [f"the superior of {text[:60]!r} is not defined" for text in waiting]
                return
            texts = waiting

    def _identified(self, value: str) -> str:
        """An object identifier by the name that the schema has for it (RFC 4517, section 4.2.26)."""
        definition = self._classes.get(value.lower()) or self._attributes.get(value.lower())
        return (definition.name if definition is not None else value).lower()

    # --- asking

    def attribute(self, name: str) -> AttributeType | None:
        """The definition of an attribute, whatever options its description has; None where there is none."""
        return self._attributes.get(name.lower()) or (
            self._attributes.get(without_options(name).lower()) if ";" in name else None
        )

    def object_class(self, name: str) -> ObjectClass | None:
        """The definition of an object class; None where there is none."""
        return self._classes.get(name.lower())

    def attribute_name(self, name: str) -> str:
        """The canonical name of an attribute type, or an empty string where there is none.

        Options stay, in lower case and in order: ``cn;lang-de`` is an attribute apart (RFC 4512, section 2.5).
        """
        return self._canonical.get(name) or self._canonical.get(name.lower()) or self._described(name)

    def _described(self, name: str) -> str:
        bare, *options = name.lower().split(";")
        canonical = self._canonical.get(bare, "") if options else ""
        return ";".join((canonical, *sorted(filter(None, options)))) if canonical else ""

    def descriptions(self, name: str, present: Iterable[str]) -> list[str]:
        """Those attributes that a filter on `name` asks about: its subtypes, and those with more options.

        Args:
            name: canonical, perhaps with options.
            present: the canonical names of the attributes that an entry has.

        """
        bare, *options = name.split(";")
        subtypes = self._subtypes.get(bare, (bare,))
        if not options and len(subtypes) == 1 and ";" not in "".join(present):
            return [name]
        parts = ((each, each.split(";")) for each in present)
        return [each for each, (own, *more) in parts if own in subtypes and set(options) <= set(more)]

    @cached_property
    def _subtypes(self) -> dict[str, tuple[str, ...]]:
        """The attributes that others are derived from, each with those and itself."""
        subtypes: dict[str, list[str]] = {}
        for attribute in set(self._attributes.values()):
            above: AttributeType | None = attribute
            while above is not None and above.sup:
                above = self.attribute(above.sup)
                if above is not None:
                    subtypes.setdefault(above.name, [above.name]).append(attribute.name)
        return {name: tuple(sorted(below)) for name, below in subtypes.items()}

    def subtypes(self, name: str) -> tuple[str, ...]:
        """An attribute and those that are derived from it, by canonical names."""
        return self._subtypes.get(name, (name,))

    def attribute_names(self) -> list[str]:
        """The names of all attributes."""
        return list(dict.fromkeys(attribute.name for attribute in self._attributes.values()))

    def is_binary(self, name: str) -> bool:
        """Whether the values of an attribute are octets; always with the option ``binary`` (RFC 4522)."""
        attribute = self.attribute(name)
        return attribute is not None and (attribute.syntax in syntaxes.BINARY or ";binary" in name.lower())

    def is_reference(self, name: str) -> bool:
        """Whether the values are distinguished names."""
        return self.attribute_name(name) in self._references

    def references(self) -> list[str]:
        """All attributes whose values are distinguished names."""
        return sorted(self._references)

    def references_in(self, attributes: Attributes) -> Set[str]:
        """Those attributes of an entry whose values are distinguished names; canonical names are expected."""
        return self._references & attributes.keys()

    def lineage(self, classes: Iterable[str]) -> list[ObjectClass]:
        """The classes named and all their superiors, each once; unknown ones are left out."""
        ancestors: dict[str, ObjectClass] = {}
        todo = list(classes)
        while todo:
            cls = self.object_class(todo.pop(0))
            if cls and cls.name not in ancestors:
                ancestors[cls.name] = cls
                todo += cls.sup
        return list(ancestors.values())

    def shape(self, classes: tuple[str, ...]) -> tuple[frozenset[str], frozenset[str]]:
        """Canonical names of what entries of these classes must have and may have (``must`` included)."""
        if classes not in self._shapes:
            lineage = self.lineage(classes)
            must = frozenset(self.attribute_name(name) for cls in lineage for name in cls.must)
            may = frozenset(self.attribute_name(name) for cls in lineage for name in cls.may)
            if any(cls.name == "extensibleObject" for cls in lineage):  # RFC 4512, section 4.3
                may = frozenset(self.attribute_names())
            if (rule := self._content_rule(classes)) is not None:
                must |= set(map(self.attribute_name, rule.must))
                may = (may | set(map(self.attribute_name, rule.may))) - set(map(self.attribute_name, rule.without))
            self._shapes[classes] = (must, must | may)
        return self._shapes[classes]

    def _content_rule(self, classes: Iterable[str]) -> ContentRule | None:
        """The rule of the structural class of entries of these classes, if it has one."""
        if not self._content_rules:
            return None
        try:
            structural = self.object_class(self.structural_class(classes))
        except ValueError:
            return None
        return self._content_rules.get(structural.oid.lower()) if structural is not None else None

    def structural_class(self, classes: Iterable[str]) -> str:
        """The structural class of entries of these classes: the most derived one; empty where there is none.

        Raises:
            ValueError: there are two that are not derived from each other (RFC 4512, section 2.4.2).

        """
        structural = [cls for cls in self.lineage(classes) if cls.kind == "STRUCTURAL"]
        above = {sup.name for cls in structural for sup in self.lineage(cls.sup)}
        lowest = [cls.name for cls in structural if cls.name not in above]
        if len(lowest) > 1:
            raise ValueError(f"two structural object classes, {lowest[0]} and {lowest[1]}: an entry has one")
        return lowest[0] if lowest else ""

    # --- comparing (the `Matcher` of vandrel.directory.filter)

    def normalizer(self, attribute: str) -> Callable[[str], matching.Key] | None:
        """The function behind `key` for the text values of one attribute; None where values stay as they are."""
        return self._normalizers.get(attribute)

    def key(self, attribute: str, value: str | bytes) -> matching.Key:
        """The form of a value by which equal values are equal; `attribute` is a canonical name."""
        if isinstance(value, bytes):
            return value
        normalize = self._normalizers.get(attribute)
        if normalize is None and ";" in attribute:
            normalize = self._normalizers.get(without_options(attribute))
        return normalize(value) if normalize else value

    def value_key(self, attribute: str, value: str | bytes) -> matching.Key:
        """The same as `key`, of any value; a distinguished name counts however it is spelled."""
        if value and self.is_reference(attribute):
            try:
                return DN.read(str(value)).key  # of thousands in one list: nothing else of them is wanted
            except VandrelError:
                return self.key(attribute, value)
        return self.key(attribute, value)

    def keys(self, attribute: str, values: Sequence[str]) -> list[str]:
        """What `key` makes of each of many values."""
        normalize = self._normalizers.get(attribute)
        if normalize is prepare:
            return prepare_all(values)
        return list(map(str, map(normalize, values) if normalize is not None else values))

    def is_defined(self, item: Compare | Present | Substring | Extensible) -> bool:
        """Whether a part of a filter is true or false of an entry, and not Undefined (RFC 4511, section 4.5.1.7).

        It is Undefined where the attribute is not known, has no rule for what is asked, or the assertion is no value
        of its syntax.
        """
        attribute = self.attribute(item.attribute)
        if attribute is None:
            return False
        match item:
            case Present():
                return True
            case Substring():
                return bool(attribute.substring)
            case Extensible(_, rule, _, value):
                return matching.by_rule(rule, attribute) is not None and not self._is_misfit(attribute, value)
            case Compare(_, operator, value):
                rule = attribute.equality if operator in ("=", "~=") else attribute.ordering
                return bool(rule) and not self._is_misfit(attribute, value)

    def _is_misfit(self, attribute: AttributeType, value: str) -> bool:
        """Whether an assertion is no value of the syntax; of text and octets none is too odd to be asked for."""
        if attribute.equality == "objectIdentifierMatch":  # one that the schema does not have can be neither
            return value.lower() not in self._classes and value.lower() not in self._attributes
        if attribute.syntax in syntaxes.ANY_ASSERTION:
            return False
        return (attribute.name, value) in self._misfits or self._note_misfit(attribute, value)

    def _note_misfit(self, attribute: AttributeType, value: str) -> bool:
        if (attribute.name, value) in self._fitting:
            return False
        is_misfit = bool(self._validators[attribute.name][1](value))
        noted = self._misfits if is_misfit else self._fitting
        if len(noted) < _MOST_KEPT:
            noted.add((attribute.name, value))
        return is_misfit

    def extensible(self, item: Extensible, stored: str | bytes) -> bool:
        """Whether a value fulfils an extensible match; the item must be defined."""
        attribute = self.attribute(item.attribute)
        test = matching.by_rule(item.rule, attribute) if attribute is not None else None
        return test is not None and isinstance(stored, str) and test(stored, item.value)

    def compare(self, attribute: str, operator: str, stored: str | bytes, asserted: str) -> bool:
        """Whether two values of an attribute compare so."""
        key = self.key(attribute, stored)
        right = self.key(attribute, asserted.encode() if isinstance(stored, bytes) else asserted)
        if operator in ("=", "~="):
            return key == right
        if type(key) is not type(right):
            return False
        return key >= right if operator == ">=" else key <= right  # type: ignore[operator]

    def substring_parts(self, item: Substring) -> tuple[str, list[str], str]:
        """The three parts of a substring filter, prepared as the values of the attribute are."""
        attribute = self.attribute(item.attribute)
        rule = attribute.substring if attribute else ""
        if rule.startswith("caseExact"):
            return item.initial, list(item.middle), item.final
        if rule.startswith(("telephone", "numeric")):
            strip = (
                (lambda s: fold(s).replace(" ", "").replace("-", ""))
                if rule[0] == "t"
                else (lambda s: s.replace(" ", ""))
            )
            return strip(item.initial), [strip(part) for part in item.middle], strip(item.final)
        return (
            prepare_fragment(item.initial, initial=True),
            [prepare_fragment(part) for part in item.middle],
            prepare_fragment(item.final, final=True),
        )

    def substring(self, item: Substring, stored: str | bytes) -> bool:
        """Whether a value has these pieces."""
        value = self.key(self.attribute_name(item.attribute), stored)
        if not isinstance(value, str):
            return False
        initial, middle, final = self.substring_parts(item)
        if not (value.startswith(initial) and value.endswith(final) and len(value) >= len(initial) + len(final)):
            return False
        at, end = len(initial), len(value) - len(final)
        for part in middle:
            start = value.find(part, at, end)
            if start < 0:
                return False
            at = start + len(part)
        return True

    # --- checking

    def check_value(self, name: str, value: str | bytes, where: Location = NOWHERE) -> Finding | None:
        """Syntax and length of one value; `name` must be a known attribute."""
        attribute, valid = self._validators[without_options(self.attribute_name(name))]
        why = "" if isinstance(value, bytes) and self.is_binary(name) else valid(value)
        if why:
            return Finding(Code.SCHEMA, f"{attribute.name} {why}: {shorten(value)}", where)
        if attribute.limit and len(value) > attribute.limit:
            unit = "octets" if isinstance(value, bytes) else "characters"
            return Finding(
                Code.SCHEMA,
                f"{attribute.name} takes {attribute.limit} {unit} at most, and this value has {len(value)}: "
                f"{shorten(value)}",
                where,
                f"shorten it by {len(value) - attribute.limit}",
            )
        return None

    def passes(self, name: str, values: Collection[str]) -> bool:
        """A quick look at thousands of values of one line: `check_value` has nothing against them if it says so."""
        attribute, _ = self._validators[self.attribute_name(name)]
        if not "".join(values).isprintable() or (attribute.limit and max(map(len, values)) > attribute.limit):
            return False
        return syntaxes.pass_all(attribute.syntax, values)

    def takes_text(self, name: str, longest: int) -> bool:
        """Whether an attribute takes every printable text of one character to so many."""
        attribute, _ = self._validators[self.attribute_name(name)]
        return attribute.syntax == syntaxes.DIRECTORY_STRING and not 0 < attribute.limit < longest

    def check_entry(self, attributes: Attributes, where: Location = NOWHERE) -> list[Finding]:
        """All that is wrong with an entry as a whole: classes, required, allowed, single, syntax, length."""
        return self._entry_check.findings(attributes, where)

    @cached_property
    def _entry_check(self) -> EntryCheck:
        from vandrel.directory.schema.entry_check import EntryCheck

        return EntryCheck(self, self._validators)


def without_options(name: str) -> str:
    """The attribute type of an attribute description: ``cn`` of ``cn;lang-de``."""
    return name.partition(";")[0] if ";" in name else name


def shorten(value: str | bytes, width: int = 40) -> str:
    """A value as it may stand in a message: quoted, cut, never raw octets."""
    if isinstance(value, bytes):
        return f"{len(value)} octets"
    return repr(value if len(value) <= width else value[: width - 1] + "…")
