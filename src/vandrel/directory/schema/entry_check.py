"""What is wrong with an entry as a whole, by the classes that it has: most entries are of a few shapes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from vandrel.directory.schema.definitions import AttributeType
from vandrel.errors import Code, Finding, Location

if TYPE_CHECKING:
    from vandrel.directory.schema import Attributes, Schema

#: Values of one attribute that are kept as found right, and how long they may be.
_MOST_KEPT, _SHORT = 256, 100


class _Validator(NamedTuple):
    """How the values of an attribute are checked, and some that were found right."""

    single: bool
    limit: int
    valid: Callable[[str | bytes], str]
    passed: set[str | bytes]


class EntryCheck:
    """Checks entries against one schema.

    `validators` has, by the canonical name of an attribute, its definition and the check of one value.
    """

    def __init__(
        self, schema: Schema, validators: Mapping[str, tuple[AttributeType, Callable[[str | bytes], str]]]
    ) -> None:
        self._schema, self._validators = schema, validators
        #: Classes with which nothing is wrong.
        self._sound: set[tuple[str, ...]] = set()
        #: By the classes and attributes of entries, how their values are checked; nothing where more is to be said.
        self._shapes: dict[tuple[object, ...], list[_Validator]] = {}

    def _class_findings(self, classes: tuple[str, ...], where: Location) -> list[Finding]:
        findings = [
            Finding(Code.SCHEMA, f"the schema has no object class {name!r}", where)
            for name in classes
            if self._schema.object_class(name) is None
        ]
        if len(set(map(str.lower, classes))) < len(classes):
            findings.append(Finding(Code.SCHEMA, "objectClass has the same value twice", where))
        try:
            if not self._schema.structural_class(classes):
                findings.append(Finding(Code.SCHEMA, "no structural object class", where))
        except ValueError as error:
            findings.append(Finding(Code.SCHEMA, str(error), where))
        return findings

    def findings(self, attributes: Attributes, where: Location) -> list[Finding]:
        """All that is wrong with an entry as a whole: classes, required, allowed, single, syntax, length."""
        classes = tuple(map(str, attributes.get("objectClass", ())))
        if classes not in self._sound:
            if unsound := self._class_findings(classes, where):
                return unsound
            self._sound.add(classes)
        if self._is_like_others(classes, attributes):
            return []
        must, may = self._schema.shape(classes)
        findings = [
            Finding(Code.SCHEMA, f"{name} is required by the object classes {', '.join(classes)}", where)
            for name in sorted(must - attributes.keys())
        ]
        for name, values in attributes.items():
            validator = self._validators.get(name) or self._validators.get(
                self._schema.attribute_name(name).partition(";")[0]
            )
            if validator is None:
                findings.append(self._unknown(name, where))
                continue
            attribute, valid = validator
            if name not in may and not attribute.operational and attribute.name not in may:
                findings.append(
                    Finding(
                        Code.SCHEMA, f"{name} is not allowed on an entry of the classes {', '.join(classes)}", where
                    )
                )
            if attribute.single and len(values) > 1:
                findings.append(Finding(Code.SCHEMA, f"{name} takes one value, and {len(values)} are given", where))
            elif len(values) > 1 and self._is_twice(name, values):
                findings.append(Finding(Code.SCHEMA, f"{name} has the same value twice", where))
            limit = attribute.limit
            for value in values:
                if valid(value) or (limit and len(value) > limit):
                    finding = self._schema.check_value(name, value, where)
                    findings += [finding] if finding else []
        return findings

    def _is_like_others(self, classes: tuple[str, ...], attributes: Attributes) -> bool:
        """Whether nothing at all is wrong with an entry: most are of a few shapes, and have some values in common.

        What attributes of a shape may be is looked at once; and so are values that come again.
        """
        which = (classes, *attributes)
        if which not in self._shapes:
            must, may = self._schema.shape(classes)
            validators = [self._validators.get(name) for name in attributes]
            sound = must <= attributes.keys() and all(
                item is not None and (name in may or item[0].operational)
                for name, item in zip(attributes, validators, strict=True)
            )
            self._shapes[which] = (
                [_Validator(rule.single, rule.limit, valid, set()) for rule, valid in filter(None, validators)]
                if sound
                else []
            )
        rule = self._shapes[which]
        for (single, limit, valid, passed), (name, values) in zip(rule, attributes.items(), strict=False):
            if len(values) > 1 and (single or self._is_twice(name, values)):
                return False
            for value in values:
                if value not in passed:
                    if valid(value) or (limit and len(value) > limit):
                        return False
                    if len(passed) < _MOST_KEPT and len(value) < _SHORT:
                        passed.add(value)
        return bool(rule)

    def _is_twice(self, name: str, values: Sequence[str | bytes]) -> bool:
        """Whether two values are equal; classes are looked at apart, and of names one row is kept for each."""
        if name == "objectClass" or self._schema.is_reference(name):
            return False
        return len({self._schema.key(name, value) for value in values}) < len(values)

    def _unknown(self, name: str, where: Location) -> Finding:
        from vandrel.text.nearest import did_you_mean

        hint = did_you_mean(name, self._schema.attribute_names())
        return Finding(Code.UNKNOWN_FIELD, f"the schema has no attribute {name!r}", where, hint)
