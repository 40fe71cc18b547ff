"""From what somebody typed to the one object that they mean."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from msgspec import Struct

from vandrel.directory import dn as names
from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare, Filter, Or, Substring
from vandrel.directory.port import Scope
from vandrel.directory.schema import shorten
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, OBJECT_TYPES, UNIT
from vandrel.objects.context import Context
from vandrel.text.nearest import listed, nearest, nearest_part

_EXACT = ("login", "principal", "mail", "alias", "number", "name", "full", "display")
_LOOSE = ("name", "full", "display", "login", "mail", "given", "surname")

_LIKE_A_DN = re.compile(r"\s*([A-Za-z][A-Za-z0-9-]*|\d+(\.\d+)+)\s*=")

#: Objects that are looked through for near spellings.
_MOST_NEAR = 20_000
_SHOWN = 12
#: Those that the message itself names.
_NAMED = 3
#: Letters up to which near spellings are looked for.
_LONGEST_NEAR = 100


class Candidate(Struct, frozen=True):
    """What an ambiguous or misspelt name may have meant, in words."""

    name: str
    full: str
    object_type: str
    place: str


class NoSingleMatch(VandrelError):
    """Nothing fits, or several do; ``candidates`` are those that do, or come near."""

    def __init__(
        self, context: Context, code: Code, what: str, typed: str, entries: Sequence[Entry], remedy: str
    ) -> None:
        super().__init__(code, what, where=Location(text=typed), remedy=remedy)
        self.candidates = [
            Candidate(
                context.one(entry, "login") or entry.dn.name,
                context.one(entry, "full") if context.dialect.object_type_of(entry) == ACCOUNT else "",
                context.dialect.object_type_of(entry),
                context.place(entry.dn.parent),
            )
            for entry in entries
        ]  # fmt: skip


def resolve(
    context: Context, typed: str, object_types: Iterable[str] = OBJECT_TYPES, only: Sequence[str] = ()
) -> Entry:  # fmt: skip
    """The one object of these types that `typed` means; with `only`, no other attributes of it need to come.

    Taken in turn: a place, a distinguished name, an exact name (logon, principal, mail, employee
    number, entry, full or display name), fragments of which every word must occur.

    Raises:
        NoSingleMatch: ``ambiguous`` with the candidates, or ``not-found`` with near spellings.
        VandrelError: ``bad-name`` for a place or distinguished name that cannot be read.

    """
    object_types = tuple(object_types)
    typed = typed.strip()
    if not typed:
        raise VandrelError(Code.USAGE, "a name is empty", remedy="name an account, a group or a unit")
    if typed.startswith("/"):
        return _by_place(context, typed, object_types, only)
    if _LIKE_A_DN.match(typed):
        return _by_dn(context, typed, only)
    # What is looked for where nothing fits exactly is too much to be asked for on the chance that it is wanted.
    ways = (_exact, _fragments) if context.directory.capabilities.answers else (_exact,)
    for where in (way(context, typed, object_types) for way in ways):
        entries = _search(context, where, object_types, only)
        logins = [
            entry
            for entry in entries
            if typed.casefold() in (v.casefold() for v in context.dialect.read(entry, "login"))
        ]
        if len(entries) == 1 or len(logins) == 1:
            return (logins or entries)[0]
        if entries:
            raise NoSingleMatch(
                context,
                Code.AMBIGUOUS,
                f"{typed!r} can be {_named(context, entries)}",
                typed,
                entries[:_SHOWN],
                "type more of the name, or its logon name",
            )
    if not context.directory.capabilities.answers:
        raise NoSingleMatch(context, Code.NOT_FOUND, f"nothing is known of {typed!r} yet", typed, (), "")
    raise _nothing(context, typed, object_types)


def find_fragments(context: Context, words: Sequence[str], object_types: Iterable[str] = OBJECT_TYPES) -> Filter:
    """The filter for the objects in which every word occurs; all objects of these types where there is no word."""
    types = tuple(object_types)
    if not words:
        return Or(tuple(context.dialect.filter_for(object_type) for object_type in types))
    return _fragments(context, " ".join(words), types)


def _attributes(context: Context, fields: Iterable[str], object_types: Iterable[str]) -> list[str]:
    return list(
        dict.fromkeys(
            a
            for object_type in object_types
            for field in fields
            if (a := context.dialect.attribute(field, object_type))
        )
    )


def _exact(context: Context, typed: str, object_types: tuple[str, ...]) -> Filter:
    return Or(tuple(Compare(attribute, "=", typed) for attribute in _attributes(context, _EXACT, object_types)))


def _in_ascii(word: str) -> list[str]:
    """The word itself, and how it is written in ASCII."""
    from vandrel.text.transliterate import to_ascii

    return list(dict.fromkeys((word, to_ascii(word), to_ascii(word, "de"))))


def _fragments(context: Context, typed: str, object_types: tuple[str, ...]) -> Filter:
    attributes = _attributes(context, _LOOSE, object_types)
    parts = []
    for word in typed.split():
        # Who types Mueller for Müller is understood: logon names and addresses are in ASCII.
        spellings = [word] if word.isascii() else _in_ascii(word)
        parts.append(
            Or(tuple(Substring(a, "", (spelling,), "") for spelling in spellings if spelling for a in attributes))
        )
    return And(tuple(parts))


def _search(
    context: Context, where: Filter, object_types: tuple[str, ...], only: Sequence[str] = ()
) -> list[Entry]:  # fmt: skip
    any_type = Or(tuple(context.dialect.filter_for(object_type) for object_type in object_types))
    return list(context.directory.search(context.charter.base, where=And((any_type, where)), only=only))


def _get(context: Context, dn: DN, only: Sequence[str]) -> Entry | None:
    return next(context.directory.search(dn, Scope.BASE, only=only), None) if only else context.directory.get(dn)


def _by_place(context: Context, typed: str, object_types: tuple[str, ...], only: Sequence[str]) -> Entry:
    place = places.parse(typed)
    unit = places.to_dn(place, context.charter.base)
    named_by = dict.fromkeys(["cn", context.dialect.naming_attribute(ACCOUNT)])
    candidates = [unit, *(unit.parent.child(attribute, place[-1]) for attribute in named_by)] if place else [unit]
    for dn in candidates:
        entry = _get(context, dn, only)
        if entry is not None and (context.dialect.object_type_of(entry) in object_types or not place):
            return entry
    choices = [context.place(entry.dn) for entry in _search(context, context.dialect.filter_for(UNIT), (UNIT,))]
    near = nearest(typed, choices)
    raise VandrelError(
        Code.NOT_FOUND, f"there is no place {typed}", where=Location(text=typed),
        remedy=f"did you mean {listed(near)}?" if near else "vandrel tree shows the places",
    )  # fmt: skip


def _by_dn(context: Context, typed: str, only: Sequence[str]) -> Entry:
    dn = names.parse(typed)
    entry = _get(context, dn, only)
    if entry is not None:
        return entry
    near = [other for other in (dn.parent, *dn.ancestors()) if context.directory.get(other) is not None]
    remedy = f"the nearest that exists is {near[0]}" if near else f"names here end with {context.charter.base}"
    if not near and dn.naming_attribute in context.fields:  # an assignment, where a name belongs
        remedy = f"{dn.naming_attribute} is a field: vandrel edit NAME {typed}"
    raise VandrelError(Code.NOT_FOUND, f"there is no object {dn}", where=Location(text=typed), remedy=remedy)


def _named(context: Context, entries: Sequence[Entry]) -> str:
    """The first few in words: a list of them stands above the message only where it is all there is to say."""
    few = [context.one(entry, "login") or entry.dn.name for entry in entries[:_NAMED]]
    return f"{', '.join(few)} and {len(entries) - _NAMED} more" if len(entries) > _NAMED else listed(few)


def _nothing(context: Context, typed: str, object_types: tuple[str, ...]) -> NoSingleMatch:
    what = listed(f"{'an' if object_type == ACCOUNT else 'a'} {object_type}" for object_type in object_types)
    if len(typed) > _LONGEST_NEAR:
        return NoSingleMatch(
            context, Code.NOT_FOUND, f"nothing fits {shorten(typed)} as {what}", shorten(typed), [], "type less"
        )
    from vandrel.text.transliterate import to_ascii

    spelled: dict[str, Entry] = {}
    any_type = Or(tuple(context.dialect.filter_for(object_type) for object_type in object_types))
    for number, entry in enumerate(context.directory.search(context.charter.base, where=any_type)):
        if number >= _MOST_NEAR:
            break
        for field in ("login", "full", "name", "surname"):
            for value in context.dialect.read(entry, field):
                spelled.setdefault(to_ascii(value).lower(), entry)
    near = list(
        {spelled[word].dn.key: spelled[word] for word in nearest_part(to_ascii(typed).lower(), spelled, 5)}.values()
    )
    remedy = f"did you mean {_named(context, near)}?" if near else "vandrel find lists what there is"
    return NoSingleMatch(context, Code.NOT_FOUND, f"nothing fits {typed!r} as {what}", typed, near, remedy)
