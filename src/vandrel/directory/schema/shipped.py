"""Our schema and access rule for a standard server, as LDIF for its configuration (cn=config)."""

from __future__ import annotations

from pathlib import Path

from vandrel.directory.schema import read_definitions

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


def configuration() -> str:
    """Two records: the schema, and the access rule."""
    from vandrel.directory.ldif import line

    words = {"attributetype": "olcAttributeTypes", "objectclass": "olcObjectClasses"}
    record = "dn: cn=vandrel,cn=schema,cn=config\nchangetype: add\nobjectClass: olcSchemaConfig\ncn: vandrel\n"
    own = read_definitions(Path(__file__).with_name("vandrel.schema"))
    return _HEAD + record + "".join(line(words[kind], text) for kind, text in own) + _RULE
