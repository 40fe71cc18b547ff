"""Renaming a person: every name that follows from the new ones, old and new side by side."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from functools import partial

from vandrel.directory.entry import Entry
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, FIELDS, NAMED, Shape
from vandrel.jobs.common.assignments import Assignment
from vandrel.objects.context import Context
from vandrel.jobs.common.edit import Edit, Editor
from vandrel.jobs.common.name_allocator import NameAllocator
from vandrel.text import people
from vandrel.text.string_prep import prepare

#: What a person's names are made of.
PARTS = ("given", "middle", "surname", "generation")
#: Fields that are looked through for what still carries an old name.
_CARRIERS = ("web", "notes", "room", "office", "machines")


class Renamer:
    """Works out new names by the charter for people who exist."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._register = NameAllocator(context)
        self._editor = Editor(context)

    def rename(
        self,
        entry: Entry,
        given: Mapping[str, str],
        keep: Collection[str] = (),
        *,
        alias: bool = True,
        others: Sequence[Assignment] = (),
    ) -> Edit:
        """Work out one renaming.

        Args:
            entry: an account.
            given: new parts of the name (`PARTS`), and any names that are typed and not worked out.
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
                where=Location(field="kind"), remedy="set them one by one: vandrel edit NAME surname=... display=...",
            )  # fmt: skip
        values = self._values(entry, kind)
        changed = {name: value for name, value in given.items() if values.get(name, "") != value}
        values |= changed
        self._initials(entry, values, changed)
        for target in self._in_order(kind):
            if target in keep or target in given:
                continue
            rule = context.charter.naming(target, kind)
            if rule.fields() & changed.keys():
                new = rule.choose(values, partial(self._why, entry, target)).chosen.value
                if new != values[target]:
                    values[target] = changed[target] = new
        assignments = [Assignment(name, "=", (value,) if value else ()) for name, value in changed.items()]
        old_mail = context.one(entry, "mail")
        if "mail" in changed and old_mail and alias and not context.dialect.why_not_kept("alias", ACCOUNT):
            assignments.append(Assignment("alias", "+=", (old_mail,)))
        edit = self._editor.edit(entry, [*assignments, *others])
        order = [*PARTS, "initials", *NAMED, "alias"]
        edit.differences.sort(key=lambda d: order.index(d.field) if d.field in order else len(order))
        # What was kept was kept on purpose.
        edit.findings = [f for f in edit.findings if f.is_fatal or f.where not in PARTS]
        edit.findings += self._left_behind(entry, changed)
        return edit

    def _values(self, entry: Entry, kind: str) -> dict[str, str]:
        charter = self._context.charter
        suffix = self._context.one(entry, "principal").rpartition("@")[2]
        found = {name: self._context.one(entry, name) for name, f in FIELDS.items() if f.shape is not Shape.MEMBERSHIPS}
        more = {"suffix": suffix or charter.document.kinds[kind].suffix or charter.domain, "domain": charter.domain}
        return found | more | {"year": str(charter.today().year)}

    def _initials(self, entry: Entry, values: dict[str, str], changed: dict[str, str]) -> None:
        """New initials, where the old ones were the first letters."""
        old = people.initials(*(self._context.one(entry, name) for name in ("given", "middle", "surname")))
        new = people.initials(*(values[name] for name in ("given", "middle", "surname")))
        if values["initials"] == old and new != old:
            values["initials"] = changed["initials"] = new

    def _in_order(self, kind: str) -> list[str]:
        """The names, each after those that it is built from."""
        todo, ordered = list(NAMED), []
        fields = {target: self._context.charter.naming(target, kind).fields() for target in NAMED}
        while todo:
            ready = next((t for t in todo if not fields[t] & (set(todo) - {t})), todo[0])
            todo.remove(ready)
            ordered.append(ready)
        return ordered

    def _why(self, entry: Entry, target: str, value: str) -> str:
        """Why a name cannot be had; what the person has already can."""
        if target == "name":
            dn = entry.dn.parent.child(entry.dn.naming_attribute, value)
            return "" if dn == entry.dn else self._register.why_sibling(dn)
        return self._register.why_taken(target, value, entry.dn)

    def _left_behind(self, entry: Entry, changed: Mapping[str, str]) -> Iterator[Finding]:
        """What still carries an old name, with the command that mends it."""
        old = {self._context.one(entry, name) for name in ("login", "surname") if name in changed} - {""}
        login = changed.get("login") or self._context.one(entry, "login")
        for name in _CARRIERS:
            for value in self._context.dialect.read(entry, name) if ACCOUNT in FIELDS[name].on else ():
                found = max((word for word in old if prepare(word) in prepare(value)), key=len, default="")
                if found:
                    what = f"{name} still has {found} in it: {value}"
                    yield Finding(
                        Code.REFUSED, what, Location(field=name), f"vandrel edit {login} {name}=...", severity=NOTE
                    )
