"""Suffixes of principal names: who uses which, whether the internet can route it, whether it is proven to be ours."""

from __future__ import annotations

import hashlib
from collections import Counter

from vandrel.charter.charter import Charter
from vandrel.charter.name_limits import is_suffix
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import ACCOUNT
from vandrel.jobs.common.report import Report, Table
from vandrel.objects.context import Context

#: Last labels that no public name server answers for: RFC 6761, 6762, 7686, 8375, and names that networks use alone.
#: ``example`` is one of them too (RFC 2606), and stands for a real domain wherever it is written.
_NOT_PUBLIC = frozenset(
    {"local", "localhost", "invalid", "test", "onion", "internal", "lan", "home", "corp", "private"}
)
_NOT_PUBLIC_DOMAIN = ("home.arpa",)


def why_not_routable(charter: Charter, suffix: str) -> str:
    """Why mail and logons from outside cannot find a suffix; empty where they can."""
    name = suffix.lower()
    if name in map(str.lower, charter.document.internal):
        return "the charter calls it internal"
    if not is_suffix(name) or "." not in name:
        return "it is no domain of the internet"
    if name.rpartition(".")[2] in _NOT_PUBLIC or name.endswith(_NOT_PUBLIC_DOMAIN):
        return "no public name server answers for it"
    return ""


def proven_on(charter: Charter, suffix: str) -> str:
    """Since which day a suffix, or the domain above it, is recorded as ours; empty where it is not."""
    name = suffix.lower()
    proofs = {domain.lower(): proof.proven for domain, proof in charter.document.ownership.items()}
    while name:
        if name in proofs:
            return proofs[name]
        name = name.partition(".")[2]
    return ""


def list_suffixes(context: Context) -> Report:
    """Every suffix that the charter or the server registers, or that somebody has."""
    charter, used = context.charter, Counter[str]()
    for entry in context.directory.search(charter.base, where=context.dialect.filter_for(ACCOUNT)):
        if suffix := context.one(entry, "principal").rpartition("@")[2].lower():
            used[suffix] += 1
    of_server = context.dialect.registered_suffixes()
    of_charter = [suffix.lower() for suffix in charter.document.suffixes]
    rows = []
    for suffix in dict.fromkeys([*of_charter, *sorted(of_server or ()), *used]):
        by = [who for who, names in (("charter", of_charter), ("server", of_server or ())) if suffix in names]
        why = why_not_routable(charter, suffix)
        since = proven_on(charter, suffix)
        rows.append((suffix, str(used[suffix]), " and ".join(by) or "nobody", why or "yes", since or "not recorded"))
    columns = ("suffix", "accounts", "registered by", "routable", "proven")
    strangers = [row[0] for row in rows if row[2] == "nobody"]
    summary = [f"In use and registered by nobody: {', '.join(strangers)}."] if strangers else []
    return Report("suffixes", columns, rows, summary=summary)


def proof_of(context: Context, suffix: str) -> Report:
    """What to publish so that whoever sees the zone knows that it is ours, and what to record then.

    Raises:
        VandrelError: ``bad-value`` for what is no domain, or one that is not routable.

    """
    if why := why_not_routable(context.charter, suffix):
        raise VandrelError(Code.BAD_VALUE, f"{suffix!r} cannot be proven: {why}", where=Location(text=suffix))
    text = f"{context.directory.identity} {suffix.lower()}"
    value = f"vandrel-domain={hashlib.sha256(text.encode()).hexdigest()[:32]}"
    record = f'{suffix.lower()}. 3600 IN TXT "{value}"'
    charter = f"ownership:\n  {suffix.lower()}: {{proven: {context.charter.today().isoformat()}, by: YOUR NAME}}"
    rows = [(suffix.lower(), value)]
    return Report(
        "suffixes", ("suffix", "txt"), rows, is_for_programs=True,
        tables=[Table("publish", "Publish in the zone of the domain", ("record",), [(record,)]),
                Table("record", "Once it is seen there, record it in the charter", ("charter",),
                      [(line,) for line in charter.splitlines()])],
    )  # fmt: skip
