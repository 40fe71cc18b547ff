"""What is in the other directory: read as a whole, or taken to be as it was sent but for what was changed since."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime

from vandrel.directory import gentime
from vandrel.directory.applied import applied
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.filter import And, Compare, Filter
from vandrel.fields import ACCOUNT, GROUP
from vandrel.jobs.services.profile import Copying
from vandrel.jobs.services.synchronization.outgoing import Outgoing
from vandrel.objects.context import Context
from vandrel.record.links import Link

#: In a link, beside the fields: the place and name that an object was to have; its name there; the members of a group;
#: its version there, where it has one.
STANDS, NAME, MEMBERS, VERSION = "@stands", "@name", "@members", "@version"


def read_there(
    there: Context, object_type: str, links: Mapping[str, Link], outgoing: Iterable[Outgoing], rules: Copying,
    since: datetime | None, as_sent: dict[str, Link],
) -> Iterator[Entry]:  # fmt: skip
    """The objects of a type there, each once; accounts that are taken to be as they were sent, by their names alone.

    Args:
        there: the other directory.
        object_type: account or group.
        links: what was sent before.
        outgoing: what is to be there.
        rules: what tells objects there.
        since: where it is given, only what was changed since is read, and what was sent is taken to be as it was.
        as_sent: gets the links of those accounts, by their identifiers: `complete` makes of one what was sent.

    """
    directory, base = there.directory, there.charter.base
    everything = there.dialect.filter_for(object_type)
    if since is None:
        yield from directory.search(base, where=everything)
        return
    changed_at = "whenChanged" if directory.capabilities.schema == "ad" else "modifyTimestamp"
    wheres: list[Filter] = [Compare(changed_at, ">=", gentime.to_text(since))]
    # Whoever is sent for the first time may be there already.
    fields = rules.match if object_type == ACCOUNT else ["name"]
    for each in outgoing:
        if each.identifier not in links:
            values = {"name": (each.name,), **each.fields}
            wheres += (Compare(attribute, "=", value) for field in fields for value in values.get(field, ())
                       if (attribute := there.dialect.attribute(field, object_type)))  # fmt: skip
    entries: dict[str, Entry] = {}
    for where in wheres:
        entries |= {entry.identifier: entry for entry in directory.search(base, where=And((everything, where)))}
    yield from entries.values()
    kept_in = "objectGUID" if directory.capabilities.schema == "ad" else "entryUUID"
    for link in links.values():
        if link.there not in entries and NAME in link.values and (MEMBERS in link.values) == (object_type == GROUP):
            entry = Entry(DN.read(link.values[NAME][0]), {kept_in: [link.there]})
            if rules.identifier:
                entry.attributes[rules.identifier] = [link.here]
            if object_type == ACCOUNT:
                as_sent[link.there] = link
            else:
                complete(there, object_type, link, entry)
            directory.remember(entry.dn, link.there, *link.values.get(VERSION, ()))
            yield entry


def complete(there: Context, object_type: str, link: Link, entry: Entry) -> None:
    """Give an entry the attributes that a run has left it with."""
    fields: dict[str, Sequence[str]] = {
        name: values for name, values in link.values.items() if not name.startswith("@")
    }
    members = link.values.get(MEMBERS, ())
    new = Entry(entry.dn, there.dialect.new_entry(object_type, entry.dn, fields | {"members": members}))
    new = applied(new, there.dialect.changes_after_creation(object_type, fields))
    entry.attributes.update(new.attributes | entry.attributes)
