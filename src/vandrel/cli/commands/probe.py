"""``vandrel probe``: who is bound to which directory, what it can do, and what Vandrel does in its place."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli import complete
from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.directory.ldap.store import LdapDirectory
    from vandrel.directory.port import Directory
    from vandrel.errors import Finding, VandrelError
    from vandrel.objects.context import Context

NAME = "probe"
HELP = "who is bound to the directory, what it can do, and what it leaves to Vandrel"
DESCRIPTION = """\
Say how the directory is reached and as whom, what it supports, which schema it has, what the bound identity may do at a
place, and what Vandrel does itself where the directory does not. Nothing is changed."""
EXAMPLES = """\
  vandrel probe                                  the directory beside the charter
  vandrel probe --directory harbour              a connection of connections.yaml
  vandrel probe /Ferries --directory harbour --who admin
  vandrel probe --schema > vandrel-schema.ldif   our schema and access rule, for a standard LDAP server
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    name = parser.add_argument("name", nargs="?", metavar="NAME", help="an object or place: what may be done there?")
    complete.attach(name, complete.places)
    parser.add_argument(
        "--schema", action="store_true", help="print our schema and access rule as LDIF for the server's configuration"
    )
    parser.add_argument(
        "--keep-password", action="store_true", help="ask for the password of the identity and keep it in the keyring"
    )


def run(session: Session) -> int:
    if session.args.schema:
        from vandrel.directory.schema.shipped import configuration

        session.out.console.print(configuration(), soft_wrap=True, end="")
        return 0
    if session.args.keep_password:
        return _keep_password(session)
    directory = session.server if session.way else session.directory
    context = _context(session)
    if session.out.as_json:
        session.out.json(_as_json(session, directory, context))
        return 0
    _reached(session, directory)
    if context is not None:
        _does(session, context)
        _passwords(session, context)
        if session.args.name:
            _rights(session, context)
    return 0


def _context(session: Session) -> Context | None:
    """The house rules with the directory; None where there is no charter yet, and a note says so."""
    from vandrel.errors import Code, VandrelError

    try:
        return session.context
    except VandrelError as error:
        if error.code not in (Code.NOT_FOUND, Code.FOREIGN) or session.way is None:
            raise
        session.out.findings([_as_note(error)])
        return None


def _as_note(error: VandrelError) -> Finding:
    from msgspec import structs

    return structs.replace(error.findings[0], fatal=False)


def _keep_password(session: Session) -> int:
    from vandrel.connections.passwords import keep
    from vandrel.errors import Code, Location, VandrelError

    way = session.way
    if way is None or not way.name or way.identity is None or not way.identity.bind:
        raise VandrelError(
            Code.USAGE,
            "only an identity of a named connection has a password to keep",
            where=Location(option="--keep-password"),
            remedy="vandrel probe --directory NAME --who WORD --keep-password",
        )
    keep(way, session.ask(f"Password of {way.identity.bind}"))
    session.out.note(f"Kept in the keyring for {way.name}, {way.word}.")
    return 0


# --- how it is reached


def _rows(session: Session, directory: Directory) -> list[tuple[str, str]]:
    rows = [("directory", directory.location)]
    if session.way is not None:
        rows += _server_rows(session, session.server)
    for number, context in enumerate(directory.contexts):
        default = "  (default)" if number == 0 and len(directory.contexts) > 1 else ""
        rows.append(("" if number else "holds", f"{context}{default}"))
    schema = {"ad": "Active Directory", "standard": "the standards' (RFC 4519, RFC 2798)"}[
        directory.capabilities.schema
    ]
    own = directory.schema.object_class("vandrelAccount") is not None
    rows.append(("schema", schema + (", with Vandrel's own" if own else "")))
    return rows


def _server_rows(session: Session, server: LdapDirectory) -> list[tuple[str, str]]:
    from vandrel.directory.ldap.connection import encrypted

    assert session.way is not None
    settings = server.settings
    rows = [("host", server.url)]
    down = settings.urls[: settings.urls.index(server.url)]
    if down:
        rows.append(("passed over", ", ".join(down)))
    how = "encrypted" if encrypted(settings, server.url) else "not encrypted"
    if server.url.startswith("ldapi:"):
        how = "over a socket of this machine"
    elif settings.unchecked:
        how += ", certificate not checked"
    elif encrypted(settings, server.url):
        how += ", certificate checked"
    bound, groups = server.whoami()
    rows.append(("bound as", f"{bound or settings.who}, {how}"))
    if groups:
        rows.append(("member of", ", ".join(groups)))
    others = [f"--who {word}" for word in settings.others]
    if settings.identity or others:
        rows.append(
            ("identity", (settings.identity or "typed") + (f"  (others: {', '.join(others)})" if others else ""))
        )
    if server.about.vendor:
        rows.append(("server", server.about.vendor))
    return rows


def _supports(server: LdapDirectory) -> list[tuple[str, str]]:
    from vandrel.jobs.inspect.probe import CONTROLS, EXTENSIONS

    about = server.about
    rows = [(what, "yes" if oid in about.controls else "no") for oid, what in CONTROLS.items()]
    rows += [(what, "yes" if oid in about.extensions else "no") for oid, what in EXTENSIONS.items()]
    rows.append(("SASL", ", ".join(about.mechanisms) or "none offered on this connection"))
    return rows


def _reached(session: Session, directory: Directory) -> None:
    session.out.table(("what", "value"), _rows(session, directory), header=False)
    if session.way is not None:
        session.out.line()
        session.out.heading("The server offers")
        session.out.table(("what", "offered"), [(f"  {a}", b) for a, b in _supports(session.server)], header=False)


# --- what it does


def _does(session: Session, context: Context) -> None:
    from rich.text import Text

    from vandrel.jobs.inspect.probe import abilities

    session.out.line()
    session.out.heading("Who sees to it")
    rows = [
        (f"  {a.what}", Text(a.by, style="" if a.fine else "yellow"))
        for a in abilities(context.directory, context.dialect)
    ]
    session.out.table(("what", "by"), rows, header=False)


def _passwords(session: Session, context: Context) -> None:
    rules = context.password_rules("")
    session.out.line()
    session.out.heading("Password rules for a new account")
    session.out.table(("rule", "from"), [(f"  {rule}", rule.source) for rule in rules.shown()], header=False)


def _rights(session: Session, context: Context) -> None:
    from vandrel.jobs.common.resolve import resolve
    from vandrel.jobs.inspect.probe import rights

    entry = resolve(context, session.args.name)
    object_type = context.dialect.object_type_of(entry)
    session.out.line()
    session.out.heading(f"What this identity may do: {context.label(entry)}")
    found = rights(context.directory, context.dialect, entry.dn, object_type)
    if found is None:
        told = "Whoever can write the file may do everything." if context.directory.capabilities.embedded else (
            "This server does not tell before it is tried."
        )  # fmt: skip
        session.out.line(f"  {told}")
        return
    rows = [("  create in it", ", ".join(found.creates) or "nothing")]
    if object_type:
        rows = [
            ("  change", ", ".join(found.fields) or "nothing"),
            ("  not change", ", ".join(found.not_fields) or "nothing"), *rows,
        ]  # fmt: skip
    session.out.table(("right", "what"), rows, header=False)


def _as_json(session: Session, directory: Directory, context: Context | None) -> dict[str, object]:
    from vandrel.jobs.common.resolve import resolve
    from vandrel.jobs.inspect.probe import abilities, rights

    found: dict[str, object] = {"command": "probe", "contexts": [str(context) for context in directory.contexts]}
    found |= {what.replace(" ", "_"): value for what, value in _rows(session, directory) if what not in ("", "holds")}
    if session.way is not None:
        found["offers"] = dict(_supports(session.server))
    if context is not None:
        found["abilities"] = [
            {"what": a.what, "by": a.by, "fine": a.fine} for a in abilities(directory, context.dialect)
        ]
        found["password_rules"] = [
            {"rule": rule.name, "value": rule.value, "source": rule.source}
            for rule in context.password_rules("").shown()
        ]  # fmt: skip
        if session.args.name:
            entry = resolve(context, session.args.name)
            may = rights(directory, context.dialect, entry.dn, context.dialect.object_type_of(entry))
            found["rights"] = None if may is None else {
                "change": may.fields, "not_change": may.not_fields, "create": may.creates,
            }  # fmt: skip
    return found
