"""What can be completed on the command line: names of objects, fields, kinds, places, lists."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from vandrel.cli.session import Session

_MOST = 500


def _session(args: argparse.Namespace) -> Session:
    from vandrel.cli.session import Session

    session = Session(args, [])
    session.is_by_hand = False
    return session


def _quietly(words: Iterator[str]) -> list[str]:
    """The words; none where there is no charter or directory to ask: completion never complains."""
    from vandrel.errors import VandrelError

    try:
        return list(words)
    except (VandrelError, OSError):
        return []


def _objects(session: Session, prefix: str, object_types: tuple[str, ...]) -> Iterator[str]:
    from vandrel.directory.filter import And, Or, Substring
    from vandrel.fields import UNIT

    context = session.context
    if prefix.startswith("/") or (object_types == (UNIT,)):
        yield from _places(session, prefix)
        return
    for object_type in object_types:
        name = (
            context.dialect.attribute("login", object_type)
            if object_type == "account"
            else context.dialect.attribute("name", object_type)
        )
        starts = (Substring(name, prefix, (), ""),) if prefix else ()
        where = (
            And((context.dialect.filter_for(object_type), Or(starts)))
            if starts
            else context.dialect.filter_for(object_type)
        )
        for number, entry in enumerate(context.directory.search(context.charter.base, where=where)):
            if number >= _MOST:
                break
            yield context.one(entry, "login") or entry.dn.name


def _places(session: Session, prefix: str) -> Iterator[str]:
    context = session.context
    for entry in context.directory.search(context.charter.base, where=context.dialect.filter_for("unit")):
        place = context.place(entry.dn)
        if place.casefold().startswith(prefix.casefold()):
            yield place


def objects(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """Logon names of accounts, names of groups; places after a slash."""
    return _quietly(_objects(_session(parsed_args), prefix, ("account", "group", "computer")))


def places(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """Places that begin with the prefix."""
    return _quietly(_places(_session(parsed_args), prefix))


def kinds(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """Kinds of account of the charter, and the words for groups and units."""

    def words() -> Iterator[str]:
        yield from ("group", "unit", "computer")
        yield from _session(parsed_args).charter.document.kinds

    return [word for word in _quietly(words()) if word.startswith(prefix)]


def columns(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """Fields, divided by commas."""
    from vandrel.fields import FIELDS

    before, comma, last = prefix.rpartition(",")
    return [before + comma + name for name in FIELDS if name.startswith(last)]


def assignments(prefix: str, parsed_args: argparse.Namespace, **kwargs: Any) -> list[str]:
    """``field=`` for each field; behind it the words of the charter's lists, groups, kinds, or objects."""
    from vandrel.fields import FIELDS, GROUP, Shape

    name, equals, value = prefix.partition("=")
    if not equals:
        suggestions = [f"{field}=" for field in FIELDS if field.startswith(prefix)]
        return suggestions if parsed_args is None else [*suggestions, *_names_too(prefix, parsed_args)]
    field = FIELDS.get(name.rstrip("+-"))
    session = _session(parsed_args)

    def words() -> Iterator[str]:
        lists = session.charter.document.lists
        if field is None:
            return
        if field.name in lists:
            yield from lists[field.name]
        elif field.shape is Shape.MEMBERSHIPS:
            yield from _objects(session, value.rpartition(",")[2], (GROUP,))
        elif field.shape is Shape.REFERENCE:
            yield from _objects(session, value, ("account", "group"))
        elif field.shape is Shape.FLAG:
            yield from ("yes", "no")
        elif field.name == "kind":
            yield from session.charter.document.groups
        elif field.name == "password":
            yield from ("ask", "generate", "none", "-")

    before, comma, last = value.rpartition(",")
    return [
        f"{name}={before}{comma}{word}" for word in _quietly(words()) if word.casefold().startswith(last.casefold())
    ]


def _names_too(prefix: str, args: argparse.Namespace) -> list[str]:
    return objects(prefix, args) if getattr(args, "names_first", False) else []


def kept_lists(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """Names of kept lists."""

    def words() -> Iterator[str]:
        from vandrel.cli.lists import load

        yield from load(_session(parsed_args))

    return [word for word in _quietly(words()) if word.startswith(prefix)]


def connections(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """Names of connections, and files."""
    from argcomplete.completers import FilesCompleter

    named = _quietly(iter(_session(parsed_args).connections))
    return [name for name in named if name.startswith(prefix)] + list(FilesCompleter()(prefix))


def identities(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """The words for the identities of the connection that was named."""

    def words() -> Iterator[str]:
        target = _session(argparse.Namespace(**{**vars(parsed_args), "who": None})).target
        yield from target.connection.identities if target else ()

    return [word for word in _quietly(words()) if word.startswith(prefix)]


def attach(action: argparse.Action, completer: Any) -> None:
    """Tell argcomplete what completes an argument."""
    action.completer = completer  # type: ignore[attr-defined]
