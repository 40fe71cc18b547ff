"""The groups that a new account comes into: those of its kind, and those that were typed; and the power behind them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

from vandrel.directory.entry import Entry
from vandrel.directory.filter import Compare, Or
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import GROUP
from vandrel.jobs.common.draft import Derived, Draft
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context
from vandrel.objects.delegation import reached_by
from vandrel.objects.long_lists import groups_to_join, with_some_members
from vandrel.objects.membership import privileged_by
from vandrel.text.string_prep import prepare

#: Groups looked up in one search.
_AT_ONCE = 50


class NewMemberships:
    """Puts accounts that are worked out into groups; what many have in common is asked of the directory once."""

    def __init__(self, context: Context, fill: Callable[[str, Mapping[str, str]], str]) -> None:
        """Begin; `fill` fills the pattern of a group's name, and raises `VandrelError` where a field is empty."""
        self._context, self._fill = context, fill
        self._groups: dict[str, Entry | None] = {}
        #: The power that membership in a group amounts to, by the key of its name.
        self._powers: dict[str, list[tuple[str, str]]] = {}

    def join(self, draft: Draft, patterns: Sequence[str], values: Mapping[str, str], typed: Sequence[str]) -> None:
        """The groups of the kind, each by its exact name, and those that were typed, by anything that names them.

        ``groups=``, with nothing behind it, is a new account in no group at all.
        """
        named: list[tuple[str, str]] = []
        for pattern in patterns:
            try:
                named.append((self._fill(pattern, values), f"kind {draft.kind}: {pattern}"))
            except VandrelError as error:
                if not draft.findings:
                    draft.findings += error.findings
        self.find_groups([name for name, _ in named])
        for name, rule in named:
            group = self._groups[name]
            if group is not None:
                self._join(draft, group, rule)
                continue
            remedy = "vandrel hierarchy build makes the groups of the design; or create it: vandrel create group"
            what = f"there is no group {name}, which {rule} wants"
            draft.findings.append(Finding(Code.DANGLING, what, Location(field="groups"), remedy))
        for name in typed:
            try:
                only = self._context.dialect.attributes_read(GROUP)
                group = resolve(self._context, name, (GROUP,), only)
                self._join(draft, with_some_members(self._context, group, (), leaving=False), "typed")
            except VandrelError as error:
                draft.findings += error.findings

    def find_groups(self, names: Iterable[str]) -> None:
        """Look groups up by their names, many at once, and the power that comes with them."""
        context = self._context
        attribute = context.dialect.attribute("name", GROUP)
        unknown = [name for name in dict.fromkeys(names) if name not in self._groups]
        for start in range(0, len(unknown), _AT_ONCE):
            some = unknown[start : start + _AT_ONCE]
            by_name = Or(tuple(Compare(attribute, "=", name) for name in some))
            groups = {prepare(group.dn.name): group for group in groups_to_join(context, by_name)}
            self._groups |= {name: groups.get(prepare(name)) for name in some}
            self._powers |= privileged_by(context, list(groups.values()))

    def _join(self, draft: Draft, group: Entry, rule: str) -> None:
        if any(group.dn == other.dn for other in draft.groups):
            return
        draft.groups.append(group)
        before = draft.derived.get("groups")
        names = (*before.values, group.dn.name) if before else (group.dn.name,)
        draft.derived["groups"] = Derived("groups", names, f"{before.rule}; {rule}" if before else rule)
        if group.dn.key not in self._powers:
            self._powers |= privileged_by(self._context, [group])
        for name, reach in self._powers[group.dn.key]:
            through = "" if name == group.dn.name else f", through {group.dn.name}"
            what = f"{name} carries power: {reach}; the new account gets it{through}"
            if draft.dn is not None and (teams := reached_by(self._context, draft.dn)):
                what += f"; who can log on as it gets it too: {teams}"
            draft.findings.append(Finding(Code.REFUSED, what, Location(field="groups"), severity=NOTE))
