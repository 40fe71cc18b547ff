"""Who is to be in the other directory, and how they are to look there, as a profile says."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from functools import cached_property
from itertools import islice
from typing import NamedTuple

from msgspec import Struct

from vandrel.directory import place as places
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, GROUP, Shape
from vandrel.jobs.services.profile import Copying, Profile
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import needed_values
from vandrel.text.string_prep import prepare

#: The fields of a group that goes along.
_OF_GROUPS = ("display", "purpose", "scope", "notes")
#: What tells whether an account may be used today.
_OF_TODAY = ("starts", "ends", "enabled")
#: Accounts that are read field by field.
_AT_ONCE = 1000


class Outgoing(Struct):
    """One object that is to be in the other directory.

    Attributes:
        dn: the name of the object here.
        identifier: its identifier here.
        object_type: account or group.
        place: where it is to stand there.
        name: the name of its entry there.
        is_enabled: whether it may be used here today.
        fields: its values there, field by field, but for those that name other objects.
        pointing: the fields that name other objects, each with the names of those objects here.

    """

    dn: DN
    identifier: str
    object_type: str
    place: places.Place
    name: str
    is_enabled: bool
    fields: dict[str, tuple[str, ...]]
    pointing: dict[str, tuple[str, ...]]

    @property
    def stands(self) -> tuple[str, str]:
        """Its place there as text, and its name."""
        return places.to_text(self.place), self.name


class Pair(NamedTuple):
    """One object that is sent, its counterpart there, None for a new one, and the name that it is to have there."""

    outgoing: Outgoing
    entry: Entry | None
    dn: DN
    #: The identifier of the copy that was made before, and was deleted there since; empty for none.
    was: str = ""


class Selection:
    """Those of a directory whom a profile sends.

    Attributes:
        findings: what cannot be sent, and why.
        templates: how many accounts are patterns for others, which nobody sends.

    """

    def __init__(self, here: Context, there: Context, profile: Profile, under: str = "") -> None:
        """Prepare to read; with `under`, only what stands in or below this place, of what the profile names."""
        self.findings: list[Finding] = []
        self._here, self._there, self._profile = here, there, profile
        self._rules: Copying = profile.copying
        self._today = here.charter.today().isoformat()
        base = here.charter.base
        named = [places.to_dn(places.parse(text), base) for text in self._rules.under or ["/"]]
        place = places.to_dn(places.parse(under), base) if under else base
        tops = [place if place.is_within(top) else top for top in named if place.is_within(top) or top.is_within(place)]
        # A unit below another that is named as well is read once.
        self.tops = [top for top in dict.fromkeys(tops) if not any(top.is_below(other) for other in tops)]

    def people(self) -> Iterator[Outgoing]:
        """The accounts of the profile's kinds in its units."""
        here, kinds = self._here, self._profile.kinds
        for top in self.tops:
            accounts = here.directory.search(top, where=here.dialect.filter_for(ACCOUNT))
            chosen = (entry for entry in accounts if not kinds or here.one(entry, "kind") in kinds)
            while some := list(islice(chosen, _AT_ONCE)):
                columns = [map(tuple, here.dialect.read_many(some, name, ACCOUNT)) for name in self._fields_read]
                for entry, values in zip(some, zip(*columns, strict=True), strict=True):
                    try:
                        yield self._person(entry, dict(zip(self._fields_read, values, strict=True)))
                    except VandrelError as error:
                        what = f"{here.label(entry)} is left out: {error.findings[0].what}"
                        where = Location(dn=str(entry.dn))
                        self.findings.append(Finding(error.code, what, where, error.findings[0].remedy, NOTE))

    def groups(self) -> Iterator[Outgoing]:
        """The groups that the profile names, wherever they stand."""
        here, patterns = self._here, [prepare(pattern) for pattern in self._rules.groups]
        if not patterns:
            return
        field_names = [name for name in _OF_GROUPS if self._is_kept(name, GROUP)]
        for entry in here.directory.search(here.charter.base, where=here.dialect.filter_for(GROUP)):
            if any(fnmatchcase(prepare(entry.dn.name), pattern) for pattern in patterns):
                fields = {name: tuple(here.dialect.read(entry, name)) for name in field_names}
                pointing = {"members": tuple(map(str, here.dialect.members(entry)))}
                place = self._place(self._rules.place_of_groups, entry)
                yield Outgoing(entry.dn, entry.identifier, GROUP, place, entry.dn.name, True, fields, pointing)

    def _person(self, entry: Entry, values: Mapping[str, tuple[str, ...]]) -> Outgoing:
        here = self._here
        fields = {name: values[name] for name in self._plain}
        for name, pattern in self._built.items():
            value = here.charter.fill(pattern, needed_values(here, entry, pattern))
            fields[name] = (value,) if value else ()
        pointing = {name: values[name] for name in self._pointing}
        starts, ends, enabled = (next(iter(values[name]), "") for name in _OF_TODAY)
        is_enabled = enabled != "no" and not (ends and ends < self._today) and not starts > self._today
        name = self._name(entry, fields)
        place = self._place(self._rules.place, entry)
        return Outgoing(entry.dn, entry.identifier, ACCOUNT, place, name, is_enabled, fields, pointing)

    def _name(self, entry: Entry, fields: Mapping[str, Sequence[str]]) -> str:
        """The name of the entry there: the logon name where that names entries, else the name that it has here."""
        there, here = self._there.dialect, self._here.dialect
        login = there.attribute("login", ACCOUNT)
        if login and there.naming_attribute(ACCOUNT) == login:
            if not fields.get("login"):
                raise VandrelError(Code.REQUIRED, "it has no logon name, and entries there are named by it")
            return fields["login"][0]
        is_named_by_login = here.naming_attribute(ACCOUNT) == here.attribute("login", ACCOUNT)
        return (self._here.one(entry, "full") if is_named_by_login else "") or entry.dn.name

    def _place(self, pattern: str, entry: Entry) -> places.Place:
        if self._there.directory.capabilities.is_flat:
            return ()
        if pattern:
            return self._here.charter.place_of(pattern, needed_values(self._here, entry, pattern))
        return places.parse(self._here.place(entry.dn.parent))

    # --- which fields

    @cached_property
    def _fields_read(self) -> list[str]:
        return list(dict.fromkeys([*self._plain, *self._pointing, *_OF_TODAY]))

    @cached_property
    def _built(self) -> dict[str, str]:
        return {name: pattern for name, pattern in self._rules.build.items() if self._is_kept(name, ACCOUNT)}

    @cached_property
    def _plain(self) -> list[str]:
        return [name for name in self._outgoing if self._here.fields[name].shape is not Shape.REFERENCE]

    @cached_property
    def _pointing(self) -> list[str]:
        return [name for name in self._outgoing if self._here.fields[name].shape is Shape.REFERENCE]

    @cached_property
    def _outgoing(self) -> list[str]:
        return [name for name in dict.fromkeys(self._rules.send) if name not in self._rules.build
                and name != "enabled" and self._is_kept(name, ACCOUNT)]  # fmt: skip

    def _is_kept(self, name: str, object_type: str) -> bool:
        """Whether the other directory has an attribute for a field; what it has none for is told once."""
        why = self._there.dialect.why_not_kept(name, object_type)
        if why and object_type == ACCOUNT:
            what = f"{name} is not sent: {why}"
            self.findings.append(Finding(Code.NOT_KEPT, what, Location(field=name), severity=NOTE))
        return not why
