"""What a server says of itself, and its schema, kept between commands: it is half a megabyte, and changes once a year.

An entry counts only for the server that it came from, with the stamp of its last change, and for this version. Some
servers leave the stamp as it is when a schema is added while they run, so an entry counts for a quarter of an hour; and
one without our own schema does not count at all, for that may have been loaded just now.
"""

from __future__ import annotations

import time
import zlib
from pathlib import Path

import msgspec

from vandrel import __version__, user_folders
from vandrel.directory.ldap.connection import Settings

#: The values of the subschema subentry, by attribute.
Definitions = dict[str, list[str]]
#: What a server tells of itself, by attribute of the root DSE.
Told = dict[str, list[str]]


class KeptSchema(msgspec.Struct, frozen=True, array_like=True):
    """A schema as it was kept: what its server told of itself, what tells when the schema was changed, and where."""

    version: str
    told: Told
    stamped: tuple[str, str]
    stamp: str
    definitions: Definitions


#: Seconds for which an entry counts.
_LASTS = 900.0
#: What only servers with the Active Directory schema have, which keep our fields otherwise.
_OF_ACTIVE = "extendedAttributeInfo"
#: An object class of ours.
_OURS = "'vandrelAccount'"


def _file(settings: Settings) -> Path:
    known_as = " ".join([*settings.urls, settings.who])  # not everybody is told the same
    return user_folders.cache() / f"schema-{zlib.crc32(known_as.encode()):08x}.msgpack"


def find(settings: Settings) -> KeptSchema | None:
    """What was kept of the server of these hosts, as this identity sees it, and is young enough to count."""
    file = _file(settings)
    try:
        is_young = 0 <= time.time() - file.stat().st_mtime < _LASTS
        kept = msgspec.msgpack.decode(file.read_bytes(), type=KeptSchema) if is_young else None
    except (OSError, msgspec.MsgspecError):
        return None
    return kept if kept is not None and kept.version == __version__ else None


def keep(
    settings: Settings, told: Told, stamped: tuple[str, str], stamp: str, definitions: Definitions
) -> None:  # fmt: skip
    """Keep definitions; where that is not possible, the next command reads them again."""
    needs_ours = _OF_ACTIVE not in definitions
    if needs_ours and not any(_OURS in text for text in definitions["objectClasses"]):
        return
    from vandrel import safe_file
    from vandrel.errors import VandrelError

    file = _file(settings)
    try:
        file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        content = msgspec.msgpack.encode(KeptSchema(__version__, told, stamped, stamp, definitions))
        safe_file.write(file, content, "cache", replace=True)
    except (OSError, VandrelError):
        return
