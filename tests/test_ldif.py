"""LDIF: the examples of RFC 2849, what must hold for all, and the commands that put it out and take it in."""

from __future__ import annotations

import base64
import stat

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vandrel.directory import dn as names
from vandrel.directory import ldif
from vandrel.directory.entry import Entry
from vandrel.directory.ldif import Control, Modification
from vandrel.directory.schema import Schema, shipped_definitions
from vandrel.errors import Code, VandrelError

SCHEMA = Schema(shipped_definitions())


def read(text: str, fetch=None) -> list[ldif.Record]:
    return list(ldif.read(text.splitlines(keepends=True), SCHEMA.is_binary, fetch))


# RFC 2849, "Examples of LDAP Data Interchange Format".
EXAMPLE_1 = """\
version: 1
dn: cn=Barbara Jensen, ou=Product Development, dc=airius, dc=com
objectclass: top
objectclass: person
objectclass: organizationalPerson
cn: Barbara Jensen
cn: Barbara J Jensen
cn: Babs Jensen
sn: Jensen
uid: bjensen
telephonenumber: +1 408 555 1212
description: A big sailing fan.

dn: cn=Bjorn Jensen, ou=Accounting, dc=airius, dc=com
objectclass: top
objectclass: person
objectclass: organizationalPerson
cn: Bjorn Jensen
sn: Jensen
telephonenumber: +1 408 555 1212
"""

EXAMPLE_2 = """\
version: 1
dn:cn=Barbara Jensen, ou=Product Development, dc=airius, dc=com
objectclass:top
cn:Barbara Jensen
description:Babs is a big sailing fan, and travels extensively in sea
 rch of perfect sailing conditions.
title:Product Manager, Rod and Reel Division
"""

EXAMPLE_3 = """\
version: 1
dn: cn=Gern Jensen, ou=Product Testing, dc=airius, dc=com
cn: Gern Jensen
description:: V2hhdCBhIGNhcmVmdWwgcmVhZGVyIHlvdSBhcmUhICBUaGlzIHZhbHVlIGlzIGJ
 hc2UtNjQtZW5jb2RlZCBiZWNhdXNlIGl0IGhhcyBhIGNvbnRyb2wgY2hhcmFjdGVyIGluIGl0IC
 hhIENSKS4NICBCeSB0aGUgd2F5LCB5b3Ugc2hvdWxkIHJlYWxseSBnZXQgb3V0IG1vcmUu
"""

EXAMPLE_4 = """\
version: 1
dn:: b3U95Za25qWt6YOoLG89QWlyaXVz
# dn:: ou=<JapaneseOU>,o=Airius
objectclass: organizationalUnit
ou:: 5Za25qWt6YOo
ou;lang-ja:: 5Za25qWt6YOo
"""

EXAMPLE_5 = """\
version: 1
dn: cn=Horatio Jensen, ou=Product Testing, dc=airius, dc=com
cn: Horatio N Jensen
jpegphoto:< file:///usr/local/directory/photos/hjensen.jpg
"""

EXAMPLE_6 = """\
version: 1
# Add a new entry
dn: cn=Fiona Jensen, ou=Marketing, dc=airius, dc=com
changetype: add
objectclass: person
cn: Fiona Jensen

# Delete an existing entry
dn: cn=Robert Jensen, ou=Marketing, dc=airius, dc=com
changetype: delete

# Modify an entry's relative distinguished name
dn: cn=Paul Jensen, ou=Product Development, dc=airius, dc=com
changetype: modrdn
newrdn: cn=Paula Jensen
deleteoldrdn: 1

# Rename an entry and move all of its children to a new location
dn: ou=PD Accountants, ou=Product Development, dc=airius, dc=com
changetype: modrdn
newrdn: ou=Product Development Accountants
deleteoldrdn: 0
newsuperior: ou=Accounting, dc=airius, dc=com

# Modify an entry
dn: cn=Paula Jensen, ou=Product Development, dc=airius, dc=com
changetype: modify
add: postaladdress
postaladdress: 123 Anystreet $ Sunnyvale, CA $ 94086
-

delete: description
-
"""


def test_examples_of_content():
    barbara, bjorn = read(EXAMPLE_1)
    assert (barbara.line, bjorn.line) == (2, 14)
    assert barbara.attributes["cn"] == ["Barbara Jensen", "Barbara J Jensen", "Babs Jensen"]
    assert str(bjorn.dn) == "cn=Bjorn Jensen,ou=Accounting,dc=airius,dc=com"
    (folded,) = read(EXAMPLE_2)
    assert folded.attributes["description"] == [
        "Babs is a big sailing fan, and travels extensively in search of perfect sailing conditions."
    ]
    (coded,) = read(EXAMPLE_3)
    assert coded.attributes["description"][0].startswith(
        "What a careful reader you are!  This value is base-64-encoded"
    )
    assert "\r" in coded.attributes["description"][0]
    (japanese,) = read(EXAMPLE_4)
    assert str(japanese.dn) == "ou=営業部,o=Airius"
    assert japanese.attributes["ou;lang-ja"] == ["営業部"]


def test_a_url_is_refused_unless_allowed():
    with pytest.raises(VandrelError, match="is to be read from file:///usr/local"):
        read(EXAMPLE_5)
    (horatio,) = read(EXAMPLE_5, lambda url: b"\xff\xd8" + url.encode())
    assert horatio.attributes["jpegphoto"] == [b"\xff\xd8file:///usr/local/directory/photos/hjensen.jpg"]


def test_examples_of_changes():
    text = EXAMPLE_6.replace("-\n\ndelete:", "-\ndelete:")
    add, delete, rename, move, modify = read(text)
    assert [r.change for r in (add, delete, rename, move, modify)] == ["add", "delete", "modrdn", "modrdn", "modify"]
    assert (str(rename.new), rename.delete_old) == ("cn=Paula Jensen,ou=Product Development,dc=airius,dc=com", True)
    assert (str(move.new), move.delete_old) == (
        "ou=Product Development Accountants,ou=Accounting,dc=airius,dc=com",
        False,
    )
    assert modify.modifications == (
        Modification("add", "postaladdress", ("123 Anystreet $ Sunnyvale, CA $ 94086",)),
        Modification("delete", "description", ()),
    )


def test_an_example_with_a_control():
    (record,) = read(
        "version: 1\ndn: ou=Product Development, dc=airius, dc=com\ncontrol: 1.2.840.113556.1.4.805 true\nchangetype: delete\n"
    )
    assert record.controls == (Control("1.2.840.113556.1.4.805", True, None),)


@pytest.mark.parametrize(
    ("text", "line", "word"),
    [
        (" x", 1, "goes on"), ("version: 2\n", 1, "version 1"), ("cn: x\n", 1, "begins with dn"), ("dn: cn\n", 1, "dn:"), ("dn: cn=a\nnonsense\n", 2, "name: value"),
        ("dn: cn=a\nsn:: ?\n", 2, "base64"), ("dn: cn=a\nsn:: /w==\n", 2, "UTF-8"), ("dn: cn=a\nchangetype: eat\n", 2, "changetype"),
        ("dn: cn=a\nchangetype: modify\nadd: sn\ncn: x\n", 4, "a value of sn"), ("dn: cn=a\nchangetype: modify\neat: sn\n", 3, "replace"),
        ("dn: cn=a\nchangetype: delete\nsn: x\n", 3, "nothing follows"), ("dn: cn=a\nchangetype: modrdn\nnewrdn: cn=b\n", 1, "deleteoldrdn"),
        ("dn: cn=a\ncontrol: x\nchangetype: delete\n", 2, "no control"), ("dn: cn=a\ncontrol: 1.2 true\nsn: x\n", 1, "changetype"),
    ],
)  # fmt: skip
def test_what_is_no_ldif_says_where(text, line, word):
    with pytest.raises(VandrelError) as caught:
        read(text)
    assert caught.value.code == "bad-value"
    assert caught.value.findings[0].where.line == line
    assert word in str(caught.value)


TEXT = st.text(alphabet=st.characters(exclude_categories=["Cs"]), max_size=120)


@given(TEXT.filter(bool), st.lists(TEXT, min_size=1, max_size=4), st.binary(max_size=200))
def test_every_entry_survives_text_and_back(name, values, photo):
    entry = Entry(
        names.ROOT.child("cn", name), {"description": list(values), "jpegPhoto": [photo], "objectClass": ["person"]}
    )
    text = ldif.content(entry)
    assert all(len(line) <= 76 for line in text.split("\n"))
    (record,) = read(text)
    assert record.dn.rdns == entry.dn.rdns
    assert record.attributes == entry.attributes


@given(st.text(alphabet="dn: cn=abc\n-#<:;chantype moify\x00é"))
def test_no_text_brings_the_reader_down(text):
    try:
        read("dn: cn=a\n" + text)
    except VandrelError as error:
        assert error.findings[0].where.line


@pytest.mark.parametrize(
    ("value", "plain"),
    [
        ("Anna", True),
        ("", True),
        (" lead", False),
        ("trail ", False),
        (":x", False),
        ("<x", False),
        ("å", False),
        ("a\nb", False),
        ("a: b", True),
    ],
)
def test_what_may_stand_as_it_is(value, plain):
    text = ldif.line("sn", value)
    assert text.startswith("sn:: ") is not plain
    if not plain:
        assert base64.b64decode(text[5:]).decode() == value


def test_a_copy_of_a_directory_is_made_and_rehearsed_upon(demo):
    assert (
        demo.run("export", "--to", "all.ldif").out == "150 objects in all.ldif\n"
    )  # 64 accounts, 59 units, 21 groups, the top
    assert stat.S_IMODE((demo.path / "all.ldif").stat().st_mode) == 0o600
    text = (demo.path / "all.ldif").read_text()
    assert "userPassword" not in text
    assert "entryUUID" not in text
    assert demo.run("export", "--to", "all.ldif").code == Code.TAKEN.exit_code
    some = demo.run("export", "alund", "/Shore/IT", "/Shore", "team-it", "--only", "cn,ou").out
    dns = [line.partition("=")[2].partition(",")[0] for line in some.splitlines() if line.startswith("dn: ")]
    assert (dns[:2], dns[-1], dns.count("IT")) == (["Anna Lund", "Shore"], "team-it", 1)
    assert demo.run("export", "lund").code == Code.AMBIGUOUS.exit_code
    rehearsal = ["--directory", "rehearsal/directory.db"]
    (demo.path / "rehearsal").mkdir()
    done = demo.run("load", "all.ldif", *rehearsal, "--yes")
    assert done.code == 0, done.err
    assert "150 new" in done.out
    again = demo.run("load", "all.ldif", *rehearsal, "--yes")
    assert "150 as they are already" in again.out
    assert "Nothing to change." in again.out
    assert demo.run("export", *rehearsal).out == text
    assert demo.run("edit", "alund", "title=Captain", "--yes", *rehearsal).code == 0
    assert demo.run("show", "alund", "--bare", "title").out == "Second mate\n"
    differs = demo.run("load", "all.ldif", *rehearsal, "--yes")
    assert differs.code == Code.TAKEN.exit_code
    assert "is there already, and differs" in differs.err


def test_changes_are_loaded_through_the_checks(demo):
    dn = demo.run("show", "alund", "--bare", "dn").out.strip()
    base = "ou=Officers,ou=Deck,ou=Northquay,ou=Ferries,dc=marrowick,dc=example"
    changes = f"""\
dn: {dn}
changetype: modify
replace: title
title: First mate
-
add: telephoneNumber
telephoneNumber: +47 5555 0998
telephoneNumber: +47 5555 0203
-
delete: departmentNumber
-

dn: {dn}
changetype: modrdn
newrdn: cn=Anna Berg
deleteoldrdn: 1

dn: cn=New Hand,{base}
changetype: add
objectClass: top
objectClass: person
objectClass: inetOrgPerson
objectClass: vandrelAccount
sn: Hand
uid: nhand
createTimestamp: 20200101000000Z
"""
    (demo.path / "c.ldif").write_text(changes)
    done = demo.run("load", "c.ldif", "--yes")
    assert done.code == 0, done.err
    assert "left out: createTimestamp" in done.out
    assert demo.run("show", "alund", "--bare", "name").out == "Anna Berg\n"
    assert demo.run("show", "alund", "--bare", "phone").out.splitlines() == ["+47 5555 0203", "+47 5555 0998"]
    assert demo.run("show", "alund", "--bare", "department").out == ""
    assert demo.run("show", "nhand", "--bare", "dn").out == f"cn=New Hand,{base}\n"
    assert demo.run("journal", "--json").json["rows"][0]["planned"] == 3


def _content(demo) -> dict[str, dict[str, set]]:
    records = ldif.read(demo.run("export").out.splitlines(), lambda name: name == "jpegPhoto")
    return {str(each.dn): {name: set(values) for name, values in each.attributes.items()} for each in records}


def test_each_record_finds_what_the_records_before_it_left(demo):
    """RFC 2849, note 1 of section 2 and its example 6: a file of changes is made in its order, from first to last."""
    anna, halvard = (demo.run("show", name, "--bare", "dn").out.strip() for name in ("alund", "hbrekke"))
    base, person = halvard.partition(",")[2], "objectClass: inetOrgPerson\nobjectClass: vandrelAccount\n"
    below = anna.partition(",")[2]
    changes = f"""\
\ufeff# a comment that
 goes on
dn: cn=Passing,{base}
changetype: add
{person}sn: Passing

dn: cn=Passing,{base}
changetype: modify
replace: title
title: Cook
-

dn: cn=Passing,{base}
changetype: delete

dn: {anna}
changetype: modrdn
newrdn: cn=Anna Berg
deleteoldrdn: 0

dn: cn=Anna Berg,{below}
changetype: modify
replace: title
title: Mate
-
replace: title
title: Captain
-

dn: cn=Anna Berg,{below}
changetype: modify
replace: title
title: Pilot
-
replace: employeeNumber
employeeNumber: 40
-
increment: employeeNumber
employeeNumber: -3
-

dn: {halvard}
changetype: delete

dn: {halvard}
changetype: add
{person}sn: Brekke
uid: hbrekke
"""
    before = _content(demo)
    done = demo.run("load", "-", "--yes", stdin=changes)
    assert done.code == 0, done.err
    after = demo.run("export", "--where", "(|(cn=Passing)(cn=Anna Berg)(cn=Halvard Brekke))").out
    assert "Passing" not in after
    entries = {record.dn.name: record.attributes for record in ldif.read(after.splitlines(), lambda name: False)}
    assert entries["Anna Berg"]["title"] == ["Pilot"]
    assert entries["Anna Berg"]["employeeNumber"] == ["37"]
    assert set(entries["Anna Berg"]["cn"]) == {"Anna Berg", "Anna Lund"}
    assert set(entries["Halvard Brekke"]) & {"mail", "title", "sn"} == {"sn"}
    number = demo.run("journal", "--last", "1", "--json").json["rows"][0]["number"]
    assert demo.run("undo", str(number), "--yes").code == 0
    assert _content(demo) == before


@pytest.mark.parametrize(
    ("text", "code"),
    [
        ("dn: cn=Anna Lund,dc=marrowick,dc=example\nchangetype: modrdn\nnewrdn: cn=A,ou=B\ndeleteoldrdn: 1\n", "bad-value"),
        ("dn: cn=Anna Lund,dc=marrowick,dc=example\nchangetype: modrdn\nnewrdn: \ndeleteoldrdn: 1\n", "bad-value"),
        ("dn: cn=Anna Lund,dc=marrowick,dc=example\nchangetype: modrdn\nnewrdn: cn=A\ndeleteoldrdn: false\n", "bad-value"),
        ("dn: ou=Ferries,dc=marrowick,dc=example\nchangetype: modify\nincrement: ou\nou: 1\n", "bad-value"),
        ("dn: ou=Ferries,dc=marrowick,dc=example\ncontrol: 1.2.3 true:: A\nchangetype: delete\n", "bad-value"),
        ("dn: cn=X,ou=Nowhere,dc=marrowick,dc=example\nobjectClass: person\nsn: x\n", "no-parent"), ("dn: ou=Ferries,dc=marrowick,dc=example\nchangetype: delete\n", "protected"),
        ("dn: cn=X,dc=marrowick,dc=example\nchangetype: modify\nreplace: sn\nsn: y\n", "not-found"), ("nonsense", "bad-value"),
        ("dn: cn=X,ou=Guests,dc=marrowick,dc=example\nobjectClass: person\nsn:< file:///etc/hostname\n", "bad-value"),
        ("dn: cn=X,ou=Guests,dc=marrowick,dc=example\nobjectClass: person\nsn: x\ntitel: y\n", "unknown-field"),
        ("dn: cn=X,ou=Guests,dc=marrowick,dc=example\ncontrol: 1.2.3 true\nchangetype: delete\n", "refused"),
    ],
)  # fmt: skip
def test_bad_files_change_nothing(demo, text, code):
    before = demo.state()
    done = demo.run("load", "-", "--yes", stdin=text)
    assert done.code == Code(code).exit_code, done.err
    assert demo.state() == before
    assert demo.run("load", "nosuch.ldif", "--yes").code == Code.NOT_FOUND.exit_code


def test_a_password_in_clear_does_not_stay_so(demo):
    """RFC 2849 lets one stand in a file; what the directory keeps of it is a hash."""
    base = "ou=Guests,dc=marrowick,dc=example"
    person = "objectClass: inetOrgPerson\nobjectClass: vandrelAccount\nsn: Guest\n"
    text = f"dn: cn=Clear Guest,{base}\n{person}uid: cguest\nuserPassword: Kv9-fjord-lamp\n"
    text += f"\ndn: cn=Hashed Guest,{base}\n{person}uid: hguest\nuserPassword: {{SSHA}}abcd\n"
    done = demo.run("load", "-", "--yes", stdin=text)
    assert done.code == 0 and "Kv9" not in done.out + done.err, done.err
    assert demo.run("logon", "cguest", "--password", "-", stdin="Kv9-fjord-lamp\n").code == 0
    for name in ("directory.db", "directory.db-wal", "journal.db", "journal.db-wal"):
        path = demo.path / name
        assert not path.exists() or b"Kv9-fjord-lamp" not in path.read_bytes()
    kept = demo.run("export", "--where", "(uid=hguest)", "--hashes").out
    assert "{SSHA}abcd" in kept or "e1NTSEF9YWJjZA==" in kept
