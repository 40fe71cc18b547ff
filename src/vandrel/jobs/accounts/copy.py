"""Copying an account: what is copied, what the charter works out anew, what stays behind and why."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct, structs

from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT, NAMED, Shape
from vandrel.jobs.accounts.create import Creator
from vandrel.jobs.accounts.full_name import name_parts
from vandrel.jobs.accounts.propose import propose_accounts
from vandrel.jobs.common.draft import PLACE, Draft
from vandrel.jobs.common.proposal import Proposal
from vandrel.jobs.common.report import Table
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context
from vandrel.objects.membership import privileged_within
from vandrel.objects.view import ObjectView

#: The fields that are copied where the charter says nothing: what people of one place and post share.
COPIED_FIELDS = (
    "company", "department", "site", "office", "category", "manager", "sponsor", "street", "postcode",
    "province", "country", "fax", "hours", "machines", "password-fixed", "password-never-expires",
)  # fmt: skip

_OWN = frozenset({"given", "middle", "surname", "generation", "initials", "language"})
#: Known by itself, and so not worth a line.
_SILENT = frozenset(
    {"kind", "password", "enabled", "change", "locked", "groups", "roles", "members", "purpose", "scope", "primary"}
)


class FieldNotCopied(Struct, frozen=True):
    """A field that is not copied, its values, and why."""

    field: str
    values: tuple[str, ...]
    why: str


class Copy(Struct):
    """A new account like another: the draft, and what stayed behind."""

    draft: Draft
    left_out: list[FieldNotCopied]


class NewPerson(Struct, frozen=True):
    """For whom a copy is made: the full name, and fields as typed."""

    name: str
    fields: Mapping[str, Sequence[str]] = {}


class CopyRequest(Struct, frozen=True):
    """The account to copy, as typed; for whom; and whether memberships that carry power are copied."""

    source: str
    people: Sequence[NewPerson]
    with_power: bool = False


def copy(context: Context, request: CopyRequest) -> Proposal:
    """Propose copies of one account.

    Raises:
        VandrelError: ``unknown-kind``, ``unknown-field``, or what resolving the source raises.

    """
    source = ObjectView(context, resolve(context, request.source, (ACCOUNT,)))
    copier = Copier(source, with_power=request.with_power)
    copies = []
    for person in request.people:
        fields = {name: (value,) for name, value in name_parts(context, person.name).items()} | dict(person.fields)
        copies.append(copier.copy({name: values for name, values in fields.items() if name != "password"}))
    rows = dict.fromkeys(
        (item.field, ", ".join(source.as_shown(context.fields[item.field], item.values)), item.why)
        for each in copies
        for item in each.left_out
    )
    choice = next((p.fields["password"][0] for p in request.people if p.fields.get("password")), "")
    logins = ", ".join(each.draft.value("login") for each in copies)
    title = f"copy {context.one(source.entry, 'login')} to {logins}"
    table = Table("stays_behind", "Stays behind", ("field", "value", "why"), list(rows))
    return propose_accounts(context, [each.draft for each in copies], choice, title, "copy", [table])


class Copier:
    """Works out copies of one account; names given to one are taken for the next."""

    def __init__(self, source: ObjectView, *, with_power: bool = False) -> None:
        """Take the source.

        Raises:
            VandrelError: ``unknown-kind`` where the charter does not know how such an account is made.

        """
        self._context = source.context
        self._source = source
        self._with_power = with_power
        self._kind = self._context.one(source.entry, "kind")
        if self._kind not in self._context.charter.document.kinds:
            raise VandrelError(
                Code.UNKNOWN_KIND, f"{source.label} is of no kind of the charter, so no rule makes one like it",
                where=Location(field="kind"),
                remedy=f"give it one: vandrel edit {self._context.typed(source.entry.dn)} kind=...",
            )  # fmt: skip
        self._creator = Creator(self._context, self._context.charter.today())
        self._fields = tuple(self._context.charter.document.copies or COPIED_FIELDS)

    def copy(self, typed: Mapping[str, Sequence[str]]) -> Copy:
        """Work out one copy; what is given goes before what the source has."""
        source_values = {
            field.name: self._source.raw(field.name) for field in self._source.fields() if field.name != "groups"
        }
        copied = {
            name: tuple(source_values[name]) for name in self._fields if source_values.get(name) and name not in typed
        }
        resolved = {n: v for n, v in copied.items() if self._context.fields[n].shape is Shape.REFERENCE}
        groups, left_out = self._groups()
        values = {**{n: v for n, v in copied.items() if n not in resolved}, **typed}
        values.setdefault(PLACE, (self._source.place,))
        values["groups"] = (*typed.get("groups", ()), *groups)
        draft = self._creator.draft(self._kind, values, resolved)
        rule = f"copied from {self._source.label}"
        for name in (*copied, *(() if PLACE in typed else (PLACE,))):
            if name in draft.derived:
                draft.derived[name] = structs.replace(draft.derived[name], rule=rule)
        if "groups" in draft.derived and groups:
            rule_text = draft.derived["groups"].rule.replace("typed", rule)
            draft.derived["groups"] = structs.replace(draft.derived["groups"], rule=rule_text)
        return Copy(draft, [*left_out, *self._left_out(source_values, {*values, *resolved}, draft)])

    def _groups(self) -> tuple[tuple[str, ...], list[FieldNotCopied]]:
        """The groups to join, by their full names, and those that stay behind."""
        join, left_out = [], []
        primary = set(self._source.raw("primary"))
        for group in self._source.groups:
            power = privileged_within(self._context, group)
            if str(group.dn) in primary:
                continue  # every account gets one of its own accord
            if power and not self._with_power:
                reach = "; ".join(far if name == group.dn.name else f"{name}, {far}" for name, far in power)
                why = f"it carries power: {reach} (--privileged takes it along)"
                left_out.append(FieldNotCopied("groups", (group.dn.name,), why))
            else:
                join.append(str(group.dn))
        return tuple(sorted(join)), left_out

    def _left_out(
        self, source_values: Mapping[str, list[str]], new_values: set[str], draft: Draft
    ) -> list[FieldNotCopied]:
        groups = []
        for name, values in source_values.items():
            shape = self._context.fields[name].shape
            if not values or name in new_values or name in _SILENT or shape is Shape.SECRET:
                continue
            if name in NAMED or name in _OWN:
                continue  # worked out anew, or the person's own: the new ones stand in the draft
            if shape is Shape.FLAG and values == ["no"]:
                continue
            why = "worked out anew" if name in draft.derived else "the person's own"
            groups.append(FieldNotCopied(name, tuple(values), why))
        return groups
