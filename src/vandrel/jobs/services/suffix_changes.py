"""Registering and withdrawing suffixes of principal names, and giving many people another one."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import structs

from vandrel.charter.name_limits import is_suffix
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Filter, Substring
from vandrel.directory.operations import Change
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError
from vandrel.fields import ACCOUNT, UNIT
from vandrel.jobs.common.assignments import Assignment
from vandrel.jobs.common.edit import Editor
from vandrel.jobs.common.edit_proposal import propose
from vandrel.jobs.common.proposal import Passwords, Proposal, Work, fixed
from vandrel.jobs.common.report import Report, Table, count
from vandrel.jobs.common.resolve import resolve
from vandrel.jobs.common.selection import Selection, select
from vandrel.jobs.common.step_changes import changes_of_steps
from vandrel.objects.context import Context
from vandrel.steps.step import Set

#: People who are named where many have a suffix.
_NAMED = 3


def change_suffix(context: Context, old: str, new: str, selection: Selection) -> Proposal:
    """Propose another suffix for those of the chosen who have the old one, everybody if nobody is named.

    An address in the old domain follows, and stays as an alias.

    Raises:
        VandrelError: ``bad-value`` for what is no suffix, none of the charter's, or the old one; ``not-found`` where
            nobody has the old one; what selecting raises.

    """
    old, new = _suffix(old), _suffix(new)
    if new == old:
        raise VandrelError(Code.BAD_VALUE, f"{new} is the one that they have", where=Location(text=new))
    if new not in _of_charter(context):
        what, where = f"the charter does not have {new}", Location(file=str(context.charter.source))
        raise VandrelError(Code.BAD_VALUE, what, where=where, remedy="add it to suffixes: there")
    users = _users(context, old, selection)
    if not users:
        what, remedy = f"nobody who was chosen has {old}", "vandrel suffixes shows who uses which"
        raise VandrelError(Code.NOT_FOUND, what, where=Location(text=old), remedy=remedy)
    editor = Editor(context)
    edits = [editor.edit(entry, _with(context, entry, old, new)) for entry in users]
    whose = count(len(users), "account")
    return structs.replace(
        propose(context, edits, (), "suffixes"), title=f"suffix {new} instead of {old} for {whose}",
        question=f"Give {whose} the suffix {new}?",
    )  # fmt: skip


def register(context: Context, suffix: str) -> Proposal | Report:
    """Propose to register a suffix on the server; where it keeps no list, say what to write into the charter.

    Raises:
        VandrelError: ``bad-value`` for what is no suffix.

    """
    suffix = _suffix(suffix)
    if suffix in (context.dialect.registered_suffixes() or ()):
        return Report(
            "suffixes",
            summary=[f"{suffix} is registered on the server."],
            findings=list(_not_in_charter(context, suffix)),
        )
    if (registered := context.dialect.suffix_list()) is None:
        return _for_the_charter(context, suffix)
    steps = [Set(registered.dn, (Change("uPNSuffixes", added=(suffix,)),))]
    return Proposal(
        "suffixes", f"register the suffix {suffix}", f"Register {suffix} on the server?", fixed(steps),
        changes=changes_of_steps(context, steps), findings=list(_not_in_charter(context, suffix)),
    )  # fmt: skip


def withdraw(context: Context, suffix: str, new: str) -> Proposal | Report:
    """Propose that a suffix is registered no more; whoever has it gets the new one before, if one is named.

    Raises:
        VandrelError: ``bad-value`` for what is no suffix; ``refused`` while somebody has it, or where it is the name of
            a domain; ``not-found`` where it is registered nowhere.

    """
    suffix = _suffix(suffix)
    domains, entry = context.dialect.registered_suffixes() or frozenset(), context.dialect.suffix_list()
    listed = [] if entry is None else [value for value in entry.texts("uPNSuffixes") if value.lower() == suffix]
    if suffix in domains and not listed:
        what = f"{suffix} is the name of a domain, and cannot be withdrawn"
        raise VandrelError(Code.REFUSED, what, where=Location(text=suffix))
    is_in_charter = suffix in _of_charter(context)
    users = _users(context, suffix, Selection())
    if not users and not listed and not is_in_charter:
        remedy = "vandrel suffixes shows those that are"
        raise VandrelError(
            Code.NOT_FOUND, f"{suffix} is registered nowhere", where=Location(text=suffix), remedy=remedy
        )
    if users and not new:
        names = ", ".join(context.label(entry) for entry in users[:_NAMED])
        more = f" and {len(users) - _NAMED} more" if len(users) > _NAMED else ""
        other = next((each for each in _of_charter(context) if each != suffix), "SUFFIX")
        what = f"{suffix} is that of {count(len(users), 'account')}: {names}{more}"
        remedy = f"give them another one with it: vandrel suffixes withdraw {suffix} --to {other}"
        raise VandrelError(Code.REFUSED, what, where=Location(text=suffix), remedy=remedy)
    findings = []
    if is_in_charter:
        what, remedy = f"the charter registers {suffix} too", "take it out of suffixes: there"
        findings.append(Finding(Code.REFUSED, what, Location(file=str(context.charter.source)), remedy, NOTE))
    change = Change("uPNSuffixes", removed=tuple(listed))
    removal = [Set(entry.dn, (change,))] if entry is not None and listed else []
    if not users and not removal:
        return Report("suffixes", summary=[f"Nobody has {suffix}."], findings=findings)
    moved = change_suffix(context, suffix, new, Selection()) if users else None
    changes = [*(moved.changes if moved is not None else ()), *changes_of_steps(context, removal)]

    def work(passwords: Passwords) -> Work:
        steps = list(moved.work(passwords).steps) if moved is not None else []
        return Work([*steps, *removal], [len(steps)] if steps and removal else ())

    return Proposal(
        "suffixes", f"withdraw the suffix {suffix}", f"Withdraw {suffix}?", work, changes=changes,
        findings=[*(moved.findings if moved is not None else ()), *findings], is_atomic=not users,
        most_refused=0,  # as long as one of them has it, it stays
    )  # fmt: skip


def _of_charter(context: Context) -> list[str]:
    return [suffix.lower() for suffix in context.charter.document.suffixes]


def _suffix(text: str) -> str:
    if not is_suffix(text):
        raise VandrelError(
            Code.BAD_VALUE, f"{text!r} is no domain", where=Location(text=text), remedy="write one as marrowick.example"
        )
    return text.lower()


def _users(context: Context, suffix: str, selection: Selection) -> list[Entry]:
    """Those of the chosen whose principal name has the suffix: all, within a unit, by a filter, or by name."""
    if selection.names or selection.where:
        chosen = select(context, selection, (ACCOUNT,))
    else:
        base = resolve(context, selection.under, (UNIT,)).dn if selection.under else context.charter.base
        chosen = list(context.directory.search(base, where=_having(context, suffix)))
    mine = [entry for entry in chosen if context.one(entry, "principal").lower().endswith(f"@{suffix}")]
    return sorted(mine, key=lambda entry: entry.dn.key)


def _having(context: Context, suffix: str) -> Filter:
    people, attribute = context.dialect.filter_for(ACCOUNT), context.dialect.attribute("principal", ACCOUNT)
    return And((people, Substring(attribute, "", (), f"@{suffix}"))) if attribute else people


def _with(context: Context, entry: Entry, old: str, new: str) -> list[Assignment]:
    """The new names of one account."""
    local = context.one(entry, "principal").rpartition("@")[0]
    assignments = [Assignment("principal", "=", (f"{local}@{new}",), literal=True)]
    mail = context.one(entry, "mail")
    if mail.lower().endswith(f"@{old}"):
        address = f"{mail.rpartition('@')[0]}@{new}"
        assignments.append(Assignment("mail", "=", (address,), literal=True))
        assignments.append(Assignment("alias", "+=", (mail,), literal=True))
        if address.lower() in map(str.lower, context.dialect.read(entry, "alias")):
            assignments.append(Assignment("alias", "-=", (address,), literal=True))
    return assignments


def _not_in_charter(context: Context, suffix: str) -> Iterator[Finding]:
    """That new accounts get a suffix only once the charter has it."""
    if suffix not in _of_charter(context):
        what, remedy = f"the charter does not have {suffix}, so no new account gets it", "add it to suffixes: there"
        yield Finding(Code.CHARTER, what, Location(file=str(context.charter.source)), remedy, NOTE)


def _for_the_charter(context: Context, suffix: str) -> Report:
    if suffix in _of_charter(context):
        return Report(
            "suffixes", summary=[f"The charter registers {suffix}, and this directory keeps no list of its own."]
        )
    lines = f"suffixes: [{', '.join([*context.charter.document.suffixes, suffix])}]"
    table = Table(
        "record", "This directory keeps no list of suffixes. Write into the charter", ("charter",), [(lines,)]
    )
    return Report("suffixes", ("suffix",), [(suffix,)], is_for_programs=True, tables=[table])
