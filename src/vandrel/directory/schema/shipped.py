"""Our schema and access rule for a standard server, as LDIF for its configuration (cn=config)."""

from __future__ import annotations

from collections.abc import Iterator
from importlib import resources

_HEAD = """\
# Vandrel's schema, and the access rule by which the server itself refuses to delete, rename or move an object whose
# vandrelProtected is TRUE. Load it into the server's configuration as whoever may write there; in the second record,
# put the number of your database in place of {1}, and keep the rule before all others.
"""

_RULE = """\

dn: olcDatabase={1}mdb,cn=config
changetype: modify
add: olcAccess
olcAccess: {0}to filter="(vandrelProtected=TRUE)" attrs=entry by * =arscdx
"""


def _definitions() -> Iterator[tuple[str, str]]:
    for line in resources.files(__package__).joinpath("vandrel.schema").read_text("utf-8").splitlines():
        if line and not line.startswith("#"):
            kind, _, text = line.partition(" ")
            yield kind, text


def configuration() -> str:
    """Two records: the schema, and the access rule."""
    from vandrel.directory.ldif import line

    words = {"attributetype": "olcAttributeTypes", "objectclass": "olcObjectClasses"}
    record = "dn: cn=vandrel,cn=schema,cn=config\nchangetype: add\nobjectClass: olcSchemaConfig\ncn: vandrel\n"
    return _HEAD + record + "".join(line(words[kind], text) for kind, text in _definitions()) + _RULE
