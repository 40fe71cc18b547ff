"""Groups that list their members by logon name (RFC 2307): the lists follow whoever gets another one, or goes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from vandrel.dialects.dialect import Dialect
from vandrel.directory.dn import DN
from vandrel.directory.filter import Compare, Or
from vandrel.directory.member_lists import BY_LOGIN
from vandrel.directory.operations import Change
from vandrel.directory.port import Directory
from vandrel.steps.step import Remove, Rename, Set, Step

_LOGIN = "uid"
#: Logon names that are looked for at once.
_AT_ONCE = 100


class _NewLogin(Struct, frozen=True):
    """A logon name that a step takes away, and the one that it gives; None where somebody goes."""

    old: str
    new: str | None


def with_login_lists(directory: Directory, dialect: Dialect, steps: Sequence[Step]) -> Iterator[Step]:
    """The steps, and those by which the lists stay right; what steps of the plan see to is left to them."""
    if dialect.name != "standard" or directory.schema.attribute(BY_LOGIN) is None:
        yield from steps
        return
    changes = [_new_login(directory, step) for step in steps]
    listing = _listing(directory, [each.old for each in changes if each is not None])
    going = {step.dn.key for step in steps if isinstance(step, Remove)}
    seen_to = set(_seen_to(steps))
    renames: list[Rename] = []
    for step, change in zip(steps, changes, strict=True):
        renames += [step] if isinstance(step, Rename) else []
        more = [] if change is None else [
            Set(_renamed(group, renames), (Change(BY_LOGIN, (change.old,), (change.new,) if change.new else ()),))
            for group in listing.get(change.old, ())
            if group.key not in going and (group.key, change.old) not in seen_to
        ]  # fmt: skip
        yield from more if isinstance(step, Remove) else ()
        yield step
        yield from () if isinstance(step, Remove) else more


def _seen_to(steps: Sequence[Step]) -> Iterator[tuple[str, str]]:
    """The logon names that steps take out of lists, each behind the key of the name that the group has now."""
    renames: list[Rename] = []
    for step in steps:
        if isinstance(step, Rename):
            renames.append(step)
        for change in step.changes if isinstance(step, Set) else ():
            if change.attribute == BY_LOGIN:
                dn = step.dn
                for rename in reversed(renames):
                    dn = dn.moved(rename.new, rename.dn) if dn.is_within(rename.new) else dn
                yield from ((dn.key, str(value)) for value in change.removed)


def _renamed(dn: DN, renames: Sequence[Rename]) -> DN:
    for rename in renames:
        dn = dn.moved(rename.dn, rename.new) if dn.is_within(rename.dn) else dn
    return dn


def logins_of(steps: Sequence[Step]) -> dict[str, DN]:
    """The logon names of those who go."""
    return {str(value): step.dn for step in steps if isinstance(step, Remove)
            for value in step.attributes.get(_LOGIN, ())}  # fmt: skip


def _new_login(directory: Directory, step: Step) -> _NewLogin | None:
    if isinstance(step, Remove):
        return next((_NewLogin(str(value), None) for value in step.attributes.get(_LOGIN, ())), None)
    if isinstance(step, Rename):
        is_named_so = directory.schema.attribute_name(step.dn.naming_attribute) == _LOGIN
        return _NewLogin(step.dn.name, step.new.name) if is_named_so and step.dn.name != step.new.name else None
    if isinstance(step, Set):
        for change in step.changes:
            if change.attribute == _LOGIN and change.removed and change.added:
                return _NewLogin(str(change.removed[0]), str(change.added[0]))
    return None


def _listing(directory: Directory, logins: Sequence[str]) -> dict[str, list[DN]]:
    """The groups that list these logon names."""
    owners: dict[str, list[DN]] = {}
    names = list(dict.fromkeys(logins))
    for start in range(0, len(names), _AT_ONCE):
        some = names[start : start + _AT_ONCE]
        where = Or(tuple(Compare(BY_LOGIN, "=", login) for login in some))
        for context in directory.contexts:
            for group in directory.search(context, where=where, only=[BY_LOGIN]):
                for login in some:
                    if login in group.texts(BY_LOGIN):
                        owners.setdefault(login, []).append(group.dn)
    return owners
