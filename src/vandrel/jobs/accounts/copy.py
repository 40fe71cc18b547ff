"""Copying an account: what comes along, what the charter works out anew, what stays behind and why."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct, structs

from vandrel.directory.entry import Entry
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, FIELDS, NAMED, Shape
from vandrel.jobs.accounts.create import PLACE, Creator
from vandrel.objects.context import Context
from vandrel.jobs.common.draft import Draft
from vandrel.jobs.groups.membership import privileged_within

#: What comes along where the charter says nothing: what people of one place and post share.
SHARED = (
    "language", "company", "department", "site", "office", "category", "manager", "sponsor", "street", "postcode",
    "province", "country", "fax", "hours", "machines", "password-fixed", "password-never-expires",
)  # fmt: skip

_OWN = frozenset({"given", "middle", "surname", "generation", "initials"})
#: Known by itself, and so not worth a line.
_SILENT = frozenset(
    {"kind", "password", "enabled", "change", "locked", "groups", "members", "purpose", "scope", "primary"}
)


class LeftOut(Struct, frozen=True):
    """A field that does not come along, its values, and why."""

    field: str
    values: tuple[str, ...]
    why: str


class Copy(Struct):
    """A new account like another: the draft, and what stayed behind."""

    draft: Draft
    left_out: list[LeftOut]


class Copier:
    """Works out copies of one account; names given to one are taken for the next."""

    def __init__(self, context: Context, source: Entry, *, privileged: bool = False) -> None:
        """Take the source; with `privileged`, memberships that carry power come along as well.

        Raises:
            VandrelError: ``unknown-kind`` where the charter does not know how such an account is made.

        """
        self._context = context
        self._source = source
        self._privileged = privileged
        self._kind = context.one(source, "kind")
        if self._kind not in context.charter.document.kinds:
            raise VandrelError(
                Code.UNKNOWN_KIND,
                f"{context.label(source)} is of no kind of the charter, so no rule makes one like it",
                where=Location(field="kind"),
                remedy="give it one: vandrel edit NAME kind=...",
            )
        self._creator = Creator(context, context.charter.today())
        self._fields = tuple(context.charter.document.copies or SHARED)

    def copy(self, given: Mapping[str, Sequence[str]]) -> Copy:
        """Work out one copy; what is given goes before what the source has."""
        context, read = self._context, self._context.dialect.read
        known = {name: read(self._source, name) for name, field in FIELDS.items() if ACCOUNT in field.on}
        taken = {name: tuple(known[name]) for name in self._fields if known.get(name) and name not in given}
        groups, left = self._groups()
        wanted = {**taken, **given}
        wanted.setdefault(PLACE, (context.place(self._source.dn.parent),))
        wanted["groups"] = (*given.get("groups", ()), *groups)
        draft = self._creator.draft(self._kind, wanted)
        where = context.label(self._source)
        for name in (*taken, *(() if PLACE in given else (PLACE,))):
            if name in draft.derived:
                draft.derived[name] = structs.replace(draft.derived[name], rule=f"copied from {where}")
        if "groups" in draft.derived and groups:
            rule = draft.derived["groups"].rule.replace("typed", f"copied from {where}")
            draft.derived["groups"] = structs.replace(draft.derived["groups"], rule=rule)
        return Copy(draft, [*left, *self._left_out(known, set(wanted), draft)])

    def _groups(self) -> tuple[tuple[str, ...], list[LeftOut]]:
        """The groups to join, by their full names, and those that stay behind."""
        context, join, left = self._context, [], []
        primary = set(context.dialect.read(self._source, "primary"))
        for group in context.directory.search(context.charter.base, where=context.dialect.groups_filter(self._source)):
            power = privileged_within(context, group)
            if str(group.dn) in primary:
                continue  # every account gets one of its own accord
            if power and not self._privileged:
                reach = "; ".join(far if name == group.dn.name else f"{name}, {far}" for name, far in power)
                why = f"it carries power: {reach} (--privileged takes it along)"
                left.append(LeftOut("groups", (group.dn.name,), why))
            else:
                join.append(str(group.dn))
        return tuple(sorted(join)), left

    def _left_out(self, known: Mapping[str, list[str]], wanted: set[str], draft: Draft) -> list[LeftOut]:
        found = []
        for name, values in known.items():
            if not values or name in wanted or name in _SILENT or FIELDS[name].shape is Shape.SECRET:
                continue
            if name in NAMED or name in _OWN:
                continue  # worked out anew, or the person's own: the new ones stand in the draft
            if FIELDS[name].shape is Shape.FLAG and values == ["no"]:
                continue
            why = "worked out anew" if name in draft.derived else "the person's own"
            found.append(LeftOut(name, tuple(values), why))
        return found
