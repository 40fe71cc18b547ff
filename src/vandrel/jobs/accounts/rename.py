"""Renaming a person, and handing an account over: every name that follows from the new ones."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from functools import partial

from msgspec import Struct

from vandrel.charter.naming import NamingRule
from vandrel.directory.entry import Entry
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, NAMED
from vandrel.jobs.accounts.full_name import name_parts
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.proposal import Proposal, work_out_proposal
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.common.same_person import told_of_others
from vandrel.objects.context import Context
from vandrel.objects.pattern_values import entry_values
from vandrel.text import people
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare

#: What a person's names are made of.
PARTS = ("given", "middle", "surname", "generation")
#: Fields that go with a predecessor, whose they are: two of them would recover the password.
_OF_THE_PERSON = ("photo", "mobile", "recovery-mail", "home-phone", "home-address", "badge", "car")
#: Fields that are looked through for what still has an old name in it.
_CARRIERS = (
    "web",
    "home",
    "unix-home",
    "profile",
    "script",
    "notes",
    "room",
    "office",
    "machines",
    "phone",
    "recovery-mail",
)


class RenameRequest(Struct, frozen=True):
    """New names for a person.

    Attributes:
        name: whose, as typed.
        new_name: the new full name, as typed; empty where its parts are among the fields.
        fields: new parts of the name, and names that are typed and not worked out.
        keep: names that stay as they are.
        with_alias: whether the old mail address stays as a further one.

    """

    name: str
    new_name: str = ""
    fields: Mapping[str, str] = {}
    keep: Sequence[str] = ()
    with_alias: bool = True


class HandoverRequest(Struct, frozen=True):
    """An account that passes to a successor.

    Attributes:
        name: whose, as typed.
        successor: the successor's full name, as typed; empty where its parts are among the assignments.
        assignments: parts of the name, names that are typed, and other fields.
        password: where the new password comes from.
        with_alias: whether mail to the predecessor's address arrives as well.

    """

    name: str
    successor: str = ""
    assignments: Sequence[Assignment] = ()
    password: str = "generate"
    with_alias: bool = False


def rename(context: Context, request: RenameRequest) -> Proposal:
    """Propose new names by the charter.

    Raises:
        VandrelError: ``usage`` for what is no name of a person; what resolving and `Renamer.rename` raise.

    """
    names = (*PARTS, *NAMED)
    if strange := [name for name in (*request.keep, *request.fields) if name not in names]:
        remedy = did_you_mean(strange[0], names) or f"the names are: {', '.join(names)}"
        what = f"{strange[0]} is no name of a person"
        raise VandrelError(Code.USAGE, what, where=Location(field=strange[0]), remedy=remedy)
    if not request.new_name and not request.fields:
        remedy = 'vandrel rename alund surname=Brekke, or "Anna Brekke"'
        raise VandrelError(Code.USAGE, "who gets which name?", remedy=remedy)
    entry = resolve(context, request.name, (ACCOUNT,))
    parts = dict.fromkeys(PARTS, "") | name_parts(context, request.new_name) if request.new_name else {}

    def worked_out(here: Context) -> Proposal:
        edit = Renamer(here).rename(entry, parts | dict(request.fields), request.keep, alias=request.with_alias)
        edit.findings += told_of_others(here, [entry], "rename")
        return propose(here, [edit], (), "rename")

    return work_out_proposal(context, worked_out)


def handover(context: Context, request: HandoverRequest) -> Proposal:
    """Propose that an account passes to a successor: new names and password, same identity, groups and rights.

    What is the predecessor's own is cleared, unless it is given anew.

    Raises:
        VandrelError: ``usage`` where nobody is named; what resolving and `Renamer.rename` raise.

    """
    names = {a.field: a.values[0] if a.values else "" for a in request.assignments if a.field in (*PARTS, *NAMED)}
    if not request.successor and "surname" not in names:
        remedy = 'vandrel handover hbrekke "Tuva Solberg" number=2099'
        raise VandrelError(Code.USAGE, "whose account passes to whom?", remedy=remedy)
    entry = resolve(context, request.name, (ACCOUNT,))
    parts = dict.fromkeys(PARTS, "") | name_parts(context, request.successor) | names
    others = [assignment for assignment in request.assignments if assignment.field not in names]
    assigned = {assignment.field for assignment in others}
    others += [
        Assignment(name, "=", ()) for name in _OF_THE_PERSON if name not in assigned and context.one(entry, name)
    ]
    edit = Renamer(context).rename(entry, parts, alias=request.with_alias, others=others)
    edit.findings += told_of_others(context, [entry], "handover")
    new = [Assignment("password", "=", (request.password,)), Assignment("change", "=", ("yes",))]
    return propose(context, [edit], new, "handover")


class Renamer:
    """Works out new names by the charter for people who exist."""

    def __init__(self, context: Context, editor: Editor | None = None) -> None:
        """Begin; names that are given to one person are taken for the next, and by `editor` to whom it edits."""
        self._context = context
        self._editor = editor or Editor(context)
        self._allocator = self._editor.allocator

    def rename(
        self,
        entry: Entry,
        parts: Mapping[str, str],
        keep: Collection[str] = (),
        *,
        alias: bool = True,
        others: Sequence[Assignment] = (),
    ) -> Edit:
        """Work out one renaming.

        Args:
            entry: an account.
            parts: new parts of the name (`PARTS`), and any names that are typed and not worked out.
            keep: names (`NAMED`) that stay as they are.
            alias: whether the old mail address stays as a further one.
            others: what else is assigned in the same go.

        Raises:
            VandrelError: ``unknown-kind`` where the charter does not know how such names are built; ``taken`` or
                ``empty-name`` where no name is left.

        """
        context = self._context
        kind = context.one(entry, "kind")
        if kind not in context.charter.document.kinds:
            raise VandrelError(
                Code.UNKNOWN_KIND, f"{context.label(entry)} is of no kind of the charter, so no rule builds the names",
                where=Location(field="kind"),
                remedy=f"set them one by one: vandrel edit {context.typed(entry.dn)} surname=... display=...",
            )  # fmt: skip
        changed = self._new_names(entry, kind, parts, keep)
        assignments = [Assignment(name, "=", (value,) if value else ()) for name, value in changed.items()]
        old_mail = context.one(entry, "mail")
        if "mail" in changed and old_mail and alias and not context.dialect.why_not_kept("alias", ACCOUNT):
            assignments.append(Assignment("alias", "+=", (old_mail,)))
        edit = self._editor.edit(entry, [*assignments, *others])
        order = [*PARTS, "initials", *NAMED, "alias"]
        edit.differences.sort(key=lambda d: order.index(d.field) if d.field in order else len(order))
        # What was kept was kept on purpose.
        edit.findings = [f for f in edit.findings if f.is_fatal or f.where.field not in PARTS]
        edit.findings += self._left_behind(entry, changed)
        return edit

    def _new_names(
        self, entry: Entry, kind: str, parts: Mapping[str, str], keep: Collection[str]
    ) -> dict[str, str]:  # fmt: skip
        """The names that change, each after those that it is built from; one that somebody has not is not given."""
        values = entry_values(self._context, entry)
        changed = {name: value for name, value in parts.items() if values.get(name, "") != value}
        values |= changed
        self._initials(entry, values, changed)
        renewed = set(changed)
        rules = [(target, rule) for target, rule in self._in_order(kind) if target not in keep and target not in parts]
        self._allocator.foresee(_concerned(rules, renewed), values)
        for target, rule in rules:
            if rule.fields() & renewed:
                new = rule.choose(values, partial(self._why, entry, target)).chosen.value
                if new != values[target]:
                    changed |= {target: new} if values[target] else {}
                    values[target] = new
                    renewed.add(target)
        return changed

    def _initials(self, entry: Entry, values: dict[str, str], changed: dict[str, str]) -> None:
        """New initials, where the old ones were the first letters."""
        old = people.initials(*(self._context.one(entry, name) for name in ("given", "middle", "surname")))
        new = people.initials(*(values[name] for name in ("given", "middle", "surname")))
        if values["initials"] == old and new != old:
            values["initials"] = changed["initials"] = new

    def _in_order(self, kind: str) -> list[tuple[str, NamingRule]]:
        """The names and their rules, each after those that it is built from."""
        rules = {target: self._context.charter.naming(target, kind) for target in NAMED}
        todo, ordered = list(NAMED), []
        while todo:
            ready = next((t for t in todo if not rules[t].fields() & (set(todo) - {t})), todo[0])
            todo.remove(ready)
            ordered.append((ready, rules[ready]))
        return ordered

    def _why(self, entry: Entry, target: str, value: str) -> str:
        """Why a name cannot be had; what the person has already can."""
        if target == "name":
            dn = entry.dn.parent.child(entry.dn.naming_attribute, value)
            return "" if dn == entry.dn else self._allocator.why_sibling(dn)
        return self._allocator.why_taken(target, value, entry.dn)

    def _left_behind(self, entry: Entry, changed: Mapping[str, str]) -> Iterator[Finding]:
        """What still has an old name in it, with the command that mends it."""
        old = {self._context.one(entry, name) for name in ("login", "surname") if name in changed} - {""}
        login = changed.get("login") or self._context.one(entry, "login")
        for name in _CARRIERS:
            for value in self._context.dialect.read(entry, name):
                word = max((word for word in old if prepare(word) in prepare(value)), key=len, default="")
                if word:
                    what = f"{name} still has {word} in it: {value}"
                    remedy = f"vandrel edit {login} {name}=..."
                    yield Finding(Code.REFUSED, what, Location(field=name), remedy, NOTE)


def _concerned(rules: Iterable[tuple[str, NamingRule]], renewed: Collection[str]) -> Iterator[tuple[str, NamingRule]]:
    """The rules that see one of these names, or a name that such a rule gives."""
    changing = set(renewed)
    for target, rule in rules:
        if rule.fields() & changing:
            changing.add(target)
            yield target, rule
