"""What a directory is and can do, for whom, and what Vandrel does itself where the directory does not."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from vandrel.dialects.dialect import Dialect
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.port import Directory, EffectiveRights
from vandrel.fields import ACCOUNT, COMPUTER, GROUP, OBJECT_TYPES, UNIT, FieldCatalog
from vandrel.jobs.common.report import Cell, Report, Table
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context


class Ability(Struct, frozen=True):
    """One thing that is needed; ``by`` says who does it, ``fine`` whether that is as good as it can be."""

    what: str
    by: str
    fine: bool


def abilities(directory: Directory, dialect: Dialect, fields: FieldCatalog) -> Iterator[Ability]:
    """What matters for the work of accounts, each with who sees to it."""
    capabilities = directory.capabilities
    mends = "the directory" if capabilities.mends_references else "Vandrel, as further steps of the same change"
    yield Ability("names that point at a renamed, moved or deleted object", mends, True)
    yield _disabling(directory, dialect)
    yield _dates(directory, dialect)
    yield _protecting(directory, dialect)
    yield _names(directory)
    missing = {each: list(not_kept(dialect, fields, each)) for each in OBJECT_TYPES}
    listed = "; ".join(f"{object_type}: {', '.join(names)}" for object_type, names in missing.items() if names)
    yield Ability("fields", f"not kept here: {listed}" if listed else "all are kept", not listed)


def _disabling(directory: Directory, dialect: Dialect) -> Ability:
    what = "keeping disabled accounts out"
    if directory.capabilities.disables:
        return Ability(what, "the directory", True)
    if dialect.why_not_kept("enabled", ACCOUNT):
        return Ability(what, "nobody: the server's schema knows no password policy", False)
    why = dialect.why_not_heeded("enabled", Entry(directory.contexts[0], {}))
    return Ability(what, f"nobody: {why}" if why else "the server, by its password policy", not why)


def _dates(directory: Directory, dialect: Dialect) -> Ability:
    what = "keeping people out before their first and after their last day"
    nobody = Entry(directory.contexts[0], {})
    first, last = (not dialect.why_not_heeded(name, nobody) for name in ("starts", "ends"))
    dates = {
        (True, True): "the directory", (False, True): "the directory after the last; nobody before the first",
        (True, False): "the directory before the first; nobody after the last",
        (False, False): "nobody: disable accounts in time",
    }[first, last]  # fmt: skip
    return Ability(what, dates, first and last)


def _protecting(directory: Directory, dialect: Dialect) -> Ability:
    what = "keeping protected objects from deletion and moves"
    if directory.capabilities.embedded:
        return Ability(what, "the directory", True)
    if dialect.name == "ad":
        return Ability(what, "the server, by entries in the access lists; Vandrel alone against a rename", True)
    if dialect.why_not_kept("protected", UNIT):
        return Ability(what, "nobody: our schema is not loaded (vandrel probe --schema)", False)
    return Ability(what, "Vandrel; the server too, where our access rule is loaded (vandrel probe --schema)", True)


def _names(directory: Directory) -> Ability:
    what = "names that must be unique"
    if directory.capabilities.embedded:
        return Ability(what, "the directory", True)
    return Ability(what, "Vandrel, before each change; the server as far as it is set up to", True)


def not_kept(dialect: Dialect, fields: FieldCatalog, object_type: str) -> Iterator[str]:
    """The fields of a type of object that the directory has no attribute for."""
    for name, field in fields.items():
        if object_type in field.on and dialect.why_not_kept(name, object_type):
            yield name


class Rights(Struct, frozen=True):
    """What the bound identity may do on one object, in our words; None where the directory does not tell."""

    fields: tuple[str, ...]
    not_fields: tuple[str, ...]
    creates: tuple[str, ...]


def rights(directory: Directory, dialect: Dialect, fields: FieldCatalog, dn: DN, object_type: str) -> Rights | None:
    """Ask the directory before anything is tried."""
    allowed = directory.allowed(dn)
    if allowed is None:
        return None
    names = [name for name, field in fields.items() if object_type in field.on and dialect.attribute(name, object_type)]
    may = [name for name in names if dialect.attribute(name, object_type) in allowed.attributes]
    return Rights(tuple(may), tuple(name for name in names if name not in may), tuple(_object_types(allowed)))


def _object_types(allowed: EffectiveRights) -> Iterator[str]:
    for object_type, name in (
        (ACCOUNT, "user"),
        (GROUP, "group"),
        (UNIT, "organizationalUnit"),
        (COMPUTER, "computer"),
    ):
        if name in allowed.classes:
            yield object_type


class ProbeRequest(Struct, frozen=True):
    """What is asked of a directory.

    Attributes:
        name: the object whose rights are asked for; empty for none.

    """

    name: str = ""


def probe(directory: Directory, context: Context | None, request: ProbeRequest) -> Report:
    """Say how the directory is reached, what it can do, and what it leaves to Vandrel.

    Raises:
        VandrelError: what resolving the name raises.

    """
    reached, offered = _of_server(directory)
    tables = [Table("offers", "The server offers", ("what", "offered"), offered)]
    if context is not None:
        able = list(abilities(directory, context.dialect, context.fields))
        tables.append(
            Table("abilities", "Who sees to it", ("what", "fine", "by"), [(a.what, a.fine, a.by) for a in able], True)
        )
        rules = [(rule.name, rule.value, rule.source, str(rule)) for rule in context.password_rules("").shown()]
        tables.append(
            Table("password_rules", "Password rules for a new account", ("rule", "value", "source", "said"), rules)
        )
        tables += [_rights(context, request.name)] if request.name else []
    return Report("probe", facts=_facts(directory, reached), tables=tables)


def _facts(directory: Directory, reached: Sequence[tuple[str, str]]) -> list[tuple[str, Cell]]:
    schema = {"ad": "Active Directory", "standard": "the standards' (RFC 4519, RFC 2798)"}[
        directory.capabilities.schema
    ]
    own = directory.schema.object_class("vandrelAccount") is not None
    contexts = [str(context) for context in directory.contexts]
    holds = "holds, the default first" if len(contexts) > 1 else "holds"
    passed_over = directory.schema.passed_over
    return [
        ("directory", directory.location), *reached, (holds, contexts),
        ("schema", schema + (", with Vandrel's own" if own else "")),
        *([("definitions passed over", [why[:120] for why in passed_over])] if passed_over else []),
    ]  # fmt: skip


def _of_server(directory: Directory) -> tuple[list[tuple[str, str]], list[tuple[str, str]]]:
    """How a server is reached and as whom, and what it offers; nothing for a file."""
    if directory.capabilities.embedded:
        return [], []
    from vandrel.directory.ldap.store import LdapDirectory
    from vandrel.jobs.inspect.server_facts import connection, offers

    return (connection(directory), offers(directory)) if isinstance(directory, LdapDirectory) else ([], [])


def _rights(context: Context, name: str) -> Table:
    entry = resolve(context, name)
    object_type = context.object_type(entry)
    title = f"What this identity may do: {context.label(entry)}"
    may = rights(context.directory, context.dialect, context.fields, entry.dn, object_type)
    if may is None:
        is_file = context.directory.capabilities.embedded
        rights_shown = (
            "Whoever can write the file may do everything."
            if is_file
            else "This server does not tell before it is tried."
        )
        return Table("rights", title, ("right", "what"), (), empty=rights_shown)
    rows: list[tuple[str, Sequence[str]]] = [("create in it", may.creates or ("nothing",))]
    if object_type:
        rows = [("change", may.fields or ("nothing",)), ("not change", may.not_fields or ("nothing",)), *rows]
    return Table("rights", title, ("right", "what"), rows)
