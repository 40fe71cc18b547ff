"""Our fields: the words for what is known about an account, a group or a unit.

How a field is kept in a directory is the business of `vandrel.dialects`; charters, commands and patterns speak
in these names only. The order here is the order of help and of completion.
"""

from __future__ import annotations

from enum import Enum

from msgspec import Struct

from vandrel.errors import VandrelError
from vandrel.text.nearest import did_you_mean


class Topic(Enum):
    """What the reader of a detail view wants to know; in the order of the view."""

    LOGON = "Logging on"
    NAMES = "Person"
    WORK = "Work"
    REACH = "Reaching them"
    BELONGS = "Belongs to"
    GROUP = "Group"
    NOTES = "Notes"


class Shape(Enum):
    """What a value is."""

    TEXT = "text"
    REFERENCE = "name of an object"
    MEMBERSHIPS = "names of groups"
    DATE = "date, as 2026-09-30"
    FLAG = "yes or no"
    SECRET = "password"


ACCOUNT, GROUP, UNIT, COMPUTER = "account", "group", "unit", "computer"
_A, _AG, _AGU = frozenset({ACCOUNT}), frozenset({ACCOUNT, GROUP}), frozenset({ACCOUNT, GROUP, UNIT})
_G, _AC, _AGC = frozenset({GROUP}), frozenset({ACCOUNT, COMPUTER}), frozenset({ACCOUNT, GROUP, COMPUTER})
_ALL = frozenset({ACCOUNT, GROUP, UNIT, COMPUTER})


class Field(Struct, frozen=True):
    """One field.

    ``on`` says which objects have it; ``many`` whether it takes several values; ``named`` whether it is a name
    that the charter's patterns build.
    """

    name: str
    about: str
    topic: Topic
    on: frozenset[str] = _A
    shape: Shape = Shape.TEXT
    many: bool = False
    named: bool = False


_T, _S = Topic, Shape

FIELDS: dict[str, Field] = {
    field.name: field
    for field in (
        Field("login", "short name to log on with, unique in the domain", _T.LOGON, named=True),
        Field("principal", "name with suffix to log on with, unique in the forest", _T.LOGON, named=True),
        Field("enabled", "whether the account may be used", _T.LOGON, _AC, _S.FLAG),
        Field("password", "ask, generate, none, or - to read it from standard input", _T.LOGON, shape=_S.SECRET),
        Field("change", "whether the password must be changed at the next logon", _T.LOGON, shape=_S.FLAG),
        Field("locked", "whether bad attempts have locked the account; no unlocks it", _T.LOGON, shape=_S.FLAG),
        Field("password-fixed", "whether its owner may not change the password: for services", _T.LOGON, shape=_S.FLAG),
        Field("password-lasting", "whether the password never grows old: for services", _T.LOGON, shape=_S.FLAG),
        Field("starts", "first day", _T.LOGON, shape=_S.DATE),
        Field("ends", "last day on which the account works", _T.LOGON, shape=_S.DATE),
        Field("hours", "hours of the week, as Mon-Fri 06-18, Sat 08-12", _T.LOGON),
        Field("machines", "computers that the account may log on to; all, if none is named", _T.LOGON, many=True),
        Field("name", "name of the entry among its siblings", _T.NAMES, _ALL, named=True),
        Field("full", "full name", _T.NAMES, named=True),
        Field("display", "name as lists show it", _T.NAMES, _AG, named=True),
        Field("given", "given name", _T.NAMES),
        Field("middle", "further given names", _T.NAMES),
        Field("surname", "family name, with its particles", _T.NAMES),
        Field("generation", "Jr, Sr, III", _T.NAMES),
        Field("initials", "initials", _T.NAMES),
        Field("language", "language of the name, as de, tr or el: decides how it is written in ASCII", _T.NAMES),
        Field("number", "employee number", _T.WORK),
        Field("kind", "kind of account in the charter", _T.WORK, _AG),
        Field("title", "title or rank", _T.WORK),
        Field("company", "company", _T.WORK),
        Field("department", "department", _T.WORK),
        Field("site", "site or town", _T.WORK, _AC),
        Field("office", "office", _T.WORK),
        Field("room", "room", _T.WORK),
        Field("category", "sort of work", _T.WORK, _AGU),
        Field("car", "licence plate", _T.WORK),
        Field("manager", "who they report to", _T.WORK, shape=_S.REFERENCE),
        Field("assistant", "who keeps their calendar", _T.WORK, shape=_S.REFERENCE, many=True),
        Field("sponsor", "who answers for a guest", _T.WORK, shape=_S.REFERENCE),
        Field("owner", "who answers for the object", _T.WORK, _ALL, _S.REFERENCE, many=True),
        Field("mail", "mail address", _T.REACH, _AG, named=True),
        Field("alias", "further mail addresses", _T.REACH, _AG, many=True),
        Field("phone", "telephone numbers", _T.REACH, many=True),
        Field("mobile", "mobile telephone numbers", _T.REACH, many=True),
        Field("fax", "fax numbers", _T.REACH, many=True),
        Field("pager", "pager numbers", _T.REACH, many=True),
        Field("home-phone", "telephone numbers at home", _T.REACH, many=True),
        Field("web", "web pages", _T.REACH, many=True),
        Field("street", "street and number", _T.REACH, _A),
        Field("postcode", "postal code", _T.REACH),
        Field("state", "state or province", _T.REACH),
        Field("country", "country, as two letters", _T.REACH),
        Field("groups", "groups that the object is a member of", _T.BELONGS, _AGC, _S.MEMBERSHIPS, many=True),
        Field("primary", "the group that counts as the first, and lists no members", _T.BELONGS, _AC, _S.REFERENCE),
        Field("purpose", "security or distribution", _T.GROUP, _G),
        Field("scope", "global, domain-local or universal", _T.GROUP, _G),
        Field("members", "members", _T.GROUP, _G, _S.REFERENCE, many=True),
        Field("notes", "notes", _T.NOTES, _ALL, many=True),
        Field("protected", "whether deletion, rename and move are refused", _T.NOTES, _ALL, _S.FLAG),
    )
}

#: The names that the charter's patterns build, in the order in which people read them.
NAMED = ("login", "principal", "mail", "full", "display", "name")

#: What patterns may use besides the fields of the person and the lists of the charter.
COMPUTED = {
    "count": "2, 3, 4 ... for the rung that resolves a collision",
    "suffix": "the suffix of the principal name",
    "domain": "the mail domain: the first suffix of the charter",
    "year": "the current year",
    "stem": "the word that a group or unit is made from",
}


def field(name: str, on: str | None = None) -> Field:
    """The field with this name, on this sort of object.

    Raises:
        VandrelError: code ``unknown-field``, with near spellings.

    """
    found = FIELDS.get(name)
    if found is None or (on is not None and on not in found.on):
        known = [field.name for field in FIELDS.values() if on is None or on in field.on]
        of = f" of {'an' if on == ACCOUNT else 'a'} {on}" if on else ""
        hint = did_you_mean(name, known) or f"the fields{of} are: {', '.join(known)}"
        raise VandrelError(
            "unknown-field", f"there is no field {name!r}{of}", where=name,
            remedy=f"{hint}; a raw attribute is written @{name}",
        )  # fmt: skip
    return found
