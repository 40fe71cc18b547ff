"""What a directory is and can do, for whom, and what Vandrel does itself where the directory does not."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from vandrel.dialects.dialect import Dialect
from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.directory.port import Allowed, Directory
from vandrel.fields import ACCOUNT, COMPUTER, FIELDS, GROUP, UNIT

#: Controls and extensions that matter here: OID -> what it is for.
CONTROLS = {
    "1.2.840.113556.1.4.319": "results in pages (RFC 2696)",
    "1.3.6.1.1.12": "changes only where nothing changed (RFC 4528)",
    "1.2.840.113556.1.4.801": "parts of security descriptors",
    "1.2.840.113556.1.4.417": "deleted objects can be seen",
}
EXTENSIONS = {
    "1.3.6.1.4.1.1466.20037": "StartTLS (RFC 4511)",
    "1.3.6.1.4.1.4203.1.11.1": "passwords hashed by the server (RFC 3062)",
    "1.3.6.1.4.1.4203.1.11.3": "who am I (RFC 4532)",
}


class Ability(Struct, frozen=True):
    """One thing that is needed; ``by`` says who does it, ``fine`` whether that is as good as it can be."""

    what: str
    by: str
    fine: bool


def abilities(directory: Directory, dialect: Dialect) -> Iterator[Ability]:
    """What matters for the work of accounts, each with who sees to it."""
    capabilities = directory.capabilities
    mends = "the directory" if capabilities.mends_references else "Vandrel, as further steps of the same change"
    yield Ability("names that point at a renamed, moved or deleted object", mends, True)
    yield _disabling(directory, dialect)
    yield _dates(directory, dialect)
    yield _protecting(directory, dialect)
    yield _names(directory)
    missing = {object_type: list(not_kept(dialect, object_type)) for object_type in (ACCOUNT, GROUP, UNIT, COMPUTER)}
    said = "; ".join(f"{object_type}: {', '.join(names)}" for object_type, names in missing.items() if names)
    yield Ability("fields", f"not kept here: {said}" if said else "all are kept", not said)


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
    said = {
        (True, True): "the directory", (False, True): "the directory after the last; nobody before the first",
        (True, False): "the directory before the first; nobody after the last",
        (False, False): "nobody: disable accounts in time",
    }[first, last]  # fmt: skip
    return Ability(what, said, first and last)


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


def not_kept(dialect: Dialect, object_type: str) -> Iterator[str]:
    """The fields of a sort of object that the directory has no attribute for."""
    for name, field in FIELDS.items():
        if object_type in field.on and dialect.why_not_kept(name, object_type):
            yield name


class Rights(Struct, frozen=True):
    """What the bound identity may do on one object, in our words; None where the directory does not tell."""

    fields: tuple[str, ...]
    not_fields: tuple[str, ...]
    creates: tuple[str, ...]


def rights(directory: Directory, dialect: Dialect, dn: DN, object_type: str) -> Rights | None:
    """Ask the directory before anything is tried."""
    allowed = directory.allowed(dn)
    if allowed is None:
        return None
    names = [name for name, field in FIELDS.items() if object_type in field.on and dialect.attribute(name, object_type)]
    may = [name for name in names if dialect.attribute(name, object_type) in allowed.attributes]
    return Rights(tuple(may), tuple(name for name in names if name not in may), tuple(_object_types(allowed)))


def _object_types(allowed: Allowed) -> Iterator[str]:
    for object_type, name in (
        (ACCOUNT, "user"),
        (GROUP, "group"),
        (UNIT, "organizationalUnit"),
        (COMPUTER, "computer"),
    ):
        if name in allowed.classes:
            yield object_type
