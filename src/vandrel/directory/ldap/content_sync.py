"""What has changed on a server since it was last asked: content synchronization (RFC 4533), once and not for good."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

import ldap

from vandrel.directory.dn import DN
from vandrel.directory.port import Changes

#: The sync request control: RFC 4533, section 2.2.
CONTROL = "1.3.6.1.4.1.4203.1.9.1.1"


def refresh(connection: Any, base: DN, since: str, identifiers_before: Collection[str]) -> Changes:
    """Ask for the names that are new or changed below one, and for what is gone.

    Args:
        connection: to a server that offers this.
        base: the name.
        since: the cookie that the last answer came with; empty the first time, when only a cookie is had from this.
        identifiers_before: the identifiers of what was there then.

    Raises:
        ldap.LDAPError: what the server answers, such as that it knows of nothing so long ago (section 3.3.2).

    """
    # The library's protocol handler is to be mixed into a class of connections; ours is there already.
    from ldap.syncrepl import SyncreplConsumer

    class Answers(SyncreplConsumer):  # type: ignore[misc]
        search_ext, result4 = staticmethod(connection.search_ext), staticmethod(connection.result4)
        cookie = ""

        def __init__(self) -> None:
            self.changed: list[DN] = []
            self.present: set[str] = set()
            self.deleted: set[str] = set()

        def syncrepl_set_cookie(self, cookie: str) -> None:
            self.cookie = cookie

        def syncrepl_entry(self, dn: str, attributes: object, identifier: str) -> None:
            if since:
                self.changed.append(DN.read(dn))

        def syncrepl_present(self, identifiers: Sequence[str] | None, refreshDeletes: bool = False) -> None:  # noqa: N803
            if identifiers is not None:
                self.present.update(identifiers)
            elif not refreshDeletes:  # whatever was not named is not there
                self.deleted.update(set(identifiers_before) - self.present)

        def syncrepl_delete(self, identifiers: Sequence[str]) -> None:
            self.deleted.update(identifiers)

    answers = Answers()
    request = answers.syncrepl_search(str(base), ldap.SCOPE_SUBTREE, cookie=since or None, attrlist=["1.1"])
    answers.syncrepl_poll(request, all=1)
    if not since:
        return Changes(answers.cookie)
    stamp = answers.cookie or ("" if answers.changed else since)  # where nothing is new, some give none
    deleted = frozenset(identifier for identifier in answers.deleted if identifier in identifiers_before)
    return Changes(stamp, answers.changed, deleted)
