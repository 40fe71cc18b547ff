"""What is in the other directory: read as a whole, or taken to be as it was sent but for what was changed since."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from itertools import islice

from vandrel.directory import gentime
from vandrel.directory.applied import applied
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare, Filter
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.services.profile import Copying
from vandrel.jobs.services.synchronization.outgoing import Outgoing
from vandrel.objects.context import Context
from vandrel.record.links import Link, LinksBefore

#: In a link, beside the fields: the place and name that an object was to have; its name there; the members of a group;
#: its version there, where it has one.
STANDS, NAME, MEMBERS, VERSION = "@stands", "@name", "@members", "@version"

#: Objects whose links are read together.
AT_ONCE = 100


def with_links(some: Iterable[Outgoing], links: LinksBefore) -> Iterator[tuple[Outgoing, Link | None]]:
    """What is sent, each with what was sent of it before; that is read for many at a time."""
    rest = iter(some)
    while part := list(islice(rest, AT_ONCE)):
        links.look_ahead([each.identifier for each in part])
        for each in part:
            yield each, links.get(each.identifier)


def changed_there(there: Context, object_type: str, since: datetime) -> list[Entry]:
    """The objects of a type there that were changed since."""
    changed_at = "whenChanged" if there.directory.capabilities.schema == "ad" else "modifyTimestamp"
    is_changed = Compare(changed_at, ">=", gentime.to_text(since))
    return _find(there, object_type, is_changed)


def _find(there: Context, object_type: str, where: Filter) -> list[Entry]:
    return list(there.directory.search(there.charter.base, where=And((there.dialect.filter_for(object_type), where))))


def read_there(
    there: Context, object_type: str, links: LinksBefore, unknown: Iterable[Outgoing], rules: Copying,
    changed: Sequence[Entry] | None,
) -> Iterator[Entry]:  # fmt: skip
    """The objects of a type there, each once, but for accounts that are taken to be as they were sent: `bare_entry`.

    Args:
        there: the other directory.
        object_type: account or group.
        links: what was sent before.
        unknown: what is to be there and was not sent before.
        rules: what tells objects there.
        changed: what was changed there; where it is given, all else that was sent is taken to be as it was.

    """
    if changed is None:
        yield from there.directory.search(there.charter.base, where=there.dialect.filter_for(object_type))
        return
    entries = {entry.identifier: entry for entry in changed}
    # Whoever is sent for the first time may be there already.
    fields = rules.match if object_type == ACCOUNT else ["name"]
    for each in unknown:
        values = {"name": (each.name,), **each.fields}
        for field in fields:
            if attribute := there.dialect.attribute(field, object_type):
                for value in values.get(field, ()):
                    found = _find(there, object_type, Compare(attribute, "=", value))
                    entries |= {entry.identifier: entry for entry in found}
    yield from entries.values()
    for link in links.all() if object_type == GROUP else ():
        if (
            link.there not in entries
            and MEMBERS in link.values
            and (entry := bare_entry(there, link, rules)) is not None
        ):
            complete(there, GROUP, link, entry)
            remember(there, entry.dn, link)
            yield entry


def bare_entry(there: Context, link: Link, rules: Copying) -> Entry | None:
    """An object that is taken to be as it was sent, by its name alone; None where nothing tells what was sent."""
    if not (name := link.values.get(NAME)):
        return None
    kept_in = "objectGUID" if there.directory.capabilities.schema == "ad" else "entryUUID"
    entry = Entry(DN.read(name[0]), {kept_in: [link.there]})
    if rules.identifier:
        entry.attributes[rules.identifier] = [link.here]
    return entry


def remember(there: Context, dn: DN, link: Link) -> None:
    """Tell the other directory which object has this name: whoever changes it need not look for it."""
    there.directory.remember(dn, link.there, *link.values.get(VERSION, ()))


def is_bare(entry: Entry) -> bool:
    """Whether no more of an account is known than its name: the rest is taken to be as it was sent."""
    return "objectClass" not in entry.attributes


def complete(there: Context, object_type: str, link: Link, entry: Entry) -> None:
    """Give an entry the attributes that a run has left it with."""
    fields: dict[str, Sequence[str]] = {
        name: values for name, values in link.values.items() if not name.startswith("@")
    }
    members = link.values.get(MEMBERS, ())
    new = Entry(entry.dn, there.dialect.new_entry(object_type, entry.dn, fields | {"members": members}))
    new = applied(new, there.dialect.changes_after_creation(object_type, fields))
    entry.attributes.update(new.attributes | entry.attributes)
